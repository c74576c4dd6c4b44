package scan

import (
	"bufio"
	"cmp"
	"fmt"
	"net/netip"
	"os"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"catena/internal/device"
	"catena/internal/dialect"
	"catena/internal/scan/discover"
	"catena/internal/text"
)

// found is a device that answered, with the ways to talk to it.
type found struct {
	device.Device
	talks    []device.Endpoint // the best first
	readOnly bool              // its announcement is all there is to read
	fixed    bool              // it is a known device: its name and its refused logins are as given
	bare     error             // it was talked to over TLS, and is not any more
	// verifiedAt is where it was verified over TLS, which is another address than now; empty: it was
	// not.
	verifiedAt string
	listing    *listing // its children, where it was asked
}

// connects tells whether more than datagrams came of it, where it is talked to over TCP:
// datagrams can be forged.
func (f *found) connects(dialects dialect.Registry) bool {
	best, ok := dialects.Named(f.talks[0].Dialect)
	return ok && best.About().Transport == "udp" ||
		slices.ContainsFunc(f.FoundVia, func(via string) bool {
			return slices.Contains(discover.Swept, via)
		})
}

// merge makes devices of sightings: a device is found via several discovery protocols, at
// several ports, and must be in the list once.
//
// What answers at one host is one device. For example
//
//	ws-discovery 10.20.4.11:80   uuid A
//	http         10.20.4.11:8080
//	mdns         10.20.4.11      no port: an answer to a multicast
//
// is one. One case breaks the rule: behind a router that forwards ports, one address is a
// door to several devices. sharedHosts finds those; there only what answers at one port, or
// says one UUID, is one device, and what has no port belongs to no one.
//
// What answers at two hosts stays two devices, even where both say one UUID: anybody can say
// it, and whoever is taken for a device gets its logins. join makes exceptions.
//
// The best sighting of a host comes first (rank): what it tells stands, the others fill
// gaps. The result is in the order of the addresses.
func merge(dialects dialect.Registry, sightings []discover.Sighting) []*found {
	for i := range sightings {
		sightings[i].Facts = sightings[i].Facts.Clean()
	}
	slices.SortStableFunc(sightings, func(a, b discover.Sighting) int {
		return cmp.Or(a.Address.Addr().Compare(b.Address.Addr()),
			rank(dialects, a)-rank(dialects, b), a.Address.Compare(b.Address),
			strings.Compare(a.Via, b.Via))
	})
	shared := sharedHosts(sightings)
	byKey := map[string]*found{}
	var out []*found
	for _, s := range sightings {
		host := s.Address.Addr()
		keys := []string{"at " + host.String()}
		if shared[host] {
			keys = []string{"at " + s.Address.String()}
			if s.Facts.UUID != "" {
				keys = append(keys, "at "+host.String()+" uuid "+s.Facts.UUID)
			}
		}
		var f *found
		for _, k := range keys {
			if f == nil {
				f = byKey[k]
			}
		}
		if f == nil {
			if shared[host] && s.Address.Port() == 0 {
				continue // no one can say which of them it was
			}
			f = &found{Device: device.Device{Access: device.Unreadable,
				Trouble:  device.Because(device.NotRecognised, ""),
				Endpoint: device.Endpoint{Address: s.Address.String()}}}
			out = append(out, f)
		}
		for _, k := range keys {
			byKey[k] = f
		}
		f.take(dialects, s)
	}
	return out
}

