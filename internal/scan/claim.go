package scan

import (
	"net/netip"
	"slices"
	"strings"

	"catena/internal/device"
	"catena/internal/scan/discover"
)

// Who a device is, is a claim: anybody can say a serial number, a UUID or a name. What is
// known of a device (its name, its holds, its logins) therefore serves at most one claimant,
// and the surest one. From the surest on:
//
//	placed  it is at the known address, and nothing that it says contradicts
//	keyed   it shows the TLS or SSH key that the known device showed
//	said    it says the known device's serial number, MAC address or UUID
//
// For example, cam-11 is known at .11 with serial number 7. A device at .66 says 7 too: with
// one at .11, that one is cam-11 and the other is a newcomer. With no one at .11, cam-11 has
// moved to .66; but its own login is not sent there, since whoever says 7 would get it. Two
// newcomers that say 7 are both newcomers.
type claim int

const (
	none claim = iota
	said
	keyed
	placed
)

// owner is the known device that a found one is, and how sure that is.
type owner struct {
	device.Device
	by claim
}

// claims decides which known device each of the found ones is. lookedAt tells whether a
// known device would have been found at its address: one that was not looked for has not
// moved. shown tells which keys the hosts have shown.
func claims(found []*device.Device, known []device.Device, shown *keyring,
	lookedAt func(device.Device) bool) []owner {
	out := make([]owner, len(found))
	taken := map[string]bool{}
	at := indexFound(found, shown)
	for _, by := range []claim{placed, keyed, said} {
		for _, k := range known {
			if taken[k.ID] || by != placed && !lookedAt(k) {
				continue
			}
			var claimants []int
			for _, i := range at.candidates(k) {
				if out[i].by == none && at.sureness(*found[i], k) == by {
					claimants = append(claimants, i)
				}
			}
			if len(claimants) == 0 || by == said && len(claimants) > 1 {
				continue
			}
			taken[k.ID] = true
			out[claimants[0]] = owner{k, by}
		}
	}
	return out
}

// foundIndex finds the devices that may be a known one without comparing it with every other: only
// those that share an address, an identifier or a key with it can be.
type foundIndex struct {
	by    map[string][]int    // by a host, a serial number, a MAC address, a UUID
	keyed map[string][]string // the hosts that show a key now which another host showed, by that host
}

func indexFound(found []*device.Device, shown *keyring) foundIndex {
	x := foundIndex{by: map[string][]int{}, keyed: map[string][]string{}}
	for i, d := range found {
		for _, k := range identifiers(*d) {
			x.by[k] = append(x.by[k], i)
		}
	}
	if shown == nil {
		return x
	}
	shown.mu.Lock()
	defer shown.mu.Unlock()
	hosts := map[string][]string{} // by fingerprint
	for host, prints := range shown.shown {
		for _, p := range prints {
			hosts[p] = append(hosts[p], host.Unmap().WithZone("").String())
		}
	}
	for slot, p := range shown.trusted {
		if slot.Kind != device.KeySerial && slot.Kind != device.KeyShown {
			x.keyed[slot.Host()] = append(x.keyed[slot.Host()], hosts[p]...)
		}
	}
	return x
}

func identifiers(d device.Device) []string {
	all := []string{"host " + d.Host()}
	for kind, id := range map[string]string{"serial ": d.Serial, "mac ": d.MAC, "uuid ": d.UUID} {
		if id != "" {
			all = append(all, kind+strings.ToLower(id))
		}
	}
	return all
}

// candidates returns the places of the found devices that may be a known one, in order.
func (x foundIndex) candidates(k device.Device) (all []int) {
	for _, id := range identifiers(k) {
		all = append(all, x.by[id]...)
	}
	for _, host := range x.keyed[k.Host()] {
		all = append(all, x.by["host "+host]...)
	}
	slices.Sort(all)
	return slices.Compact(all)
}

// sureness is how sure it is that d is the known device k.
func (x foundIndex) sureness(d, k device.Device) claim {
	sameSerial := d.Serial != "" && strings.EqualFold(d.Serial, k.Serial) &&
		!differ(d.Vendor, k.Vendor)
	contradicts := differ(d.Serial, k.Serial) || !sameSerial && differ(d.Vendor, k.Vendor) ||
		differ(d.UUID, k.UUID) || differ(d.MAC, k.MAC)
	says := sameSerial || d.MAC != "" && d.MAC == k.MAC || d.UUID != "" && d.UUID == k.UUID
	switch {
	case d.Address == k.Address && (sameSerial || !contradicts):
		return placed
	case d.Host() == k.Host() && says && (sameSerial || !contradicts) && !otherPort(d, k):
		return placed
	case contradicts:
		return none
	case slices.Contains(x.keyed[k.Host()], d.Host()):
		return keyed
	case says:
		return said
	}
	return none
}

// otherPort reports whether what speaks the same is at another port of the known device's host:
// anyone who can open a port there could say the same of itself.
func otherPort(d, k device.Device) bool {
	return d.Dialect == k.Dialect && d.Scheme == k.Scheme && d.Address != k.Address
}

func differ(a, b string) bool { return a != "" && b != "" && !strings.EqualFold(a, b) }

// sameKey tells whether two hosts have shown one key.
func (k *keyring) sameKey(a, b netip.Addr) bool {
	k.mu.Lock()
	defer k.mu.Unlock()
	return slices.ContainsFunc(k.shown[a], func(f string) bool {
		return slices.Contains(k.shown[b], f)
	})
}

// lookedAtIn is lookedAt for these networks.
func (s *Scanner) lookedAtIn(networks []discover.Network) func(device.Device) bool {
	return func(d device.Device) bool { return s.lookedAt(d, networks) }
}
