package onvif

import (
	"context"
	"encoding/xml"
	"fmt"
	"strings"

	"catena/internal/device"
	"catena/internal/dialect"
)

// Network is where a camera is in its network (ONVIF Core 8.2).
func (t *session) Network() (dialect.Network, error) { return network{t}, nil }

type network struct{ session *session }

// networkInterface is ONVIF Core 8.2.5, as far as it is used.
type networkInterface struct {
	Token  string   `xml:"token,attr"`
	Manual []string `xml:"IPv4>Config>Manual>Address"`
	DHCP   []string `xml:"IPv4>Config>FromDHCP>Address"`
	Local  []string `xml:"IPv4>Config>LinkLocal>Address"`
}

// Move gives the interface at which the camera is talked to another address, and where it says so
// has it restart for that. That it answers no more then is a good end.
func (n network) Move(ctx context.Context, place dialect.NetworkConfig) error {
	t, to, gateway := n.session, place.Address, place.Gateway
	if !to.Addr().Is4() {
		return device.Because(device.Unsupported, "only IPv4 addresses can be set by ONVIF")
	}
	e, err := t.call(ctx, `<tds:GetNetworkInterfaces/>`, true)
	if err != nil {
		return err
	}
	token, err := n.ours(e.Body.Interfaces)
	if err != nil {
		return err
	}
	if gateway.IsValid() {
		_, err := t.call(ctx, `<tds:SetNetworkDefaultGateway><tds:IPv4Address>`+gateway.String()+
			`</tds:IPv4Address></tds:SetNetworkDefaultGateway>`, true)
		if err != nil {
			return err
		}
	}
	if place.Name != "" { // ONVIF Core 8.2.2; a label needs no escape
		if _, err := t.call(ctx, `<tds:SetHostname><tds:Name>`+place.Name+`</tds:Name></tds:SetHostname>`,
			true); err != nil {
			return err
		}
	}
	var name strings.Builder
	if err := xml.EscapeText(&name, []byte(token)); err != nil {
		return err
	}
	e, err = t.call(ctx,
		fmt.Sprintf(`<tds:SetNetworkInterfaces><tds:InterfaceToken>%s</tds:InterfaceToken>`+
			`<tds:NetworkInterface><tt:Enabled>true</tt:Enabled><tt:IPv4><tt:Enabled>true</tt:Enabled><tt:Manual>`+
			`<tt:Address>%s</tt:Address><tt:PrefixLength>%d</tt:PrefixLength></tt:Manual><tt:DHCP>false</tt:DHCP>`+
			`</tt:IPv4></tds:NetworkInterface></tds:SetNetworkInterfaces>`, &name, to.Addr(), to.Bits()),
		true)
	if err != nil {
		return err
	}
	if e.Body.Moved != nil && e.Body.Moved.RebootNeeded {
		_, err = t.call(ctx, `<tds:SystemReboot/>`, true)
	}
	return err
}

// ours is the interface that has the address at which the camera is talked to; one alone is it.
func (n network) ours(all []networkInterface) (string, error) {
	for _, i := range all {
		for _, addresses := range [][]string{i.Manual, i.DHCP, i.Local} {
			for _, a := range addresses {
				if strings.TrimSpace(a) == n.session.at.Host() {
					return i.Token, nil
				}
			}
		}
	}
	if len(all) == 1 {
		return all[0].Token, nil
	}
	return "", device.Because(device.Refusal, "none of its %d interfaces has the address %s", len(all),
		n.session.at.Host())
}
