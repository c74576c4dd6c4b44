package job

import (
	"context"
	"encoding/json"
	"errors"
	"maps"
	"reflect"
	"slices"
	"time"

	"catena/internal/ledger"
	"catena/internal/order"
)

// request is what a device's goroutine asks the dispatcher's. Exactly one of the fields is set,
// besides device.
type request struct {
	device string
	wake   bool              // an entry was written that the dispatcher should read
	again  chan<- error      // an operator answered: gets nil when the device may continue
	ended  *finish           // its task has ended
	permit *Effect           // may its first byte leave? Then this effect starts
	reply  chan<- permission // to permit
}

// finish is how a task ended: with an entry that is to be written, or with an error of the ledger.
type finish struct {
	kind ledger.Kind // Ended or Postponed
	body any
	err  error
}

// permission is the answer to a request to write: why not; nil: the effect is in the ledger.
type permission struct {
	why *order.Reason
	err error
}

// pollEvery is how often the ledger is read for what other processes have written: stops, answers,
// and what other jobs have open. Only tests change it.
var pollEvery = time.Second

// Order returns the order that the job carries out.
func (j *Job) Order() order.Order { return j.plan.Order }

// Run carries out the order and returns when every device has ended. When going ends, no more
// devices start; when patience ends, half-updated lockstep sets are rolled back and devices that
// are only being checked are abandoned. What is being written is always finished.
func (j *Job) Run(going, patience context.Context) error {
	defer j.close()
	defer j.reportProgress()()
	j.joinUntil = j.engine.Now().Add(j.plan.Order.WaitAway)
	j.holdUntil = j.engine.Now().Add(j.plan.Order.WaitFor)
	if err := j.awaitStart(going); err != nil {
		return err
	}
	j.requests = make(chan request)
	j.retainParents()
	err := j.dispatch(going, patience)
	j.parents.wait()
	if err == nil {
		j.giveBackAll()
		err = j.engine.Ledger.Append(Closed, j.ID, "", struct{}{})
	}
	return err
}

// awaitStart waits for the time of a scheduled job, or until it is stopped, and checks its devices
// again.
func (j *Job) awaitStart(going context.Context) error {
	start := j.plan.Order.Start
	if start.IsZero() || len(j.live.state.Open()) > 0 {
		return nil
	}
	poll := time.NewTicker(pollEvery)
	defer poll.Stop()
	for j.engine.Now().Before(start) && !j.live.state.Stopped && going.Err() == nil {
		select {
		case <-poll.C:
		case <-going.Done():
		}
		if err := j.live.update(); err != nil {
			return err
		}
	}
	if j.live.state.Stopped || going.Err() != nil {
		return nil
	}
	changed, err := j.engine.Site.Recheck(j.plan.Order)
	for id, why := range changed {
		err = errors.Join(err, Remove(j.engine.Ledger, j.ID, []string{id},
			&order.Reason{Why: order.Changed, Set: why}))
	}
	return errors.Join(err, j.live.update())
}

// dispatch starts what may start, until every device has ended. It alone reads the job's entries
// back and so moves the dispatcher on. After an error, which is the ledger's, nothing starts any
// more, and what is in progress comes to its end.
func (j *Job) dispatch(going, patience context.Context) (first error) {
	poll := time.NewTicker(pollEvery)
	defer poll.Stop()
	goingOn, patient := going.Done(), patience.Done()
	first = j.reopen()
	for {
		if first == nil && j.engine.Ledger.Short() && !j.live.state.Stopped {
			first = Stop(j.engine.Ledger, j.ID) // what is left of the disk is for those in progress
		}
		if first == nil {
			first = j.advance(patience)
		}
		if first != nil { // no slot becomes free any more: the tasks that wait for one end, as in a crash
			for id, again := range j.again {
				again <- first
				delete(j.again, id)
			}
		}
		if len(j.running) == 0 && (first != nil || j.live.state.dispatch.Unfinished() == 0) {
			return first
		}
		select {
		case r := <-j.requests:
			first = errors.Join(first, j.serve(r, first))
		case <-goingOn:
			goingOn = nil
			if first == nil && !j.live.state.Stopped {
				first = Stop(j.engine.Ledger, j.ID)
			}
		case <-patient:
			patient = nil
			for n := 0; first == nil && !j.live.state.Abandoned && n < 2; n++ {
				first = errors.Join(Stop(j.engine.Ledger, j.ID), j.live.update())
			}
		case <-poll.C:
		}
	}
}

