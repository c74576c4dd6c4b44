package job

import (
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"catena/internal/device"
	"catena/internal/ledger"
	"catena/internal/order"
)

// State is how far a job is, derived from its entries in the ledger.
type State struct {
	ID      string        `json:"job"`
	Purpose order.Purpose `json:"purpose"`
	Name    string        `json:"name,omitempty"` // of its order
	Note    string        `json:"note,omitempty"`
	Started time.Time     `json:"started"`
	Ended   time.Time     `json:"ended,omitzero"`
	Alive   bool          `json:"alive"`             // a Catena is working on it now
	Last    time.Time     `json:"last"`              // of its newest entry
	Seq     int64         `json:"-"`                 // of its newest entry
	Stopped bool          `json:"stopped,omitempty"` // a person asked that no more devices begin
	Devices []DeviceState `json:"devices"`

	Order    order.Order  `json:"-"`
	dispatch *order.State // how far the order is; nil: it cannot be told
}

// Waiting says of each device that waits why it does, by ID.
func (s State) Waiting(now time.Time) map[string]*order.Reason {
	if s.dispatch == nil {
		return nil
	}
	return s.dispatch.Waiting(now)
}

// Interrupted tells whether the job's Catena died before its end.
func (s State) Interrupted() bool { return !s.Alive && s.Ended.IsZero() }

// Open are the devices that a job began with and that have not ended.
func (s State) Open() (out []DeviceState) {
	for _, d := range s.Devices {
		if d.Step != Waiting && !d.Step.End() {
			out = append(out, d)
		}
	}
	return out
}

// Rest is what is expected of the job from now on. ok is false where that cannot be told. It
// uses the state's dispatcher up: ask Waiting before.
func (s *State) Rest(now time.Time) (p order.Schedule, ok bool) {
	if s.dispatch == nil || !s.Ended.IsZero() || s.Interrupted() {
		return p, false
	}
	p, err := s.dispatch.Rest(now, order.AsExpected)
	s.dispatch = nil
	return p, err == nil
}

// Count is the number of devices at a step.
func (s State) Count(step Step) int {
	n := 0
	for _, d := range s.Devices {
		if d.Step == step {
			n++
		}
	}
	return n
}

// DeviceState is how far one device is.
type DeviceState struct {
	ID        string      `json:"id"`
	Name      string      `json:"name"`
	From      string      `json:"from"`
	To        string      `json:"to"`
	Step      Step        `json:"step"`
	Direction Direction   `json:"direction,omitempty"`
	Since     time.Time   `json:"since"`             // of the step
	Done      int64       `json:"done"`              // bytes sent, or percent written
	Total     int64       `json:"total"`             // bytes, or 100
	Rate      float64     `json:"rate"`              // bytes per second, while sending
	Left      float64     `json:"left"`              // seconds, while sending; 0: not known
	Version   string      `json:"version,omitempty"` // what it was last heard to run
	Cause     *Reason     `json:"cause,omitempty"`
	Reason    string      `json:"reason,omitempty"` // the cause in words
	Path      []order.Hop `json:"path"`
	// the version of the step: a intermediate version on the way, or the end of it
	Toward string  `json:"toward,omitempty"`
	Took   float64 `json:"took,omitempty"` // seconds from its first step to its end; 0 where a crash was in between

	Asks    string `json:"asks,omitempty"`    // what a person is asked to do at it, now
	Touched bool   `json:"touched,omitempty"` // an image was begun to be sent
	Saved   string `json:"saved,omitempty"`   // under which name its settings were kept before

	// What somebody needs who goes on after a crash.
	last     Effect          // the newest that began
	over     bool            // and is over
	did      order.Do        // what the dispatcher asked for
	baseline *device.Reading // what it said while it was healthy
	behind   []string        // the IDs of those that answered through it then
	failed   *Reason         // why it goes back
}

// Percent is how far the current step is, or -1 where that is not known.
func (d DeviceState) Percent() int {
	if (d.Step == Sending || d.Step == Writing) && d.Total > 0 {
		return int(100 * d.Done / d.Total)
	}
	return -1
}

// Load derives the state of one job.
func Load(l *ledger.Ledger, id string) (State, error) {
	entries, err := l.Entries(ledger.Filter{Job: id})
	if err != nil {
		return State{}, err
	}
	if len(entries) == 0 {
		return State{}, fmt.Errorf("there is no job %s in the ledger", id)
	}
	s, err := fold(entries)
	if err != nil {
		return s, err
	}
	return s, s.pass(l)
}

// pass adds what passes: whether a Catena is at work on the job, and how far transfers are.
func (s *State) pass(l *ledger.Ledger) error {
	s.Alive = s.Ended.IsZero() && l.Held(s.ID)
	progress, err := l.Progress(s.ID)
	if err != nil {
		return err
	}
	for i := range s.Devices {
		s.Devices[i].move(progress[s.Devices[i].ID])
	}
	return nil
}

// Follower derives the state of a job again and again: each look reads only what is new. It is for one
// goroutine.
type Follower struct {
	ledger *ledger.Ledger
	id     string
	state  State
	at     map[string]int
}

// Follow begins to follow a job.
func Follow(l *ledger.Ledger, id string) *Follower {
	return &Follower{ledger: l, id: id, at: map[string]int{}}
}

