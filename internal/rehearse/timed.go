package rehearse

import (
	"context"
	"maps"
	"sync"
	"time"

	"catena/internal/device"
	"catena/internal/dialect"
	"catena/internal/dialect/standard"
	"catena/internal/login"
	"catena/internal/order"
	"catena/internal/sim"
)

// A Stage is a site that is played, quicker than it is. Who speaks an open standard is played by a
// stand-in over the wire, who is of a family with a recording by the steps of that; the others take
// their time and do nothing else. The real runner works on them as on any
// others. It is made by NewStage and ended by Close.
type Stage struct {
	scale  float64 // of the time that they are expected to take
	site   *sim.Site
	as     login.Credential
	wire   map[string]device.Endpoint // of the stand-ins, by device ID
	images map[string][]byte          // that stand-ins take, by digest

	mu  sync.Mutex
	all map[string]*actor // by device ID
}

// actor is one device.
type actor struct {
	row    order.Device
	known  device.Device
	fault  Fault // empty: it does well
	runs   map[string]string
	got    string // a version that it has, and starts with its next restart
	of     string // its component
	away   time.Time
	gone   bool // it never comes back
	sick   bool
	before map[string]string // what it ran when it was well

	by     *Recorded // what answers the steps of its family; nil: it only takes its time
	images int       // that it was sent
	fresh  bool      // it has started since
}

// NewStage makes the devices of an order, and gives it the sizes of what is sent to stand-ins, and
// the times that it takes here. known are all that the site knows, by ID, and recorded what is
// there to play some of them by; how long they take is scaled so that the longest is at work for
// about that long.
func NewStage(o *order.Order, known map[string]device.Device, recorded []Recorded,
	chosen map[string]Fault, longest time.Duration) (*Stage, error) {
	s := &Stage{all: map[string]*actor{}, scale: 1, wire: map[string]device.Endpoint{},
		images: map[string][]byte{}}
	most := time.Duration(0)
	for _, d := range o.Devices {
		most = max(most, d.Takes)
	}
	if most > 0 {
		s.scale = float64(longest) / float64(most)
	}
	for _, d := range o.Devices {
		k := known[d.ID]
		runs := map[string]string{"main": k.Version}
		maps.Copy(runs, k.Components)
		s.all[d.ID] = &actor{row: d, known: k, fault: chosen[d.ID], runs: runs,
			before: maps.Clone(runs)}
	}
	for i := range o.Devices { // what is shown of it is forecast by the time that it takes here
		d := &o.Devices[i]
		d.Takes, d.Returns = time.Duration(float64(d.Takes)*s.scale), time.Duration(
			float64(d.Returns)*s.scale)
	}
	if err := s.stand(o, longest); err != nil {
		s.Close()
		return nil, err
	}
	for id, a := range s.all {
		if _, stands := s.wire[id]; !stands {
			a.by = recordingOf(recorded, a)
		}
	}
	return s, nil
}

// Scale is by how much everything is quicker here.
func (s *Stage) Scale() float64 { return s.scale }

// Dialects are those of the stage.
func (s *Stage) Dialects() dialect.Registry {
	return dialect.NewRegistry(append(standard.All(), player{s})...)
}

type player struct{ stage *Stage }

func (p player) About() dialect.About {
	return dialect.About{Name: played, Rank: -1, Transport: "none"}
}

// Probe is whether the device is there: it does not restart, nor does what it is reached through.
func (p player) Probe(_ context.Context, at dialect.At) (device.Reading, error) {
	p.stage.mu.Lock()
	defer p.stage.mu.Unlock()
	a := p.stage.all[at.Address]
	if a == nil {
		return device.Reading{}, nil // one that the order only knows of
	}
	if p.stage.awayNow(a) {
		return device.Reading{}, device.Because(device.NoAnswer, "")
	}
	return device.Reading{Identity: a.known.Identity}, nil
}

// awayNow tells whether a device, or one on its way, is away. s.mu is held.
func (s *Stage) awayNow(a *actor) bool {
	now := time.Now()
	if a.gone || now.Before(a.away) {
		return true
	}
	for _, id := range a.row.Through {
		if up := s.all[id]; up != nil && (up.gone || now.Before(up.away)) {
			return true
		}
	}
	return false
}

func (p player) Open(at dialect.At, _ login.Credential) dialect.Session {
	return &session{player: p, id: at.Address, steps: p.stage.act(at.Address)}
}