// join makes one device of two hosts that say one UUID, where it is proven that they are
// one, or where no harm comes of it:
//
//   - both have shown one TLS or SSH key, and are of different families (IPv4 and IPv6): one
//     device with two addresses;
//   - one of them is an IPv6 link-local address: the other is the one to talk to. The
//     link-local one brings neither a way to talk nor a fact, so that who claims a UUID there
//     gains nothing.
func join(all []*found, sameKey func(a, b netip.Addr) bool) []*found {
	byUUID := map[string][]*found{}
	for _, f := range all {
		if f.UUID != "" {
			byUUID[f.UUID] = append(byUUID[f.UUID], f)
		}
	}
	gone := map[*found]bool{}
	for _, f := range all { // in the order of the addresses: IPv4 comes first
		for _, other := range byUUID[f.UUID] {
			a, b := address(f.Endpoint).Addr(), address(other.Endpoint).Addr()
			if f == other || gone[f] || gone[other] || !a.IsValid() || !b.IsValid() {
				continue
			}
			proven := a.Is4() && b.Is6() && sameKey(a, b)
			alias := !a.IsLinkLocalUnicast() && b.Is6() && b.IsLinkLocalUnicast()
			if !proven && !alias {
				continue
			}
			gone[other] = true
			for _, via := range other.FoundVia {
				f.via(via)
			}
			if proven {
				f.talks = append(f.talks, other.talks...)
				f.Reading = f.Reading.Over(other.Reading)
			}
		}
	}
	return slices.DeleteFunc(all, func(f *found) bool { return gone[f] })
}

// rank orders the sightings of one host: the best way to talk to it first, then what can
// only be read, then what is not recognised, and what has no port last.
func rank(dialects dialect.Registry, s discover.Sighting) int {
	switch {
	case s.Dialect != "":
		return dialects.Rank(s.Dialect)
	case s.ReadOnly:
		return len(dialects) + 1
	case s.Address.Port() == 0:
		return len(dialects) + 3
	}
	return len(dialects) + 2
}

// take adds one sighting to the device.
func (f *found) take(dialects dialect.Registry, s discover.Sighting) {
	if s.Dialect != "" {
		e := s.Endpoint()
		i := slices.IndexFunc(f.talks, func(o device.Endpoint) bool {
			return o.Dialect == e.Dialect && o.Address == e.Address
		})
		switch {
		case i < 0:
			f.talks = append(f.talks, e)
			slices.SortStableFunc(f.talks, func(a, b device.Endpoint) int {
				return cmp.Or(dialects.Rank(a.Dialect)-dialects.Rank(b.Dialect),
					plainLast(a)-plainLast(b))
			})
		case dialects.Better(e, f.talks[i]) || f.talks[i].Path == "" && e.Path != "":
			f.talks[i] = e
		}
		f.Endpoint = f.talks[0]
	}
	if s.Dialect == "" && s.Trouble != nil && len(f.talks) == 0 && !f.readOnly {
		f.Trouble, f.Access = s.Trouble, device.Unreadable
		if s.Silent && len(f.FoundVia) == 0 {
			f.Access = device.Silent
		}
	}
	f.readOnly = f.readOnly || s.ReadOnly
	if a := address(f.Endpoint); a.Port() == 0 && s.Address.Port() != 0 &&
		a.Addr() == s.Address.Addr() {
		e := s.Endpoint()
		f.Address, f.Scheme = e.Address, e.Scheme
	}
	f.Reading = f.Reading.Over(s.Facts) // the first value came from the better source
	f.via(s.Via)
}

// onlyAnnounced reports whether nothing but announcements by multicast have shown the device.
func (f *found) onlyAnnounced() bool {
	return len(f.FoundVia) > 0 && !slices.ContainsFunc(f.FoundVia, func(via string) bool {
		return via != "mdns" && via != "ssdp" && via != "ws-discovery"
	})
}

// via notes a discovery protocol that found it.
func (f *found) via(name string) {
	if !slices.Contains(f.FoundVia, name) {
		f.FoundVia = append(f.FoundVia, name)
		slices.Sort(f.FoundVia)
	}
}

// plainLast sorts endpoints with TLS before those without.
func plainLast(e device.Endpoint) int {
	if e.Secure() {
		return 0
	}
	return 1
}

