// Package scan finds devices on a network and reads what they run.
//
// Each discovery protocol devices is a file of its own and gives sightings: one answer
// heard, not yet known to be a device. merge.go brings sightings of one device
// together, and devices found with devices known. Everything is bounded: in time
// by the protocol's own waiting time, in number by what a site can hold.
package scan

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"catena/internal/device"
	"catena/internal/dialect"
	"catena/internal/login"
	"catena/internal/site"
)

// otherPorts are tried besides those of the dialects where nobody names any: SSH, Modbus.
var otherPorts = []uint16{22, modbusPort}

const (
	maxSightings = 16384            // of one scan; a site has hundreds of devices, each heard a few times
	maxDevices   = 4096             // of one scan, after the sightings were brought together
	maxLooks     = 8                // announced addresses of one host that are looked at
	lookLanes    = 48               // addresses looked at at the same time: each is asked in every dialect at once
	readLanes    = 64               // devices read at the same time
	readWithin   = 20 * time.Second // for one device
	maxTries     = 3                // logins tried with one device; many lock after five
)

// Sighting is one answer heard.
type Sighting struct {
	Via      string         // the way: ws-discovery, mdns, ssdp, snmp, http, https, ssh, …
	Address  netip.AddrPort // where to talk to it; port 0: nowhere
	TLS      bool
	Dialect  string // empty: it answers, but is not recognised
	ReadOnly bool   // the facts are all there is to read
	Path     string // where its service is, as announced
	Version  string // of the protocol
	Open     bool   // it can be read without a login
	Facts    device.Reading
	Trouble  *device.Cause // why it is not recognised
	Silent   bool          // it takes connections, and says nothing
	Look     bool          // it announced the address, but not what is there: look

	more func(context.Context, Sighting) device.Reading // asks it for more, without a login
}

// endpoint is where to talk to what was seen.
func (s Sighting) endpoint() device.Endpoint {
	e := device.Endpoint{Dialect: s.Dialect, Address: s.Address.String(), Path: s.Path, ProtocolVersion: s.Version, Open: s.Open}
	if s.TLS {
		e.Scheme = "https"
	}
	return e
}

// Network is where to look. Without ranges, all that is heard on the adapters counts.
type Network struct {
	Adapter        string // a name or an address, see Choose; empty: those that lead to the ranges, or all
	Ranges, Except []site.Range
	Ports          []site.Port // empty: the usual ones

	adapters []Adapter
	usual    []uint16 // TCP ports to try where none are named
}

// inside tells whether what was heard there is the site's.
func (n Network) inside(a netip.AddrPort) bool {
	return !site.Has(n.Except, a) && (len(n.Ranges) == 0 || site.Has(n.Ranges, a))
}

// heardInside is inside for what may have been heard at another port than the one that
// a range names.
func (n Network) heardInside(s Sighting) bool {
	if n.inside(s.Address) {
		return true
	}
	return slices.ContainsFunc(n.Ranges, func(r site.Range) bool {
		r.Port = 0
		return s.Dialect == "" && r.Has(s.Address) && !site.Has(n.Except, s.Address)
	})
}

// portsFor are the ports that are named for a way of asking; empty: none.
func (n Network) portsFor(way string) []uint16 {
	var out []uint16
	for _, p := range n.Ports {
		if p.Way == way {
			out = append(out, p.Number)
		}
	}
	return out
}

// Scanner looks through networks.
type Scanner struct {
	Dialects    dialect.Registry
	Logins      func(device.Device) []login.Credential // in the order to try; no more than three are tried
	Names       func(device.Device) (string, bool)     // what the site calls it; may be nil
	Plain       func(vendor, model string) bool        // may its password be shown on the wire; may be nil
	Communities []string                               // of SNMP, to ask everybody with besides the usual one
	Trusted     []Key                                  // keys of earlier contacts
	Patience    time.Duration                          // for an address to take a connection, and to answer who it is
	Via         []string                               // the ways to hear by; empty: all
	Log         *slog.Logger
	Progress    func(done, total int, what string) // may be nil

	keys keyring
	// unnamed are the devices that refused a login without a number, by address: it was
	// given for this run, and is tried once with a device as long as the run lasts.
	unnamed sync.Map
}