type session struct {
	dialect.ReadOnly
	player
	id    string
	steps dialect.Session // of its family, that a recording answers; nil: it only takes its time
}

func (s *session) actor() *actor { return s.stage.all[s.id] }

func (s *session) Read(ctx context.Context) (device.Reading, error) {
	if _, err := s.Probe(ctx, dialect.At{Endpoint: device.Endpoint{Address: s.id}}); err != nil {
		return device.Reading{}, err
	}
	// they say that it answers as its family has it; who it is and what it runs is played
	if s.steps != nil {
		if _, err := s.steps.Read(ctx); err != nil {
			return device.Reading{}, err
		}
	}
	s.stage.mu.Lock()
	defer s.stage.mu.Unlock()
	a := s.actor()
	r := a.known.Reading
	r.Version, r.Components = a.runs["main"], maps.Clone(a.runs)
	delete(r.Components, "main")
	return r, nil
}

func (s *session) Healthy(ctx context.Context, was device.Reading) error {
	s.stage.mu.Lock()
	sick := s.actor().sick
	s.stage.mu.Unlock()
	switch {
	case sick:
		return device.Because(device.Refusal, "it plays a fault: it is not healthy")
	case s.steps != nil:
		return s.steps.Healthy(ctx, was)
	}
	return nil
}

func (s *session) Update(component string) (dialect.Update, error) {
	timed := &update{session: s, component: component}
	if s.steps == nil {
		return timed, nil
	}
	steps, err := s.steps.Update(component)
	return recordedUpdate{timed, steps}, err
}

func (s *session) Close(ctx context.Context) error {
	if s.steps == nil {
		return nil
	}
	return s.steps.Close(ctx)
}

// update plays how an image gets into a device. Of the time that it is expected to take a third
// goes by while the image is sent, a third while it is written, a third while it restarts.
type update struct {
	session   *session
	component string
	written   time.Time
}

func (u *update) third() time.Duration {
	return time.Duration(float64(u.session.actor().row.Takes) * u.session.stage.scale / 3)
}

func (u *update) Traits() dialect.Traits { return dialect.Traits{} }

func (u *update) Interlock(context.Context) error { return nil }

func (u *update) Ready(context.Context, dialect.Image) error { return nil }

// sends is in how many parts an image goes.
const sends = 20

func (u *update) Transfer(ctx context.Context, image dialect.Image, sent func(int64)) error {
	for n := int64(1); n <= sends; n++ {
		select {
		case <-time.After(u.third() / sends):
		case <-ctx.Done():
			return ctx.Err()
		}
		if _, err := u.session.Probe(ctx,
			dialect.At{Endpoint: device.Endpoint{Address: u.session.id}}); err != nil {
			return err
		}
		sent(image.Size * n / sends)
	}
	u.session.stage.mu.Lock()
	defer u.session.stage.mu.Unlock()
	a := u.session.actor()
	a.got, a.of, u.written = image.Version, u.component, time.Now().Add(u.third())
	return nil
}

func (u *update) Progress(context.Context) (int, error) {
	left := time.Until(u.written)
	if left <= 0 {
		return 100, nil
	}
	return int(100 - 100*left/max(1, u.third())), nil
}

func (u *update) Activate(context.Context) error {
	u.session.stage.mu.Lock()
	defer u.session.stage.mu.Unlock()
	u.session.actor().restart(u.third())
	return nil
}

// Revert goes back to the other slot, whatever it has.
func (u *update) Revert(context.Context) error {
	u.session.stage.mu.Lock()
	defer u.session.stage.mu.Unlock()
	a := u.session.actor()
	a.got, a.of = a.before[u.component], u.component
	if a.runs[u.component] == a.got { // it is forth to what the other slot holds
		a.got = a.known.Idle[u.component]
	}
	a.restart(u.third())
	return nil
}

// restart has the device go away for a while, and run what it has got; its fault shows with what is
// new.
func (a *actor) restart(lasts time.Duration) {
	a.away, a.fresh = time.Now().Add(lasts), true
	if a.got == "" {
		return
	}
	isNew := a.got != a.before[a.of]
	switch {
	case isNew && a.fault == NeverReturns:
		a.gone = true
	case isNew && a.fault == KeepsVersion:
	default:
		a.runs[a.of], a.sick = a.got, isNew && a.fault == Sick
	}
	a.got = ""
}
