package rollout

import (
	"errors"
	"fmt"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"catena/internal/job"
	"catena/internal/order"
	"catena/internal/plan"
	"catena/internal/workspace"
)

// Step is how far a site is.
type Step string

// The steps of a site.
const (
	Waiting  Step = "waiting"  // it is not released
	Released Step = "released" // its station has an order, and has not started it
	Running  Step = "running"  // its job runs
	Soaking  Step = "soaking"  // its job has ended; its devices must stay well for a while
	Over     Step = "over"
)

// Progress is how far a site is, as its folder has it.
type Progress struct {
	Site
	Wave    int       `json:"wave"` // from 1
	Step    Step      `json:"step"`
	Job     string    `json:"job,omitempty"`
	Until   time.Time `json:"until,omitzero"` // of one that is released: its station starts it before; of one that soaks: its end
	Done    int       `json:"done"`
	Failed  int       `json:"failed"` // devices, also those of an order that was not started in time
	Left    int       `json:"left"`   // devices that were left as they were
	Why     string    `json:"why,omitempty"`
	Unknown bool      `json:"unknown,omitempty"` // its folder cannot be read, or is missing
}

// Look tells how far a site is. w is its open folder; nil: there is none.
func (r Rollout) Look(s Site, wave int, w *plan.Site, now time.Time) (p Progress, err error) {
	p = Progress{Site: s, Wave: wave, Step: Waiting}
	if w == nil {
		p.Unknown, p.Why = true, "its folder is missing, or cannot be read"
		return p, nil
	}
	o, err := w.ReadOrder(r.Name)
	var none *plan.UnknownOrderError
	if errors.As(err, &none) {
		return p, nil
	}
	if err != nil {
		return p, err
	}
	if o.Station == nil {
		p.Unknown, p.Why = true, "it has an order of that name that is not for its station"
		return p, nil
	}
	p.Step, p.Until = Released, o.Station.Until
	if p.Job, err = w.JobOfOrder(o.Digest); err != nil {
		return p, err
	}
	if p.Job == "" {
		if !now.Before(o.Station.Until) {
			p.Step, p.Failed, p.Why = Over, len(o.Devices), "its station did not start the order in time"
		}
		return p, nil
	}
	state, err := w.JobState(p.Job)
	if err != nil {
		return p, err
	}
	p.count(state)
	switch ended := state.Ended; {
	case ended.IsZero():
		p.Step, p.Until = Running, time.Time{}
	case now.Before(ended.Add(r.Soak)):
		p.Step, p.Until = Soaking, ended.Add(r.Soak)
	default:
		p.Step, p.Until = Over, time.Time{}
	}
	return p, nil
}

// count counts the devices of a job.
func (p *Progress) count(s job.State) {
	var why []string
	for _, d := range s.Devices {
		switch d.Step {
		case job.Done:
			p.Done++
		case job.Failed, job.Returned, job.Stranded:
			p.Failed++
			why = append(why, fmt.Sprintf("%s %s", d.Name, d.Step))
		case job.Skipped:
			p.Left++
		}
	}
	p.Why = strings.Join(why, ", ")
}

// Decision is what may happen now.
type Decision struct {
	Release []Site `json:"release"`
	Halted  string `json:"halted,omitempty"` // why nothing more is released; empty: it is not
	Over    bool   `json:"over"`             // every site is over, or never starts
}

// Decide asks the dispatcher which sites are released now: it is given a site for a device, each
// wave after the one before. A site has ended once it has soaked.
func (r Rollout) Decide(all []Progress, now time.Time) (d Decision, err error) {
	var o order.Order
	var before []string
	for _, wave := range r.Waves {
		var ids []string
		for _, s := range wave {
			o.Devices = append(o.Devices, order.Device{ID: s.ID, Name: s.Name, After: before})
			ids = append(ids, s.ID)
		}
		before = ids
	}
	state, err := order.New(o)
	if err != nil {
		return d, err
	}
	failed := 0
	for _, p := range all {
		failed += p.Failed
		if p.Step == Waiting {
			continue
		}
		if err := state.Apply(order.Event{Kind: order.Started, Device: p.ID}); err != nil {
			return d, err
		}
		if p.Step != Over {
			continue
		}
		end := order.Outcome{Runs: order.Target, Reachable: true, Verified: true, Written: true}
		if err := state.Apply(order.Event{Kind: order.Ended, Device: p.ID, Outcome: end}); err != nil {
			return d, err
		}
	}
	switch {
	case r.tooMany(failed):
		d.Halted = fmt.Sprintf("%d of %d devices failed, its limit is reached", failed, r.Devices())
	case r.Held != "":
		d.Halted = r.Held
	}
	open := 0
	for _, p := range all {
		if p.Step != Over && !(p.Step == Waiting && d.Halted != "") {
			open++
		}
	}
	d.Over = open == 0
	if d.Halted != "" {
		return d, nil
	}
	d.Release, err = released(state, all, now)
	return d, err
}

