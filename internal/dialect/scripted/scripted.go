// Package scripted runs the programs of family files: each family is a separate dialect.
//
// Its central type is Dialect, one for each family that says how its devices are recognised. What
// a step sends, what an answer means and what is taken of it is decided in the family room, which
// is pure; here steps are sent, in their order, over the carriers of wire. Nothing here knows a
// maker.
package scripted

import (
	"context"
	"errors"
	"slices"
	"strings"
	"time"

	"catena/internal/device"
	"catena/internal/dialect"
	"catena/internal/dialect/bacnet"
	"catena/internal/dialect/snmp"
	"catena/internal/family"
	"catena/internal/firmware"
	"catena/internal/login"
)

// Dialect is how the devices of one family are talked to.
type Dialect struct {
	family family.Family
	rank   int
	base   dialect.Dialect // by which its devices are recognised; nil: by its own steps
	// of the devices that these are children of; nil: they are reached themselves
	parent *Dialect
}

// bases are the dialects of standards whose devices identify themselves.
var bases = map[string]dialect.Dialect{"snmp": snmp.Dialect{}, "bacnet": bacnet.Dialect{}}

// New is the dialect of a family that has a program. One for SNMP or BACnet without steps to
// recognise its devices leaves that to the standard's own objects.
func New(f family.Family, rank int) Dialect {
	d := Dialect{family: f, rank: rank}
	if len(f.Program.Recognise) == 0 {
		d.base = bases[f.Program.Protocol]
	}
	return d
}

// Children is the dialect of the children of a family.
func (d Dialect) Children(rank int) Dialect {
	return Dialect{family: *d.family.Children, rank: rank, parent: &d}
}

// HasChildren reports whether the devices of the family may have children.
func (d Dialect) HasChildren() bool { return d.family.Children != nil }

// Secrets are the names of the secrets that the family requires besides user and password.
func (d Dialect) Secrets() (names []string) {
	for _, s := range d.family.Program.Secrets {
		names = append(names, s.Name)
	}
	return names
}

// usualPorts are where devices usually answer that no family says more of.
var usualPorts = map[string][]uint16{"http": {80, 443, 8080, 8443}, "ssh": {22}}

// About describes the dialect.
func (d Dialect) About() dialect.About {
	p := d.family.Program
	a := dialect.About{Name: d.family.Name, Protocol: p.Protocol, Rank: d.rank, Transport: "tcp",
		Ports: p.Ports, Lockout: d.family.Lockout}
	if d.parent != nil { // nothing answers as one of them, and their parent's login is theirs
		a.Form = d.parent.About().Form
		return a
	}
	known := family.Names(p.Recognise)
	a.Hint = d.base == nil && !slices.ContainsFunc([]string{"serial", "uuid", "mac"},
		func(name string) bool {
			return slices.Contains(known, name)
		})
	if len(a.Ports) == 0 {
		a.Ports = usualPorts[p.Protocol]
	}
	if base := bases[p.Protocol]; base != nil {
		of := base.About()
		a.Transport, a.Form = of.Transport, of.Form
		if len(p.Ports) == 0 {
			a.Ports = of.Ports
		}
	}
	if d.base != nil {
		a.Extends, a.Claims = d.base.About().Name, func(i device.Identity) bool {
			return isOf(d.family, i)
		}
	}
	return a
}

// Probe takes the steps of recognise, without a login.
func (d Dialect) Probe(ctx context.Context, at dialect.At) (device.Reading, error) {
	switch {
	case d.parent != nil && at.Parent == nil:
		return device.Reading{}, device.ErrNotMine
	case d.parent != nil: // it tells nothing without a login; its parent must be the same
		return device.Reading{}, dialect.VerifyIdentity(ctx, *d.parent, at.Parent.At, at.Parent.Identity)
	case d.base != nil:
		return d.base.Probe(ctx, at)
	}
	s := d.open(at, login.Credential{})
	defer s.closePlaces()
	return s.recognise(ctx) // with who else it is
}

// Open starts a session.
func (d Dialect) Open(at dialect.At, as login.Credential) dialect.Session { return d.open(at, as) }

func (d Dialect) open(at dialect.At, as login.Credential) *session {
	s := &session{family: d.family, program: d.family.Program, at: at, as: as,
		places: map[whither]*place{}, through: func(c carrier) carrier { return c },
		v: family.Values{"component": firmware.Main, "login": loginValues(as)}}
	if d.base != nil {
		s.base = d.base.Open(at, as)
	}
	if d.parent != nil {
		s.hub = func() (*hub, error) {
			return nil, device.Because(device.Unsupported, "it is reached only through its parent")
		}
		if at.Parent != nil {
			s.hub = s.join(*d.parent)
		}
	}
	return s
}