// Protocols are the names of the discovery protocols. The sweep is what tries TCP ports: HTTP,
// TLS, SSH and Modbus.
var Protocols = []string{"sweep", "ws-discovery", "mdns", "ssdp", "snmp", "ethernet-ip"}

// Result is what a scan brought.
type Result struct {
	Devices  []device.Device // all that were heard, as they are now
	Gone     []device.Device // known, in the ranges looked through, and not answering any more
	New      []string        // the names of those never seen before
	Changed  []Change
	Outside  int      // heard from outside the ranges; skipped
	Asked    int      // addresses looked at
	Warnings []string // what was odd
	Keys     Keys
}

// Change is what is different in a device since it was last seen.
type Change struct {
	Name string `json:"name"`
	What string `json:"what"` // a field's name
	From string `json:"from"`
	To   string `json:"to"`
}

// Scan looks through the networks and reads every device found. known are the
// devices of earlier scans. Its error is for what makes a scan impossible: no such
// adapter, or a context that ended.
func (s *Scanner) Scan(ctx context.Context, networks []Network, known []device.Device) (Result, error) {
	var result Result
	adapters, err := Adapters()
	if err != nil {
		return result, err
	}
	networks = slices.Clone(networks)
	for i := range networks {
		networks[i].usual = append(s.Dialects.Over("tcp").Ports(), otherPorts...)
		if networks[i].adapters, err = networks[i].choose(adapters); err != nil {
			return result, err
		}
		result.Warnings = append(result.Warnings, networks[i].astray(adapters)...)
	}
	s.keys = newKeyring(s.Trusted)
	var sightings []Sighting
	for _, n := range networks {
		heard, outside, err := s.hear(ctx, n)
		if err != nil {
			return result, err
		}
		sightings = append(sightings, heard...)
		result.Outside += outside
		for _, r := range n.Ranges {
			if r.Sweeps() {
				result.Asked += r.Count()
			}
		}
	}
	if len(sightings) >= maxSightings {
		result.Warnings = append(result.Warnings, fmt.Sprintf("more than %d answers came; the rest was left out. Is somebody flooding the network", maxSightings))
	}
	found := merge(s.Dialects, sightings)
	if len(found) > maxDevices {
		result.Warnings = append(result.Warnings, fmt.Sprintf("%d devices seem to answer; only %d were read. Is somebody flooding the network", len(found), maxDevices))
		found = found[:maxDevices]
	}
	addMACs(found, arpTable())
	if err := s.read(ctx, found, known); err != nil {
		return result, err
	}
	result.settle(s, fold(found), known, networks)
	result.Keys = Keys{s.keys.fresh, s.keys.refused}
	return result, nil
}

// choose finds the adapters to multicast on: the one named, or those in whose networks
// the ranges lie, or without ranges all.
func (n Network) choose(all []Adapter) ([]Adapter, error) {
	if n.Adapter != "" || len(n.Ranges) == 0 {
		return Choose(all, n.Adapter)
	}
	var out []Adapter
	for _, a := range all {
		if a.Up && slices.ContainsFunc(n.Ranges, func(r site.Range) bool { return slices.ContainsFunc(a.Addresses, r.Overlaps) }) {
			out = append(out, a)
		}
	}
	return out, nil
}

// astray says which ranges lie in none of the networks that this machine is in.
func (n Network) astray(adapters []Adapter) []string {
	var out []string
	var own []string
	for _, a := range adapters {
		for _, p := range a.Addresses {
			if !p.Addr().IsLinkLocalUnicast() && !p.Addr().IsLoopback() {
				own = append(own, a.Name+" "+p.String())
			}
		}
	}
	for _, r := range n.Ranges {
		near := slices.ContainsFunc(adapters, func(a Adapter) bool { return slices.ContainsFunc(a.Addresses, r.Overlaps) })
		if near || r.First.IsLoopback() || r.First.IsLinkLocalUnicast() {
			continue
		}
		text := r.First.String()
		if r.Last != r.First {
			text += "-" + r.Last.String()
		}
		where := "it has none but its own"
		if len(own) > 0 {
			where = "it is in " + strings.Join(own, ", ")
		}
		out = append(out, fmt.Sprintf("%s is in no network of this machine (%s), so that it is asked through a router, if there is one, and without multicast", text, where))
	}
	return out
}