// sharedHosts are the addresses at which several devices answer, each at a port of its
// own: a router that forwards ports, or a simulation on one address. One device that answers at two
// ports shows one UUID at both, or the same model and serial number over HTTP and HTTPS. Two of one
// protocol with the same number may be two: some makers ship a default one.
func sharedHosts(sightings []discover.Sighting) map[netip.Addr]bool {
	type spoken struct {
		host    netip.Addr
		dialect string
	}
	at, out := map[spoken]netip.AddrPort{}, map[netip.Addr]bool{}
	uuids, shows := map[netip.AddrPort]string{}, map[netip.AddrPort]discover.Sighting{}
	same := func(a, b netip.AddrPort) bool {
		x, y := shows[a], shows[b]
		return uuids[a] != "" && uuids[a] == uuids[b] || x.TLS != y.TLS && x.Facts.Serial != "" &&
			strings.EqualFold(x.Facts.Serial, y.Facts.Serial) && x.Facts.Model == y.Facts.Model
	}
	for _, s := range sightings {
		if s.Facts.UUID != "" {
			uuids[s.Address] = s.Facts.UUID
		}
		if s.Facts.Serial != "" {
			shows[s.Address] = s
		}
		if s.Dialect == "" {
			continue
		}
		k := spoken{s.Address.Addr(), s.Dialect}
		other, heard := at[k]
		switch {
		case !heard:
			at[k] = s.Address
		case other != s.Address && !same(other, s.Address):
			out[k.host] = true
		}
	}
	return out
}

// addMACs adds the MAC addresses that this machine knows of its neighbours, where
// one belongs to one address: a router that answers for others says nothing of them.
func addMACs(devices []*found, table map[netip.Addr]string) {
	count, hosts := map[string]int{}, map[netip.Addr]int{}
	for _, mac := range table {
		count[mac]++
	}
	host := func(f *found) netip.Addr { return address(f.Endpoint).Addr() }
	for _, f := range devices {
		hosts[host(f)]++
	}
	for _, f := range devices {
		if mac := table[host(f)]; f.MAC == "" && mac != "" && count[mac] == 1 &&
			hosts[host(f)] == 1 {
			f.MAC = mac
		}
	}
}

// arpTable is what this machine knows of its neighbours' MAC addresses, where the
// system tells it in a file: on Linux.
func arpTable() map[netip.Addr]string {
	out := map[netip.Addr]string{}
	file, err := os.Open("/proc/net/arp")
	if err != nil {
		return out
	}
	defer func() { _ = file.Close() }()
	for lines := bufio.NewScanner(file); lines.Scan(); {
		field := strings.Fields(lines.Text()) // address, type, flags, MAC address, …
		if len(field) < 4 || field[2] == "0x0" {
			continue
		}
		if a, err := netip.ParseAddr(field[0]); err == nil {
			out[a] = device.CleanMAC(field[3])
		}
	}
	return out
}

// fold drops what turned out, once read, to be a device already found: the same
// serial number on the same host, or the same MAC address, heard at another port
// or address.
func fold(all []*found) []*device.Device {
	seen := map[string]*device.Device{}
	var out []*device.Device
	for _, f := range all {
		d := &f.Device
		var keys []string
		if a, err := netip.ParseAddrPort(d.Address); err == nil && d.Serial != "" {
			keys = append(keys, strings.ToLower(a.Addr().String()+" "+d.Vendor+" "+d.Serial))
		}
		switch {
		case d.MAC != "" && d.Serial != "":
			keys = append(keys, "mac "+d.MAC+" "+d.Serial)
		case d.MAC != "": // alone it proves nothing: two devices may have one
			keys = append(keys, "mac "+d.MAC+" "+d.Host())
		}
		var first *device.Device
		for _, k := range keys {
			if first == nil {
				first = seen[k]
			}
		}
		if first != nil {
			first.FoundVia = slices.Compact(
				slices.Sorted(slices.Values(append(first.FoundVia, d.FoundVia...))))
			continue
		}
		for _, k := range keys {
			seen[k] = d
		}
		out = append(out, d)
	}
	return out
}

