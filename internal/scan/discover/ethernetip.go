package discover

import (
	"encoding/binary"
	"fmt"
	"net/netip"
	"time"

	"catena/internal/device"
)

// EtherNet/IP's ListIdentity: CIP Networks Library, volume 2, 2-4.2.
const (
	enipPort     = 44818
	enipIdentity = 0x0063 // the command
	enipItem     = 0x000c // the type of the item in the answer
	enipWait     = 700 * time.Millisecond
	enipHeader   = 24
)

// enipContext comes back in the answer, so that an answer to someone else is not taken.
var enipContext = [8]byte{'i', 'd', 'e', 'n', 't', 'i', 't', 'y'}

func (s *Discoverer) ethernetIP() way {
	request := make([]byte, enipHeader)
	binary.LittleEndian.PutUint16(request, enipIdentity)
	copy(request[12:], enipContext[:])
	return way{name: "ethernet-ip", port: enipPort, wait: enipWait,
		group4: netip.AddrFrom4([4]byte{255, 255, 255, 255}), groupPort: enipPort,
		messages: [][]byte{request},
		read: func(packet []byte, from netip.AddrPort) ([]Sighting, []byte) {
			facts, ok := parseIdentity(packet)
			if !ok {
				return nil, nil
			}
			return []Sighting{{Via: "ethernet-ip", Address: from, ReadOnly: true, Facts: facts}},
				nil
		}}
}

// parseIdentity reads the answer: a header, the count of items, and an identity item.
func parseIdentity(p []byte) (device.Reading, bool) {
	le := binary.LittleEndian
	if len(p) < enipHeader+6 || le.Uint16(p) != enipIdentity || le.Uint32(p[8:]) != 0 ||
		[8]byte(p[12:20]) != enipContext {
		return device.Reading{}, false
	}
	data := p[enipHeader:]
	if int(le.Uint16(p[2:])) > len(data) || le.Uint16(data) < 1 ||
		le.Uint16(data[2:]) != enipItem || int(le.Uint16(data[4:])) > len(data)-6 {
		return device.Reading{}, false
	}
	item := data[6 : 6+int(le.Uint16(data[4:]))]
	// Encapsulation version 2, socket address 16, vendor 2, type 2, code 2, revision 2,
	// status 2, serial 4, name 1+n, state 1.
	const fixed = 33
	if len(item) < fixed || len(item) < fixed+int(item[32]) {
		return device.Reading{}, false
	}
	return device.Reading{
		Version: fmt.Sprintf("%d.%d", item[24], item[25]),
		Identity: device.Identity{
			// the standard keeps the names in a list of its own
			Vendor:   fmt.Sprintf("vendor %d", le.Uint16(item[18:])),
			Hardware: fmt.Sprintf("%d", le.Uint16(item[22:])), // product code
			Serial:   fmt.Sprintf("%08X", le.Uint32(item[28:])),
			Model:    string(item[fixed : fixed+int(item[32])]),
		},
	}.Clean(), true
}
