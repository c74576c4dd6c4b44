package scripted

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"catena/internal/device"
	"catena/internal/dialect"
	"catena/internal/family"
)

// hub is the shared part of the sessions with the children of one parent: one session with the
// parent, which logs in, enters and lists for all of them, and the images that the parent keeps. If
// one of them starts a step, the others wait for it.
type hub struct {
	behind *family.ParentRoute
	parent *session
	mu     sync.Mutex // of the session

	turns          sync.Mutex // to list
	started, ended int        // counts of listings
	rows           []family.Values
	err            error

	storing sync.Mutex
	stores  int                      // so often an image was
	stored  map[string]int           // images by their digests: which of the stores they are; 0: none
	told    map[string]family.Values // what the steps of store took of each, such as the parent's ID

	refused error     // what the parent said to the newest login that it did not accept; nil: nothing
	until   time.Time // no login is tried again before then
	wrong   int       // how often the login was wrong since it last worked
}

// How long a parent that did not accept a login is not asked again by the next child: one that has
// no seat, or is starting, for a moment; one for which the login is wrong for longer, since a
// device that is starting may say so wrongly, and the second time for longer than a job.
const (
	refusedFor = 10 * time.Second
	wrongFor   = 2 * time.Minute
	wrongAgain = 24 * time.Hour
)

// login logs in to the parent for a child. What the parent rejected once is not tried again for
// each child: it would lock, or be full as before. h.mu is held.
func (h *hub) login(ctx context.Context) error {
	if h.refused != nil && time.Now().Before(h.until) {
		return h.refused
	}
	err := h.parent.enter(ctx)
	h.refused = nil
	switch {
	case err == nil:
		h.wrong = 0
	case errors.Is(err, device.ErrRefused):
		h.refused, h.until = err, time.Now().Add(refusedFor)
	case errors.Is(err, device.ErrLoginRefused), errors.Is(err, device.ErrNewPassword),
		errors.Is(err, device.ErrNoRight):
		h.refused, h.until = err, time.Now().Add(wrongFor)
		if h.wrong++; h.wrong > 1 {
			h.until = time.Now().Add(wrongAgain)
		}
	}
	return err
}

// Leave ends the session with the parent. What comes later logs in again.
func (h *hub) Leave(ctx context.Context) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.parent.Close(ctx)
}

// join acquires the hub for a child's session when it is first needed.
func (s *session) join(of Dialect) func() (*hub, error) {
	var joined *hub
	return func() (*hub, error) {
		if s.part == nil {
			m := s.at.Parent.Shared
			joined = m.Acquire(func() dialect.Shared {
				parent := of.open(s.at.Parent.At, s.at.Parent.As)
				if s.recorded || s.replayed != nil { // what goes to the parent is the child's
					parent.recorded, parent.watch, parent.through = s.recorded, s.watch, s.through
					parent.replayed = s.replayed
				}
				return &hub{behind: s.program.ParentRoute, parent: parent,
					stored: map[string]int{}, told: map[string]family.Values{}}
			}).(*hub)
			s.part = m.Release
		}
		return joined, nil
	}
}

// lend copies values that the parent's steps extracted to a child's session.
func (h *hub) lend(s *session, steps []*family.Step) {
	for _, name := range family.Names(steps) {
		delete(s.v, name)
		if value, is := h.parent.v[name]; is {
			s.v[name] = value
		}
	}
}

