package job

import (
	"context"
	"errors"
	"time"

	"catena/internal/device"
	"catena/internal/dialect"
	"catena/internal/order"
)

// next is what comes next for a device that has, or had, an image in it.
type next string

const (
	nextSend    next = "send"    // from the start: the device never had the whole image
	nextAwait   next = "await"   // it writes
	nextRestart next = "restart" // it holds the whole image
	nextVerify  next = "verify"  // it runs the version
	nextFail    next = "fail"    // it had the image, and did not come up with it
)

// holding is what a device reports about an image in it.
type holding string

const (
	nothing holding = "nothing"
	whole   holding = "whole"
	unknown holding = "unknown" // it cannot be asked
)

// after a crash the ledger has what was intended, and the device knows what came of it. nextOf is
// the table of what follows: from the last step that started, whether that step is over, what the
// device runs, and what it holds. Nothing that the device had whole is sent again.
//
//	last step    over  runs      holds             next
//	any          -     target    -                 verify
//	any          -     other     -                 fail
//	sending      no    previous  nothing           send, unless it has restarted since
//	sending      no    previous  whole             await
//	sending      no    previous  unknown           send, once it was watched for a restart
//	sending      yes   previous  nothing           fail: it rejected the image, or fell back
//	sending      yes   previous  whole, unknown    await, if sending did not fail
//	writing      -     as after sending
//	restarting   no    previous  nothing           fail
//	restarting   no    previous  whole, unknown    restart
//	restarting   yes   previous  -                 fail
//	proving      -     previous  -                 fail
//	parked       -     previous  nothing           send: it lost the image since
//	parked       -     previous  whole, unknown    restart
func nextOf(last Step, over bool, runs order.Firmware, holds holding) next {
	switch {
	case runs == order.Target:
		return nextVerify
	case runs != order.Previous:
		return nextFail
	case last == Parked && holds == nothing:
		return nextSend
	case last == Parked:
		return nextRestart
	case last == Sending && !over && holds != whole:
		return nextSend
	case last == Proving || last == Restarting && over || holds == nothing:
		return nextFail
	case last == Restarting:
		return nextRestart
	}
	return nextAwait
}

// resume continues a device that an image was sent to when the job's process died.
func (w *worker) resume(ctx, until context.Context) (*Reason, error) {
	l := w.legOf(w.was.last)
	if reason := w.meet(ctx); reason != nil {
		w.unreachable(reason)
		return w.was.failed.then(reason), nil
	}
	failed, err := w.finishLeg(ctx, until, l)
	switch {
	case err != nil:
		return nil, err
	case l.direction == Back:
		return w.rollbackFrom(ctx, l.hop, failed, w.was.failed)
	}
	if ended, reason, err := w.settleLeg(ctx, failed, l); ended || err != nil {
		return reason, err
	}
	if w.job.plan.Order.Stage && !w.arrived(l) {
		return w.park(ctx, l), nil
	}
	return w.forward(ctx, until, w.after(l.hop))
}

// settleLeg settles a leg forward that was continued. ended: the task ends with reason, because the
// image was not verified.
func (w *worker) settleLeg(ctx context.Context, failed *failure, l leg) (ended bool, reason *Reason,
	err error) {
	switch {
	case failed == nil:
		return false, nil, nil
	case failed.declined:
		return true, failed.reason.then(w.settleDeclined(ctx)), nil
	}
	reason, verified, err := w.recoverFrom(ctx, *failed, l)
	if err != nil || !verified {
		return true, reason, err
	}
	w.remark = reason
	return false, nil, nil
}

// finishParked restarts a device that was left with its image, and verifies it.
func (w *worker) finishParked(ctx, until context.Context) (*Reason, error) {
	hop := 0 // the one that it is parked on, or has started
	for n, h := range w.row.Path {
		if w.same(w.last.Of(h.Component), h.To) {
			hop = n
		}
	}
	l := forward(hop, w.row.Path[hop])
	w.was.last, w.was.over = Effect{Step: Parked}, true
	failed, err := w.finishLeg(ctx, until, l)
	if err != nil {
		return nil, err
	}
	if ended, reason, err := w.settleLeg(ctx, failed, l); ended || err != nil {
		return reason, err
	}
	return w.forward(ctx, until, w.after(hop))
}

