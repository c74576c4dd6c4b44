package job

import (
	"context"
	"time"

	"catena/internal/order"
)

// rescue decides what becomes of a device whose image of a hop was not proven. What follows
// depends on how far the image came, and on what the device itself says:
//
//	it did not come back                        stranded: nobody can reach it
//	another device, or key, is in its place     stranded, and what is there is not touched
//	it does not have the image (it refused it, the link broke), and is proven
//	    on the version before                   failed: as before
//	    on the new version after all            as far as it came
//	it has the image, or says something else:   the image of the version before is sent
//	    proven on that                          returned
//	    not, or there is no such image          stranded
//
// The device is asked before it is sent anything: one that works is not written to without
// need.
func (w *worker) rescue(ctx context.Context, f failure, l leg) (order.Event, error) {
	component, from, to := l.component, l.from, l.to
	if f.away || f.reason.IdentityChanged() {
		return w.end(Stranded, f.reason) // what answers in its place is not touched
	}
	if !f.taken || w.row.By == order.ByHand { // who has it is a person
		// The device has not said that it has the image. It is the truth, not Catena.
		switch there, other := w.awaitThere(ctx); {
		case other != nil:
			return w.end(Stranded, f.reason.then(said(Proving, other)))
		case !there:
			return w.end(Stranded, f.reason.then(&Reason{Why: StillAway}))
		}
		r, err := w.read(ctx)
		if err == nil && w.same(r.Of(component), to) && w.prove(ctx, component, to) == nil {
			return w.end(w.arrived(), f.reason.then(&Reason{Why: ProvenAnyway}))
		}
		reason := w.prove(ctx, component, from)
		if reason == nil {
			return w.end(Failed, f.reason.then(&Reason{Why: StillRuns, Is: from}))
		}
		f.reason = f.reason.then(reason)
		if reason.IdentityChanged() {
			return w.end(Stranded, f.reason)
		}
	}
	w.began = time.Now() // the way back has its own time
	failed, err := w.wayBack(ctx, l.hop, w.row.Path[l.hop])
	switch {
	case failed != nil && failed.reason.Why == NoRollback:
		return w.end(Stranded, f.reason.then(failed.reason))
	case err != nil:
		return order.Event{}, err
	case failed != nil:
		return w.end(Stranded, f.reason.then(&Reason{Why: RollbackFailed}).then(failed.reason))
	}
	return w.end(Returned, f.reason)
}

// wayBack brings a device back from a hop: by its other slot where that keeps the version before,
// else by the image of it. A device that has fallen back to its earlier slot by itself is only
// proven: another switch would start what failed.
func (w *worker) wayBack(ctx context.Context, n int, hop order.Hop) (*failure, error) {
	if hop.Slots {
		failed, err := w.switchBack(ctx, n, hop)
		if err != nil || failed == nil || failed.away || failed.reason.IdentityChanged() ||
			hop.Back == nil {
			return failed, err
		}
	}
	if hop.Back == nil {
		return &failure{reason: &Reason{Why: NoRollback, Want: hop.From}}, nil
	}
	return w.put(ctx, ctx, back(n, hop))
}

// switchBack brings a device back by its other slot.
func (w *worker) switchBack(ctx context.Context, n int, hop order.Hop) (*failure, error) {
	l := leg{hop: n, component: hop.Component, from: hop.To, to: hop.From, way: Back}
	if r, err := w.session.Read(ctx); err == nil {
		w.said = r
		is := func(v string) bool { return w.same(v, hop.From) }
		switch {
		case is(r.Of(hop.Component)):
			return w.steps(ctx, ctx, l, putSteps[3:])
		case !r.Keeps(hop.Component, is):
			return &failure{reason: &Reason{Why: NoRollback, Want: hop.From}}, nil
		}
	}
	return w.put(ctx, ctx, l)
}

// arrived is the end of a device that is proven on a version of its path: an
// intermediate version is not where it should be.
func (w *worker) arrived() Step {
	if left, _ := w.left(w.said); len(left) == 0 {
		return Done
	}
	return Failed
}