// hear runs all discovery protocols at once on one network. What is announced is looked at
// while the others still wait.
func (s *Scanner) hear(ctx context.Context, n Network) ([]Sighting, int, error) {
	h := &hearing{scanner: s, network: n, ctx: ctx, looked: map[netip.AddrPort]bool{}, outside: map[netip.Addr]bool{}, looksAt: map[netip.Addr]int{}, turns: make(chan struct{}, lookLanes)}
	h.looks.SetLimit(lookLanes)
	var group errgroup.Group
	for _, w := range []way{s.wsDiscovery(), s.mdns(), s.ssdp(), s.snmp(), s.ethernetIP()} {
		if s.uses(w.name) {
			group.Go(func() error { return w.run(ctx, s, n, h.take) })
		}
	}
	if s.uses("sweep") {
		group.Go(func() error { return s.sweep(ctx, n, h) })
	}
	err := group.Wait()
	_ = h.looks.Wait() // nothing in it fails
	if err == nil {
		err = ctx.Err()
	}
	return h.sightings, len(h.outside), err
}

func (s *Scanner) uses(protocol string) bool {
	return len(s.Via) == 0 || slices.Contains(s.Via, protocol)
}

// hearing collects the sightings of one network.
type hearing struct {
	scanner *Scanner
	network Network
	ctx     context.Context
	looks   errgroup.Group

	mu        sync.Mutex
	sightings []Sighting
	looked    map[netip.AddrPort]bool // addresses that were or are looked at
	outside   map[netip.Addr]bool
	looksAt   map[netip.Addr]int
	turns     chan struct{} // to look
}

func (h *hearing) take(sight Sighting) {
	if !h.keep(sight) || sight.Address.Port() == 0 {
		return
	}
	if (sight.Look || sight.more != nil) && h.room(sight.Address.Addr()) {
		h.looks.Go(func() error {
			if sight.more != nil {
				ctx, cancel := context.WithTimeout(h.ctx, h.scanner.Patience)
				defer cancel()
				if f := sight.more(ctx, sight); f.Model != "" || f.Called != "" {
					sight.Facts, sight.ReadOnly, sight.more = f.Over(sight.Facts), f.Version != "", nil
					h.keep(sight)
				}
			}
			if sight.Look && !sight.ReadOnly && h.first(sight.Address) { // it has not told all by itself
				h.look(sight.Address, sight.TLS)
			}
			return nil
		})
	}
}

// keep takes a sighting where it is the site's and there is room.
func (h *hearing) keep(sight Sighting) bool {
	h.mu.Lock()
	defer h.mu.Unlock()
	switch {
	case len(h.sightings) >= maxSightings || len(h.outside) >= maxSightings:
		return false
	case h.network.heardInside(sight):
		h.sightings = append(h.sightings, sight)
		return true
	}
	h.outside[sight.Address.Addr()] = true
	return false
}

// look finds out what answers at an address and keeps it. Waiting for one's turn takes
// nothing from the patience.
func (h *hearing) look(a netip.AddrPort, tls bool) {
	h.turns <- struct{}{}
	defer func() { <-h.turns }()
	if seen, ok := h.scanner.look(h.ctx, h.network, a, tls); ok {
		h.keep(seen)
	}
}

// room tells whether one more thing that a host announces is looked at.
func (h *hearing) room(host netip.Addr) bool {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.looksAt[host]++
	return h.looksAt[host] <= maxLooks
}

// first tells whether an address was not looked at before; from now on it was.
func (h *hearing) first(a netip.AddrPort) bool {
	h.mu.Lock()
	defer h.mu.Unlock()
	was := h.looked[a]
	h.looked[a] = true
	return !was
}