// legOf returns the leg that an effect is of.
func (w *worker) legOf(e Effect) leg {
	hop := w.row.Path[e.Hop]
	switch {
	case e.Direction != Back:
		l := forward(e.Hop, hop)
		if e.SHA256 == "" && e.Step != Parked && e.Step != Checking { // the other slot held it
			l.image = order.Image{}
		}
		return l
	case e.SHA256 == "": // by its other slot
		return leg{hop: e.Hop, component: hop.Component, from: hop.To, to: hop.From, direction: Back}
	}
	return back(e.Hop, hop)
}

// meet waits until the device answers, and reads it. It may be restarting, or starting up.
func (w *worker) meet(ctx context.Context) *Reason {
	if w.session == nil {
		if reason := w.contact(ctx, Proving); reason != nil {
			return reason
		}
	}
	waitBack := w.wait(w.within(w.patience().Restarting))
	waitHealthy := w.wait(w.within(w.patience().Proving))
	for rejected := 0; ; {
		switch there, other := w.awaitThere(ctx); {
		case other != nil:
			return said(Proving, other)
		case !there:
			return &Reason{Why: StillAway}
		}
		r, err := w.read(ctx)
		if err == nil {
			w.last = r
			return another(Proving, w.known.Device.Identity, r.Identity)
		}
		reason := said(Proving, err)
		if errors.Is(err, device.ErrLoginRefused) {
			rejected++
		}
		wait := waitHealthy
		if errors.Is(err, device.ErrAway) { // it has just gone, to restart
			wait = waitBack
		}
		if reason.IdentityChanged() || rejected >= loginTries || !wait() {
			return reason
		}
	}
}

// arrived reports whether the device runs the version of a leg; one that gets once more what it
// runs must have restarted for that.
func (w *worker) arrived(l leg) bool {
	if !w.same(w.last.Of(l.component), l.to) {
		return false
	}
	if !w.row.Again || l.direction == Back {
		return true
	}
	if w.last.Boot == nil || w.baseline.Boot == nil {
		return w.was.last.Step == Proving
	}
	return w.last.Boot.After(w.baseline.Boot, 0)
}

// place returns what the device runs, as seen from one leg.
func (w *worker) place(l leg) order.Firmware {
	switch {
	case w.arrived(l):
		return order.Target
	case w.same(w.last.Of(l.component), l.from):
		return order.Previous
	}
	return order.Other
}

// finishLeg brings an image to its verification on a device that was at some step with it.
func (w *worker) finishLeg(ctx, until context.Context, l leg) (*failure, error) {
	next, failed := w.locate(ctx, l)
	if failed != nil {
		return failed, nil
	}
	staged := w.job.plan.Order.Stage && l.direction == Forward
	switch next {
	case nextVerify:
		return w.steps(ctx, until, l, imageSteps[3:])
	case nextAwait:
		return w.steps(ctx, until, l, w.stepsOf(l)[1:])
	case nextRestart:
		if staged {
			return nil, nil
		}
		return w.steps(ctx, until, l, imageSteps[2:])
	case nextSend:
		return w.put(ctx, until, l)
	}
	return &failure{taken: true, reason: &Reason{Why: WrongVersion, Step: Proving,
		Is: w.last.Of(l.component), Want: l.to}}, nil
}

// locate asks the device where it is with an image, and looks that up in the table.
func (w *worker) locate(ctx context.Context, l leg) (next, *failure) {
	last, over := w.was.last.Step, w.was.over
	if w.place(l) == order.Target && w.mayStillGet(l) {
		return w.awaitGot(ctx, l)
	}
	if w.place(l) != order.Previous {
		return nextOf(last, over, w.place(l), unknown), nil
	}
	if l.switches() { // a switch has no image: it happened, or it is asked for again
		if last == Proving || over {
			return nextFail, nil
		}
		failed := w.watch(ctx)
		if w.place(l) == order.Previous {
			return nextRestart, failed
		}
		return nextOf(last, over, w.place(l), unknown), failed
	}
	update, err := w.session.Update(l.component)
	if err != nil {
		return nextFail, &failure{reason: said(Proving, err)}
	}
	holds, failed := w.holds(ctx, update)
	if failed == nil && holds == unknown && last == Sending && !over && !w.incomplete() {
		failed = w.watch(ctx) // one that has the whole image restarts automatically
	}
	if failed != nil {
		return nextFail, failed
	}
	if left, ok := w.transferLeft(); last == Sending && (w.last.Boot.After(w.baseline.Boot, 0) || ok &&
		left == 0) {
		over = true // all bytes had left, or it has restarted: it may have had the whole image
	}
	if last == Sending && w.was.broke != nil && holds == unknown {
		return nextFail, &failure{reason: w.was.broke} // as without the crash
	}
	next := nextOf(last, over, w.place(l), holds)
	// it is sure to be as before
	if next == nextFail && holds == nothing && w.place(l) == order.Previous {
		return next, &failure{reason: &Reason{Why: WrongVersion, Step: Proving,
			Is: w.last.Of(l.component), Want: l.to}}
	}
	return next, nil
}

