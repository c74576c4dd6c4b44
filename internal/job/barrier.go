package job

import "context"

// barrier holds the members of a lockstep set back until all of them were checked. The first member
// checks the others, one after the other; they wait for that and check themselves afterwards, so
// that no device is asked to log in twice at the same time.
type barrier struct {
	open   chan struct{} // closed when all were checked
	reason *Reason       // why the set does not start; nil: it does. Written before open is closed.
}

// checkSet checks the device, and its lockstep set with it. An empty step means: continue.
func (w *worker) checkSet(ctx context.Context,
	check func(context.Context) *checkFailure) *checkFailure {
	b := w.barrier
	if b == nil {
		return check(ctx)
	}
	if w.toCheck == nil {
		<-b.open // the first member opens it in any case
		if b.reason != nil {
			return &checkFailure{reason: b.reason}
		}
		return check(ctx)
	}
	failed := check(ctx)
	b.reason = w.checkOthers(ctx, failed)
	close(b.open)
	if failed == nil && b.reason != nil {
		return &checkFailure{reason: b.reason}
	}
	return failed
}

// checkOthers returns why the set of the first member, whose own check ended so, does not start.
func (w *worker) checkOthers(ctx context.Context, own *checkFailure) *Reason {
	not := func(name string, reason *Reason) *Reason {
		return (&Reason{Why: NotTogether, Step: Checking, Want: name}).then(reason)
	}
	if own != nil && !own.there {
		return not(w.row.Name, own.reason)
	}
	for _, id := range w.toCheck {
		m := w.job.worker(DeviceState{ID: id})
		failed := m.check(ctx)
		_ = m.close(ctx) // what it was to leave is looked at when it ends
		if failed != nil && !failed.there {
			return not(m.row.Name, failed.reason)
		}
	}
	return nil
}