// remember keeps what was known of a device and was not said this time, and its name where
// it keeps that.
func remember(d device.Device, o owner, keepsName bool) device.Device {
	now, old := d, o.Device
	now.Moved = old.Moved
	if o.by == said && now.Moved == "" {
		now.Moved = old.Address
	}
	now.ID, now.Reading = old.ID, d.Reading.Over(old.Reading)
	if now.Dialect == "" {
		now.Endpoint = old.Endpoint
		now.Address = d.Address
	}
	if d.Access == device.IdentityChanged && old.Secure() && !now.Secure() {
		now.Endpoint = old.Endpoint // until a person accepts that it is talked to without TLS
	}
	switch {
	case old.Named: // by a person
		now.Name, now.Named = old.Name, true
	case d.Called == "" || keepsName:
		now.Name = old.Name
	default:
		now.Name = d.Called
	}
	return now
}

// name gives every device a name that no other has. Who was known keeps its name
// against a newcomer that claims the same.
func (r *Result) name(known []device.Device) {
	had := map[string]string{}
	for _, k := range known {
		had[strings.ToLower(k.Name)] = k.ID
	}
	used := map[string]bool{}
	free := func(name, id string) bool {
		key := strings.ToLower(name)
		owner, owned := had[key]
		return name != "" && !used[key] && (!owned || owner == id) && !isElsewhere(name)
	}
	for i := range r.Devices {
		d := &r.Devices[i]
		name := d.Name
		if name == "" {
			name = d.Called
		}
		if !d.Named && name != d.Address {
			name = text.Name(name) // its own name stays in Called
		}
		if name == "" {
			name = strings.TrimSuffix(d.Address, ":0")
		}
		if name == "" { // a child has no address
			all := childNames(*d)
			name = all[0]
			if i := slices.IndexFunc(all, func(n string) bool { return free(n, d.ID) }); i >= 0 {
				name = all[i]
			}
		}
		for n := 2; !free(name, d.ID); n++ {
			name = fmt.Sprintf("%s~%d", strings.TrimSuffix(name, fmt.Sprintf("~%d", n-1)), n)
		}
		d.Name = name
		used[strings.ToLower(name)] = true
	}
}

// childNames are short names for a child that its parent gives none, the best one first: its serial
// number, the first value of its identity, all of it. For example, of a finder FND-11 with the
// identity "FND-11-501 ed73f95c50ff27b9c483":
//
//	FND-11-501      FND-11-501-ed73f95c50ff27b9c483
//
// What does not start with a letter, such as the place 3 in a rack, gets the model before it.
func childNames(d device.Device) (all []string) {
	first, _, _ := strings.Cut(d.Unit, " ")
	for _, n := range []string{d.Serial, first, d.Unit} {
		n = text.Name(n)
		if r, _ := utf8.DecodeRuneInString(n); n != "" && !unicode.IsLetter(r) {
			n = text.Name(d.Model + "-" + n)
		}
		if n != "" && !slices.Contains(all, n) {
			all = append(all, n)
		}
	}
	return append(all, text.Name(d.Model+"-"+d.Unit))
}

// isElsewhere tells whether a name reads like an ID or an address: a device that calls itself
// so must not be taken for another one.
func isElsewhere(name string) bool {
	digits, isID := strings.CutPrefix(name, "d")
	if isID && digits != "" && strings.Trim(digits, "0123456789") == "" {
		return true
	}
	_, err := netip.ParseAddr(name)
	return err == nil
}

// changes lists the differences that matter to an operator.
func changes(old, now device.Device) []Change {
	var out []Change
	for _, f := range []struct{ what, from, to string }{
		{"name", old.Name, now.Name}, {"address", old.Address, now.Address},
		{"model", old.Model, now.Model},
		{"hardware", old.Hardware, now.Hardware}, {"serial", old.Serial, now.Serial},
		{"version", old.Version, now.Version},
		{"access", string(old.Access), string(now.Access)},
	} {
		if f.from != f.to && !(f.what == "access" && now.Access == device.Away) {
			out = append(out, Change{now.Name, f.what, f.from, f.to})
		}
	}
	return out
}
