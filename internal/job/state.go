package job

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"catena/internal/device"
	"catena/internal/ledger"
	"catena/internal/order"
	"catena/internal/text"
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
	Stopped bool          `json:"stopped,omitempty"` // an operator asked that no more devices start
	// Abandoned: the operator asked again, so half-updated lockstep sets are rolled back.
	Abandoned bool          `json:"abandoned,omitempty"`
	Devices   []DeviceState `json:"devices"`
	Checks    []Check       `json:"checks,omitempty"` // what a person checks after it

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

// Interrupted reports whether the job's process died before its end.
func (s State) Interrupted() bool { return !s.Alive && s.Ended.IsZero() && !s.Elsewhere() }

// Elsewhere reports whether it is the job of another laptop: whether a process works on it now is
// known there alone.
func (s State) Elsewhere() bool { return isElsewhere(s.ID) }

func isElsewhere(job string) bool { return strings.Contains(job, "/") }

// Halfway returns the names of the lockstep sets of which a member was written to and not all have
// ended.
func (s State) Halfway() (names []string) {
	for _, set := range s.Order.Rules.Lockstep {
		written, open := false, false
		for _, d := range s.Devices {
			if slices.Contains(set.Of, d.ID) {
				written, open = written || d.Touched, open || !d.Step.End()
			}
		}
		if written && open {
			names = append(names, set.Name)
		}
	}
	return names
}

// Scheduled reports whether the job has a time at which it starts, and has started no device yet.
func (s State) Scheduled() bool {
	return !s.Order.Start.IsZero() && s.Ended.IsZero() && s.Count(Waiting) == len(s.Devices)
}

// Missed reports whether the time of a scheduled job has passed and no process has started it.
func (s State) Missed(now time.Time) bool {
	return s.Scheduled() && !s.Alive && now.After(s.Order.Start)
}

// EndedCount returns how many devices have ended.
func (s State) EndedCount() (n int) {
	for _, step := range Ends {
		n += s.Count(step)
	}
	return n
}

// Result states how many devices ended how: 3 done, 1 returned.
func (s State) Result() string {
	var parts []string
	for _, step := range Ends {
		if n := s.Count(step); n > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", n, step))
		}
	}
	return strings.Join(parts, ", ")
}

