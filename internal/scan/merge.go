package scan

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"catena/internal/site"
)

// merge makes devices of sightings: what has one UUID or one address is one
// device. The result is in the order of the addresses.
func merge(sightings []Sighting) []*site.Device {
	slices.SortStableFunc(sightings, func(a, b Sighting) int {
		return cmp.Or(a.Address.Compare(b.Address), strings.Compare(b.Dialect, a.Dialect), strings.Compare(a.Heard, b.Heard))
	})
	byUUID, byAddress := map[string]*site.Device{}, map[netip.AddrPort]*site.Device{}
	var out []*site.Device
	for _, s := range sightings {
		facts := s.Facts.Clean()
		d := byAddress[s.Address]
		if d == nil && facts.UUID != "" {
			d = byUUID[facts.UUID]
		}
		if d == nil {
			d = &site.Device{Address: s.Address.String(), Reach: site.Silent, Trouble: s.Trouble}
			out = append(out, d)
		}
		byAddress[s.Address] = d
		if facts.UUID != "" {
			byUUID[facts.UUID] = d
		}
		if d.Dialect == "" {
			d.Dialect = s.Dialect
		}
		if facts.Name != "" && d.Name == "" {
			d.Name = facts.Name
		}
		facts.Into(d)
		if !slices.Contains(d.Heard, s.Heard) {
			d.Heard = append(d.Heard, s.Heard)
			slices.Sort(d.Heard)
		}
	}
	return out
}

// fold drops what turned out, once read, to be a device already found: the same
// serial number on the same host, heard at another port.
func fold(found []*site.Device) []*site.Device {
	seen := map[string]*site.Device{}
	return slices.DeleteFunc(found, func(d *site.Device) bool {
		a, err := netip.ParseAddrPort(d.Address)
		if d.Serial == "" || err != nil {
			return false
		}
		key := strings.ToLower(a.Addr().String() + " " + d.Vendor + " " + d.Serial)
		if first := seen[key]; first != nil {
			first.Heard = slices.Compact(slices.Sorted(slices.Values(append(first.Heard, d.Heard...))))
			return true
		}
		seen[key] = d
		return false
	})
}

// same finds the known device that d is: by serial number, then UUID, then
// address. A device at a known address that says another serial number or UUID is
// another device.
func same(d site.Device, known []site.Device, taken map[string]bool) (site.Device, bool) {
	tests := []func(k site.Device) bool{
		func(k site.Device) bool {
			return d.Serial != "" && strings.EqualFold(d.Serial, k.Serial) && strings.EqualFold(d.Vendor, k.Vendor) && d.Address == k.Address
		},
		func(k site.Device) bool {
			return d.Serial != "" && strings.EqualFold(d.Serial, k.Serial) && strings.EqualFold(d.Vendor, k.Vendor)
		},
		func(k site.Device) bool { return d.UUID != "" && d.UUID == k.UUID },
		func(k site.Device) bool {
			return d.Address == k.Address && !differ(d.Serial, k.Serial) && !differ(d.UUID, k.UUID)
		},
	}
	for _, is := range tests {
		for _, k := range known {
			if !taken[k.ID] && is(k) {
				return k, true
			}
		}
	}
	return site.Device{}, false
}

func differ(a, b string) bool { return a != "" && b != "" && !strings.EqualFold(a, b) }

// remember keeps what was known of a device and was not said this time.
func remember(d, old site.Device) site.Device {
	now := d
	now.ID = old.ID
	for _, p := range []struct {
		to  *string
		old string
	}{
		{&now.Name, old.Name}, {&now.Dialect, old.Dialect}, {&now.Path, old.Path}, {&now.UUID, old.UUID}, {&now.Vendor, old.Vendor},
		{&now.Model, old.Model}, {&now.Hardware, old.Hardware}, {&now.Serial, old.Serial}, {&now.Version, old.Version},
	} {
		if *p.to == "" {
			*p.to = p.old
		}
	}
	if len(now.Services) == 0 {
		now.Services = old.Services
	}
	if len(now.Components) == 0 {
		now.Components = old.Components
	}
	return now
}

// name gives every device a name that no other has. Who was known keeps its name
// against a newcomer that claims the same.
func (r *Result) name(known []site.Device) {
	had := map[string]string{}
	for _, k := range known {
		had[strings.ToLower(k.Name)] = k.ID
	}
	used := map[string]bool{}
	free := func(name, id string) bool {
		key := strings.ToLower(name)
		owner, owned := had[key]
		return name != "" && !used[key] && (!owned || owner == id)
	}
	for i := range r.Devices {
		d := &r.Devices[i]
		name := strings.ReplaceAll(d.Name, " ", "-")
		if name == "" {
			name = d.Address
		}
		for n := 2; !free(name, d.ID); n++ {
			name = fmt.Sprintf("%s~%d", strings.TrimSuffix(name, fmt.Sprintf("~%d", n-1)), n)
		}
		d.Name = name
		used[strings.ToLower(name)] = true
	}
}

// changes lists what a person would want to know to be different.
func changes(old, now site.Device) []Change {
	var out []Change
	for _, f := range []struct{ what, from, to string }{
		{"name", old.Name, now.Name}, {"address", old.Address, now.Address}, {"model", old.Model, now.Model},
		{"hardware", old.Hardware, now.Hardware}, {"serial", old.Serial, now.Serial}, {"version", old.Version, now.Version},
		{"reach", string(old.Reach), string(now.Reach)},
	} {
		if f.from != f.to && !(f.what == "reach" && now.Reach == site.Away) {
			out = append(out, Change{now.Name, f.what, f.from, f.to})
		}
	}
	return out
}
