// Package scan finds the devices of a site and reads their versions.
//
// Its central type is Scanner. What answers at all is for discover; merge.go brings
// sightings of one device together, and devices found with devices known. Everything is
// bounded: in time by the protocols, in number by what a site can hold.
package scan

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sync/errgroup"

	"catena/internal/device"
	"catena/internal/dialect"
	"catena/internal/login"
	"catena/internal/scan/discover"
	"catena/internal/site"
	"catena/internal/wire"
)

const (
	maxDevices = 4096             // of one scan, after the sightings were brought together
	readLanes  = 64               // devices read at the same time
	readWithin = 20 * time.Second // for one device
)

// UsualPatience is how long one address may take to answer.
const UsualPatience = discover.UsualPatience

// Scanner looks through networks.
type Scanner struct {
	Dialects dialect.Registry
	// Logins returns those of a device in the order to try. The one that worked last is tried first;
	// of the others, no more than Attempts are, however often the scanner looks at the device: many
	// devices lock after five wrong ones.
	Logins   func(device.Device) []login.Credential
	Attempts int                                // 0: one
	Names    func(device.Device) (string, bool) // the site's name for it; may be nil
	// Refers tells whether the site's files mean a device: it keeps its name; may be nil.
	Refers func(device.Device) bool
	// may its password be shown on the wire; may be nil
	Plain func(vendor, model string) bool
	// Caller provides the site's services to a session; may be nil.
	Caller func(device.Device) dialect.Caller
	// of SNMP, to ask everybody with besides the usual one
	Communities []string
	// OwnCommunities are communities for single hosts: a known device's own, or a login's for
	// an address; may be nil.
	OwnCommunities func(known []device.Device) map[netip.Addr][]string
	Trusted        []Key // keys of earlier contacts
	// for an address to take a connection, and to answer who it is
	Patience time.Duration
	Via      []string // the discovery protocols to use; empty: all
	Log      *slog.Logger
	Progress func(done, total int, what string) // may be nil

	keys *keyring
	// unnamed are the devices that refused a login without a number, by address: it was
	// given for this run, and is tried once with a device as long as the run lasts.
	unnamed sync.Map
	spent   sync.Map // *atomic.Int32: attempts that a device refused, by its address
}

// Result is the result of a scan.
type Result struct {
	Devices  []device.Device // all that were heard, as they are now
	Gone     []device.Device // known, in the ranges looked through, and not answering any more
	New      []string        // the names of those never seen before
	Changed  []Change
	Outside  []discover.Sighting // heard from outside the ranges, one of each host; skipped
	Asked    int                 // addresses looked at
	Warnings []string            // oddities for the operator
	Keys     Keys
	unasked  int                // devices that this machine could not ask
	listed   map[string]listing // by the parent's address
}

// Change is a difference in a device since the last scan.
type Change struct {
	Name string `json:"name"`
	What string `json:"what"` // a field's name
	From string `json:"from"`
	To   string `json:"to"`
}