// enterBy has the parent logged in to, where it is not, or not any more.
func (s *session) enterBy(ctx context.Context) error {
	h, err := s.hub()
	if err != nil {
		return err
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	if s.lost && s.logins == h.parent.logins { // no one else has renewed it since
		h.parent.in = false
	}
	s.lost = false
	if err := h.login(ctx); err != nil {
		return err
	}
	h.lend(s, h.parent.program.Login)
	s.in, s.stage, s.served, s.logins = true, within, false, h.parent.logins
	return nil
}

// arriveBy has the parent entered for all of its children.
func (s *session) arriveBy(ctx context.Context, writing bool) error {
	h, err := s.hub()
	if err != nil {
		return err
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	if err := h.login(ctx); err != nil {
		return err
	}
	if err := h.parent.arrive(ctx, writing); err != nil {
		return err
	}
	h.lend(s, h.parent.program.Enter.Steps)
	return nil
}

// placeBy is where a step of a child goes: where its parent's would. Over HTTP only the cookies are
// shared; all else is one connection, on which they take turns.
func (s *session) placeBy(ctx context.Context, step *family.Step) (*place, error) {
	h, err := s.hub()
	if err != nil {
		return nil, err
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	of, err := h.parent.place(ctx, step)
	if err != nil {
		return nil, err
	}
	if s.in &&
		s.logins != h.parent.logins { // another one has renewed it: what came with it counts from now on
		h.lend(s, h.parent.program.Login)
		s.logins = h.parent.logins
	}
	p := *of
	if theirs, is := of.carrier.(*httpCarrier); is {
		own := newHTTP(s, &p)
		own.cookies, p.carrier = theirs.cookies, own
	} else {
		p.carrier = inTurns{h, of.carrier}
	}
	return &p, nil
}

// outdated tells whether another child's session has renewed the login since this one was lent it.
func (s *session) outdated() bool {
	if s.part == nil {
		return false
	}
	h, err := s.hub()
	if err != nil {
		return false
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	return s.logins != h.parent.logins
}

// inTurns is a carrier that several sessions use.
type inTurns struct {
	hub  *hub
	with carrier
}

func (c inTurns) ask(ctx context.Context, step *family.Step, f family.Filled,
	image *cargo) (family.Answer,
	error) {
	c.hub.mu.Lock()
	defer c.hub.mu.Unlock()
	return c.with.ask(ctx, step, f, image)
}

func (c inTurns) close() {} // it is the parent's

// listed gives a child's session what its parent lists of it.
func (s *session) listed(ctx context.Context) error {
	h, err := s.hub()
	if err != nil {
		return err
	}
	rows, err := h.list(ctx, s)
	if err != nil {
		return err
	}
	own := slices.DeleteFunc(slices.Clone(rows), func(row family.Values) bool {
		return !strings.EqualFold(unit(h.behind, row), s.at.Unit)
	})
	switch {
	case len(own) == 0:
		return device.Because(device.NoAnswer, "its parent does not list it")
	case len(own) > 1:
		return device.Because(device.Malformed, "its parent lists %d with its identity %s", len(own),
			s.at.Unit)
	}
	maps.Copy(s.v, own[0])
	return nil
}

// list lists the children for all who ask while it runs: a listing that started before one asked
// may be of before, so that one waits for the next.
func (h *hub) list(ctx context.Context, s *session) ([]family.Values, error) {
	h.mu.Lock()
	mine := h.started + 1
	h.mu.Unlock()
	h.turns.Lock()
	defer h.turns.Unlock()
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.ended < mine {
		h.started++
		h.rows, h.err = h.parent.children(ctx, h.behind)
		if ctx.Err() != nil { // of this one alone
			return nil, ctx.Err()
		}
		h.ended = h.started
	}
	h.lend(s, h.behind.List)
	return h.rows, h.err
}

// children reads a parent's list.
func (s *session) children(ctx context.Context, of *family.ParentRoute) ([]family.Values, error) {
	if err := s.enter(ctx); err != nil {
		return nil, err
	}
	if err := s.arrive(ctx, false); err != nil {
		return nil, err
	}
	s.forget(of.List)
	s.rows = nil
	err := s.take(ctx, of.List)
	return s.rows, err
}

// unit is which child it is: the values of its identity.
func unit(of *family.ParentRoute, row family.Values) string {
	var values []string
	for _, name := range of.Identity {
		if v := row[name]; v != nil {
			values = append(values, fmt.Sprint(v))
		}
	}
	return strings.TrimSpace(strings.Join(values, " "))
}

// Children are those that the device lists.
func (s *session) Children(ctx context.Context) ([]device.Child, error) {
	c := s.family.Children
	if c == nil {
		return nil, device.ErrUnsupported
	}
	rows, err := s.children(ctx, c.Program.ParentRoute)
	if err != nil {
		return nil, err
	}
	out := []device.Child{}
	for _, row := range rows {
		child := device.Child{Unit: unit(c.Program.ParentRoute, row),
			Reading: (&session{family: *c, program: c.Program, v: row}).reading()}
		if isOf(*c, child.Identity) {
			child.Dialect = c.Name
		}
		out = append(out, child)
	}
	return out, nil
}

// stored leaves an image with the parent, where no child before has done so.
func (u *update) stored(ctx context.Context, image dialect.Image, sent func(int64)) error {
	s := u.session
	h, err := s.hub()
	if err != nil {
		return err
	}
	used := 0 // which store
	put := func(ctx context.Context) (err error) {
		h.storing.Lock()
		defer h.storing.Unlock()
		if h.stored[image.SHA256] == used { // there is none yet, or it was denied that it is there
			if err = u.put(ctx, h, image, sent); err != nil {
				return err
			}
			h.stores++
			h.stored[image.SHA256] = h.stores
			told := family.Values{}
			for _, name := range family.Names(h.behind.Store) {
				told[name] = s.v[name]
			}
			h.told[image.SHA256] = told
		}
		used = h.stored[image.SHA256]
		maps.Copy(s.v, h.told[image.SHA256])
		return nil
	}
	s.store = put
	if err := put(ctx); err != nil {
		return err
	}
	if sent != nil {
		sent(image.Size)
	}
	return nil
}

// put leaves an image with the parent, where that does not say that it has it.
func (u *update) put(ctx context.Context, h *hub, image dialect.Image, sent func(int64)) error {
	if h.behind.Stored != nil {
		if err := u.session.listed(ctx); err != nil {
			return err
		}
		if has, err := h.behind.Stored.Holds(u.session.v, nil); err != nil || has {
			return u.session.mistaken(err)
		}
	}
	return u.all(ctx, h.behind.Store, image, sent)
}
