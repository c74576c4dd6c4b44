// Package address gives a device its first address: it answers exactly one MAC address by DHCP
// (RFC 2131), on one adapter, as long as asked and no one else does so there; and it hears which
// devices at an adapter have no address, or one that cannot be reached from it.
//
// Its central type is Lease. What is answered to what is decided without a socket (Lease.Answer);
// the sockets are of the systems that let one adapter alone be spoken on.
package address

import (
	"bytes"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"time"

	"github.com/insomniacslk/dhcp/dhcpv4"
)

// Lease is what one device is given.
type Lease struct {
	MAC     net.HardwareAddr
	To      netip.Prefix // its address, with the length of its network
	Gateway netip.Addr   // zero: none
	Server  netip.Addr   // the adapter's own address
	Lasts   time.Duration
}

// Step is how far a device is with its address.
type Step string

const (
	Ignored  Step = ""        // not the device, or nothing that is answered
	Asks     Step = "asks"    // it looks for an address, and is offered one
	Takes    Step = "takes"   // it has taken it
	Insists  Step = "insists" // it wants another one, which it is refused
	Declined Step = "left"    // it found that the address is in use, or gave it back
)

// OtherServerError is returned where another DHCP server answers on the adapter.
type OtherServerError struct{ Address netip.Addr }

func (e *OtherServerError) Error() string {
	return fmt.Sprintf("another DHCP server answers there: %s", e.Address)
}

// ErrRights is returned where this machine does not let the adapter be used so.
var ErrRights = errors.New("answering DHCP requests requires root, or the capabilities " +
	"CAP_NET_BIND_SERVICE and CAP_NET_RAW")

// ErrInUse is returned where the device has found that the address is another one's.
var ErrInUse = errors.New("the device reports that the address is in use")

// Answer is what a message of a client is answered; nil: nothing. Its error is an OtherServerError,
// where the device takes what another server has offered (RFC 2131, 4.3).
func (l Lease) Answer(m *dhcpv4.DHCPv4) (*dhcpv4.DHCPv4, Step, error) {
	if m.OpCode != dhcpv4.OpcodeBootRequest || !bytes.Equal(m.ClientHWAddr, l.MAC) {
		return nil, Ignored, nil
	}
	own, other := l.To.Addr().AsSlice(), m.ServerIdentifier()
	if a, is := netip.AddrFromSlice(other.To4()); is && a != l.Server {
		return nil, Ignored, &OtherServerError{a}
	}
	answer := func(kind dhcpv4.MessageType, step Step) (*dhcpv4.DHCPv4, Step, error) {
		with := []dhcpv4.Modifier{dhcpv4.WithMessageType(kind),
			dhcpv4.WithOption(dhcpv4.OptServerIdentifier(l.Server.AsSlice()))}
		if kind != dhcpv4.MessageTypeNak {
			with = append(with, dhcpv4.WithYourIP(own), dhcpv4.WithServerIP(l.Server.AsSlice()),
				dhcpv4.WithNetmask(net.CIDRMask(l.To.Bits(), 32)),
				dhcpv4.WithOption(dhcpv4.OptIPAddressLeaseTime(l.Lasts)))
			if l.Gateway.IsValid() {
				with = append(with, dhcpv4.WithRouter(l.Gateway.AsSlice()))
			}
		}
		reply, err := dhcpv4.NewReplyFromRequest(m, with...)
		return reply, step, err
	}
	switch m.MessageType() {
	case dhcpv4.MessageTypeDiscover:
		return answer(dhcpv4.MessageTypeOffer, Asks)
	case dhcpv4.MessageTypeRequest:
		wants := m.RequestedIPAddress()
		if wants == nil || wants.IsUnspecified() {
			wants = m.ClientIPAddr // it renews
		}
		if !wants.Equal(own) {
			return answer(dhcpv4.MessageTypeNak, Insists)
		}
		return answer(dhcpv4.MessageTypeAck, Takes)
	case dhcpv4.MessageTypeDecline:
		return nil, Declined, ErrInUse
	case dhcpv4.MessageTypeRelease:
		return nil, Declined, nil
	}
	return nil, Ignored, nil
}
