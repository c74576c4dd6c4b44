package job

import (
	"context"
	"errors"
	"time"

	"catena/internal/device"
	"catena/internal/dialect"
	"catena/internal/order"
)

// recover goes on with a device that was at work when its job's Catena died, with power or
// window or laptop. What the ledger has is what was intended; the device itself says what came
// of it, so it is asked first:
//
//	it was only being checked                 nothing was sent: it is checked again
//	it runs the version it was sent           it is proven on that
//	it says that it is writing                it is waited for; then it restarts
//	it says that it holds the whole image     it restarts
//	it says that it holds none                the image is sent, for the first time in full
//	it cannot tell                            it is watched for as long as it may take to restart
//	                                          by itself; does it not go, it is sent the image
//	it does not come back                     stranded
//
// So nothing is sent a second time but to a device that, asked, could not tell.
func (w *worker) recover(going, patience context.Context, was DeviceState) (order.Event, error) {
	ctx := context.WithoutCancel(patience)
	if was.last.Step == Checking {
		if was.did == order.Return {
			return w.unwind(ctx, was.failed)
		}
		return w.work(going, patience)
	}
	l := w.legOf(was.last)
	defer w.close(patience)
	if reason := w.meet(ctx); reason != nil {
		return w.end(Stranded, was.failed.then(reason))
	}
	failed, err := w.finish(ctx, l, was)
	switch {
	case err != nil:
		return order.Event{}, err
	case failed != nil && l.way == Back:
		return w.end(Stranded, was.failed.then(&Reason{Why: RollbackFailed}).then(failed.reason))
	case failed != nil:
		return w.rescue(ctx, *failed, l)
	case was.did == order.Return:
		return w.allBack(ctx, was.failed)
	case l.way == Back:
		return w.end(Returned, was.failed)
	}
	if w.job.plan.Order.Stage && !w.same(w.said.Of(l.component), l.to) {
		return w.end(Parked, nil)
	}
	return w.goOn(going, patience)
}

// legOf is the leg that an effect is of.
func (w *worker) legOf(e Effect) leg {
	hop := w.row.Path[e.Hop]
	switch {
	case e.Direction != Back:
		return forth(e.Hop, hop)
	case e.SHA256 == "": // by its other slot
		return leg{hop: e.Hop, component: hop.Component, from: hop.To, to: hop.From, way: Back}
	}
	return back(e.Hop, hop)
}

// finishParked restarts a device that was left with its image, and proves it. One that has
// restarted meanwhile, after a power cut, is proven; one that holds no image any more is sent it.
func (w *worker) finishParked(going, patience context.Context) (order.Event, error) {
	ctx := context.WithoutCancel(patience)
	check := w.checking(Forth)
	reason := w.open(patience)
	defer w.close(patience)
	if reason == nil {
		if err := w.session.Healthy(patience, w.said); err != nil {
			reason = said(Checking, err)
			reason.Why = Unhealthy
		}
	}
	end := Step("")
	if reason != nil {
		end = Failed
	}
	_, reason = w.gather(patience, end, reason)
	if reason == nil {
		w.baseline = w.said
		if reason = w.readSettings(patience); reason == nil {
			reason = w.keepSettings()
		}
		check.Baseline = &w.baseline
	}
	check.Cause = reason
	if err := w.record(Over, check); err != nil {
		return order.Event{}, err
	}
	if reason != nil {
		return w.end(Failed, reason)
	}
	hop := 0 // the one that it is parked on, or has started
	for n, h := range w.row.Path {
		if w.same(w.said.Of(h.Component), h.To) {
			hop = n
		}
	}
	l := forth(hop, w.row.Path[hop])
	failed, err := w.finish(ctx, l, DeviceState{last: Effect{Step: Writing}, over: true})
	switch {
	case err != nil:
		return order.Event{}, err
	case failed != nil:
		return w.rescue(ctx, *failed, l)
	}
	return w.goOn(going, patience)
}

// meet waits until the device answers, and reads it. It may be restarting, or starting up.
func (w *worker) meet(ctx context.Context) *Reason {
	if reason := w.contact(Proving); reason != nil {
		return reason
	}
	waitBack := w.wait(w.within(w.patience().Restarting))
	waitWell := w.wait(w.within(w.patience().Proving))
	for refused := 0; ; {
		switch there, other := w.awaitThere(ctx); {
		case other != nil:
			return said(Proving, other)
		case !there:
			return &Reason{Why: StillAway}
		}
		r, err := w.session.Read(ctx)
		if err == nil {
			w.said = r
			return another(Proving, w.known.Device.Identity, r.Identity)
		}
		reason := said(Proving, err)
		if errors.Is(err, device.ErrLoginRefused) {
			refused++
		}
		wait := waitWell
		if errors.Is(err, device.ErrAway) { // it has just gone, to restart
			wait = waitBack
		}
		if reason.IdentityChanged() || refused >= loginTries || !wait() {
			return reason
		}
	}
}