// released are the sites that the dispatcher starts now, but for those that cannot be looked at.
func released(state *order.State, all []Progress, now time.Time) (out []Site, err error) {
	for {
		a, ok := state.Next(now)
		if !ok {
			return out, nil
		}
		for _, p := range all {
			if p.ID == a.Device && !p.Unknown {
				out = append(out, p.Site)
			}
		}
		if err := state.Apply(order.Event{Kind: order.Started, Device: a.Device}); err != nil {
			return nil, err
		}
	}
}

// tooMany reports whether more devices have failed than the rollout allows.
func (r Rollout) tooMany(failed int) bool {
	if failed == 0 {
		return false
	}
	s := r.StopAfter
	return s.Failures > 0 && failed >= s.Failures ||
		s.Share > 0 && float64(failed) > s.Share*float64(r.Devices())
}

// NotAcceptedError is returned for cautions of a site that the rollout does not accept.
type NotAcceptedError struct{ Cautions []string }

func (e *NotAcceptedError) Error() string {
	return "no one has accepted its cautions: " + strings.Join(e.Cautions, ", ")
}

// ErrNothing is returned where no device of a site needs the version.
var ErrNothing = errors.New("none of its devices needs it")

// Make makes the order of a site, as it would be released now. Its errors are ErrNothing, a
// NotAcceptedError, and those of plan.Site.Make.
func (r Rollout) Make(w *plan.Site, by string) (o order.Order, err error) {
	rows, err := w.Choose(workspace.Choice{Where: r.Where})
	if err != nil {
		return o, err
	}
	var unreachable *plan.UnreachableError
	switch rows, err = w.Paths(rows, r.To, false); {
	case errors.As(err, &unreachable):
		return o, fmt.Errorf("%w: %w", ErrNothing, err)
	case err != nil:
		return o, err
	}
	o, _, _, err = w.Make(plan.Request{Purpose: order.Forward, Name: r.Name, Note: r.Note}, rows, 0)
	if err != nil {
		return o, err
	}
	if len(o.Devices) == 0 {
		return o, ErrNothing
	}
	if err := w.ForStation(&o, "", r.Valid, r.Accept); err != nil {
		return o, err
	}
	if open := o.AcceptAll(r.Accept, by); len(open) > 0 {
		return o, &NotAcceptedError{open}
	}
	return o, nil
}

// Release gives a site its order, signed. It is sent with the next sync. Its errors are those of
// Make, and of the files.
func (r Rollout) Release(w *plan.Site, key ssh.Signer, by string) error {
	o, err := r.Make(w, by)
	if err != nil {
		return err
	}
	return w.SaveSigned(o, key)
}

// Expected is when a site is expected to start, and to have soaked.
type Expected struct {
	Start time.Time `json:"start"`
	End   time.Time `json:"end"`
}

// Forecast tells, by ID, when the sites that wait are expected to start, each in its own window and
// time zone, after those of the wave before. open opens the folder of a site, matched; the caller
// closes it.
func (r Rollout) Forecast(all []Progress, now time.Time,
	open func(id string) (*plan.Site, error)) map[string]Expected {
	out := map[string]Expected{}
	from, next := now, now
	wave := 1
	for _, p := range all {
		if p.Wave != wave {
			wave, from = p.Wave, next
		}
		switch p.Step {
		case Soaking:
			next = latest(next, p.Until)
		case Waiting, Released, Running:
			e, ok := r.expected(p, from, open)
			if !ok {
				continue
			}
			if p.Step == Waiting {
				out[p.ID] = e
			}
			next = latest(next, e.End)
		}
	}
	return out
}

// expected is when one site would start after a time, and have soaked.
func (r Rollout) expected(p Progress, from time.Time, open func(id string) (*plan.Site, error)) (
	e Expected, ok bool) {
	w, err := open(p.ID)
	if err != nil {
		return e, false
	}
	defer w.Close()
	o, err := r.Make(w, "")
	var notAccepted *NotAcceptedError
	if err != nil && !errors.As(err, &notAccepted) {
		return e, false
	}
	e.Start = from
	if opens, _, has := w.Site.Window(from); has && opens.After(from) {
		e.Start = opens
	}
	w.FillAtStart(&o, e.Start)
	forecast, err := order.Forecast(o, e.Start)
	e.End = forecast.End.Add(r.Soak)
	return e, err == nil
}

func latest(a, b time.Time) time.Time {
	if b.After(a) {
		return b
	}
	return a
}
