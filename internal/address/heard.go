package address

import (
	"encoding/binary"
	"net"
	"net/netip"

	"github.com/insomniacslk/dhcp/dhcpv4"

	"catena/internal/text"
)

// Heard is something that a device sent on an adapter.
type Heard struct {
	MAC     string     // its MAC address; empty: it was not told
	Address netip.Addr // invalid: it has none
	Via     string     // arp, lldp, dhcp, mdns, ws-discovery
	Name    string     // its own name
}

// Types of Ethernet frames, and where things are in them.
const (
	typeIPv4 = 0x0800
	typeARP  = 0x0806
	typeLLDP = 0x88cc
	header   = 14
)

// parseFrame reads an Ethernet frame: ARP (RFC 826), LLDP (IEEE 802.1AB), or a client's DHCP
// message.
func parseFrame(frame []byte) (Heard, bool) {
	if len(frame) < header {
		return Heard{}, false
	}
	body := frame[header:]
	switch binary.BigEndian.Uint16(frame[12:]) {
	case typeARP:
		return parseARP(body)
	case typeLLDP:
		return parseLLDP(frame[6:12], body)
	case typeIPv4:
		return parseDHCP(body)
	}
	return Heard{}, false
}

// parseARP reads who has which address. A probe (RFC 5227) names the address that it wants.
func parseARP(b []byte) (Heard, bool) {
	if len(b) < 28 || binary.BigEndian.Uint16(b) != 1 || binary.BigEndian.Uint16(b[2:]) != typeIPv4 ||
		b[4] != 6 || b[5] != 4 {
		return Heard{}, false
	}
	sender, _ := netip.AddrFromSlice(b[14:18])
	if sender.IsUnspecified() {
		sender, _ = netip.AddrFromSlice(b[24:28])
	}
	return Heard{MAC: net.HardwareAddr(b[8:14]).String(), Address: sender, Via: "arp"}, true
}

// Types of the parts of an LLDP frame, 8.5.
const (
	lldpEnd        = 0
	lldpChassis    = 1
	lldpSystemName = 5
	lldpManagement = 8
	chassisIsMAC   = 4
	addressIsIPv4  = 1
)

func parseLLDP(from, b []byte) (Heard, bool) {
	h := Heard{MAC: net.HardwareAddr(from).String(), Via: "lldp"}
	for len(b) >= 2 {
		kind, n := b[0]>>1, int(binary.BigEndian.Uint16(b)&0x1ff)
		if len(b) < 2+n || kind == lldpEnd {
			break
		}
		value := b[2 : 2+n]
		switch {
		case kind == lldpChassis && n == 7 && value[0] == chassisIsMAC:
			h.MAC = net.HardwareAddr(value[1:]).String()
		case kind == lldpSystemName:
			h.Name = text.Clean(string(value))
		case kind == lldpManagement && n >= 6 && value[0] == 5 && value[1] == addressIsIPv4:
			h.Address, _ = netip.AddrFromSlice(value[2:6])
		}
		b = b[2+n:]
	}
	return h, true
}

// parseDHCP reads an IPv4 packet that asks for an address.
func parseDHCP(b []byte) (Heard, bool) {
	if len(b) < 20 || b[9] != 17 { // UDP
		return Heard{}, false
	}
	at := int(b[0]&0xf) * 4
	if len(b) < at+8 || binary.BigEndian.Uint16(b[at+2:]) != 67 {
		return Heard{}, false
	}
	m, err := dhcpv4.FromBytes(b[at+8:])
	if err != nil || m.OpCode != dhcpv4.OpcodeBootRequest || len(m.ClientHWAddr) != 6 {
		return Heard{}, false
	}
	return Heard{MAC: m.ClientHWAddr.String(), Via: "dhcp", Name: text.Clean(m.HostName())}, true
}