// serve carries out a request. failed is an error of the ledger that came before.
func (j *Job) serve(r request, failed error) error {
	l := j.engine.Ledger
	switch {
	case r.ended != nil:
		delete(j.running, r.device)
		if failed != nil {
			return nil
		}
		if r.ended.err != nil {
			return r.ended.err
		}
		return l.Append(r.ended.kind, j.ID, r.device, r.ended.body)
	case r.permit != nil:
		p := permission{err: failed}
		if failed == nil {
			p = j.permit(r.device, *r.permit)
		}
		r.reply <- p
	case r.again != nil && failed != nil:
		r.again <- failed
	case r.again != nil:
		j.again[r.device] = r.again
		return j.record(order.Event{Kind: order.Answered, Device: r.device})
	}
	return nil
}

// permit decides whether a device may get its first byte, and has the effect start if so.
func (j *Job) permit(id string, effect Effect) (p permission) {
	if p.err = j.live.update(); p.err != nil {
		return p
	}
	if effect.Direction == Forward {
		if why := j.engine.Site.HeldNow(j.plan.Devices[id].Device); why != "" {
			p.err = errors.Join(j.engine.Ledger.Append(Removed, j.ID, id, order.Reason{Why: order.Held,
				Set: why}),
				j.live.update())
		}
	}
	if p.why = j.live.state.dispatch.MayWrite(id); p.why == nil && p.err == nil {
		p.err = errors.Join(j.engine.Ledger.Append(StepStarted, j.ID, id, effect), j.live.update())
	}
	return p
}

// record writes an event down that no other entry holds.
func (j *Job) record(e order.Event) error {
	return j.engine.Ledger.Append(Dispatched, j.ID, e.Device, e)
}

// wake has the dispatcher read what was written.
func (j *Job) wake() {
	if j.requests != nil {
		j.requests <- request{wake: true}
	}
}

// reenter waits until a device that an operator has answered may continue. Its error is the
// ledger's.
func (j *Job) reenter(id string) error {
	if j.requests == nil {
		return nil
	}
	again := make(chan error, 1)
	j.requests <- request{device: id, again: again}
	return <-again
}

// advance starts what may start now and ends what never may. Only one process of the site does so
// at a time; while another one does, or was stopped in the middle of it, this one waits for its
// turn.
func (j *Job) advance(patience context.Context) error {
	if !j.news() {
		return nil
	}
	release, ok, err := j.engine.Ledger.Hold(dispatching)
	if err != nil || !ok {
		return j.live.update() // the next round may have its turn
	}
	defer release()
	if err := j.live.update(); err != nil {
		return err
	}
	if err := j.lookElsewhere(); err != nil {
		return err
	}
	j.startReopened(patience)
	for id, letGo := range j.running {
		if j.live.state.dispatch.LetGo(id) {
			letGo()
		}
	}
	tries := mostTries
	for {
		a, ok := j.live.state.dispatch.Next(j.engine.Now())
		if !ok {
			j.giveBack()
			j.seen, j.seenAt = max(j.live.state.Seq, j.others.seq), j.engine.Now()
			return nil
		}
		revision, again, err := j.lease(a)
		if err != nil {
			return err
		}
		if again {
			if tries--; tries < 0 {
				return nil
			}
			continue
		}
		if err := errors.Join(j.carryOut(a, revision, patience), j.live.update()); err != nil {
			return err
		}
	}
}

// allEvery is how often everything is looked at although no entry is new: a process may have died.
const allEvery = 10 * time.Second