// read logs in to every device found and asks what it is.
func (s *Scanner) read(ctx context.Context, found []*found, known []device.Device) error {
	var group errgroup.Group
	group.SetLimit(readLanes)
	var mu sync.Mutex
	done := 0
	for _, d := range found {
		group.Go(func() error {
			s.readOne(ctx, d, known)
			mu.Lock()
			defer mu.Unlock()
			done++
			s.progress(done, len(found), "devices read")
			return nil
		})
	}
	_ = group.Wait() // nothing in it fails
	return ctx.Err()
}

// readOne reads a device by the best way to talk to it. The others only add what they
// tell without a login.
func (s *Scanner) readOne(ctx context.Context, d *found, known []device.Device) {
	ctx, cancel := context.WithTimeout(ctx, readWithin)
	defer cancel()
	if len(d.talks) == 0 {
		if d.readOnly {
			d.Access, d.Trouble = device.OK, nil
			s.pinSerial(d)
		}
		return
	}
	best := d.talks[0]
	d.Endpoint = best
	// Which logins are for it is told by what was known before, not by what it calls
	// itself.
	if old, ok := same(d.Device, known, nil); ok && !d.fixed {
		d.ID, d.Name, d.Login, d.Refused = old.ID, old.Name, old.Login, old.Refused
	}
	if !d.fixed && !d.connects(s.Dialects) && !s.open(ctx, address(best)) {
		d.Access, d.Trouble = device.Away, device.Because(device.OnlyAnnounced, "")
		return
	}
	s.logIn(ctx, d, best)
	for _, at := range d.talks[1:] {
		if other, ok := s.Dialects.Named(at.Dialect); ok && at.Open {
			if facts, err := read(ctx, other, dialect.At{Endpoint: at}, login.Credential{}); err == nil {
				d.Reading = d.Reading.Over(facts)
			}
		}
	}
	if d.Access == device.OK {
		s.pinSerial(d)
	}
}

// Again logs in to known devices once more, also with logins that they refused before.
// It returns them as they are now, and the keys met.
func (s *Scanner) Again(ctx context.Context, devices []device.Device) ([]device.Device, Keys) {
	s.keys = newKeyring(s.Trusted)
	var all []*found
	for _, d := range devices {
		f := &found{Device: d, fixed: true}
		all = append(all, f)
		if d.Access == device.IdentityChanged { // until a scan finds it as it should be
			continue
		}
		f.Refused = nil
		f.talks = []device.Endpoint{d.Endpoint}
	}
	_ = s.read(ctx, all, devices) // an end of the context is the caller's to see
	var out []device.Device
	for _, f := range all {
		out = append(out, f.Device)
	}
	return out, Keys{s.keys.fresh, s.keys.refused}
}

// Keys are those that a scan met.
type Keys struct {
	Fresh   []Key // for the first time
	Refused []Key // other ones than before
}

// pinSerial holds a device's serial number against the one that was there before. It
// returns false where it is another.
func (s *Scanner) pinSerial(d *found) bool {
	if d.Serial == "" {
		return true
	}
	err := s.keys.check(d.Address, KeySerial, d.Serial)
	if err != nil {
		d.Access, d.Trouble = Access(err)
	}
	return err == nil
}

