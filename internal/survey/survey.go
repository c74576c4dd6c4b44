// Package survey looks at a site: it decides what is scanned, and records what was found. How
// devices are found and read is decided in package scan.
//
// Its central type is Survey. What site.yaml declares of devices that no scan can find is recorded
// with every scan (Declared).
package survey

import (
	"cmp"
	"context"
	"fmt"
	"log/slog"
	"net/netip"
	"slices"
	"sync"
	"time"

	"catena/internal/address"
	"catena/internal/contact"
	"catena/internal/device"
	"catena/internal/dialect/hand"
	"catena/internal/ledger"
	"catena/internal/login"
	"catena/internal/record"
	"catena/internal/scan"
	"catena/internal/scan/discover"
	"catena/internal/site"
	"catena/internal/workspace"
)

// Request is where and how is looked.
type Request struct {
	// each an address, a range, a network or host:port; none, and no Devices: the site's networks
	Addresses []string
	Devices   []device.Device // known ones that are looked for where they were
	Except    []string        // addresses to leave out, in the same forms
	Adapter   string          // to look through; empty: those in whose networks the addresses lie
	Ports     []site.Port
	Via       []string // discovery protocols; empty: all
	Wide      bool     // a range of more than a /16 is meant
	Patience  time.Duration
}

// Survey looks at a site, once or repeatedly.
type Survey struct {
	Progress func(done, total int, what string) // nil: it is not told
	site     *workspace.Workspace
	access   *contact.Access
	networks []discover.Network
	named    []site.Range // single addresses that were named
	// Outside are the hosts that the last scan heard from outside the address ranges.
	Outside []discover.Sighting
	scanner *scan.Scanner
	now     func() time.Time
}

// Untried returns the stored logins that were not tried on a device, because one command tries one
// that has not worked there before.
func (s *Survey) Untried(d device.Device) []login.Entry { return s.access.Untried(d) }

// Networks returns what a request means at a site. Its errors are a discover.WideError and those of
// addresses that cannot be read.
func Networks(w *workspace.Workspace, r Request) ([]discover.Network, error) {
	own := discover.Networks(w.Site.Networks)
	addresses := slices.Clone(r.Addresses)
	for _, d := range r.Devices {
		if host := d.Host(); host != "" && !slices.Contains(addresses, host) {
			addresses = append(addresses, host)
		}
	}
	if len(addresses) == 0 && r.Adapter == "" && len(own) > 0 {
		return discover.Narrow(own, r.Except, r.Ports)
	}
	all, err := discover.Addresses(addresses, r.Except, r.Adapter, r.Ports, r.Wide)
	if err != nil || r.Adapter != "" || len(r.Ports) > 0 {
		return all, err
	}
	return discover.Inherit(all, own), nil
}

// New returns a survey of some networks of a site, as the request says.
func New(w *workspace.Workspace, x *contact.Access, networks []discover.Network, r Request,
	log *slog.Logger,
	now func() time.Time) *Survey {
	s := &Survey{site: w, access: x, networks: networks, scanner: x.Scanner(), now: now}
	s.scanner.Log, s.scanner.Patience, s.scanner.Via = log, r.Patience, r.Via
	for _, text := range r.Addresses {
		if one, err := site.ParseRange(text); err == nil && one.First == one.Last {
			s.named = append(s.named, one)
		}
	}
	return s
}

// Scan looks once, and records what was found: nothing, if it does not come to its end.
func (s *Survey) Scan(ctx context.Context) (note record.Scan, devices []device.Device, err error) {
	l := s.site.Ledger
	known, err := record.All(l)
	if err != nil {
		return note, nil, err
	}
	s.scanner.Trusted, s.scanner.Progress = s.access.Keys, s.Progress
	startedAt := s.now()
	onNetwork := slices.DeleteFunc(known, func(d device.Device) bool { return d.Dialect == hand.Name })
	result, err := s.scanner.Scan(ctx, s.networks, onNetwork)
	if err != nil {
		return note, nil, fmt.Errorf("the scan was interrupted: %w; nothing was recorded", err)
	}
	if err := keep(l, startedAt, result.Devices, result.Keys); err != nil {
		return note, nil, err
	}
	units, fresh, err := SeeDeclared(l, s.site.Site)
	if err != nil {
		return note, nil, err
	}
	result.New, result.Devices = append(result.New, fresh...), append(result.Devices, units...)
	s.access.Keys, _, err = record.Keys(l)
	if err != nil {
		return note, nil, err
	}
	if err := leaveOutRetired(l, &result); err != nil {
		return note, nil, err
	}
	note, s.Outside = noteOf(result), result.Outside
	note.Silent = s.silent(result.Devices)
	note.Seconds = s.now().Sub(startedAt).Seconds()
	return note, result.Devices, l.Append(record.Scanned, "", "", note)
}

