package job

import (
	"cmp"
	"context"
	"errors"
	"slices"
	"strings"
	"time"

	"catena/internal/device"
	"catena/internal/dialect"
	"catena/internal/firmware"

	"golang.org/x/sync/errgroup"
)

// loginTries is how often a login is tried on a device that was let in before and
// now refuses: a device that is starting may refuse wrongly, one whose login was
// cleared must not be locked up by Catena.
const loginTries = 2

// verify returns what is wrong with the device, which should run that version, be the same as
// before, and be healthy. One that has just come back may need a while, so it is probed again; one
// that restarts more than once may be away again in between. Then it must stay healthy for as long
// as it has to settle. One that is still not well may lack its settings: it gets them before it is
// judged.
func (w *worker) verify(ctx context.Context, component, to string) *Reason {
	patience := w.patience()
	more := time.Duration(max(1, w.traits.Restarts, w.known.Restarts)-1) * patience.Restarting
	wait := w.wait(w.within(patience.Proving + more))
	given := false
	for rejected := 0; ; {
		reason := w.probe(ctx, component, to)
		if reason == nil {
			reason = w.settingsChanged(ctx)
		}
		if reason == nil {
			if reason = w.settled(ctx, component, to); reason == nil {
				reason = w.giveBack(ctx, component, to)
			}
			return reason
		}
		if reason.IdentityChanged() {
			return reason // no later probe can change that
		}
		if errors.Is(reason.Device, device.ErrLoginRefused) {
			rejected++
		}
		if rejected < loginTries && wait() {
			continue
		}
		if given || reason.Why != Unhealthy && reason.Why != CutOff {
			return reason
		}
		before := w.restored
		if w.giveBack(ctx, component, to) != nil || w.restored == before {
			return reason
		}
		given, wait = true, w.wait(leastWait)
	}
}

// verifyBack is verify in a rollback, and where the device stays: what it has lost is restored
// whether an image alters it or not.
func (w *worker) verifyBack(ctx context.Context, component, to string) *Reason {
	w.returning = true
	defer func() { w.returning = false }()
	return w.verify(ctx, component, to)
}

// settled checks that a healthy device stays so for as long as it has to settle.
func (w *worker) settled(ctx context.Context, component, to string) *Reason {
	settling := cmp.Or(w.patience().Settling, w.traits.Settle)
	if settling == 0 {
		return nil
	}
	for wait := w.wait(settling); wait(); {
		if reason := w.probe(ctx, component, to); reason != nil {
			return (&Reason{Why: NotSettled, Step: Proving, Within: settling}).then(reason)
		}
	}
	return nil
}

// probe checks the device once. Each downstream device has its own time limit, besides that of the
// device.
func (w *worker) probe(ctx context.Context, component, to string) *Reason {
	if reason := w.probeItself(ctx, component, to); reason != nil {
		return reason
	}
	if there := w.answering(ctx, w.downstream); len(there) < len(w.downstream) {
		return &Reason{Why: CutOff, Step: Proving, Want: namesOfMissing(w.downstream, there)}
	}
	return nil
}

func (w *worker) probeItself(ctx context.Context, component, to string) *Reason {
	ctx, cancel := context.WithTimeout(ctx, probeWithin)
	defer cancel()
	r, err := w.session.Read(ctx)
	if err != nil {
		return said(Proving, err)
	}
	w.last = r
	was := w.baseline.Identity
	if was == (device.Identity{}) {
		was = w.known.Device.Identity
	}
	if other := another(Proving, was, r.Identity); other != nil {
		return other
	}
	if !w.same(r.Of(component), to) {
		return &Reason{Why: WrongVersion, Step: Proving, Is: r.Of(component), Want: to}
	}
	if err := w.session.Healthy(ctx, w.baseline); err != nil {
		reason := said(Proving, err)
		reason.Why = Unhealthy
		return reason
	}
	w.recordReading(r)
	return nil
}

// askAtOnce is how many downstream devices are probed at the same time.
const askAtOnce = 16

// answering returns those of the devices that answer, without a login, as the ones that they are
// known as.
func (w *worker) answering(ctx context.Context, devices []device.Device) (out []device.Device) {
	there := make([]bool, len(devices))
	var group errgroup.Group
	group.SetLimit(askAtOnce)
	for i, d := range devices {
		group.Go(func() error {
			speaks, ok := w.job.engine.Dialects.Named(d.Dialect)
			at, _, has := w.job.engine.Contacts.ContactOfJob(d)
			if !ok || !has {
				return nil
			}
			ctx, cancel := context.WithTimeout(ctx, probeWithin)
			defer cancel()
			there[i] = dialect.VerifyIdentity(ctx, speaks, at, d.Identity) == nil
			return nil
		})
	}
	_ = group.Wait() // nothing in it fails
	for i, d := range devices {
		if there[i] {
			out = append(out, d)
		}
	}
	return out
}

// namesOfMissing returns the names of those that are not there.
func namesOfMissing(all, there []device.Device) string {
	var names []string
	for _, d := range all {
		if !slices.ContainsFunc(there, func(o device.Device) bool { return o.ID == d.ID }) {
			names = append(names, d.Name)
		}
	}
	return strings.Join(names, ", ")
}

// patience returns how long the device may take: as the engine says, else its family and images,
// else the usual.
func (w *worker) patience() firmware.Patience {
	return w.job.engine.Patience.Over(w.known.Patience).Over(Usual)
}