// finish brings an image to its proof on a device that was at some step with it.
func (w *worker) finish(ctx context.Context, l leg, was DeviceState) (*failure, error) {
	arrived := func() bool {
		return w.same(w.said.Of(l.component), l.to) &&
			(!w.row.Again || w.said.Boot.After(w.baseline.Boot))
	}
	if arrived() {
		return w.steps(ctx, ctx, l, putSteps[3:])
	}
	if l.switches() { // it may be about to restart: a second switch would lead back
		gone := w.watch(ctx)
		switch {
		case gone != nil:
			return gone, nil
		case arrived():
			return w.steps(ctx, ctx, l, putSteps[3:])
		}
		return w.put(ctx, ctx, l)
	}
	update, err := w.session.Update(l.component)
	if err != nil {
		return &failure{reason: said(Proving, err)}, nil
	}
	has, gone := w.holds(ctx, update, l, was)
	switch {
	case gone != nil:
		return gone, nil
	case arrived():
		return w.steps(ctx, ctx, l, putSteps[3:])
	case has:
		return w.steps(ctx, ctx, l, w.stepsOf(l)[1:])
	case !w.same(w.said.Of(l.component), l.from):
		return &failure{taken: true, reason: &Reason{Why: WrongVersion, Step: Proving,
			Is: w.said.Of(l.component), Want: l.to}}, nil
	}
	return w.put(ctx, ctx, l)
}

// holds tells whether a device holds an image that it has not started yet; one that is writing
// is waited for. One that cannot be asked is watched: what has the whole image restarts by
// itself.
func (w *worker) holds(ctx context.Context, update dialect.Update, l leg, was DeviceState) (bool,
	*failure) {
	waitWritten := w.wait(w.patience().Writing)
	waitWell := w.wait(w.within(w.patience().Proving))
	for {
		percent, err := update.Progress(ctx)
		wait := waitWell
		switch {
		case err == nil && percent >= 100:
			return true, nil
		case err == nil: // it writes, or still takes what is on the wire, and may yet refuse it
			wait = waitWritten
		case errors.Is(err, device.ErrRefused):
			return false, nil
		case errors.Is(err, device.ErrUnsupported) && (was.over || was.last.Step != Sending):
			return true, nil // it has answered for the whole of it
		case errors.Is(err, device.ErrUnsupported):
			return false, w.watch(ctx)
		}
		switch {
		case wait():
		case err == nil:
			return false, &failure{taken: true, reason: &Reason{Why: NotWritten, Step: Writing,
				Within: w.patience().Writing}}
		default:
			return false, &failure{taken: true, reason: said(Writing, err)}
		}
	}
}

// watch waits for as long as a device may take until it restarts by itself, or until it is back
// from that, and reads it again.
func (w *worker) watch(ctx context.Context) *failure {
	for wait := w.wait(w.patience().Grace); ; {
		there, other := w.there(ctx)
		switch {
		case other != nil:
			return &failure{taken: true, reason: said(Restarting, other)}
		case there && wait():
			continue
		}
		if reason := w.meet(ctx); reason != nil {
			return &failure{taken: true, away: reason.Why == StillAway, reason: reason}
		}
		return nil
	}
}

// GiveUp ends a job whose Catena died, without going on. Each device that was open is asked once
// what it runs: one that answers, is well, and runs what it should, or what it ran before
// with no other image in it, has ended so; every other one is stranded. Its errors are
// those of Resume.
func (e *Engine) GiveUp(ctx context.Context, id string, known Plan) error {
	j, err := e.Resume(id, known, time.Time{})
	if err != nil {
		return err
	}
	defer j.close()
	if err := Stop(e.Ledger, id); err != nil {
		return err
	}
	if err := j.dispatch.Apply(order.Event{At: e.Now(), Kind: order.Stopped}); err != nil {
		return err
	}
	for _, d := range j.open {
		w := &worker{job: j, known: known.Devices[d.ID], row: j.row(d.ID),
			touched: d.Touched, baseline: *j.baselines[d.ID]}
		event, err := w.giveUp(ctx, d)
		if err == nil {
			err = j.dispatch.Apply(event)
		}
		if err != nil {
			return err
		}
	}
	for {
		a, ok := j.dispatch.Next(e.Now())
		if !ok {
			return e.Ledger.Append(Closed, id, "", struct{}{})
		}
		if a.Do != order.Leave { // what should return is not returned either
			a.Do, a.Of = order.Leave, a.Do
		}
		if a.Why == nil {
			a.Why = &order.Reason{Why: order.PersonStop}
		}
		if err := j.leave(a, e.Now()); err != nil {
			return err
		}
	}
}

// giveUp asks a device once what it runs, and ends it.
func (w *worker) giveUp(ctx context.Context, was DeviceState) (order.Event, error) {
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), lookWithin)
	defer cancel()
	defer w.close(ctx)
	gaveUp := &Reason{Why: GaveUp, Step: was.last.Step}
	if reason := w.open(ctx); reason != nil {
		return w.end(Stranded, gaveUp.then(reason))
	}
	w.see(w.said)
	if was.last.Step == Checking {
		return w.end(Failed, gaveUp.then(&Reason{Why: StillRuns, Is: w.runsNow()}))
	}
	if err := w.session.Healthy(ctx, w.baseline); err != nil {
		return w.end(Stranded, gaveUp.then(said(Proving, err)))
	}
	left, strange := w.left(w.said)
	idle := false // it says that it holds no image that it may start yet
	if update, err := w.session.Update(was.last.Component); err == nil {
		_, err := update.Progress(ctx)
		idle = errors.Is(err, device.ErrRefused)
	}
	switch {
	case len(left) == 0:
		return w.end(Done, gaveUp)
	case strange == nil && len(left) == len(w.row.Path) && idle:
		return w.end(Failed, gaveUp.then(&Reason{Why: StillRuns, Is: w.row.From}))
	}
	return w.end(Stranded, gaveUp.then(&Reason{Why: WrongVersion, Is: w.runsNow(),
		Want: w.row.To()}))
}
