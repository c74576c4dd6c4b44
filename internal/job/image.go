package job

import (
	"context"
	"errors"
	"time"

	"catena/internal/device"
	"catena/internal/dialect"
)

// failure is how far an image came that could not be verified.
type failure struct {
	taken     bool // the device has all of the image: what it will start is not known any more
	away      bool // it did not come back
	writing   bool // it may still be writing, and must not be touched
	declined  bool // nothing was sent, because that was decided
	forbidden bool // nothing was sent, because an interlock forbids it
	undone    bool // an operator did not do what it needs after its first byte
	reason    *Reason
}

// imageSteps are the steps of an image.
var imageSteps = []Step{Sending, Writing, Restarting, Proving}

// put sends an image, restarts the device and verifies it. until ends only what comes before the
// first byte. No failure means verified; the error is the ledger's, and nothing was done after it.
func (w *worker) put(ctx, until context.Context, l leg) (*failure, error) {
	return w.steps(ctx, until, l, w.stepsOf(l))
}

// stepsOf returns the steps of an image: without sending where the other slot holds it, and up to
// the restart where images are only sent.
func (w *worker) stepsOf(l leg) []Step {
	if l.switches() {
		return imageSteps[2:]
	}
	if w.job.plan.Order.Stage && l.direction == Forward {
		return imageSteps[:2]
	}
	return imageSteps
}

// steps carries out some steps of an image, in order. Each is written down before its effect and
// after it: after a crash, the effect of a step that has started and is not over may or may not
// have happened, and of one that is over it is known how it went.
func (w *worker) steps(ctx, until context.Context, l leg, which []Step) (*failure, error) {
	effect := Effect{Component: l.component, Hop: l.hop, From: l.from, Version: l.to,
		SHA256: l.image.SHA256, Direction: l.direction}
	update, err := w.session.Update(l.component)
	if err != nil {
		return &failure{reason: said(Sending, err)}, nil
	}
	do := map[Step]func() *failure{
		Sending:    func() *failure { return w.send(ctx, until, update, l) },
		Writing:    func() *failure { return w.awaitWritten(ctx, update, l) },
		Restarting: func() *failure { return w.restart(ctx, update, l) },
		Proving:    func() *failure { return w.verified(ctx, l) },
	}
	for n, step := range which {
		effect.Step, effect.Cause = step, nil
		ask := n == 0 && l.direction == Forward && (step == Sending || l.switches() && step == Restarting)
		why, err := w.begin(effect, ask)
		if err != nil {
			return nil, err
		}
		if why != nil {
			return &failure{declined: true, reason: &Reason{Why: NotBegun, Step: step,
				Want: Label(l.component, l.to), Order: why}}, nil
		}
		w.facts.Written, w.facts.Verified = true, false
		w.traits = update.Traits()
		failed := do[step]()
		if w.broken != nil {
			return nil, w.broken
		}
		effect.Down = update.Traits().Down
		if failed != nil {
			effect.Cause = failed.reason
		}
		if err := w.record(Over, effect); err != nil {
			return nil, err
		}
		if failed != nil {
			return failed, nil
		}
	}
	return nil, nil
}

// verified is the last step of an image.
func (w *worker) verified(ctx context.Context, l leg) *failure {
	verify := w.verify
	if l.direction == Back {
		verify = w.verifyBack
	}
	reason := verify(ctx, l.component, l.to)
	if reason != nil && l.direction == Back && w.blind && w.absent && !w.arrived(l) &&
		!reason.IdentityChanged() && w.awaitQuiet(ctx, l) == nil && w.arrived(l) {
		reason = verify(ctx, l.component, l.to) // it was only not heard, and has started it now
	}
	if reason != nil {
		return &failure{taken: true, reason: reason}
	}
	w.renewed = w.renewed || l.direction == Forward
	return nil
}