// leaveOutRetired takes the devices that have left the site out of a result. One that answers is a
// warning.
func leaveOutRetired(l *ledger.Ledger, r *scan.Result) error {
	gone, err := record.Retirements(l)
	if err != nil || len(gone) == 0 {
		return err
	}
	names := map[string]bool{}
	is := func(d device.Device) bool {
		_, is := gone[d.ID]
		if is {
			names[d.Name] = true
		}
		return is
	}
	for _, d := range r.Devices {
		if is(d) && d.Access != device.Away {
			r.Warnings = append(r.Warnings, d.Name+" is retired, and answers at "+d.Address+
				"; to have it back: catena device retire --undo "+d.Name)
		}
	}
	r.Devices, r.Gone = slices.DeleteFunc(r.Devices, is), slices.DeleteFunc(r.Gone, is)
	r.Changed = slices.DeleteFunc(r.Changed, func(c scan.Change) bool { return names[c.Name] })
	return nil
}

// silent are the addresses that were named, and at which no device was found or is known.
func (s *Survey) silent(found []device.Device) (out []string) {
	for _, r := range s.named {
		heard := slices.ContainsFunc(found, func(d device.Device) bool {
			at, err := netip.ParseAddrPort(d.Address)
			return err == nil && r.Has(at)
		})
		switch {
		case heard:
		case r.Port != 0:
			out = append(out, netip.AddrPortFrom(r.First, r.Port).String())
		default:
			out = append(out, r.First.String())
		}
	}
	return out
}

// Again reads known devices again, and records what was found: nothing, if ctx ends before.
func Again(ctx context.Context, w *workspace.Workspace, x *contact.Access, devices []device.Device,
	log *slog.Logger, now func() time.Time) ([]device.Device, error) {
	scanner := x.Scanner()
	scanner.Log, scanner.Attempts = log, contact.Asked
	startedAt := now()
	read, keys := scanner.Again(ctx, devices)
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	return read, keep(w.Ledger, startedAt, read, keys)
}

// keep records what a scan that started then saw of devices, and the keys that they showed.
func keep(l *ledger.Ledger, startedAt time.Time, devices []device.Device, keys scan.Keys) error {
	var seen []*device.Device
	for i := range devices {
		seen = append(seen, &devices[i])
	}
	if err := record.UpdateSince(l, "", startedAt, seen...); err != nil {
		return err
	}
	if err := record.Trust(l, keys.Fresh); err != nil {
		return err
	}
	return record.Distrust(l, keys.Refused)
}

func noteOf(r scan.Result) record.Scan {
	note := record.Scan{Asked: r.Asked, New: notNil(r.New), Changed: notNil(r.Changed),
		Gone: []string{},
		Read: []string{}, Outside: len(r.Outside), Warnings: notNil(r.Warnings)}
	for _, d := range r.Gone {
		note.Gone = append(note.Gone, d.Name)
	}
	for _, d := range r.Devices {
		if d.Access != device.Away {
			note.Found++
		}
		if d.Access == device.OK {
			note.Read = append(note.Read, d.ID)
		}
	}
	return note
}

// notNil returns a list that JSON shows as one, also when nothing is in it.
func notNil[T any](list []T) []T {
	if list == nil {
		return []T{}
	}
	return list
}

// Strays listens on an adapter for devices that cannot be reached from it. Its error says what
// could not be heard; what was heard besides is returned with it.
func Strays(ctx context.Context, adapter discover.Adapter, lasts time.Duration, log *slog.Logger) (
	found []address.Stray, err error) {
	var mu sync.Mutex
	take := func(h address.Heard) {
		mu.Lock()
		defer mu.Unlock()
		found = address.Strays(found, h, adapter.Addresses, adapter.MAC)
	}
	until, cancel := context.WithTimeout(ctx, lasts)
	defer cancel()
	var both sync.WaitGroup
	both.Go(func() { err = address.Listen(until, adapter.Name, take) })
	both.Go(func() {
		d := &discover.Discoverer{Log: log, Patience: min(lasts, discover.UsualPatience),
			Via: []string{"ws-discovery", "mdns"}}
		seen, err := d.Run(until, []discover.Network{{Adapter: adapter.Name}})
		if err != nil && until.Err() == nil {
			log.Info("not heard", "err", err)
		}
		for _, s := range seen.Sightings {
			take(address.Heard{MAC: s.Facts.MAC, Address: s.Address.Addr(), Via: s.Via,
				Name: cmp.Or(s.Facts.Called, s.Facts.Model)})
		}
	})
	both.Wait()
	return found, err
}
