// Package discover finds what answers on a network, by every discovery protocol at once,
// and says of each answer only what it says openly. It sends no credential.
//
// Each protocol has its own file and gives Sightings: one answer, not yet known to be
// a device. The central type is Discoverer. Everything is bounded: in time by the
// protocol's own waiting time, in number by what a site can hold.
package discover

import (
	"context"
	"fmt"
	"log/slog"
	"maps"
	"net/netip"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sync/errgroup"

	"catena/internal/device"
	"catena/internal/dialect"
)

const (
	maxSightings = 16384 // of one scan; a site has hundreds of devices, each seen a few times
	maxLooks     = 8     // announced addresses of one host that are looked at
	// addresses looked at at the same time: each is asked in every dialect at once
	lookLanes = 48
)

// UsualPatience is how long one address may take to answer.
const UsualPatience = 1500 * time.Millisecond

// Discoverer looks through networks.
type Discoverer struct {
	Dialects    dialect.Registry
	Communities []string // of SNMP, to ask everybody with besides the usual one
	// communities that one address alone is asked with
	OwnCommunities map[netip.Addr][]string
	Patience       time.Duration // for an address to take a connection, and to answer who it is
	Via            []string      // the protocols to use; empty: all
	Log            *slog.Logger
	Progress       func(done, total int, what string) // may be nil
	// told every key that is shown; may be nil
	Met func(address, kind, fingerprint string)

	starved atomic.Pointer[error] // why this machine could not ask
	behind  sync.Map              // the router of each BACnet device that is behind one
}

// OutOfResources is why this machine could not ask someone; nil: it could ask all. What did not
// answer then says nothing.
func (s *Discoverer) OutOfResources() error {
	if err := s.starved.Load(); err != nil {
		return *err
	}
	return nil
}

func (s *Discoverer) progress(done, total int, what string) {
	if s.Progress != nil {
		s.Progress(done, total, what)
	}
}

func (s *Discoverer) met(at netip.AddrPort, kind, fingerprint string) {
	if s.Met != nil {
		s.Met(at.String(), kind, fingerprint)
	}
}

// otherPorts are tried besides those of the dialects where no one names any: SSH, Modbus.
var otherPorts = []uint16{22, modbusPort}

// protocols are the discovery protocols that ask by datagrams, each in its own file. A new one
// is a row here.
var protocols = []struct {
	name string
	way  func(*Discoverer) way
	port bool // a port of an address may be named for it: snmp:1161 (site.ParsePort)
}{
	{"ws-discovery", (*Discoverer).wsDiscovery, false},
	{"mdns", (*Discoverer).mdns, false},
	{"ssdp", (*Discoverer).ssdp, false},
	{"snmp", (*Discoverer).snmp, true},
	{"ethernet-ip", (*Discoverer).ethernetIP, true},
	{"bacnet", (*Discoverer).bacnet, true},
}

// Protocols are the names of the discovery protocols. The sweep is what tries TCP ports: HTTP,
// TLS, SSH and Modbus.
var Protocols = func() []string {
	names := []string{"sweep"}
	for _, p := range protocols {
		names = append(names, p.name)
	}
	return names
}()

// Swept are the ways by which the sweep hears.
var Swept = []string{"http", "https", "ssh", "modbus"}

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
	Look     bool          // it announced the address, but not its service: probe it

	more func(context.Context, Sighting) device.Reading // asks it for more, without a login
}

// Endpoint is the endpoint of the sighting.
func (s Sighting) Endpoint() device.Endpoint {
	e := device.Endpoint{Dialect: s.Dialect, Address: s.Address.String(), Path: s.Path,
		ProtocolVersion: s.Version, Open: s.Open}
	if s.TLS {
		e.Scheme = "https"
	}
	return e
}

// Found is what answered.
type Found struct {
	Sightings      []Sighting
	Networks       []Network  // as they were looked through
	Outside        []Sighting // of each host that answered from outside the address ranges; skipped
	Asked          int        // addresses looked at
	Warnings       []string
	OutOfResources error // why this machine could not ask everybody; nil: it could
}

