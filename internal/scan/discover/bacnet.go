package discover

import (
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"time"

	"catena/internal/bacnet"
	dialect "catena/internal/dialect/bacnet"
)

// behindRouters says which devices answered that are behind BACnet routers: they have no address of
// their own.
func (s *Discoverer) behindRouters() (warnings []string) {
	number := map[netip.Addr]int{}
	s.behind.Range(func(_, router any) bool {
		number[router.(netip.Addr)]++
		return true
	})
	for _, router := range slices.SortedFunc(maps.Keys(number), netip.Addr.Compare) {
		warnings = append(warnings, fmt.Sprintf("BACnet controllers behind the router %s: %d; "+
			"Catena cannot reach them yet", router, number[router]))
	}
	return warnings
}

const (
	bacnetWait = time.Second
	foreignFor = 60 // seconds that a BBMD counts this machine as a foreign device
)

// bacnet asks everybody on each network, every address, and the networks that a BBMD reaches, which
// devices there are (ASHRAE 135, 16.10 and Annex J). Many answer a broadcast by a broadcast alone,
// at the standard's port.
func (s *Discoverer) bacnet() way {
	return way{name: "bacnet", port: bacnet.Port, wait: bacnetWait,
		broadcasts: true, groupPort: bacnet.Port, hearsAt: bacnet.Port,
		messages: bacnet.Probes(),
		toAll:    [][]byte{bacnet.WhoIs(bacnet.ToAll)},
		toRelay:  [][]byte{bacnet.Register(foreignFor)},
		fromRelay: func(packet []byte, from netip.AddrPort) []byte {
			done, ok := bacnet.Registered(packet)
			switch {
			case done:
				return bacnet.WhoIs(bacnet.ByForeign)
			case ok:
				s.Log.Info("the BBMD refused", "bbmd", from)
			}
			return nil
		},
		read: func(packet []byte, from netip.AddrPort) ([]Sighting, []byte) {
			f, ok := bacnet.ReadAnswer(packet, from)
			if !ok {
				return nil, nil
			}
			if f.Behind != "" {
				s.behind.Store(f.Behind+" "+f.Address.Addr().String(), f.Address.Addr())
				return nil, nil
			}
			e := dialect.Endpoint(f)
			return []Sighting{{Via: "bacnet", Address: f.Address, Dialect: e.Dialect, Path: e.Path,
				Open: e.Open}}, nil
		}}
}