// news reports whether there may be something to do: an entry that was not read, time that has
// passed for a device, or a device of a resumed job that has not been started.
func (j *Job) news() bool {
	last, err := j.engine.Ledger.Last()
	if err != nil || last != j.seen || len(j.reopened) > 0 ||
		j.engine.Now().Sub(j.seenAt).Abs() >= allEvery {
		return true
	}
	_, ok := j.live.state.dispatch.Next(j.engine.Now())
	return ok
}

// carryOut writes an action down and starts it. lease is the number of the lease of a device that
// starts.
func (j *Job) carryOut(a order.Action, lease uint64, patience context.Context) error {
	switch a.Task {
	case order.Continue:
		err := j.record(order.Event{Kind: order.Continued, Device: a.Device})
		if again := j.again[a.Device]; again != nil {
			again <- err
			delete(j.again, a.Device)
		} else if err == nil { // it waited when the job was resumed
			j.start(a, patience, time.Time{})
		}
		return err
	case order.SettlePilot:
		return j.record(order.Event{Kind: order.PilotSettled, Device: a.Device})
	case order.Skip:
		j.parents.releaseLater(a.Device)
		return j.engine.Ledger.Append(Ended, j.ID, a.Device, j.skipped(a))
	}
	if a.Check != nil {
		j.barriers[a.Set] = &barrier{open: make(chan struct{})}
	}
	effect := Effect{Step: Checking, Component: "main", From: j.row(a.Device).From,
		Version:   j.row(a.Device).To(),
		Direction: Forward, Lease: lease}
	if a.Task == order.RollBack {
		effect.From, effect.Version, effect.Direction = effect.Version, effect.From, Back
		effect.Cause = &Reason{Why: NotBegun, Order: a.Why}
	}
	if err := j.engine.Ledger.Append(StepStarted, j.ID, a.Device, effect); err != nil {
		return err
	}
	if err := j.live.update(); err != nil {
		return err
	}
	j.start(a, patience, time.Now())
	return nil
}

// skipped is the end of a device that does not start. One that should have returned with its
// lockstep set and cannot is stranded: it runs another version than the rest of the set.
func (j *Job) skipped(a order.Action) endBody {
	facts := Facts{Outcome: a.Skipped(), Task: a.Of, Declined: true}
	version := ""
	if a.Of == order.RollBack {
		version = j.row(a.Device).To()
	}
	return ending(facts, version, &Reason{Why: NotBegun, Order: a.Why})
}

// start has a goroutine carry out a task. It learns all that it must know from the ledger. started
// is when the task started; zero: before a crash.
func (j *Job) start(a order.Action, patience context.Context, startedAt time.Time) {
	until, letGo := context.WithCancel(patience)
	j.running[a.Device] = letGo
	w := j.worker(*j.live.device(a.Device))
	w.startedAt, w.attemptStartedAt = startedAt, time.Now()
	w.barrier, w.toCheck = j.barriers[a.Set], a.Check
	go func() {
		defer letGo()
		f := w.run(until)
		j.requests <- request{device: a.Device, ended: &f}
	}()
}

// reopen continues the devices that were in progress when the job's process died. A lockstep set to
// which nothing was written is checked as a whole again.
func (j *Job) reopen() error {
	d := j.live.state.dispatch
	for _, open := range j.live.state.Open() {
		if d.Asking(open.ID) {
			if err := j.record(order.Event{Kind: order.Answered, Device: open.ID}); err != nil {
				return err
			}
			continue
		}
		a := order.Action{Device: open.ID, Task: open.task}
		if open.task == order.Update {
			a.Set, a.Check = d.SetToCheck(open.ID)
		}
		if a.Check != nil {
			if j.barriers[a.Set] == nil {
				j.barriers[a.Set] = &barrier{open: make(chan struct{})}
			} else {
				a.Check = nil // one member checks all
			}
		}
		j.reopened = append(j.reopened, a)
	}
	return j.live.update()
}

