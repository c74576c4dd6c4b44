package scan

import (
	"bufio"
	"cmp"
	"fmt"
	"maps"
	"net/netip"
	"os"
	"slices"
	"strings"

	"catena/internal/dialect"
	"catena/internal/dialect/snmp"
	"catena/internal/site"
)

// found is a device that was heard, with the ways to talk to it.
type found struct {
	site.Device
	talks    []talk // the best first
	readOnly bool   // what it told is all there is to read
	said     bool   // it told its name when it was read
	fixed    bool   // it is a known device: its name and its refused logins are as given
}

// talk is one way to talk to a device.
type talk struct {
	dialect string
	address netip.AddrPort
	tls     bool
	path    string
	open    bool // no login is needed
}

// onlyAnnounced tells whether nothing but datagrams came of it yet, while it is to be
// talked to over TCP. Datagrams can be forged.
func (f *found) onlyAnnounced() bool {
	return !f.fixed && f.talks[0].dialect != snmp.Dialect{}.Name() && !slices.ContainsFunc(f.FoundVia, func(h string) bool { return slices.Contains(swept, h) })
}

// ranks of the ways to talk: those that take images first.
var talkRank = []string{"onvif", "http", "redfish", "snmp"}

// add fills in what is not known yet.
func (f *found) add(facts dialect.Facts) {
	name := f.Name
	d := f.Device
	facts.Into(&f.Device)
	// What was known first stays: it came from the better way.
	for _, p := range []struct {
		to  *string
		old string
	}{
		{&f.Vendor, d.Vendor}, {&f.Model, d.Model}, {&f.Hardware, d.Hardware}, {&f.Serial, d.Serial}, {&f.Version, d.Version},
		{&f.UUID, d.UUID}, {&f.Path, d.Path}, {&f.MAC, d.MAC}, {&f.Says, d.Says},
	} {
		if p.old != "" {
			*p.to = p.old
		}
	}
	if f.Name = name; name == "" {
		f.Name = facts.Name
	}
}

// merge makes devices of sightings. What has one UUID is one device; so is what answers
// at one host, unless that host is a door to several: then only what answers at one
// port is. The result is in the order of the addresses.
func merge(sightings []Sighting) []*found {
	for i := range sightings {
		sightings[i].Facts = sightings[i].Facts.Clean()
		if sightings[i].ReadOnly { // it is found again by what it said
			sightings[i].Facts.Path = ""
		}
	}
	slices.SortStableFunc(sightings, func(a, b Sighting) int {
		return cmp.Or(a.Address.Addr().Compare(b.Address.Addr()), rank(a)-rank(b), a.Address.Compare(b.Address), strings.Compare(a.Via, b.Via))
	})
	shared := sharedHosts(sightings)
	byKey := map[string]*found{}
	var out []*found
	for _, s := range sightings {
		keys := []string{"at " + s.Address.Addr().String()}
		if shared[s.Address.Addr()] {
			keys = []string{"at " + s.Address.String()}
		}
		if s.Facts.UUID != "" {
			keys = append(keys, "uuid "+s.Facts.UUID)
		}
		if s.Facts.MAC != "" && s.Dialect == "" {
			keys = append(keys, "mac "+s.Facts.MAC)
		}
		var f *found
		for _, k := range keys {
			if f == nil {
				f = byKey[k]
			}
		}
		if f == nil {
			if shared[s.Address.Addr()] && s.Address.Port() == 0 {
				continue // nobody can say which of them it was
			}
			f = &found{Device: site.Device{Address: s.Address.String(), Access: site.Unreadable, Trouble: "it was heard, but no family knows it"}}
			out = append(out, f)
		}
		for _, k := range keys {
			byKey[k] = f
		}
		f.take(s)
	}
	return out
}

func rank(s Sighting) int {
	if i := slices.Index(talkRank, s.Dialect); i >= 0 {
		return i
	}
	if s.ReadOnly {
		return len(talkRank)
	}
	if s.Address.Port() == 0 {
		return len(talkRank) + 2
	}
	return len(talkRank) + 1
}

// take adds one sighting to what is known of the device.
func (f *found) take(s Sighting) {
	if s.Dialect != "" {
		t := talk{s.Dialect, s.Address, s.TLS, s.Facts.Path, openTalk(s)}
		i := slices.IndexFunc(f.talks, func(o talk) bool { return o.dialect == t.dialect && o.address == t.address })
		switch {
		case i < 0:
			f.talks = append(f.talks, t)
			slices.SortStableFunc(f.talks, func(a, b talk) int {
				return slices.Index(talkRank, a.dialect) - slices.Index(talkRank, b.dialect)
			})
		case f.talks[i].path == "" || t.dialect == snmp.Dialect{}.Name() && snmp.Better(t.path, f.talks[i].path):
			f.talks[i].path, f.talks[i].open = t.path, t.open
		}
		if t.dialect == f.talks[0].dialect {
			f.Path = f.talks[0].path
		}
	} else if s.Facts.Path != "" {
		s.Facts.Path = ""
	}
	if s.Dialect == "" && s.Trouble != "" && len(f.talks) == 0 && !f.readOnly {
		f.Trouble, f.Access = s.Trouble, site.Unreadable
		if s.Silent && len(f.FoundVia) == 0 {
			f.Access = site.Silent
		}
	}
	f.readOnly = f.readOnly || s.ReadOnly
	if a, err := netip.ParseAddrPort(f.Address); err == nil && a.Port() == 0 && s.Address.Port() != 0 && a.Addr() == s.Address.Addr() {
		f.Address, f.TLS = s.Address.String(), s.TLS
	}
	path := f.Path
	f.add(s.Facts)
	f.Path = path
	if !slices.Contains(f.FoundVia, s.Via) {
		f.FoundVia = append(f.FoundVia, s.Via)
		slices.Sort(f.FoundVia)
	}
}