// A transfer that breaks off before the device has all of the image is tried again: it cannot have
// started to write it.
const (
	sendTries      = 3
	interlockEvery = 2 * time.Second // an interlock is checked again
	sendPauses     = 2 * time.Second // before the second try, twice as long before the third
)

// send sends an image. While the device only gets ready for it nothing is sent: that ends with
// until.
func (w *worker) send(ctx, until context.Context, update dialect.Update, l leg) *failure {
	image, meter := l.image, w.job.sent[w.row.ID]
	meter.total.Store(image.Size)
	if w.job.files[image.SHA256] == nil { // of a job that was resumed
		return &failure{reason: &Reason{Why: ImageGone, Step: Sending, Want: image.File}}
	}
	pause := sendPauses
	from := dialect.Image{ReaderAt: w.job.files[image.SHA256], Size: image.Size, SHA256: image.SHA256,
		File: image.File, Version: l.to}
	for try := 1; ; try++ {
		meter.done.Store(0)
		err := update.Ready(until, from)
		for errors.Is(err, device.ErrNotNow) && until.Err() == nil &&
			w.job.engine.Now().Before(w.job.holdUntil) {
			time.Sleep(interlockEvery) // in the middle of its path it is waited for where it is
			err = update.Ready(until, from)
		}
		if until.Err() != nil {
			return &failure{declined: true, reason: &Reason{Why: Abandoned, Step: Sending}}
		}
		ready := err == nil
		if ready {
			err = update.Transfer(ctx, from, func(n int64) { meter.done.Store(n) })
		}
		changed, tells := w.job.files[image.SHA256].(interface{ Changed() error })
		switch {
		case err == nil:
			w.sentAt, w.unsure = time.Now(), nil
			return nil
		case tells && changed.Changed() != nil: // the device did not get the end of it
			return &failure{reason: &Reason{Why: ImageChanged, Step: Sending, Want: image.File}}
		case errors.Is(err, device.ErrNotNow) && !ready:
			return &failure{forbidden: true, reason: said(Sending, err)}
		case errors.Is(err, device.ErrRefused): // an interlock that has changed since explains it
			if why := update.Interlock(until); errors.Is(why, device.ErrNotNow) {
				err = why
			}
			return &failure{reason: said(Sending, err)}
		case errors.Is(err, device.ErrAway) && meter.done.Load() >= image.Size:
			w.sentAt, w.unsure = time.Now(), said(Sending, err) // only its answer may be lost
			return nil
		case try == sendTries || !errors.Is(err, device.ErrAway):
			return &failure{undone: ready && errors.Is(err, device.ErrNeedsPerson),
				reason: said(Sending, err)}
		}
		time.Sleep(pause)
		pause *= 2
	}
}

// writingLimit is how many times its patience a device may write. Then the wait ends, and the
// device is left alone: it must not be touched while it writes.
const writingLimit = 3

// awaitWritten follows the device's own writing. The end of patience is reported, and is not
// permission to write something else.
func (w *worker) awaitWritten(ctx context.Context, update dialect.Update, l leg) *failure {
	meter, patience := w.job.sent[w.row.ID], w.patience()
	since, noted := time.Now(), false
	wait := w.wait(writingLimit * patience.Writing)
	away := w.wait(patience.Restarting)
	for {
		percent, err := update.Progress(ctx)
		switch {
		case err == nil && percent >= 100:
			return nil
		case errors.Is(err, device.ErrUnsupported):
			w.blind = true
			return w.watchUnsure(ctx, l)
		case errors.Is(err, device.ErrRefused) && w.startedIt(ctx, l): // and so holds it no more
			return nil
		case errors.Is(err, device.ErrRefused) && w.unsure != nil:
			return &failure{reason: w.unsure}
		case errors.Is(err, device.ErrNeedsPerson):
			return &failure{undone: true, reason: said(Writing, err)}
		case errors.Is(err, device.ErrRefused), errors.Is(err, device.ErrLoginRefused),
			errors.Is(err, device.ErrIdentityChanged):
			return &failure{reason: said(Writing, err)}
		case err == nil:
			meter.done.Store(int64(percent))
			meter.total.Store(100)
			away = w.wait(patience.Restarting)
		case !away(): // it does not answer: whether it writes is not known
			return &failure{taken: true, away: true, writing: true, reason: said(Writing,
				err).then(&Reason{Why: StillAway})}
		}
		late := time.Since(since) > patience.Writing
		if late && !noted {
			noted = true
			w.note(&Reason{Why: StillWriting, Step: Writing, Within: patience.Writing})
		}
		if !wait() {
			return &failure{taken: true, writing: true,
				reason: &Reason{Why: StillWriting, Step: Writing, Within: writingLimit * patience.Writing}}
		}
	}
}