// readStranded finds, once, the devices that their newest job left stranded: they are out of
// service, whether that job is closed or not. So are those that they feed, but for one that has
// ended well since: it serves, whatever feeds it.
func (j *Job) readStranded() error {
	e := &j.others
	if e.read {
		return nil
	}
	e.read = true
	ends, err := j.engine.Ledger.Entries(ledger.Filter{Kind: Ended, Newest: true})
	stranded, serves := map[string]ledger.Entry{}, map[string]ledger.Entry{} // since then
	for _, end := range ends {
		var b endBody
		if err := json.Unmarshal(end.Body, &b); err != nil {
			return unreadable(end, err)
		}
		switch {
		case b.End == Stranded && end.Job != j.ID:
			stranded[end.Device] = end
		case b.End == Done, b.End == Returned:
			serves[end.Device] = end
		}
	}
	for _, id := range slices.Sorted(maps.Keys(stranded)) {
		e.take(j.live.state.Order.Rules.Feeds, id,
			func(fed string) bool { return stranded[id].Before(serves[fed]) })
	}
	return err
}

// take counts a stranded device as out of service, and those that it feeds, but for those that are
// known to serve.
func (e *elsewhere) take(feeds map[string][]string, id string, serves func(fed string) bool) {
	for _, out := range slices.Concat([]string{id}, feeds[id]) {
		if !slices.Contains(e.out, out) && (out == id || !serves(out)) {
			e.out = append(e.out, out)
		}
	}
}

// startReopened starts them, unless another job is active on their path.
func (j *Job) startReopened(patience context.Context) {
	j.reopened = slices.DeleteFunc(j.reopened, func(a order.Action) bool {
		if j.live.state.dispatch.Obstructed(a.Device) {
			return false
		}
		j.start(a, patience, time.Time{})
		return true
	})
}

// elsewhere follows the other jobs of the site.
type elsewhere struct {
	seq  int64 // entries up to this number were read
	jobs []*Follower
	here []order.Foreign // as the ledger has them
	last []order.Foreign // with what other machines have said
	// what they do could not be told
	blind bool
	out   []string // devices that they have stranded, and what those feed
	read  bool     // out has what jobs stranded that were closed before this process started
	// stale: the ledger has what they had open when this job's process died.
	stale bool
}

// lookElsewhere tells the dispatcher what other jobs have open, whether a process works on them or
// not. It reads only what is new.
func (j *Job) lookElsewhere() error {
	l, e := j.engine.Ledger, &j.others
	started, err := l.Entries(ledger.Filter{Kind: Started, After: e.seq})
	if err != nil {
		return err
	}
	for _, s := range started {
		e.seq = max(e.seq, s.Seq)
		if open, err := isOpen(l, s.Job); err != nil || s.Job == j.ID || !open {
			if err != nil {
				return err
			}
			continue
		}
		e.jobs = append(e.jobs, Follow(l, s.Job))
	}
	if err := j.see(false); err != nil {
		return err
	}
	var now []order.Foreign
	known := len(e.out)
	if err := j.readStranded(); err != nil {
		return err
	}
	for _, f := range e.jobs {
		if err := f.update(); err != nil {
			return err
		}
		e.seq = max(e.seq, f.state.Seq)
		interrupted := !l.Held(f.id)
		for i, d := range f.state.Devices {
			if d.Step == Stranded {
				e.take(j.live.state.Order.Rules.Feeds, d.ID, func(string) bool { return false })
			}
			if f.state.Ended.IsZero() && d.Step != Waiting && !d.Step.End() {
				o := f.state.Order.Devices[i]
				var through []string
				for _, id := range o.Through {
					through = append(through, l.Canonical(id))
				}
				now = append(now, order.Foreign{Job: f.id, Interrupted: interrupted,
					Device: order.Device{ID: l.Canonical(o.ID),
						Name: o.Name, Model: o.Model, Through: through, Parent: l.Canonical(o.Parent)}})
			}
		}
	}
	e.jobs = slices.DeleteFunc(e.jobs, func(f *Follower) bool { return !f.state.Ended.IsZero() })
	e.here = now
	now = j.beside(now)
	if !e.stale && len(e.out) == known && j.board.blind == e.blind && reflect.DeepEqual(now, e.last) {
		return nil
	}
	e.last, e.blind, e.stale = now, j.board.blind, false
	return errors.Join(j.record(order.Event{Kind: order.OtherJobs, Others: now, Out: e.out,
		Blind: e.blind}), j.live.update())
}
