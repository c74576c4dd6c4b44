package discover

import (
	"net/netip"
	"time"

	"catena/internal/dialect/snmp"
)

const (
	snmpPort = 161
	snmpWait = time.Second // an agent on a small processor
)

// snmp asks every address for its system group, in all versions (RFC 3416, RFC 3414).
func (s *Discoverer) snmp() way {
	return way{name: "snmp", port: snmpPort, wait: snmpWait,
		messages: snmp.Probes(s.Communities...),
		own: func(a netip.Addr) [][]byte {
			return snmp.CommunityProbes(s.OwnCommunities[a]...)
		},
		read: func(packet []byte, from netip.AddrPort) ([]Sighting, []byte) {
			facts, by, ok := snmp.Understand(packet)
			if !ok {
				return nil, nil
			}
			return []Sighting{{Via: "snmp", Address: from, Dialect: by.Dialect,
				Version: by.ProtocolVersion, Open: by.Open, Facts: facts}}, nil
		}}
}