// Scan looks through the networks and reads every device found. known are the
// devices of earlier scans. Its error is for what makes a scan impossible: no such
// adapter, or a context that ended.
func (s *Scanner) Scan(ctx context.Context, networks []discover.Network,
	known []device.Device) (Result, error) {
	var result Result
	s.keys = newKeyring(s.Trusted)
	look := s.discoverer()
	if s.OwnCommunities != nil {
		look.OwnCommunities = s.OwnCommunities(known)
	}
	networks, more := s.knownPorts(networks, known)
	seen, err := look.Run(ctx, networks)
	if err != nil {
		return result, err
	}
	result.Outside, result.Asked, result.Warnings = seen.Outside, seen.Asked-more, seen.Warnings
	found := join(merge(s.Dialects, seen.Sightings), s.keys.sameKey)
	if len(found) > maxDevices {
		result.Warnings = append(result.Warnings,
			fmt.Sprintf("%d devices seem to answer; only %d were read. Is someone flooding the network",
				len(found), maxDevices))
		found = found[:maxDevices]
	}
	neighbours := arpTable()
	addMACs(found, neighbours)
	if len(s.Via) == 0 { // else others were not asked in a way that they would answer
		result.mute(found, neighbours, seen.Networks)
	}
	s.own(found, known, seen.Networks)
	found = s.retryKnown(ctx, found, known, seen.Networks)
	if err := s.read(ctx, found); err != nil {
		return result, err
	}
	result.listed = map[string]listing{}
	for _, f := range found {
		if f.listing != nil {
			result.listed[f.Address] = *f.listing
		}
	}
	result.settle(s, fold(result.asked(found)), known, seen.Networks)
	if seen.OutOfResources != nil || result.unasked > 0 {
		result.Gone = nil
		result.Devices = slices.DeleteFunc(result.Devices, func(d device.Device) bool {
			return d.Trouble != nil && d.Trouble.Problem == device.MissedLastScan
		})
		why := "too many at once"
		if seen.OutOfResources != nil {
			why = wire.OwnWords(seen.OutOfResources)
		}
		result.Warnings = append(result.Warnings, fmt.Sprintf(
			"this machine could not query all addresses (%s), so silent devices are not marked as gone. "+
				"Raise the limit of open files (ulimit -n), or scan fewer addresses at once", why))
	}
	result.Keys = Keys{s.keys.fresh, s.keys.refused}
	return result, nil
}

// asked leaves out the devices that this machine could not ask: nothing is known of them.
func (r *Result) asked(all []*found) []*found {
	return slices.DeleteFunc(all, func(f *found) bool {
		own := f.Trouble != nil && f.Trouble.Problem == device.OwnFault
		if own {
			r.unasked++
		}
		return own
	})
}

