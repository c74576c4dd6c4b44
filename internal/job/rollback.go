package job

import (
	"context"
	"errors"
	"time"

	"catena/internal/device"
	"catena/internal/order"
)

// recoverFrom decides what becomes of a device whose image was not verified. The device is asked
// before it is sent anything: one that works is not written to without need.
//
//	it did not come back, or still writes           stranded, untouched
//	it waits for what an operator did not do        stranded, untouched
//	another device, or key, is in its place         stranded, and what is there is not touched
//	it runs the new version after all, verified     continue: verified is true
//	it did not take the image, and is verified
//	    on what it ran before the job               as before
//	everything else                                 it is rolled back
func (w *worker) recoverFrom(ctx context.Context, f failure, l leg) (reason *Reason, verified bool,
	err error) {
	f.writing = f.writing || f.undone && w.row.By != order.ByHand && w.waitsForPerson(ctx, l)
	if f.away || f.writing || f.reason.IdentityChanged() {
		w.unreachable(f.reason)
		w.facts.Reachable, w.facts.Busy = f.writing && !f.away, f.writing
		return f.reason, false, nil
	}
	why := f.reason
	if !f.taken || w.row.By == order.ByHand {
		if reason := w.meet(ctx); reason != nil {
			w.unreachable(reason)
			return why.then(reason), false, nil
		}
		if w.arrived(l) && w.verified(ctx, l) == nil {
			return why.then(&Reason{Why: VerifiedAnyway}), true, nil
		}
		reason := w.verifyBack(ctx, l.component, l.from)
		if reason == nil {
			w.judge()
			if w.facts.Runs == order.Previous {
				return why.then(&Reason{Why: StillRuns, Is: l.from}), false, nil
			}
			reason, err := w.rollbackFrom(ctx, l.hop, nil, why) // an earlier image of its path is in it
			return reason, false, err
		}
		why = why.then(reason)
		if reason.IdentityChanged() {
			w.unreachable(reason)
			return why, false, nil
		}
	}
	if w.blind && w.absent && !w.arrived(l) {
		if reason := w.awaitQuiet(ctx, l); reason != nil {
			w.unreachable(reason)
			return why.then(reason), false, nil
		}
		if w.arrived(l) && w.verified(ctx, l) == nil {
			return why.then(&Reason{Why: VerifiedAnyway}), true, nil
		}
	}
	w.attemptStartedAt = time.Now() // the rollback has its own time
	failed, err := w.stepBack(ctx, l.hop)
	if err != nil {
		return nil, false, err
	}
	reason, err = w.rollbackFrom(ctx, l.hop, failed, why)
	return reason, false, err
}

// waitsForPerson reports whether a device may wait for what an operator should do, as if it were
// writing: it says so, or cannot say.
func (w *worker) waitsForPerson(ctx context.Context, l leg) bool {
	update, err := w.session.Update(l.component)
	if err != nil {
		return false
	}
	percent := 0
	err = w.retryAway(func() (err error) {
		percent, err = update.Progress(ctx)
		return err
	})
	return err == nil && percent < 100 || errors.Is(err, device.ErrUnsupported)
}

// returnWithSet rolls the device back because its lockstep set has failed.
func (w *worker) returnWithSet(ctx context.Context) (*Reason, error) {
	why := w.was.failed
	reason := w.meet(ctx)
	if w.was.last.Step == Checking {
		check := w.was.last
		check.Cause = reason
		if err := w.record(Over, check); err != nil {
			return nil, err
		}
	}
	if reason != nil {
		w.unreachable(reason)
		return why.then(reason), nil
	}
	if w.was.last.Step == Checking {
		return w.rollbackFrom(ctx, len(w.row.Path), nil, why)
	}
	l := w.legOf(w.was.last)
	failed, err := w.finishLeg(ctx, ctx, l)
	if err != nil {
		return nil, err
	}
	return w.rollbackFrom(ctx, l.hop, failed, why)
}

// rollbackFrom continues a rollback below a hop that was rolled back itself, or failed to be. The
// hops of the path are undone from the last to the first, those that the device has not taken are
// passed over. In the end the device is verified on its previous version. No other function rolls
// back.
func (w *worker) rollbackFrom(ctx context.Context, hop int, failed *failure, why *Reason) (*Reason,
	error) {
	w.facts.RolledBack = true
	fresh := false // the newest reading was verified
	for n := hop - 1; ; n-- {
		if failed != nil {
			w.unreachable(failed.reason)
			w.facts.Reachable, w.facts.Busy = !failed.away && !failed.reason.Away(), failed.writing
			if failed.reason.Why != NoRollback {
				why = why.then(&Reason{Why: RollbackFailed})
			}
			return why.then(failed.reason), nil
		}
		if n < 0 {
			break
		}
		h := w.row.Path[n]
		is := w.last.Of(h.Component)
		switch {
		case w.same(is, h.To) && !w.same(h.To, h.From):
			var err error
			if failed, err = w.stepBack(ctx, n); err != nil {
				return nil, err
			}
			fresh = true
		case w.runs(w.last) == order.Other: // someone has changed it since: it is not touched
			failed = &failure{reason: &Reason{Why: WrongVersion, Step: Proving, Is: w.version(),
				Want: w.row.From}}
		}
	}
	if !fresh && hop > 0 {
		first := w.row.Path[0]
		if reason := w.verifyBack(ctx, first.Component, first.From); reason != nil {
			w.unreachable(reason)
			w.facts.Reachable = !reason.Away()
			return why.then(&Reason{Why: RollbackFailed}).then(reason), nil
		}
	}
	w.judge()
	return why, nil
}