// Look is how far the job is now. The devices of the state are the caller's; its Rest cannot be told.
func (f *Follower) Look() (State, error) {
	entries, err := f.ledger.Entries(ledger.Filter{Job: f.id, After: f.state.Seq})
	if err != nil {
		return State{}, err
	}
	for _, e := range entries {
		if err := f.state.take(e, f.at); err != nil {
			return State{}, err
		}
	}
	if f.state.ID == "" {
		return State{}, fmt.Errorf("there is no job %s in the ledger", f.id)
	}
	out := f.state
	out.Devices = slices.Clone(f.state.Devices)
	return out, out.pass(f.ledger)
}

// move adds the passing progress, where it belongs to the step the device is in.
func (d *DeviceState) move(p ledger.Progress) {
	if d.Step != Sending && d.Step != Writing || p.At.Before(d.Since) || d.Step == Writing &&
		p.Total != 100 {
		return
	}
	d.Done, d.Total = p.Done, p.Total
	if took := p.At.Sub(d.Since).Seconds(); d.Step == Sending && took > 0 {
		d.Rate = float64(d.Done) / took
		if d.Rate > 0 {
			d.Left = float64(d.Total-d.Done) / d.Rate
		}
	}
}

// Jobs derives the states of the newest jobs, at most so many (0: of all), oldest first,
// without passing progress.
func Jobs(l *ledger.Ledger, most int) ([]State, error) {
	started, err := l.Entries(ledger.Filter{Kind: Started, Last: most})
	if err != nil {
		return nil, err
	}
	var out []State
	for _, e := range started {
		s, err := Load(l, e.Job)
		if err != nil {
			return nil, err
		}
		out = append(out, s)
	}
	return out, nil
}

// fold derives a state from a job's entries: the steps of its devices, and through the same
// events how far the dispatcher is.
func fold(entries []ledger.Entry) (State, error) {
	var s State
	at := map[string]int{}
	for _, e := range entries {
		if err := s.take(e, at); err != nil {
			return s, err
		}
	}
	return s, nil
}

// take folds one entry; at is where each device is.
func (s *State) take(e ledger.Entry, at map[string]int) (err error) {
	s.Last, s.Seq = e.At, e.Seq
	switch e.Kind {
	case Started:
		var o order.Order
		err = json.Unmarshal(e.Body, &o)
		*s = State{ID: e.Job, Purpose: o.Purpose, Name: o.Name, Note: o.Note, Started: e.At,
			Last: e.At, Seq: e.Seq, Order: o}
		for i, d := range o.Devices {
			at[d.ID] = i
			s.Devices = append(s.Devices, DeviceState{ID: d.ID, Name: d.Name, From: d.From,
				To: d.To(), Path: d.Path, Step: Waiting, Since: e.At})
		}
		s.dispatch, _ = order.New(o) // one that contradicts itself never started
	case Begun, Over, Ended, Postponed, Asked, Answered:
		i, ok := at[e.Device]
		if !ok {
			return fmt.Errorf("entry %d of the ledger names device %s, which job %s does not have", e.Seq, e.Device, e.Job)
		}
		err = s.apply(&s.Devices[i], e)
	case Resumed:
		var b resumedBody
		err = json.Unmarshal(e.Body, &b)
		s.tell(order.Event{At: e.At, Kind: order.Resumed, Closes: b.Closes})
	case Stopping:
		s.Stopped = true
		s.tell(order.Event{At: e.At, Kind: order.Stopped})
	case Closed:
		s.Ended = e.At
	}
	if err != nil {
		return unreadable(e, err)
	}
	return nil
}

// tell tells the dispatcher.
func (s *State) tell(e order.Event) {
	if s.dispatch != nil && s.dispatch.Apply(e) != nil {
		s.dispatch = nil
	}
}

func (s *State) apply(d *DeviceState, e ledger.Entry) error {
	if e.Kind == Asked || e.Kind == Answered {
		return d.asks(e)
	}
	d.Asks = "" // it went on
	if e.Kind == Postponed {
		var b postponedBody
		err := json.Unmarshal(e.Body, &b)
		d.Step = Waiting
		s.tell(order.Event{At: e.At, Kind: order.Postponed, Device: d.ID, Until: b.Until,
			Because: b.Because})
		return err
	}
	if e.Kind == Over {
		var b Effect
		err := json.Unmarshal(e.Body, &b)
		d.over = true
		switch {
		case b.Baseline != nil:
			d.baseline, d.behind, d.Saved = b.Baseline, b.Behind, b.Baseline.Saved
		case b.Cause != nil && b.Direction == Forth:
			d.failed = b.Cause
		}
		return err
	}
	d.Since = e.At
	if e.Kind == Begun {
		var b Effect
		err := json.Unmarshal(e.Body, &b)
		d.last, d.over = b, false
		if b.Cause != nil { // why it returns
			d.failed = b.Cause
		}
		if d.Step == Waiting || d.Step.End() {
			d.did = order.Flash
			if d.Step.End() {
				d.did = order.Return
			}
			s.tell(order.Event{At: e.At, Kind: order.Began, Device: d.ID, Do: d.did})
		}
		d.Step, d.Toward, d.Direction = b.Step, Label(b.Component, b.Version), b.Direction
		d.Cause, d.Reason = nil, ""
		d.Touched = d.Touched || b.Step == Sending
		return err
	}
	var b endBody
	err := json.Unmarshal(e.Body, &b)
	d.Step, d.Version, d.Cause, d.Reason, d.Direction = b.End, b.Version, b.Cause, b.Cause.Error(), ""
	d.Took = b.Took.Seconds()
	s.tell(b.event(d.ID, e.At))
	return err
}