// watchUnsure watches a device that cannot be asked whether it has an image whose transfer got no
// answer. One that has all of it restarts automatically and runs it then; the others are as before.
func (w *worker) watchUnsure(ctx context.Context, l leg) *failure {
	if w.unsure == nil {
		return nil
	}
	w.note(&Reason{Why: MayWrite, Step: Writing, Within: w.mayWriteFor()})
	if failed := w.watch(ctx); failed != nil {
		return failed
	}
	if w.arrived(l) {
		return nil
	}
	return &failure{reason: w.unsure}
}

// startedIt reports whether the device runs an image that it just took.
func (w *worker) startedIt(ctx context.Context, l leg) bool {
	var r device.Reading
	err := w.retryAway(func() (err error) {
		r, err = w.read(ctx)
		return err
	})
	return err == nil && w.same(r.Of(l.component), l.to) && (!w.same(l.from, l.to) ||
		r.Boot.After(w.last.Boot, 0))
}

// shows reports what people see at the device from now on.
func (w *worker) shows(what string) {
	// it only tells
	_ = w.job.engine.Ledger.Append(Shown, w.job.ID, w.row.ID, shownBody{what})
}

// note reports that a step takes longer than usual.
func (w *worker) note(reason *Reason) {
	// the step counts, this only tells
	_ = w.job.engine.Ledger.Append(Noted, w.job.ID, w.row.ID, reason)
}

// restart awaits that the device goes away and comes back. It accepts one of three signs:
//
//	it was there, it was gone, it is there again
//	it reports the new version, or that it has started again: it was gone between two probes
//	it never went, was asked to restart, and the time for that is over: the verification decides
//
// One lost answer does not mean that it was gone, and one that counts its starts is believed over
// that. One that should restart automatically and does not is asked to, once, after a grace in
// which it may still be writing. The second sign does not count for a version that it runs all
// along. Presence is probed without a login: a device that came back with another password must not
// be locked by Catena.
func (w *worker) restart(ctx context.Context, update dialect.Update, l leg) *failure {
	if w.unsure != nil && w.arrived(l) { // it was watched until it ran the image
		w.restarted, w.absent = true, false
		return nil
	}
	w.restarted = false
	r := &restart{worker: w, update: update, leg: l, activate: update.Activate, mayAsk: w.mayAsk(),
		before: w.last.Boot, startedAt: time.Now(), since: time.Now(),
		changes: !w.same(w.last.Of(l.component), l.to)}
	if l.switches() {
		r.activate = update.Revert
	}
	r.readable = r.changes || r.before != nil
	if l.switches() || !update.Traits().RestartsByItself {
		if err := r.ask(ctx); err != nil && !errors.Is(err, device.ErrAway) {
			return &failure{taken: true, reason: said(Restarting, err)}
		}
	}
	patience := w.patience()
	r.within = w.within(patience.Restarting)
	r.grace = update.Traits().Down + patience.Grace
	limit := r.within
	switch {
	case r.asked:
	case r.mayAsk:
		limit = max(limit, w.within(r.grace+patience.Restarting))
	default: // it has as long as a write may take
		limit = max(limit, patience.Writing)
	}
	for r.wait = w.wait(limit); ; {
		if over, failed := r.probe(ctx); over {
			return failed
		}
		if r.there && r.missed < goneAfter {
			r.missed = 0 // one lost answer
		}
		if !r.wait() {
			return r.late(ctx)
		}
	}
}