// asCause is the cause in an error; nil: there is none.
func asCause(err error) *device.Cause {
	var c *device.Cause
	_ = errors.As(err, &c)
	return c
}

// cargo is the image of an upload, or a part of it.
type cargo struct {
	dialect.Image
	from, to int64 // bytes of it
	pieces   bool  // it is sent in pieces, also where it is only one
	sent     func(int64)
}

type session struct {
	family   family.Family
	program  *family.Program
	at       dialect.At
	as       login.Credential
	places   map[whither]*place
	replayed *Recording            // the replayed recording; nil: it is a device
	recorded bool                  // what goes over its carriers is recorded or shown
	through  func(carrier) carrier // what stands before every carrier: a recording
	base     dialect.Session       // that recognises and reads the standard's own; nil: none
	known    device.Reading        // the last reading
	v        family.Values
	dated    bool          // an answer had a date (RFC 9110, 6.6.1)
	ahead    time.Duration // how far that was ahead of this machine's clock
	in       bool          // the login's steps have been taken
	served   bool          // a step was answered since then
	lost     bool          // of a child's: the login that it was lent is
	// so often they were; of a child's, when it was lent what they took
	logins int
	// of a child: the part shared with its siblings; nil: it is not a child
	hub     func() (*hub, error)
	part    func(context.Context) error // ends that; nil: it has not started
	rows    []family.Values             // the children that steps with each have found
	store   func(context.Context) error // leaves the image with the parent once more
	adopted bool                        // what an earlier session has left behind was taken over
	// the steps of enter have started, and leave has not been taken
	entered  bool
	partly   bool               // entering has started, and not all of its steps are done
	written  bool               // something of the session is kept
	image    family.ImageValues // that was sent
	sent     string             // the component that has the whole of its image
	updating string             // the component that is updated
	shown    string             // what was reported to be seen at the device
	stage    stage              // the purpose of the steps
	over     bool               // the newest step ends a poll: its answer was done, or the device went
	printed  func([]byte)       // is shown the output of the running command; nil: no one is
	running  *running           // a command whose progress is followed; nil: there is none
	watch    func(Seen)         // for a person who tries a family; nil: no one
}

// stage says what steps are taken for: it decides whether a login may be sent, and what an
// answer means.
type stage int

const (
	recognising stage = iota // no login leaves
	loggingIn
	within
)

// recognise asks who the device is, and whether it is one of the family. One that tells that it is
// not is returned beside device.ErrNotMine.
func (s *session) recognise(ctx context.Context) (device.Reading, error) {
	s.stage = recognising
	if s.base != nil {
		r, err := s.base.Read(ctx)
		if err == nil && !isOf(s.family, r.Identity) {
			err = device.ErrNotMine
		}
		s.known = r
		return r, err
	}
	s.forget(s.program.Recognise)
	err := s.take(ctx, s.program.Recognise)
	switch {
	case errors.Is(err, device.ErrAway), errors.Is(err, device.ErrIdentityChanged), ctx.Err() != nil,
		errors.Is(err, device.ErrOwnFault):
		return device.Reading{}, err
	case err != nil:
		return device.Reading{}, device.ErrNotMine
	}
	r := s.reading()
	if !isOf(s.family, r.Identity) {
		return r, device.ErrNotMine
	}
	return r, nil
}

// isOf tells whether an identity is one of a family's.
func isOf(f family.Family, i device.Identity) bool {
	return strings.EqualFold(i.Vendor, f.Vendor) &&
		slices.ContainsFunc(f.Models, func(m string) bool { return strings.EqualFold(m, i.Model) })
}

// reading is the Reading of the values extracted so far.
func (s *session) reading() device.Reading {
	text := func(name string) string {
		t, _ := s.v[name].(string)
		return t
	}
	list := func(name string) []string {
		l, _ := s.v[name].([]string)
		return l
	}
	versions := func(name string) map[string]string {
		m, _ := s.v[name].(map[string]string)
		return m
	}
	r := device.Reading{Identity: device.Identity{Vendor: text("vendor"), Model: text("model"),
		Hardware: text("hardware"), Serial: text("serial"), UUID: text("uuid"), MAC: text("mac")},
		Called: text("name"), Version: text("version"), Says: text("says"),
		Components: versions("components"), Idle: versions("idle"), Downstream: list("behind"),
		Services: list("services")}
	if s.base != nil {
		r = r.Over(s.known)
		r.Boot = s.known.Boot
	}
	if r.Vendor == "" {
		r.Vendor = s.family.Vendor
	}
	if r.Model == "" && len(s.family.Models) == 1 {
		r.Model = s.family.Models[0]
	}
	if idle, err := s.program.Idle.String(s.v); err == nil && s.program.Idle != nil {
		r.Idle = map[string]string{firmware.Main: idle}
	}
	up, hasUp := s.v["uptime"].(float64)
	starts, hasStarts := s.v["starts"].(int)
	if s.program.Uptime != nil {
		n, err := s.program.Uptime.Number(s.v)
		up, hasUp = n, err == nil
	}
	if hasUp || hasStarts {
		r.Boot = &device.Boot{Uptime: time.Duration(up * float64(time.Second)), Count: int64(starts)}
	}
	return r.Clean()
}

