package redfish

import (
	"context"
	"encoding/json"
	"net"
	"net/http"

	"catena/internal/device"
	"catena/internal/dialect"
)

// Network is where the manager is in its network: an EthernetInterface of it (DSP0268).
func (t *session) Network() (dialect.Network, error) { return network{t}, nil }

type network struct{ session *session }

// ethernet is an EthernetInterface, as far as it is used.
type ethernet struct {
	Addresses []struct {
		Address string `json:"Address"`
		Gateway string `json:"Gateway"`
	} `json:"IPv4Addresses"`
}

// Move gives the interface at which the manager is talked to a static address. Without a gateway
// the one that it has stays.
func (n network) Move(ctx context.Context, place dialect.NetworkConfig) error {
	to, gateway := place.Address, place.Gateway
	if !to.Addr().Is4() {
		return device.Because(device.Unsupported, "only IPv4 addresses can be set by Redfish")
	}
	t := n.session
	return t.inside(ctx, func() error {
		r, err := t.root(ctx)
		if err != nil {
			return err
		}
		t.managers = r.Managers
		at, tag, through, err := n.ours(ctx)
		if err != nil {
			return err
		}
		if gateway.IsValid() {
			through = gateway.String()
		}
		static := map[string]string{"Address": to.Addr().String(),
			"SubnetMask": net.IP(net.CIDRMask(to.Bits(), 32)).String()}
		if through != "" && through != "0.0.0.0" {
			static["Gateway"] = through
		}
		header := http.Header{}
		if tag != "" {
			header.Set("If-Match", tag) // DSP0266, 6.5
		}
		body := map[string]any{
			"DHCPv4": map[string]bool{"DHCPEnabled": false}, "IPv4StaticAddresses": []any{static}}
		if place.Name != "" {
			body["HostName"] = place.Name
		}
		_, err = t.ask(ctx, http.MethodPatch, at, header, body)
		return err
	})
}

// ours is the interface that has the address at which the manager is talked to, with its ETag and
// its gateway; one alone is it.
func (n network) ours(ctx context.Context) (at, tag, gateway string, err error) {
	t := n.session
	m, _, err := t.manager(ctx)
	if err != nil || m.Ethernet.ID == "" {
		if err == nil {
			err = device.ErrUnsupported
		}
		return "", "", "", err
	}
	var list collection
	if err := t.get(ctx, m.Ethernet.ID, &list); err != nil {
		return "", "", "", err
	}
	for _, member := range list.Members[:min(len(list.Members), maxInventory)] {
		a, err := t.ask(ctx, http.MethodGet, member.ID, nil, nil)
		if err != nil {
			return "", "", "", err
		}
		var e ethernet
		if json.Unmarshal(a.Body, &e) != nil {
			return "", "", "", device.Because(device.Malformed, "unexpected JSON")
		}
		for _, has := range e.Addresses {
			if has.Address == t.at.Host() || len(list.Members) == 1 {
				return member.ID, a.Header.Get("ETag"), has.Gateway, nil
			}
		}
	}
	return "", "", "", device.Because(device.Refusal, "none of its %d interfaces has the address %s",
		len(list.Members), t.at.Host())
}