// restart is a restart that is awaited.
type restart struct {
	*worker
	update    dialect.Update
	leg       leg
	activate  func(context.Context) error
	mayAsk    bool         // it may be asked to restart
	asked     bool         // it was
	heard     bool         // it answered the newest request
	got       int          // how many of the requests it has answered
	before    *device.Boot // before the restart
	changes   bool         // the new version differs from the one that it runs
	readable  bool         // reading it can show a restart
	there     bool         // it answered the newest probe
	missed    int          // probes in a row that it did not answer
	startedAt time.Time    // when before was read
	since     time.Time    // when it was asked, or should have restarted
	grace     time.Duration
	within    time.Duration
	wait      func() bool
}

// probe looks for a sign of the restart once. over: the step is over, with or without a failure.
func (r *restart) probe(ctx context.Context) (over bool, failed *failure) {
	var other error
	r.there, other = r.worker.there(ctx)
	late := time.Since(r.since) > r.grace
	// it may not have got the request
	unheard := r.asked && !r.heard && time.Since(r.since) > min(r.grace, leastWait)
	switch {
	case other != nil:
		return true, &failure{taken: true, reason: said(Restarting, other)}
	case !r.there:
		if r.missed++; r.missed == goneAfter { // from here on it has the usual time to come back
			r.wait = r.worker.wait(r.within)
		}
	case r.changed(ctx):
		return true, nil
	case r.missed >= goneAfter && r.asked && !r.heard && r.waits(ctx):
		r.missed = 0 // the request was lost as those probes were: it still holds what it would start
	case r.missed >= goneAfter && (r.before == nil || !r.readable):
		r.restarted, r.absent = true, true
		// nothing but the absence shows the restart: it has the time that it may write
		return !r.blind || r.changes || time.Since(r.sentAt) >= r.mayWriteFor(), nil
	case (late && r.asked || unheard) && r.got < askTimes && r.waits(ctx):
		_ = r.ask(ctx) // it did not get the request, or did nothing about it
	case late && r.asked && r.row.Again: // nothing else would show it
		return true, &failure{taken: true, reason: &Reason{Why: NotRestarted, Step: Restarting}}
	case late && r.asked:
		return true, nil // it may have been gone between two probes; the verification decides
	case late && r.mayAsk:
		_ = r.ask(ctx) // the verification shows whether it did
	}
	return false, nil
}

// ask requests the restart. A request without an answer may be lost, so it does not count: only the
// time of the step ends those.
func (r *restart) ask(ctx context.Context) error {
	r.asked, r.since = true, time.Now()
	err := r.activate(ctx)
	if r.heard = !errors.Is(err, device.ErrAway); r.heard {
		r.got++
	}
	return err
}

// late is how the step ends when its time is over. The last look at the device is repeated until it
// is answered: a restart in the last moment must not be missed because one answer was lost.
func (r *restart) late(ctx context.Context) *failure {
	r.there = r.there || r.missed < goneAfter // one lost answer does not mean that it was gone
	seen := false
	if r.there {
		_ = r.retryAway(func() (err error) { // without an answer the probes decide
			seen, err = r.look(ctx)
			return err
		})
	}
	if seen {
		return nil
	}
	switch {
	case r.there && !r.asked && !r.mayAsk:
		return &failure{taken: true, writing: true, reason: &Reason{Why: NotRestarted, Step: Restarting}}
	case r.there && !r.row.Again:
		return nil // no restart was observed: the verification reads its version
	case r.there:
		return &failure{taken: true, reason: &Reason{Why: NotRestarted, Step: Restarting}}
	}
	return &failure{taken: true, away: true, reason: &Reason{Why: DidNotReturn, Step: Restarting,
		Within: r.within}}
}