// logIn tries the device's logins, one after the other, until one is not refused.
// Before the first, all that the device showed of itself must be as it was.
func (s *Scanner) logIn(ctx context.Context, d *found, best device.Endpoint) {
	speaks, ok := s.Dialects.Named(best.Dialect)
	if !ok {
		d.Access, d.Trouble = device.Unreadable, device.Because(device.NotRecognised, "it speaks %s", best.Dialect)
		return
	}
	if !s.pinSerial(d) {
		return
	}
	if err := s.keys.changed(address(best).Addr()); err != nil {
		d.Access, d.Trouble = Access(err)
		return
	}
	at := dialect.At{Endpoint: best, Trust: s.keys.trust(d.Address)}
	if d.fixed { // it was not found just now
		if err := dialect.VerifyIdentity(ctx, speaks, at, d.Serial); err != nil {
			d.Access, d.Trouble = Access(err)
			return
		}
	}
	logins, before := s.logins(d.Device, best)
	if len(logins) == 0 {
		d.Access, d.Trouble = device.LoginRefused, device.Because(device.NoLogin, "")
		if before > 0 {
			d.Trouble = &device.Cause{Problem: device.RefusedBefore, Count: before}
		}
		return
	}
	tried := 0
	for _, login := range logins {
		login.PlainBasic = s.Plain != nil && s.Plain(d.Vendor, d.Model)
		facts, err := read(ctx, speaks, at, login)
		s.Log.Debug("read", "address", d.Address, "dialect", d.Dialect, "version", facts.Version, "err", err)
		d.Reading = facts.Over(d.Reading)
		d.Access, d.Trouble = Access(err)
		tried++
		switch {
		case errors.Is(err, device.ErrLoginRefused):
			if login.ID == "" {
				s.unnamed.Store(d.Address+" "+login.User, true)
			} else if !slices.Contains(d.Refused, login.ID) {
				d.Refused = append(slices.Clone(d.Refused), login.ID)
			}
			if d.Login == login.ID {
				d.Login = ""
			}
			continue
		case d.Access == device.OK, errors.Is(err, device.ErrNewPassword), errors.Is(err, device.ErrNoRight):
			d.Login = login.ID
			d.Refused = slices.DeleteFunc(slices.Clone(d.Refused), func(id string) bool { return id == login.ID })
		}
		return
	}
	if tried > 1 {
		d.Trouble = &device.Cause{Problem: d.Trouble.Problem, Detail: d.Trouble.Detail, Count: tried}
	}
}

// endWithin is how long a device may take to end a session.
const endWithin = 5 * time.Second

// read is one session that reads. It ends also where the reading was given up.
func read(ctx context.Context, speaks dialect.Dialect, at dialect.At, as login.Credential) (device.Reading, error) {
	session := speaks.Open(at, as)
	defer func() {
		ending, cancel := context.WithTimeout(context.WithoutCancel(ctx), endWithin)
		defer cancel()
		_ = session.Close(ending) // what it left open at the device, the device ends itself
	}()
	return session.Read(ctx)
}

// address is where an endpoint is; the zero one where that is no address.
func address(e device.Endpoint) netip.AddrPort {
	a, _ := netip.ParseAddrPort(e.Address)
	return a
}

// logins are those to try with a device: the one that worked last, then the others in
// their order, without those that it refused before. A device that tells all without a
// login is asked without.
func (s *Scanner) logins(d device.Device, at device.Endpoint) (out []login.Credential, before int) {
	if at.Open {
		return []login.Credential{{}}, 0
	}
	for _, l := range s.Logins(d) {
		switch {
		case !l.Is(s.Dialects.Form(at)):
		case l.ID == "" && s.refusedNow(d.Address, l.User):
			before++
		case l.ID != "" && slices.Contains(d.Refused, l.ID):
			before++
		case l.ID != "" && l.ID == d.Login:
			out = slices.Insert(out, 0, l)
		default:
			out = append(out, l)
		}
	}
	return out[:min(len(out), maxTries)], before
}

func (s *Scanner) refusedNow(address, user string) bool {
	_, refused := s.unnamed.Load(address + " " + user)
	return refused
}

// Access says what an error of a session means for a device.
func Access(err error) (device.Access, *device.Cause) {
	var cause *device.Cause
	if err != nil && !errors.As(err, &cause) {
		cause = device.Because(device.NoAnswer, "%v", err)
		if errors.Is(err, context.DeadlineExceeded) {
			cause = device.Because(device.NoAnswer, "not in time")
		}
	}
	switch {
	case err == nil:
		return device.OK, nil
	case cause.Problem == device.Changed:
		return device.IdentityChanged, cause
	case slices.Contains([]device.Problem{device.BadLogin, device.PlainLogin, device.NewPassword, device.NoRight}, cause.Problem):
		return device.LoginRefused, cause
	case cause.Problem == device.NoAnswer:
		return device.Away, cause
	}
	return device.Silent, cause
}

func (s *Scanner) progress(done, total int, what string) {
	if s.Progress != nil {
		s.Progress(done, total, what)
	}
}