// mayStillGet reports whether a device that runs the version of a leg may be writing that version
// nevertheless: one that fell back automatically runs the earlier version while it gets it once
// more.
func (w *worker) mayStillGet(l leg) bool {
	last, over := w.was.last.Step, w.was.over
	return l.direction == Back && !l.switches() && last != Checking && last != Proving &&
		!(last == Restarting && over)
}

// awaitGot waits until such a device has written and started what it got.
func (w *worker) awaitGot(ctx context.Context, l leg) (next, *failure) {
	update, err := w.session.Update(l.component)
	if err != nil {
		return nextFail, &failure{reason: said(Proving, err)}
	}
	holds, failed := w.holds(ctx, update)
	switch {
	case failed != nil:
		return nextFail, failed
	case holds == whole:
		return nextRestart, nil
	case holds == unknown:
		failed = w.watch(ctx)
	}
	return nextVerify, failed
}

// holds asks the device for an image that it has not started yet. One that is writing is waited
// for.
func (w *worker) holds(ctx context.Context, update dialect.Update) (holding, *failure) {
	patience := w.patience()
	waitWritten := w.wait(writingLimit * patience.Writing)
	waitHealthy := w.wait(w.within(patience.Proving))
	since, noted, writes := time.Now(), false, false
	for {
		percent, err := update.Progress(ctx)
		writes = err == nil || writes && errors.Is(err, device.ErrAway)
		holds, wait := holding(""), waitHealthy
		switch {
		case err == nil && percent >= 100:
			holds = whole
		case err == nil: // it writes, or still takes what is on the wire
			wait = waitWritten
		case errors.Is(err, device.ErrRefused):
			holds = nothing
		case errors.Is(err, device.ErrUnsupported):
			holds, w.blind = unknown, true
		}
		if holds != "" {
			if r, err := w.read(ctx); err == nil { // it may have restarted since
				w.last = r
			}
			return holds, nil
		}
		if !noted && err == nil && time.Since(since) > patience.Writing {
			noted = true
			w.note(&Reason{Why: StillWriting, Step: Writing, Within: patience.Writing})
		}
		switch {
		case wait():
		case err == nil:
			return "", &failure{taken: true, writing: true,
				reason: &Reason{Why: StillWriting, Step: Writing, Within: writingLimit * patience.Writing}}
		case errors.Is(err, device.ErrAway):
			if reason := w.meet(ctx); reason != nil {
				return "", &failure{taken: true, away: reason.Away(), writing: writes, reason: reason}
			}
			waitHealthy = w.wait(w.within(patience.Proving))
		default:
			return "", &failure{taken: true, reason: said(Writing, err)}
		}
	}
}

// surely is how long the rest of a transfer must take at least for it to be incomplete at a crash:
// the ledger is told of the progress much more often.
const surely = 5 * time.Second

// incomplete reports whether the transfer that a crash interrupted cannot have been whole.
func (w *worker) incomplete() bool {
	left, ok := w.transferLeft()
	return ok && left > surely
}

// transferLeft returns how long the rest of the interrupted transfer would have taken; false: not
// known.
func (w *worker) transferLeft() (time.Duration, bool) {
	all, err := w.job.engine.Ledger.Progress(w.job.ID)
	p, ok := all[w.row.ID]
	if err != nil || !ok || p.Done <= 0 || p.At.Before(w.was.Since) {
		return 0, false
	}
	took := max(p.At.Sub(w.was.Since), time.Millisecond)
	return time.Duration(float64(took) * float64(p.Total-p.Done) / float64(p.Done)), true
}