// Open are the devices that a job started with and that have not ended.
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
	if s.dispatch == nil || !s.Ended.IsZero() || !s.Alive {
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
	Moved     time.Time   `json:"moved,omitzero"`    // when Done changed last; zero: not yet
	Version   string      `json:"version,omitempty"` // what it was last heard to run
	Cause     *Reason     `json:"cause,omitempty"`
	Reason    string      `json:"reason,omitempty"` // the cause in words
	Path      []order.Hop `json:"path"`
	// the version of the step: a intermediate version on the way, or the end of it
	StepVersion string `json:"toward,omitempty"`
	// seconds from its first step to its end; where a crash was in between, with the time until it was
	// continued
	Took float64 `json:"took,omitempty"`

	Asks    string `json:"asks,omitempty"`    // what a person is asked to do at it, now
	Shows   string `json:"shows,omitempty"`   // what people see at it now, as its family describes it
	Touched bool   `json:"touched,omitempty"` // an image was started to be sent
	Saved   string `json:"saved,omitempty"`   // under which name its settings were kept before

	startedAt time.Time // its first step in its present turn

	// What a process needs to continue after a crash.
	last       Effect          // the newest that started
	over       bool            // and is over
	task       order.Task      // the task that it was started with
	baseline   *device.Reading // its reading while it was healthy
	downstream []string        // the IDs of those that answered through it then
	failed     *Reason         // why it goes back
	broke      *Reason         // why the last step that is over failed; nil: it did not
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

// Follower derives the state of a job again and again: each look reads only what is new. It is for
// one goroutine.
type Follower struct {
	ledger *ledger.Ledger
	id     string
	state  State
	at     map[string]int
	watch  func() // called after each update; nil: nothing is. Only tests set it
}

// Follow starts to follow a job.
func Follow(l *ledger.Ledger, id string) *Follower {
	return &Follower{ledger: l, id: id, at: map[string]int{}}
}

// Look is how far the job is now. The devices of the state are the caller's; its Rest cannot be
// told.
func (f *Follower) Look() (State, error) {
	if err := f.update(); err != nil {
		return State{}, err
	}
	out := f.state
	out.Devices = slices.Clone(f.state.Devices)
	return out, out.pass(f.ledger)
}

// update folds what is new.
func (f *Follower) update() error {
	entries, err := f.ledger.Entries(ledger.Filter{Job: f.id, After: f.state.Seq})
	if err != nil {
		return err
	}
	for _, e := range entries {
		if err := f.take(e); err != nil {
			return err
		}
	}
	if f.state.ID == "" {
		return fmt.Errorf("there is no job %s in the ledger", f.id)
	}
	if f.watch != nil {
		f.watch()
	}
	return nil
}

// device returns how far a device is; it is the follower's.
func (f *Follower) device(id string) *DeviceState {
	if i, ok := f.at[id]; ok {
		return &f.state.Devices[i]
	}
	return nil
}

// stalledAfter is how long a transfer may stand still before its rate says nothing any more.
const stalledAfter = 10 * time.Second

// Stalled returns for how long the transfer to a device has not moved; 0: it moves, or nothing is
// being sent.
func (d DeviceState) Stalled(now time.Time) time.Duration {
	since := d.Moved
	if since.Before(d.Since) {
		since = d.Since
	}
	if stands := now.Sub(since); d.Step == Sending && stands > stalledAfter {
		return stands
	}
	return 0
}

// move adds the passing progress, where it belongs to the step the device is in.
func (d *DeviceState) move(p ledger.Progress) {
	if d.Step != Sending && d.Step != Writing || p.At.Before(d.Since) || d.Step == Writing &&
		p.Total != 100 {
		return
	}
	d.Done, d.Total, d.Moved = p.Done, p.Total, p.At
	if took := p.At.Sub(d.Since).Seconds(); d.Step == Sending && took > 0 {
		d.Rate = float64(d.Done) / took
		if d.Rate > 0 {
			d.Left = float64(d.Total-d.Done) / d.Rate
		}
	}
}

// Jobs derives the states of the newest jobs, at most the given number (0: of all), oldest first,
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

// fold derives a state from a job's entries: the steps of its devices, and the dispatcher.
func fold(entries []ledger.Entry) (State, error) {
	f := Follower{at: map[string]int{}}
	for _, e := range entries {
		if err := f.take(e); err != nil {
			return f.state, err
		}
	}
	return f.state, nil
}

// take folds one entry.
func (f *Follower) take(e ledger.Entry) error {
	s := &f.state
	s.Last, s.Seq = e.At, max(s.Seq, e.Seq)
	if e.Kind == Started {
		return f.start(e)
	}
	if e.Device != "" && f.at != nil {
		if i, ok := f.at[e.Device]; ok {
			if err := s.Devices[i].take(e); err != nil {
				return unreadable(e, err)
			}
		} else if _, ours, _ := dispatched(e, false); ours {
			return fmt.Errorf("%s of the ledger names device %s, which job %s does not have", e, e.Device,
				e.Job)
		}
	}
	event, ok, err := dispatched(e, s.Stopped)
	if err != nil {
		return unreadable(e, err)
	}
	switch e.Kind {
	case Stopping:
		s.Abandoned, s.Stopped = s.Stopped, true
	case Closed:
		s.Ended = e.At
	case CheckAnswered:
		if err := s.answered(e); err != nil {
			return err
		}
	}
	if ok && s.dispatch != nil && s.dispatch.Apply(event) != nil {
		s.dispatch = nil
	}
	return nil
}

// start folds a job's first entry.
func (f *Follower) start(e ledger.Entry) error {
	var o order.Order
	if err := json.Unmarshal(e.Body, &o); err != nil {
		return unreadable(e, err)
	}
	s := &f.state
	s.ID, s.Started, s.Order, s.Purpose, s.Name, s.Note = e.Job, e.At, o, o.Purpose, o.Name, o.Note
	for i, d := range o.Devices {
		f.at[d.ID] = i
		s.Devices = append(s.Devices, DeviceState{ID: d.ID, Name: d.Name, From: d.From, To: d.To(),
			Path: d.Path,
			Step: Waiting, Since: e.At})
	}
	for _, c := range o.Checks {
		s.Checks = append(s.Checks, Check{Caution: c})
	}
	s.dispatch, _ = order.New(o) // an order that contradicts itself never started
	return nil
}

// take folds one entry of a device.
func (d *DeviceState) take(e ledger.Entry) error {
	switch e.Kind {
	case Asked, Answered:
		return d.asks(e)
	case StepStarted, Over:
		d.Asks = ""
		if d.startedAt.IsZero() {
			d.startedAt = e.At
		}
		var b Effect
		if err := json.Unmarshal(e.Body, &b); err != nil {
			return err
		}
		d.effect(e, b)
	case Shown:
		var b shownBody
		err := json.Unmarshal(e.Body, &b)
		d.Shows = text.Clean(b.What)
		return err
	case Postponed:
		d.Step, d.Asks, d.Shows, d.startedAt = Waiting, "", "", time.Time{}
	case Noted:
		d.Cause = &Reason{}
		err := json.Unmarshal(e.Body, d.Cause)
		d.Reason = d.Cause.Error()
		return err
	case Ended:
		var b endBody
		if err := json.Unmarshal(e.Body, &b); err != nil {
			return err
		}
		d.Asks, d.Shows, d.Since = "", "", e.At
		d.Step, d.Version, d.Cause, d.Reason, d.Direction = b.End, b.runs(), b.Cause, b.Cause.Error(), ""
		d.Touched, d.Took = d.Touched || b.Facts.Written, b.Took.Seconds()
		if b.Took == 0 && !d.startedAt.IsZero() {
			d.Took = max(0, e.At.Sub(d.startedAt).Seconds()) // a clock may jump
		}
	}
	return nil
}

// effect folds a step that started or is over.
func (d *DeviceState) effect(e ledger.Entry, b Effect) {
	if e.Kind == Over {
		d.over, d.broke = true, b.Cause
		switch {
		case b.Baseline != nil:
			d.baseline, d.downstream, d.Saved = b.Baseline, b.Downstream, b.Baseline.Saved
		case b.Cause != nil && b.Direction == Forward:
			d.failed = b.Cause
		}
		return
	}
	if b.Step != d.Step {
		d.Shows = ""
	}
	d.Since = e.At
	d.last, d.over, d.broke = b, false, nil
	if b.Cause != nil { // why it returns
		d.failed = b.Cause
	}
	if b.Step == Checking {
		d.task = order.Update
		if b.Direction == Back {
			d.task = order.RollBack
		}
	} else {
		d.Touched = true
	}
	d.Step, d.StepVersion, d.Direction = b.Step, Label(b.Component, b.Version), b.Direction
	d.Cause, d.Reason = nil, ""
}