// unreachable records that what the device runs was not verified.
func (w *worker) unreachable(reason *Reason) {
	w.facts.Verified, w.facts.Runs = false, order.Unknown
	w.facts.Reachable = !reason.Away() && !reason.IdentityChanged() &&
		(reason == nil || reason.Device == nil || !errors.Is(reason.Device, device.ErrAway))
}

// stepBack undoes one hop: by the other slot where that keeps the version before, else by its
// image. A device that has fallen back automatically is only verified: it says that it holds no
// image, or has restarted since it took one, and another switch would start what failed. Nothing is
// sent to a device that does not report to be idle.
func (w *worker) stepBack(ctx context.Context, n int) (*failure, error) {
	hop := w.row.Path[n]
	holds, failed := w.awaitIdle(ctx, hop.Component)
	if failed != nil {
		return failed, nil
	}
	empty := holds == nothing || holds == unknown && w.restarted
	if empty && w.same(w.last.Of(hop.Component), hop.From) { // nothing is left to undo
		return w.steps(ctx, ctx, leg{hop: n, component: hop.Component, from: hop.To, to: hop.From,
			direction: Back}, imageSteps[3:])
	}
	if hop.Slots {
		failed, err := w.switchBack(ctx, n, hop)
		if err != nil || failed == nil || failed.away || failed.reason.IdentityChanged() ||
			hop.Back == nil ||
			w.same(w.last.Of(hop.Component), hop.From) {
			return failed, err
		}
	}
	if hop.Back == nil {
		return &failure{reason: &Reason{Why: NoRollback, Want: hop.From}}, nil
	}
	return w.put(ctx, ctx, back(n, hop))
}

// awaitQuiet waits until a device that cannot be asked whether it writes has had the time for it:
// it did not answer for a moment, and whether that was a restart is not known. It ends early on the
// new version.
func (w *worker) awaitQuiet(ctx context.Context, l leg) *Reason {
	left := w.mayWriteFor() - time.Since(w.sentAt)
	if left > 0 {
		w.note(&Reason{Why: MayWrite, Step: Writing, Within: left})
	}
	for wait := w.wait(left); ; {
		if reason := w.meet(ctx); reason != nil {
			return reason
		}
		if w.arrived(l) || !wait() {
			return nil
		}
	}
}

// mayWriteFor returns how long a device that cannot be asked may write: as its family, its image or
// the operator says. Where no one says so and no restart was observed, that is as long as any write
// may take.
func (w *worker) mayWriteFor() time.Duration {
	if w.absent || w.mayAsk() {
		return w.patience().Grace
	}
	return w.patience().Writing
}

// awaitIdle waits until the device does not write any more. One that cannot be asked is idle after
// a restart, or after the grace that its family or the operator gave it; else it may still be
// writing, and is left alone.
func (w *worker) awaitIdle(ctx context.Context, component string) (holding, *failure) {
	if w.row.By == order.ByHand {
		return unknown, nil
	}
	update, err := w.session.Update(component)
	if err != nil {
		return unknown, nil // the rollback itself reports it
	}
	had := w.blind
	holds, failed := w.holds(ctx, update)
	if failed == nil && holds == unknown && had && !w.restarted && !w.mayAsk() {
		return holds, &failure{taken: true, writing: true, reason: &Reason{Why: NotRestarted,
			Step: Writing}}
	}
	return holds, failed
}

// switchBack brings a device back by its other slot.
func (w *worker) switchBack(ctx context.Context, n int, hop order.Hop) (*failure, error) {
	l := leg{hop: n, component: hop.Component, from: hop.To, to: hop.From, direction: Back}
	// without knowing what it runs, a switch might start what failed
	if reason := w.meet(ctx); reason != nil {
		return &failure{taken: true, away: reason.Away(), reason: reason}, nil
	}
	is := func(v string) bool { return w.same(v, hop.From) }
	switch {
	case is(w.last.Of(hop.Component)):
		return w.steps(ctx, ctx, l, imageSteps[3:])
	case !w.last.Keeps(hop.Component, is):
		return &failure{reason: &Reason{Why: NoRollback, Want: hop.From}}, nil
	}
	return w.put(ctx, ctx, l)
}