// watch waits for as long as a device may take until it restarts automatically, or until it is back
// from that, and reads it again.
func (w *worker) watch(ctx context.Context) *failure {
	wait, before := w.wait(w.mayWriteFor()), w.last.Boot
	for missed, more := 0, true; more; {
		there, other := w.there(ctx)
		switch {
		case other != nil:
			return &failure{taken: true, reason: said(Restarting, other)}
		case there:
			missed, more = 0, wait()
			continue
		}
		if missed++; missed < goneAfter { // one lost answer does not mean that it was gone
			more = wait()
			continue
		}
		if reason := w.meet(ctx); reason != nil {
			return &failure{taken: true, away: reason.Why == StillAway, reason: reason}
		}
		switch missed = 0; {
		case w.last.Boot == nil || before == nil: // it may have been a lost connection
			w.restarted, w.absent = true, true
			wait = w.wait(w.mayWriteFor())
		case w.last.Boot.After(before, 0):
			w.restarted, w.absent = true, false
			return nil
		}
	}
	if reason := w.meet(ctx); reason != nil {
		return &failure{taken: true, away: reason.Why == StillAway, reason: reason}
	}
	return nil
}

// GiveUp ends a job whose process died without continuing it. Each device that was in progress is
// asked once what it runs: one that is idle, healthy, and on a version that follows from the order
// has ended so; every other one that was written to is stranded. Its errors are those of Resume.
func (e *Engine) GiveUp(ctx context.Context, id string, known Plan) error {
	j, err := e.Resume(id, known, time.Time{})
	if err != nil {
		return err
	}
	defer j.close()
	for range 2 { // nothing starts, and no set is completed
		if err := errors.Join(Stop(e.Ledger, id), j.live.update()); err != nil {
			return err
		}
	}
	for _, d := range j.live.state.Open() {
		f := j.worker(d).giveUp(ctx)
		if err := errors.Join(e.Ledger.Append(f.kind, id, d.ID, f.body), j.live.update()); err != nil {
			return err
		}
	}
	for {
		a, ok := j.live.state.dispatch.Next(e.Now())
		if !ok {
			return e.Ledger.Append(Closed, id, "", struct{}{})
		}
		if a.Task == order.SettlePilot {
			if err := errors.Join(j.record(order.Event{Kind: order.PilotSettled, Device: a.Device}),
				j.live.update()); err != nil {
				return err
			}
			continue
		}
		body := j.skipped(a)
		if a.Task == order.RollBack { // it is not rolled back either
			d := j.live.device(a.Device)
			body = ending(Facts{Task: order.RollBack, Outcome: order.Outcome{Written: d.Touched,
				Reachable: true, Verified: true,
				Runs: order.Target}}, d.Version, &Reason{Why: NotBegun, Order: a.Why})
		}
		if err := errors.Join(e.Ledger.Append(Ended, id, a.Device, body), j.live.update()); err != nil {
			return err
		}
	}
}

// giveUp reads the current version of a device once, and ends its task.
func (w *worker) giveUp(ctx context.Context) finish {
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), probeWithin)
	defer cancel()
	defer func() { _ = w.close(ctx) }()
	gaveUp := &Reason{Why: GaveUp, Step: w.was.last.Step}
	if reason := w.open(ctx); reason != nil {
		w.unreachable(reason)
		return w.end(gaveUp.then(reason))
	}
	w.recordReading(w.last)
	w.facts.Reachable = true
	if !w.facts.Written {
		return w.end(gaveUp.then(&Reason{Why: StillRuns, Is: w.version()}))
	}
	if err := w.session.Healthy(ctx, w.baseline); err != nil {
		return w.end(gaveUp.then(said(Proving, err)))
	}
	w.renewed = w.last.Boot.After(w.baseline.Boot, 0)
	runs, idle := w.runs(w.last), false
	if update, err := w.session.Update(w.was.last.Component); err == nil {
		_, err := update.Progress(ctx)
		// it reports that it holds no image that it may start yet
		idle = errors.Is(err, device.ErrRefused)
	}
	switch {
	case runs == order.Target, runs == order.Previous && idle:
		w.facts.Runs = runs
		if reason := w.losses(ctx); reason != nil { // it would be given them back: that is not done here
			return w.end(gaveUp.then(reason))
		}
		w.facts.Verified = true
		if runs == order.Previous {
			gaveUp = gaveUp.then(&Reason{Why: StillRuns, Is: w.row.From})
		}
		return w.end(gaveUp)
	}
	w.facts.Runs = runs
	return w.end(gaveUp.then(&Reason{Why: WrongVersion, Is: w.version(), Want: w.row.To()}))
}
