package scripted

import (
	"context"
	"net"

	"catena/internal/device"
	"catena/internal/dialect"
	"catena/internal/family"
)

// Network is where the device is in its network, where the family says how it is moved.
func (s *session) Network() (dialect.Network, error) {
	if len(s.program.Address) == 0 {
		return nil, device.ErrUnsupported
	}
	return network{s}, nil
}

type network struct{ *session }

func (n network) Move(ctx context.Context, place dialect.NetworkConfig) error {
	to, gateway := place.Address, place.Gateway
	if place.Name != "" && !n.program.AddressNames {
		return device.ErrUnsupported
	}
	v := family.AddressValues{IP: to.Addr().String(), Prefix: to.Bits(),
		Mask: net.IP(net.CIDRMask(to.Bits(), to.Addr().BitLen())).String()}
	v.Name = place.Name
	if gateway.IsValid() {
		v.Gateway = gateway.String()
	}
	n.v["address"] = v
	defer delete(n.v, "address")
	return n.leaving(ctx, n.program.Address)
}