// enter logs in, where the session is not open.
func (s *session) enter(ctx context.Context) error {
	if s.in {
		s.stage = within
		return nil
	}
	if s.hub != nil {
		return s.enterBy(ctx)
	}
	s.stage, s.served = loggingIn, false
	s.forget(s.program.Login)
	if err := s.take(ctx, s.program.Login); err != nil {
		return err
	}
	s.in, s.stage = true, within
	s.logins++
	return nil
}

// forget drops what steps have taken.
func (s *session) forget(steps []*family.Step) {
	for _, name := range family.Names(steps) {
		delete(s.v, name)
	}
}

// inside takes steps within a session.
func (s *session) inside(ctx context.Context, steps []*family.Step) error {
	if err := s.enter(ctx); err != nil {
		return err
	}
	if err := s.arrive(ctx, true); err != nil {
		return err
	}
	return s.take(ctx, steps)
}

func (s *session) Read(ctx context.Context) (device.Reading, error) {
	r := device.Reading{Identity: device.Identity{Model: strings.Join(s.family.Models, " or ")}}
	var err error
	if s.hub == nil {
		r, err = s.recognise(ctx)
	}
	if err != nil {
		return r, err
	}
	if err := s.look(ctx); err != nil {
		return r, err
	}
	now := s.reading()
	switch {
	case now.Version == "":
		return now, device.Because(device.Malformed, "no version")
	case !isOf(s.family, now.Identity):
		return now, device.IdentityChangedError(device.KeyModel, r.Model, now.Model)
	}
	now.Forbids = s.forbids(now)
	return now.Clean(), nil
}

// look takes the steps of read again.
func (s *session) look(ctx context.Context) error {
	if err := s.enter(ctx); err != nil {
		return err
	}
	if err := s.arrive(ctx, false); err != nil {
		return err
	}
	for _, name := range family.Names(s.program.Read) {
		if !slices.Contains(family.Names(s.program.Recognise), name) {
			delete(s.v, name)
		}
	}
	if s.hub != nil {
		if err := s.listed(ctx); err != nil {
			return err
		}
	}
	if err := s.take(ctx, s.program.Read); err != nil || s.program.Away == nil {
		return err
	}
	away, err := s.program.Away.Holds(s.v, nil)
	if err == nil && away {
		return errStarting
	}
	return s.mistaken(err)
}

// errStarting is that a device tells that it is starting: so it has been away, and is still.
var errStarting = device.Because(device.NoAnswer, "it is starting")

func (s *session) Healthy(ctx context.Context, _ device.Reading) error {
	if err := s.look(ctx); err != nil {
		return err
	}
	well, err := s.program.Well.Holds(s.v, nil)
	if err != nil || well {
		return s.mistaken(err)
	}
	why, _, err := s.program.Why.Text(s.v, asIs)
	if err != nil {
		return s.mistaken(err)
	}
	if why == "" {
		why = s.program.Well.Source + " does not hold"
	}
	return device.Because(device.Refusal, "it reports a fault: %s", why)
}

func asIs(s, _ string) (string, error) { return s, nil }

// mistaken is an error of the family file itself, which only a device's values have shown.
func (s *session) mistaken(err error) error {
	if err == nil {
		return nil
	}
	return device.Because(device.Malformed, "the family %s: %v", s.family.Name, err)
}

// Close leaves the device, and ends the session there, where the family says how.
func (s *session) Close(ctx context.Context) error {
	defer s.closePlaces()
	s.running.end()
	err := s.depart(ctx)
	if s.part != nil {
		err = errors.Join(err, s.part(ctx))
		s.part = nil
	}
	if !s.in || len(s.program.Logout) == 0 {
		return err
	}
	s.in = false
	return errors.Join(err, s.take(ctx, s.program.Logout))
}

// Locate makes the device show itself, where the family says how.
func (s *session) Locate() (dialect.Locator, error) {
	if len(s.program.Blink) == 0 {
		return nil, device.ErrUnsupported
	}
	return locator{s}, nil
}

type locator struct{ *session }

func (l locator) Show(ctx context.Context, on bool, output string) (string, error) {
	if output != "" {
		return "", device.Because(device.Refusal, "it has no outputs to name; leave the output out")
	}
	l.v["on"] = on
	return l.program.Shows, l.session.inside(ctx, l.program.Blink)
}