// Addresses makes a network of what a person names to be looked through: each an address,
// a row, a network or host:port. wide allows ranges of more than a /16.
func Addresses(addresses, except []string, adapter string, ports []site.Port, wide bool) ([]Network, error) {
	n := Network{Adapter: adapter, Ports: ports}
	for list, into := range map[*[]string]*[]site.Range{&addresses: &n.Ranges, &except: &n.Except} {
		for _, t := range *list {
			r, err := site.ParseRange(t)
			switch {
			case err != nil:
				return nil, err
			case r.Wide() && !wide && into == &n.Ranges:
				return nil, fmt.Errorf("%s names %d addresses, more than a /16; say --wide if that is meant", t, r.Count())
			}
			*into = append(*into, r)
		}
	}
	return []Network{n}, nil
}

// Narrow takes addresses out of networks, and has other ports looked at in them.
func Narrow(networks []Network, except []string, ports []site.Port) ([]Network, error) {
	for _, t := range except {
		r, err := site.ParseRange(t)
		if err != nil {
			return nil, err
		}
		for i := range networks {
			networks[i].Except = append(networks[i].Except, r)
		}
	}
	for i := range networks {
		if len(ports) > 0 {
			networks[i].Ports = ports
		}
	}
	return networks, nil
}

// Networks makes networks of those in a site file.
func Networks(of []site.Network) []Network {
	var out []Network
	for _, n := range of {
		ranges, except := n.Inside()
		out = append(out, Network{Adapter: n.Adapter, Ranges: ranges, Except: except, Ports: n.PortList()})
	}
	return out
}

// settle brings what was found and what was known together.
func (r *Result) settle(s *Scanner, found []*device.Device, known []device.Device, networks []Network) {
	matched := map[string]bool{}
	for _, d := range found {
		if old, ok := same(*d, known, matched); ok {
			matched[old.ID] = true
			*d = remember(*d, old)
		}
		if s.Names != nil {
			if name, ok := s.Names(*d); ok {
				d.Name = name
			}
		}
		r.Devices = append(r.Devices, *d)
	}
	for _, d := range known {
		if !matched[d.ID] && s.lookedAt(d, networks) {
			d.Access, d.Trouble = device.Away, device.Because(device.MissedLastScan, "")
			r.Devices = append(r.Devices, d)
		}
	}
	r.name(known)
	byID := map[string]device.Device{}
	for _, d := range known {
		byID[d.ID] = d
	}
	for _, d := range r.Devices {
		if old, ok := byID[d.ID]; ok {
			r.Changed = append(r.Changed, changes(old, d)...)
			if d.Access == device.Away && old.Access != device.Away { // also one that was heard, and gone when it was read
				r.Gone = append(r.Gone, d)
			}
		} else {
			r.New = append(r.New, d.Name)
		}
	}
	r.warn()
}

// swept are the ways by which the sweep hears.
var swept = []string{"http", "https", "ssh", "modbus"}

// lookedAt tells whether a known device would have been heard if it were there: in a
// network that was looked through, by all the ways by which it was heard before.
func (s *Scanner) lookedAt(d device.Device, networks []Network) bool {
	a, err := netip.ParseAddrPort(d.Address)
	if err != nil {
		return false
	}
	onlySwept := true
	for _, heard := range d.FoundVia {
		way := heard
		if slices.Contains(swept, heard) {
			way = "sweep"
		} else {
			onlySwept = false
		}
		if !s.uses(way) {
			return false
		}
	}
	return slices.ContainsFunc(networks, func(n Network) bool {
		return n.inside(a) && (!onlySwept || len(n.Ranges) == 0 || slices.ContainsFunc(n.Ranges, func(r site.Range) bool {
			return r.Has(a) && slices.Contains(n.ports(r), a.Port())
		}))
	})
}

// warn says what a person should know about what was found.
func (r *Result) warn() {
	bySerial := map[string]string{}
	for _, d := range r.Devices {
		key := strings.ToLower(d.Vendor + " " + d.Serial)
		if d.Serial == "" || d.Access == device.Away {
			continue
		}
		if other, ok := bySerial[key]; ok {
			r.Warnings = append(r.Warnings, fmt.Sprintf("%s and %s both say they are serial number %s", other, d.Name, d.Serial))
		}
		bySerial[key] = d.Name
	}
}
