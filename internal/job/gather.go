package job

import (
	"context"
)

// gathering is a lockstep set that begins: nothing is changed on a member before all were
// looked at. The first member looks at the others, which wait for that.
type gathering struct {
	done   chan struct{} // closed when all were looked at
	reason *Reason       // why the set does not begin; nil: it does
}

// gather has a device that passed its own check wait until all of its lockstep set have. It
// returns how it ends, as check does.
func (w *worker) gather(ctx context.Context, end Step, reason *Reason) (Step, *Reason) {
	if w.set == nil {
		return end, reason
	}
	if w.members == nil {
		<-w.set.done // the first ends its look in any case
	} else {
		w.set.reason = w.lookAtSet(ctx, end, reason)
		close(w.set.done)
	}
	if end == "" && w.set.reason != nil {
		return Failed, w.set.reason
	}
	return end, reason
}

// lookAtSet is why the set of the first member, whose own check ended so, does not begin.
func (w *worker) lookAtSet(ctx context.Context, end Step, reason *Reason) *Reason {
	not := func(name string, reason *Reason) *Reason {
		return (&Reason{Why: NotTogether, Step: Checking, Want: name}).then(reason)
	}
	if end != "" && reason.Why != ThereAlready {
		return not(w.row.Name, reason)
	}
	for _, id := range w.members {
		m := &worker{job: w.job, row: w.job.row(id), known: w.job.plan.Devices[id]}
		end, reason := m.check(ctx)
		m.close(ctx)
		if end != "" && reason.Why != ThereAlready {
			return not(m.row.Name, reason)
		}
	}
	return nil
}