// changed reports whether the device shows a restart.
func (r *restart) changed(ctx context.Context) bool {
	seen, _ := r.look(ctx) // the next probe looks again
	return seen
}

// look reads the device, if that can show a restart, and returns whether it reports the new
// version, or that it has started again.
func (r *restart) look(ctx context.Context) (bool, error) {
	if !r.readable {
		return false, nil
	}
	now, err := r.read(ctx)
	// the verification tries it again, and no more
	r.readable = !errors.Is(err, device.ErrLoginRefused)
	if err != nil || (!r.changes || !r.same(now.Of(r.leg.component), r.leg.to)) &&
		!now.Boot.After(r.before, time.Since(r.startedAt)) {
		return false, err
	}
	r.restarted, r.absent = true, false
	return true, nil
}

// waits reports whether the device holds the whole image and has not restarted.
func (r *restart) waits(ctx context.Context) bool {
	if r.leg.switches() || r.blind {
		return false
	}
	percent := 0
	err := r.retryAway(func() (err error) {
		percent, err = r.update.Progress(ctx)
		return err
	})
	return err == nil && percent >= 100
}

// askTimes is how many requests to restart a device may answer without doing it.
const askTimes = 3

// goneAfter is how many probes in a row a device misses before it counts as gone.
const goneAfter = 2

// mayAsk reports whether a device that should restart automatically and does not may be asked to.
// One that cannot be asked how far its writing is may be writing still, and a restart would
// interrupt that; there its family, its image or the operator must have said how long to wait.
func (w *worker) mayAsk() bool {
	return !w.blind || w.job.engine.Patience.Over(w.known.Patience).Grace > 0
}

// there reports whether the device answers, without a login; a child, whether its parent lists it.
// The error is that another device does.
func (w *worker) there(ctx context.Context) (bool, error) {
	var err error
	if w.at.Parent != nil {
		_, err = w.read(ctx)
	} else {
		ctx, cancel := context.WithTimeout(ctx, probeWithin)
		defer cancel()
		err = dialect.VerifyIdentity(ctx, w.dialect, w.at, w.known.Device.Identity)
	}
	if errors.Is(err, device.ErrIdentityChanged) {
		return false, err
	}
	return err == nil, nil
}

// read reads the device, which may be restarting.
func (w *worker) read(ctx context.Context) (device.Reading, error) {
	ctx, cancel := context.WithTimeout(ctx, probeWithin)
	defer cancel()
	return w.session.Read(ctx)
}

// leastWait is how long a step is waited for although the order has given the device up: a device
// that has just written for long must not be rolled back because one answer was lost.
const leastWait = 30 * time.Second

// within returns how long a step may be waited for: as long as its patience is, and until the order
// gives the device up. Writing is always waited for.
func (w *worker) within(patience time.Duration) time.Duration {
	giveUp := w.job.plan.Order.GiveUp
	if giveUp == 0 {
		return patience
	}
	return min(patience, max(leastWait, giveUp-time.Since(w.attemptStartedAt)))
}

// wait returns a function that waits before the next probe, and returns false when the time is
// over. A device that has just gone is probed often, one that has been away for long, rarely.
func (w *worker) wait(within time.Duration) func() bool {
	since := time.Now() // monotonic: the wall clock may be set during the wait
	return func() bool {
		gone := time.Since(since)
		time.Sleep(min(longestPause, max(shortestPause, gone/8)))
		return gone < within
	}
}

// Between two probes of a device.
const (
	shortestPause = 100 * time.Millisecond
	longestPause  = 3 * time.Second
)

// awaitThere waits until the device answers, and returns false if it does not. The error is that
// another device does.
func (w *worker) awaitThere(ctx context.Context) (bool, error) {
	for wait := w.wait(w.within(w.patience().Restarting)); ; {
		there, other := w.there(ctx)
		if there || other != nil {
			return there, other
		}
		if !wait() {
			return false, nil
		}
	}
}