// read logs in to every device found and asks what it is.
func (s *Scanner) read(ctx context.Context, found []*found) error {
	var group errgroup.Group
	group.SetLimit(readLanes)
	var mu sync.Mutex
	done := 0
	for _, d := range found {
		group.Go(func() error {
			s.readOne(ctx, d)
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

// own gives those found what is known of them, so that the right logins are tried: which
// are for a device is told by what was known before, not by what it calls itself.
func (s *Scanner) own(all []*found, known []device.Device, networks []discover.Network) {
	devices := make([]*device.Device, len(all))
	for i, f := range all {
		devices[i] = &f.Device
		if len(f.talks) > 0 {
			f.Endpoint = f.talks[0]
		}
	}
	for i, o := range claims(devices, known, s.keys, s.lookedAtIn(networks)) {
		if o.by == none {
			continue
		}
		d := devices[i]
		d.ID, d.Name, d.Named, d.Login, d.Refused, d.Moved = o.ID, o.Name, o.Named, o.Login, o.Refused,
			o.Moved
		d.Lockout = cmp.Or(d.Lockout, o.Lockout)
		if o.by == said && d.Moved == "" {
			d.Moved = o.Address
		}
		switch {
		case len(all[i].talks) == 0:
		case !o.Secure():
			all[i].stay(o.Address)
		case !all[i].talks[0].Secure():
			all[i].bare = s.keys.check(o.Address, device.KeyTLS, NoTLS)
		case all[i].talks[0].Address != o.Address:
			all[i].verifiedAt = o.Address
		}
	}
}

// stay keeps a device that is known without TLS at its known address: at another port of its host
// anyone could claim to be the same, and would get its login.
func (f *found) stay(address string) {
	i := slices.IndexFunc(f.talks, func(e device.Endpoint) bool { return e.Address == address })
	if i > 0 {
		at := f.talks[i]
		f.talks = slices.Insert(slices.Delete(f.talks, i, i+1), 0, at)
		f.Endpoint = at
	}
}

// knownPorts adds the ports of known devices to the networks that have their addresses and name no
// ports, or mean those besides: a device at an unusual port is looked for where it was. For
// example, with gate-1 known at 10.20.4.101:8099, a scan of 10.20.4.0/24 also tries that port
// there. added is how many it adds.
func (s *Scanner) knownPorts(networks []discover.Network, known []device.Device) (
	out []discover.Network, added int) {
	out = slices.Clone(networks)
	for i, n := range out {
		usual := s.Dialects.Ports()
		if len(n.Ports) > 0 {
			usual = nil
		}
		for _, p := range n.Ports {
			usual = append(usual, p.Number)
		}
		ranges := slices.Clone(n.Ranges)
		for _, k := range known {
			at := address(k.Endpoint)
			speaks, _ := s.Dialects.Named(k.Dialect) // nil: it was not recognised
			if at.IsValid() && (len(n.Ports) == 0 || n.Known) && len(n.Ranges) > 0 && n.Inside(at) &&
				(speaks == nil || speaks.About().Transport == "tcp") && !slices.Contains(usual, at.Port()) {
				ranges = append(ranges, site.Range{First: at.Addr(), Last: at.Addr(), Port: at.Port()})
				added++
			}
		}
		out[i].Ranges = ranges
	}
	return out, added
}

// retryKnown adds the known devices that were looked for and not recognised, where they take a
// connection after all: one that answers slowly is read by its known protocol.
func (s *Scanner) retryKnown(ctx context.Context, all []*found, known []device.Device,
	networks []discover.Network) []*found {
	owned := map[string]*found{}
	heard := map[string]bool{} // hosts at which someone answers: the known device is not there
	for _, f := range all {
		heard[f.Host()] = true
		if f.ID != "" {
			owned[f.ID] = f
		}
	}
	patient := s.discoverer()
	patient.Patience = insistence * s.Patience
	var group errgroup.Group
	group.SetLimit(readLanes)
	var mu sync.Mutex
	for _, k := range known {
		speaks, ok := s.Dialects.Named(k.Dialect)
		f := owned[k.ID]
		switch {
		case !ok || speaks.About().Transport != "tcp" || f != nil && len(f.talks) > 0 ||
			!s.lookedAt(k, networks):
		case f != nil: // it takes connections, and was too slow to be recognised
			f.talks = []device.Endpoint{k.Endpoint}
		case !heard[k.Host()]:
			group.Go(func() error {
				if !patient.Opens(ctx, address(k.Endpoint)) {
					return nil
				}
				late := &found{talks: []device.Endpoint{k.Endpoint}, Device: k}
				late.Access, late.Trouble, late.Reading = "", nil, device.Reading{Identity: k.Identity}
				mu.Lock()
				defer mu.Unlock()
				all = append(all, late)
				return nil
			})
		}
	}
	_ = group.Wait() // nothing in it fails
	return all
}

// insistence is how many times the patience a known device has to take a connection.
const insistence = 3

// mute says which neighbours are there and answer nothing but ARP.
func (r *Result) mute(all []*found, neighbours map[netip.Addr]string, networks []discover.Network) {
	heard := map[netip.Addr]bool{}
	for _, f := range all {
		heard[address(f.Endpoint).Addr()] = true
	}
	var mute []string
	for a := range neighbours {
		asked := slices.ContainsFunc(networks, func(n discover.Network) bool {
			return slices.ContainsFunc(n.Ranges, func(r site.Range) bool {
				return r.Sweeps() && r.Has(netip.AddrPortFrom(a, r.Port))
			})
		})
		if asked && !heard[a] {
			mute = append(mute, a.String())
		}
	}
	if len(mute) == 0 {
		return
	}
	slices.Sort(mute)
	text := strings.Join(mute[:min(len(mute), 8)], ", ")
	if len(mute) > 8 {
		text += fmt.Sprintf(" and %d more", len(mute)-8)
	}
	r.Warnings = append(r.Warnings, text+": present (ARP), but does not answer")
}

// readOne reads a device by the best way to talk to it. The others only add what they
// tell without a login.
func (s *Scanner) readOne(ctx context.Context, d *found) {
	ctx, cancel := context.WithTimeout(ctx, readWithin)
	defer cancel()
	// shown also where no login would go out
	if err := s.keys.changed(address(d.Endpoint).Addr()); err != nil {
		d.Access, d.Trouble = Access(err)
		return
	}
	if len(d.talks) == 0 {
		switch {
		case d.readOnly:
			d.Access, d.Trouble = device.OK, nil
			s.pinSerial(d)
		case d.onlyAnnounced() && !s.discoverer().Opens(ctx, address(d.Endpoint)):
			d.Access, d.Trouble = device.Away, device.Because(device.OnlyAnnounced, "")
		}
		return
	}
	best := d.talks[0]
	d.Endpoint = best
	if !d.fixed && !d.connects(s.Dialects) && !s.discoverer().Opens(ctx, address(best)) {
		d.Access, d.Trouble = device.Away, device.Because(device.OnlyAnnounced, "")
		return
	}
	s.logIn(ctx, d, best)
	for _, at := range d.talks[1:] {
		if other, ok := s.Dialects.Named(at.Dialect); ok && at.Open {
			if facts, _, err := read(ctx, other, dialect.At{Endpoint: at}, login.Credential{},
				device.Identity{}); err == nil {
				d.Reading = d.Reading.Over(facts)
			}
		}
	}
	if d.Access == device.OK {
		s.pinSerial(d)
	}
}

// discoverer is the scanner's way to look; the keys that it meets are the scanner's.
func (s *Scanner) discoverer() *discover.Discoverer {
	return &discover.Discoverer{Dialects: s.Dialects, Communities: s.Communities,
		Patience: s.Patience, Via: s.Via, Log: s.Log, Progress: s.Progress,
		// held against when a login would be sent
		Met: func(address, kind, fingerprint string) {
			_ = s.keys.check(address, kind, fingerprint)
		}}
}

// Again logs in to known devices once more, also with logins that they refused before.
// It returns them as they are now, and the keys met.
func (s *Scanner) Again(ctx context.Context, devices []device.Device) ([]device.Device, Keys) {
	s.keys = newKeyring(s.Trusted)
	var all []*found
	for _, d := range devices {
		f := &found{Device: d, fixed: true}
		if d.Through != "" { // it has its parent's login
			continue
		}
		all = append(all, f)
		if d.Access == device.IdentityChanged { // until a scan finds it as it should be
			continue
		}
		f.Refused = nil
		f.talks = []device.Endpoint{d.Endpoint}
	}
	_ = s.read(ctx, all) // an end of the context is the caller's to see
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
		d.Access, d.Trouble = device.Unreadable, device.Because(device.NotRecognised,
			"it speaks %s", best.Dialect)
		return
	}
	if d.bare != nil {
		d.Access, d.Trouble = Access(d.bare)
		return
	}
	if !s.pinSerial(d) {
		return
	}
	at := dialect.At{Endpoint: best, Trust: s.keys.trust(d.Address)}
	if d.verifiedAt != "" { // elsewhere it must show the certificate that it showed there
		there, here := s.keys.trust(d.verifiedAt), at.Trust
		at.Trust = func(kind, fingerprint string) error {
			if err := there(kind, fingerprint); err != nil {
				return err
			}
			return here(kind, fingerprint)
		}
	}
	if s.Caller != nil {
		at.Caller = s.Caller(d.Device)
	}
	logins, before := s.logins(d.Device, best)
	if len(logins) == 0 {
		d.Access, d.Trouble = device.LoginRefused, device.Because(device.NoLogin, "")
		if speaks.About().Hint {
			d.Trouble.Detail = "it is recognised only by its greeting, so a login of the whole " +
				"site is not sent to it"
		}
		if before > 0 {
			d.Trouble = &device.Cause{Problem: device.RefusedBefore, Count: before}
		}
		return
	}
	s.try(ctx, d, speaks, at, logins)
}

// try goes through logins until one is not refused, and notes which were.
func (s *Scanner) try(ctx context.Context, d *found, speaks dialect.Dialect, at dialect.At,
	logins []login.Credential) {
	tried, worked := 0, d.Login
	for _, login := range logins {
		login.PlainBasic = s.Plain != nil && s.Plain(d.Vendor, d.Model)
		facts, listed, err := read(ctx, speaks, at, login, d.Identity)
		s.Log.Debug("read", "address", d.Address, "dialect", d.Dialect, "version", facts.Version,
			"err", err)
		if claimed := s.Dialects.Claiming(at.Dialect, facts.Identity); err == nil &&
			claimed != at.Dialect {
			speaks, _ = s.Dialects.Named(claimed)
			at.Dialect, d.Dialect = claimed, claimed
			var more device.Reading
			more, listed, err = read(ctx, speaks, at, login, d.Identity)
			facts = more.Over(facts)
		}
		if !d.fixed && errors.Is(err, device.ErrAway) && speaks.About().Transport == "udp" &&
			(login.ID == "" || login.ID != worked) {
			// It was heard just now, so its silence means that it rejects a login that is new to it.
			err = device.Because(device.BadLogin, "it does not answer this community or user")
		}
		d.listing = listed
		d.Reading = facts.Over(d.Reading)
		d.Access, d.Trouble = Access(err)
		tried++
		switch {
		case d.fixed && errors.Is(err, device.ErrAway) && speaks.About().Transport == "udp":
			continue // it is away, or takes another login
		case errors.Is(err, device.ErrLoginRefused):
			s.spend(d.Address, login.ID != "" && login.ID == worked)
			if login.ID == "" {
				s.unnamed.Store(d.Address+" "+login.User, true)
			}
			if as := login.RefusedAs(); as != "" && !slices.Contains(d.Refused, as) {
				d.Refused = append(slices.Clone(d.Refused), as)
			}
			if d.Login == login.ID {
				d.Login = ""
			}
			continue
		case d.Access == device.OK, errors.Is(err, device.ErrNewPassword),
			errors.Is(err, device.ErrNoRight):
			d.Login = login.ID
			d.Refused = slices.DeleteFunc(slices.Clone(d.Refused), func(id string) bool {
				return id == login.RefusedAs()
			})
		}
		return
	}
	if tried > 1 {
		d.Trouble = &device.Cause{Problem: d.Trouble.Problem, Detail: d.Trouble.Detail,
			Count: tried}
	}
}

// endWithin is how long a device may take to end a session.
const endWithin = 5 * time.Second

// read is one session that reads a device, and what it tells of its children; nil: it cannot have
// any, or could not be read. The session ends also where the reading was given up.
func read(ctx context.Context, speaks dialect.Dialect, at dialect.At, as login.Credential,
	known device.Identity) (device.Reading, *listing, error) {
	session := speaks.Open(at, as)
	if as.Password != "" || as.Keyed() {
		session = dialect.Guard(speaks, at, known, session)
	}
	defer func() {
		ending, cancel := context.WithTimeout(context.WithoutCancel(ctx), endWithin)
		defer cancel()
		_ = session.Close(ending) // what it left open at the device, the device ends itself
	}()
	r, err := session.Read(ctx)
	if err != nil {
		return r, nil, err
	}
	children, childErr := session.Children(ctx)
	if errors.Is(childErr, device.ErrUnsupported) {
		return r, nil, nil
	}
	return r, &listing{children, childErr}, nil
}

// address is where an endpoint is; the zero one where that is not an address.
func address(e device.Endpoint) netip.AddrPort {
	a, _ := netip.ParseAddrPort(e.Address)
	return a
}

// logins returns those to try with a device: the one that worked last, then others in their order,
// as many as it may still be sent, without those that it refused before. A device that needs no
// login is asked without.
func (s *Scanner) logins(d device.Device, at device.Endpoint) (worked []login.Credential,
	before int) {
	if at.Open {
		return []login.Credential{{}}, 0
	}
	var out []login.Credential
	for _, l := range s.Logins(d) {
		switch {
		case !l.Is(s.Dialects.Form(at)):
		case l.ID == "" && s.refusedNow(d.Address, l.User):
			before++
		case l.RefusedAs() != "" && slices.Contains(d.Refused, l.RefusedAs()):
			before++
		case l.ID != "" && l.ID == d.Login:
			worked = append(worked, l)
		default:
			out = append(out, l)
		}
	}
	spent, _ := s.spent.LoadOrStore(d.Address, new(atomic.Int32))
	wrong := int(spent.(*atomic.Int32).Load())
	left := max(1, s.Attempts) - wrong
	if locks := s.lockout(d, at); locks > 0 {
		// The last attempt before it locks is left to its owner. The login that worked may be wrong
		// now, and those refused by earlier commands may still count, unless a person asks for more.
		if s.Attempts == 0 {
			wrong = max(wrong, len(d.Refused))
		}
		left = min(left, locks-1-wrong-len(worked))
	}
	return append(worked, out[:min(len(out), max(0, left))]...), before
}

// lockout is the number of wrong logins after which a device locks, as it or its family reports.
func (s *Scanner) lockout(d device.Device, at device.Endpoint) int {
	if d.Lockout > 0 {
		return d.Lockout
	}
	speaks, _ := s.Dialects.Named(at.Dialect)
	if speaks == nil {
		return 0
	}
	return speaks.About().Lockout
}

// spend counts an attempt that a device refused, unless it was with the login that had worked.
func (s *Scanner) spend(address string, worked bool) {
	if spent, ok := s.spent.Load(address); ok && !worked {
		spent.(*atomic.Int32).Add(1)
	}
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
			cause = device.Because(device.NoAnswer, device.NotInTime)
		}
	}
	switch {
	case err == nil:
		return device.OK, nil
	case cause.Problem == device.Changed:
		return device.IdentityChanged, cause
	case slices.Contains([]device.Problem{device.BadLogin, device.PlainLogin, device.NewPassword,
		device.NoRight}, cause.Problem):
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

// settle merges the found devices with the known ones.
func (r *Result) settle(s *Scanner, found []*device.Device, known []device.Device,
	networks []discover.Network) {
	matched := map[string]bool{}
	owners := claims(found, known, s.keys, s.lookedAtIn(networks))
	for i, d := range found {
		if o := owners[i]; o.by != none {
			matched[o.ID] = true
			*d = remember(*d, o, s.Refers != nil && s.Refers(o.Device))
		} else {
			d.ID, d.Moved = "", "" // the assumption from before the reading is wrong
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
	r.addChildren(s, known)
	r.name(known)
	r.number()
	byID := map[string]device.Device{}
	for _, d := range known {
		byID[d.ID] = d
	}
	for _, d := range r.Devices {
		if old, ok := byID[d.ID]; ok {
			r.Changed = append(r.Changed, changes(old, d)...)
			// also one that was heard, and gone when it was read
			if d.Access == device.Away && old.Access != device.Away {
				r.Gone = append(r.Gone, d)
			}
		} else {
			r.New = append(r.New, d.Name)
		}
	}
	r.warn()
}

// lookedAt tells whether a known device would have been heard if it were there: in a
// network that was looked through, by all the ways by which it was heard before.
func (s *Scanner) lookedAt(d device.Device, networks []discover.Network) bool {
	a, err := netip.ParseAddrPort(d.Address)
	if err != nil {
		return false
	}
	onlySwept := true
	for _, heard := range d.FoundVia {
		way := heard
		if slices.Contains(discover.Swept, heard) {
			way = "sweep"
		} else {
			onlySwept = false
		}
		if !s.discoverer().Uses(way) {
			return false
		}
	}
	return slices.ContainsFunc(networks, func(n discover.Network) bool {
		return n.Inside(a) && (!onlySwept || len(n.Ranges) == 0 ||
			slices.ContainsFunc(n.Ranges, func(r site.Range) bool {
				return r.Sweeps() && r.Has(a) && slices.Contains(n.TCPPorts(r), a.Port())
			}))
	})
}

// warn reports what an operator should know about the results.
func (r *Result) warn() {
	names := map[string]string{} // by an identifier
	for _, d := range r.Devices {
		key, what := strings.ToLower(d.Vendor+" "+d.Serial), "serial number "+d.Serial
		if d.Serial == "" {
			key, what = "mac "+d.MAC, "MAC address "+d.MAC
		}
		if d.Serial == "" && d.MAC == "" || d.Access == device.Away {
			continue
		}
		if other, ok := names[key]; ok {
			r.Warnings = append(r.Warnings, fmt.Sprintf("%s and %s both report %s", other, d.Name, what))
		}
		names[key] = d.Name
	}
}