// Run looks through the networks. Its error is for what makes that impossible: no such
// adapter, or a context that ended.
func (s *Discoverer) Run(ctx context.Context, networks []Network) (Found, error) {
	adapters, err := Adapters()
	if err != nil {
		return Found{}, err
	}
	f := Found{Networks: slices.Clone(networks)}
	for i := range f.Networks {
		n := &f.Networks[i]
		n.usual = append(s.Dialects.Over("tcp").Ports(), otherPorts...)
		n.adapters, err = n.choose(adapters)
		if err != nil {
			return f, err
		}
		f.Warnings = append(f.Warnings, n.astray(adapters)...)
	}
	for _, n := range f.Networks {
		sightings, outside, err := s.hear(ctx, n)
		if err != nil {
			return f, err
		}
		f.Sightings = append(f.Sightings, sightings...)
		f.Outside = append(f.Outside, outside...)
		for _, r := range n.Ranges {
			if r.Sweeps() {
				f.Asked += r.Count()
			}
		}
	}
	f.OutOfResources = s.OutOfResources()
	f.Warnings = append(f.Warnings, s.behindRouters()...)
	if len(f.Sightings) >= maxSightings {
		f.Warnings = append(f.Warnings,
			fmt.Sprintf("more than %d answers arrived; the rest was ignored. Is someone "+
				"flooding the network",
				maxSightings))
	}
	return f, nil
}

// hear runs all discovery protocols at once on one network. Each has its own waiting time,
// given by its standard (mDNS answers within 120 ms, WS-Discovery within 500); together they
// take as long as the longest. What an answer announces and does not explain, an address or a
// description, is looked at while the others still wait: in turns, so that a site of 500
// devices does not open 500 connections at once, and beside the sockets' readers, so that
// no answer is missed.
func (s *Discoverer) hear(ctx context.Context, n Network) (inside, outside []Sighting, err error) {
	h := &hearing{discoverer: s, network: n, looked: map[netip.AddrPort]bool{},
		outside: map[netip.Addr]Sighting{}, looksAt: map[netip.Addr]int{},
		turns: make(chan struct{}, lookLanes)}
	var group errgroup.Group
	for _, p := range protocols {
		if w := p.way(s); s.Uses(w.name) {
			group.Go(func() error {
				return w.run(ctx, s, n, func(seen Sighting) { h.take(ctx, seen) })
			})
		}
	}
	if s.Uses("sweep") {
		group.Go(func() error { return s.sweep(ctx, n, h) })
	}
	err = group.Wait()
	_ = h.looks.Wait() // nothing in it fails
	if err == nil {
		err = ctx.Err()
	}
	for _, a := range slices.SortedFunc(maps.Keys(h.outside), netip.Addr.Compare) {
		outside = append(outside, h.outside[a])
	}
	return h.sightings, outside, err
}

// Uses reports whether a discovery protocol is used.
func (s *Discoverer) Uses(protocol string) bool {
	return len(s.Via) == 0 || slices.Contains(s.Via, protocol)
}

// hearing collects the sightings of one network.
type hearing struct {
	discoverer *Discoverer
	network    Network
	looks      errgroup.Group

	mu        sync.Mutex
	sightings []Sighting
	looked    map[netip.AddrPort]bool // addresses that were or are looked at
	outside   map[netip.Addr]Sighting // the one that tells most
	looksAt   map[netip.Addr]int
	turns     chan struct{} // to look
}

func (h *hearing) take(ctx context.Context, sight Sighting) {
	if !h.keep(sight) || sight.Address.Port() == 0 {
		return
	}
	if (sight.Look || sight.more != nil) && h.room(sight.Address.Addr()) {
		h.looks.Go(func() error {
			if sight.more != nil {
				h.turns <- struct{}{}
				asking, cancel := context.WithTimeout(ctx, h.discoverer.Patience)
				f := sight.more(asking, sight)
				cancel()
				<-h.turns
				if f.Model != "" || f.Called != "" {
					sight.Facts, sight.ReadOnly, sight.more = f.Over(
						sight.Facts), f.Version != "", nil
					h.keep(sight)
				}
			}
			// it has not told all automatically
			if sight.Look && !sight.ReadOnly && h.first(sight.Address) {
				h.look(ctx, sight.Address, sight.TLS)
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
	host := sight.Address.Addr()
	if old, is := h.outside[host]; !is || old.Facts.Model == "" && sight.Facts.Model != "" {
		h.outside[host] = sight
	}
	return false
}

// look finds out what answers at an address and keeps it. Waiting for one's turn takes
// nothing from the patience.
func (h *hearing) look(ctx context.Context, a netip.AddrPort, tls bool) {
	h.turns <- struct{}{}
	defer func() { <-h.turns }()
	if seen, ok := h.discoverer.look(ctx, h.network, a, tls); ok {
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

func sortedKeys[V any](m map[string]V) []string {
	return slices.Sorted(maps.Keys(m))
}
