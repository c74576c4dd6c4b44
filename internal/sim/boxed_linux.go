package sim

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"os/exec"
	"time"

	"github.com/insomniacslk/dhcp/dhcpv4/nclient4"
)

// StartBoxed brings up one stand-in that is fresh from its box: it has no address until a DHCP
// server gives it one on the adapter (RFC 2131), whose MAC address it has. It needs the rights to
// set an address.
func StartBoxed(ctx context.Context, s Scenario, adapter string, log *slog.Logger) (*Site, error) {
	if len(s.Devices) != 1 {
		return nil, errors.New("one device comes out of a box")
	}
	own, err := lease(ctx, adapter)
	if err != nil {
		return nil, err
	}
	out, err := exec.CommandContext(ctx, "ip", "address", "add", own.String(), "dev",
		adapter).CombinedOutput()
	if err != nil {
		return nil, fmt.Errorf("%s cannot have the address %s: %s", adapter, own, out)
	}
	four := own.IP.To4()
	s.Devices[0].Host = int(four[3])
	site := newSite(s, log)
	site.Adapter, site.Net = adapter, fmt.Sprintf("%d.%d.%d", four[0], four[1], four[2])
	return site, site.up()
}

// lease asks for an address until someone gives one.
func lease(ctx context.Context, adapter string) (own net.IPNet, err error) {
	for ctx.Err() == nil {
		client, err := nclient4.New(adapter, nclient4.WithTimeout(2*time.Second), nclient4.WithRetry(1))
		if err != nil {
			return own, err
		}
		got, err := client.Request(ctx)
		_ = client.Close() // it has asked
		if err != nil || got.ACK.YourIPAddr.To4() == nil {
			continue
		}
		mask := got.ACK.SubnetMask()
		if mask == nil {
			mask = got.ACK.YourIPAddr.DefaultMask()
		}
		return net.IPNet{IP: got.ACK.YourIPAddr, Mask: mask}, nil
	}
	return own, ctx.Err()
}
