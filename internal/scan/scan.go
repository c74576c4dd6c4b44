// Package scan finds devices on a network and reads what they run.
//
// Each way of hearing devices is a file of its own and gives sightings: one answer
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

	"catena/internal/dialect"
	"catena/internal/site"
)

// UsualPorts are looked at where a network or a target names none.
var UsualPorts = []uint16{80, 8080}

const (
	maxSightings = 16384            // of one scan; a site has hundreds
	readLanes    = 48               // devices read at the same time
	readWithin   = 20 * time.Second // for one device
)

// Sighting is one answer heard.
type Sighting struct {
	Heard   string         // the way: ws-discovery, http
	Address netip.AddrPort // where to talk to it
	Dialect string         // empty: it answers, but is not recognised
	Facts   dialect.Facts  // what it told without a login
	Trouble string         // why it is not recognised
}

// Network is where to look. Without ranges, all that is heard on the adapter
// counts.
type Network struct {
	Adapter        string // empty: all
	Ranges, Except []site.Range
	Ports          []uint16 // empty: the usual ones
}

// inside tells whether what was heard there is the site's.
func (n Network) inside(a netip.AddrPort) bool {
	return !site.Has(n.Except, a) && (len(n.Ranges) == 0 || site.Has(n.Ranges, a))
}

// Scanner looks through networks.
type Scanner struct {
	Dialects []dialect.Dialect
	Login    func(site.Device) (dialect.Login, bool) // false: there is none
	Patience time.Duration                           // for an address to take a connection, and to answer who it is
	Log      *slog.Logger
	Progress func(done, total int, what string) // may be nil
}

// Result is what a scan brought.
type Result struct {
	Devices  []site.Device // all that were heard, as they are now
	Gone     []site.Device // known, in the ranges looked through, and not heard
	New      []string      // the names of those never seen before
	Changed  []Change
	Outside  int      // heard from outside the ranges; left alone
	Asked    int      // addresses looked at
	Warnings []string // what was odd
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
func (s *Scanner) Scan(ctx context.Context, networks []Network, known []site.Device) (Result, error) {
	var result Result
	var sightings []Sighting
	for _, n := range networks {
		heard, outside, err := s.hear(ctx, n)
		if err != nil {
			return result, err
		}
		sightings = append(sightings, heard...)
		result.Outside += outside
		for _, r := range n.Ranges {
			result.Asked += r.Count()
		}
	}
	found := merge(sightings)
	if err := s.read(ctx, found); err != nil {
		return result, err
	}
	result.settle(fold(found), known, networks)
	return result, nil
}

// hear runs all ways of hearing at once on one network.
func (s *Scanner) hear(ctx context.Context, n Network) ([]Sighting, int, error) {
	var mu sync.Mutex
	var sightings []Sighting
	outside := map[netip.Addr]bool{}
	take := func(sight Sighting) {
		mu.Lock()
		defer mu.Unlock()
		switch {
		case len(sightings) >= maxSightings || len(outside) >= maxSightings:
		case n.inside(sight.Address):
			sightings = append(sightings, sight)
		default:
			outside[sight.Address.Addr()] = true
		}
	}
	group, ctx := errgroup.WithContext(ctx)
	group.Go(func() error { return s.wsDiscovery(ctx, n, take) })
	group.Go(func() error { return s.sweep(ctx, n, take) })
	err := group.Wait()
	return sightings, len(outside), err
}

// read logs in to every device found and asks what it is.
func (s *Scanner) read(ctx context.Context, found []*site.Device) error {
	var group errgroup.Group
	group.SetLimit(readLanes)
	var mu sync.Mutex
	done := 0
	for _, d := range found {
		group.Go(func() error {
			if d.Known() {
				s.readOne(ctx, d)
			}
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

func (s *Scanner) readOne(ctx context.Context, d *site.Device) {
	login, ok := s.Login(*d)
	if !ok {
		d.Reach, d.Trouble = site.Locked, "no login is given for it"
		return
	}
	ctx, cancel := context.WithTimeout(ctx, readWithin)
	defer cancel()
	for _, speaks := range s.Dialects {
		if speaks.Name() != d.Dialect {
			continue
		}
		talk := speaks.Open(dialect.Peer{Address: d.Address, Path: d.Path, Login: login})
		facts, err := talk.Read(ctx)
		facts.Into(d)
		if facts.Name != "" {
			d.Name = facts.Name
		}
		d.Reach, d.Trouble = Reach(err)
		s.Log.Debug("read", "address", d.Address, "dialect", d.Dialect, "version", d.Version, "err", err)
	}
}

// Reach says what an error of a talk means for a device.
func Reach(err error) (site.Reach, string) {
	switch {
	case err == nil:
		return site.Answers, ""
	case errors.Is(err, dialect.ErrLocked):
		return site.Locked, err.Error()
	case errors.Is(err, dialect.ErrAway), errors.Is(err, context.DeadlineExceeded):
		return site.Away, err.Error()
	}
	return site.Silent, err.Error()
}

func (s *Scanner) progress(done, total int, what string) {
	if s.Progress != nil {
		s.Progress(done, total, what)
	}
}

// Targets makes networks of what a person names to be looked through: each an
// address, a row, a network or host:port.
func Targets(targets []string, adapter string, ports []uint16) ([]Network, error) {
	n := Network{Adapter: adapter, Ports: ports}
	for _, t := range targets {
		r, err := site.ParseRange(t)
		if err != nil {
			return nil, err
		}
		n.Ranges = append(n.Ranges, r)
	}
	return []Network{n}, nil
}

// Networks makes networks of those in a site file.
func Networks(of []site.Network) []Network {
	var out []Network
	for _, n := range of {
		ranges, except := n.Inside()
		out = append(out, Network{Adapter: n.Adapter, Ranges: ranges, Except: except, Ports: n.Ports})
	}
	return out
}

// settle brings what was found and what was known together.
func (r *Result) settle(found []*site.Device, known []site.Device, networks []Network) {
	matched := map[string]bool{}
	for _, d := range found {
		if old, ok := same(*d, known, matched); ok {
			matched[old.ID] = true
			*d = remember(*d, old)
		}
		r.Devices = append(r.Devices, *d)
	}
	for _, d := range known {
		if !matched[d.ID] && r.lookedAt(d, networks) {
			if d.Reach != site.Away {
				r.Gone = append(r.Gone, d)
			}
			d.Reach, d.Trouble = site.Away, "did not answer the last scan"
			r.Devices = append(r.Devices, d)
		}
	}
	r.name(known)
	byID := map[string]site.Device{}
	for _, d := range known {
		byID[d.ID] = d
	}
	for _, d := range r.Devices {
		if old, ok := byID[d.ID]; ok {
			r.Changed = append(r.Changed, changes(old, d)...)
		} else {
			r.New = append(r.New, d.Name)
		}
	}
	r.warn()
}

func (r *Result) lookedAt(d site.Device, networks []Network) bool {
	a, err := netip.ParseAddrPort(d.Address)
	return err == nil && slices.ContainsFunc(networks, func(n Network) bool { return n.inside(a) })
}

// warn says what a person should know about what was found.
func (r *Result) warn() {
	bySerial := map[string]string{}
	for _, d := range r.Devices {
		key := strings.ToLower(d.Vendor + " " + d.Serial)
		if d.Serial == "" || d.Reach == site.Away {
			continue
		}
		if other, ok := bySerial[key]; ok {
			r.Warnings = append(r.Warnings, fmt.Sprintf("%s and %s both say they are serial number %s", other, d.Name, d.Serial))
		}
		bySerial[key] = d.Name
	}
}
