package record

import (
	"strings"

	"catena/internal/device"
	"catena/internal/ledger"
)

// Unite records which devices are one that two laptops have found and call differently: one found
// it by its address, the other had a login and read its serial number. It returns the IDs that
// stand for others, by those that are not used any more. Two devices of one laptop are never
// united: what it told apart stays apart. For example:
//
//	anna  d1 at 10.20.4.11:80, no login             first found at 10:00
//	bea   d2 at 10.20.4.11:80, serial WX4-10011     first found at 10:30
//
// d2 is d1 from then on, for both, with what bea has read of it.
func Unite(l *ledger.Ledger) (map[string]string, error) {
	out := map[string]string{}
	chains, err := l.Chains()
	if err != nil || len(chains) < 2 {
		return out, err
	}
	all, err := l.Entries(ledger.Filter{Kind: Found})
	if err != nil {
		return out, err
	}
	first := map[string]ledger.Entry{} // of each device
	for _, e := range all {
		if _, is := first[e.Device]; !is {
			first[e.Device] = e
		}
	}
	known, err := Devices(l)
	if err != nil {
		return out, err
	}
	var added []ledger.Entry
	for i, a := range known {
		for _, b := range known[i+1:] {
			if first[a.ID].Writer == first[b.ID].Writer || out[a.ID]+out[b.ID] != "" || !one(a, b) {
				continue
			}
			keep, drop := a, b
			if first[b.ID].Before(first[a.ID]) {
				keep, drop = b, a
			}
			alias, err := ledger.AliasOf(drop.ID, keep.ID)
			if err != nil {
				return out, err
			}
			out[drop.ID] = keep.ID
			best := keep
			if best.Serial == "" {
				best = drop
			}
			if keep.Named {
				best.Name, best.Named = keep.Name, true
			}
			best.ID = keep.ID
			found, err := ledger.NewEntry(Found, "", keep.ID, best)
			if err != nil {
				return out, err
			}
			added = append(added, alias, found)
		}
	}
	return out, l.Extend(nil, func([]ledger.Entry) ([]ledger.Entry, error) { return added, nil })
}

// one tells whether two known devices are one.
func one(a, b device.Device) bool {
	same := func(x, y string) bool { return x != "" && strings.EqualFold(x, y) }
	switch {
	case a.Identity.Other(b.Identity) != nil:
		return false
	case same(a.Serial, b.Serial):
		return same(a.Model, b.Model)
	case a.Through != b.Through:
		return false
	case a.Through != "":
		return same(a.Unit, b.Unit)
	}
	return same(a.MAC, b.MAC) || same(a.UUID, b.UUID) || same(a.Address, b.Address) &&
		(a.Serial == "" || b.Serial == "")
}
