package job

import "context"

// barrier holds the members of a lockstep set back until all of them were checked. The first member
// checks the others, one after the other, and itself last; they wait for that and check themselves
// afterwards, so that no device is asked to log in twice at the same time.
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
	b.reason = w.checkOthers(ctx)
	failed := check(ctx)
	if b.reason == nil && failed != nil && !failed.there {
		b.reason = notTogether(w.row.Name, failed.reason)
	}
	close(b.open)
	if failed == nil && b.reason != nil {
		return &checkFailure{reason: b.reason}
	}
	return failed
}

// checkOthers returns why the set of the first member does not start, if another one is why.
func (w *worker) checkOthers(ctx context.Context) *Reason {
	for _, id := range w.toCheck {
		m := w.job.worker(DeviceState{ID: id})
		failed := m.check(ctx)
		_ = m.close(ctx) // what it was to leave is looked at when it ends
		if failed != nil && !failed.there {
			return notTogether(m.row.Name, failed.reason)
		}
	}
	return nil
}

// notTogether is why a set does not start: the member of this name is not ready.
func notTogether(name string, reason *Reason) *Reason {
	return (&Reason{Why: NotTogether, Step: Checking, Want: name}).then(reason)
}