// sharedHosts are the addresses at which several devices answer, each at a port of its
// own: a router that forwards ports, or a simulation on one address.
func sharedHosts(sightings []Sighting) map[netip.Addr]bool {
	type spoken struct {
		host    netip.Addr
		dialect string
	}
	at, out := map[spoken]netip.AddrPort{}, map[netip.Addr]bool{}
	uuids := map[netip.AddrPort]string{}
	for _, s := range sightings {
		if s.Facts.UUID != "" {
			uuids[s.Address] = s.Facts.UUID
		}
		if s.Dialect == "" {
			continue
		}
		k := spoken{s.Address.Addr(), s.Dialect}
		other, heard := at[k]
		switch {
		case !heard:
			at[k] = s.Address
		case other != s.Address && !(uuids[other] != "" && uuids[other] == uuids[s.Address]):
			out[k.host] = true
		}
	}
	return out
}

// addMACs adds the hardware addresses that this machine knows of its neighbours, where
// one belongs to one address: a router that answers for others says nothing of them.
func addMACs(devices []*found, table map[netip.Addr]string) {
	count, hosts := map[string]int{}, map[netip.Addr]int{}
	for _, mac := range table {
		count[mac]++
	}
	address := func(f *found) netip.Addr { a, _ := netip.ParseAddrPort(f.Address); return a.Addr() }
	for _, f := range devices {
		hosts[address(f)]++
	}
	for _, f := range devices {
		if mac := table[address(f)]; f.MAC == "" && mac != "" && count[mac] == 1 && hosts[address(f)] == 1 {
			f.MAC = mac
		}
	}
}

// arpTable is what this machine knows of its neighbours' hardware addresses, where the
// system tells it in a file: on Linux.
func arpTable() map[netip.Addr]string {
	out := map[netip.Addr]string{}
	file, err := os.Open("/proc/net/arp")
	if err != nil {
		return out
	}
	defer func() { _ = file.Close() }()
	for lines := bufio.NewScanner(file); lines.Scan(); {
		field := strings.Fields(lines.Text()) // address, type, flags, hardware address, …
		if len(field) < 4 || field[2] == "0x0" {
			continue
		}
		if a, err := netip.ParseAddr(field[0]); err == nil {
			out[a] = dialect.Facts{MAC: field[3]}.Clean().MAC
		}
	}
	return out
}

// fold drops what turned out, once read, to be a device already found: the same
// serial number on the same host, or the same hardware address, heard at another port
// or address.
func fold(all []*found) []*site.Device {
	seen := map[string]*site.Device{}
	var out []*site.Device
	for _, f := range all {
		d := &f.Device
		var keys []string
		if a, err := netip.ParseAddrPort(d.Address); err == nil && d.Serial != "" {
			keys = append(keys, strings.ToLower(a.Addr().String()+" "+d.Vendor+" "+d.Serial))
		}
		if d.MAC != "" {
			keys = append(keys, "mac "+d.MAC+" "+d.Serial)
		}
		var first *site.Device
		for _, k := range keys {
			if first == nil {
				first = seen[k]
			}
		}
		if first != nil {
			first.FoundVia = slices.Compact(slices.Sorted(slices.Values(append(first.FoundVia, d.FoundVia...))))
			continue
		}
		for _, k := range keys {
			seen[k] = d
		}
		out = append(out, d)
	}
	return out
}

// same finds the known device that d is: by serial number, then hardware address, then
// UUID, then address. A device at a known address that says another serial number,
// hardware address or UUID is another device.
func same(d site.Device, known []site.Device, taken map[string]bool) (site.Device, bool) {
	tests := []func(k site.Device) bool{
		func(k site.Device) bool {
			return d.Serial != "" && strings.EqualFold(d.Serial, k.Serial) && strings.EqualFold(d.Vendor, k.Vendor) && d.Address == k.Address
		},
		func(k site.Device) bool {
			return d.Serial != "" && strings.EqualFold(d.Serial, k.Serial) && strings.EqualFold(d.Vendor, k.Vendor)
		},
		func(k site.Device) bool { return d.MAC != "" && d.MAC == k.MAC && !differ(d.Serial, k.Serial) },
		func(k site.Device) bool { return d.UUID != "" && d.UUID == k.UUID && !differ(d.Serial, k.Serial) },
		func(k site.Device) bool {
			return d.Address == k.Address && !differ(d.Serial, k.Serial) && !differ(d.UUID, k.UUID) && !differ(d.MAC, k.MAC)
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
		{&now.MAC, old.MAC}, {&now.Says, old.Says},
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
	if len(now.Neighbours) == 0 {
		now.Neighbours = old.Neighbours
	}
	if len(now.Behind) == 0 {
		now.Behind = old.Behind
	}
	if old.Named { // by a person
		now.Name, now.Named = old.Name, true
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
			name = strings.TrimSuffix(d.Address, ":0")
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
		{"access", string(old.Access), string(now.Access)},
	} {
		if f.from != f.to && !(f.what == "access" && now.Access == site.Away) {
			out = append(out, Change{now.Name, f.what, f.from, f.to})
		}
	}
	return out
}

func sortedKeys[V any](m map[string]V) []string {
	return slices.Sorted(maps.Keys(m))
}
