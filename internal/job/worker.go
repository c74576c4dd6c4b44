package job

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"catena/internal/device"
	"catena/internal/dialect"
	"catena/internal/dialect/hand"
	"catena/internal/firmware"
	"catena/internal/ledger"
	"catena/internal/order"
)

// worker carries out the task of one device. Read it from run downwards:
//
//	check      log in; is it the same device, on the version that was matched, and healthy?
//	locate     after a crash: where is the device with the image that it was getting?
//	forward    for each image left on the path: send, await the writing, restart, verify
//	rollBack   where an image was not verified, or its lockstep set failed: back along the whole path
//
// Three rules hold all the way. Each effect is in the ledger before it happens and again when it is
// over. Who answers at the address is verified before each login and each image (dialect.Guard).
// Once the first byte of an image has left, nothing that an operator does ends the step: contexts
// that end are only handed to what comes before it.
type worker struct {
	job   *Job
	row   order.Device // its row of the order
	known Known
	was   DeviceState // as the ledger has it: all that a worker knows from before
	// of its lockstep set, where that is checked as a whole; nil: it is not
	barrier          *barrier
	toCheck          []string  // the other members, where this one checks them
	startedAt        time.Time // with the monotonic clock; zero: before a crash
	attemptStartedAt time.Time // of the update or the rollback

	dialect    dialect.Dialect
	at         dialect.At
	session    dialect.Session
	traits     dialect.Traits  // of the update in progress
	blind      bool            // it took an image, and cannot be asked how far its writing is
	restarted  bool            // a restart was observed since it took its newest image
	absent     bool            // but only by answers that it did not give
	unsure     *Reason         // whether it has its newest image is not known, and why; nil: it has
	sentAt     time.Time       // when it had the whole of its newest image, at the latest
	restored   int             // how often it was sent settings or carried values
	returning  bool            // it is verified in a rollback: what it has lost is restored
	renewed    bool            // it was verified after it got once more what it ran
	baseline   device.Reading  // its reading while it was healthy, before the first write
	readAt     time.Time       // when baseline was read; zero: before a crash
	saved      []byte          // its settings then; nil: they were not read in this run
	downstream []device.Device // those that answered through it then
	last       device.Reading  // the newest reading
	facts      Facts
	remark     *Reason // reported although the device was verified
	// of the ledger, learned in the middle of a step: the task ends there, as in a crash
	broken error
}

// worker returns the worker of a device, with all that the ledger knows of it. Every task of a
// device starts here: one that is new, one that a crash interrupted, and one that returns.
func (j *Job) worker(was DeviceState) *worker {
	w := &worker{job: j, row: j.row(was.ID), known: j.plan.Devices[was.ID], was: was,
		sentAt: time.Now()}
	if was.task == "" {
		w.was.task = order.Update
	}
	w.facts = Facts{Task: w.was.task, Outcome: order.Outcome{Written: was.Touched,
		Runs: order.Previous}}
	if was.Touched {
		w.facts.Runs = order.Unknown
	}
	if was.baseline != nil {
		w.baseline = *was.baseline
	}
	for _, d := range j.plan.Downstream[was.ID] {
		if slices.Contains(was.downstream, d.ID) {
			w.downstream = append(w.downstream, d)
		}
	}
	return w
}

// probeWithin bounds one question to a device that may be restarting.
const probeWithin = 10 * time.Second

// run carries out the task and returns how it ended. A device that fails is not an error of the
// job: its error is the ledger's alone. The entry that the task starts with was written by the
// dispatcher. When until ends, a check is given up and no new transfer starts.
func (w *worker) run(until context.Context) (f finish) {
	ctx := context.WithoutCancel(until)
	defer func() { _ = w.close(ctx) }() // where it is closed before, that says what was not left
	var reason *Reason
	var err error
	switch {
	case w.was.task == order.RollBack:
		reason, err = w.returnWithSet(ctx)
	case w.was.last.Step != Checking:
		reason, err = w.resume(ctx, until)
	default:
		var later *finish
		if later, reason, err = w.start(ctx, until); later != nil {
			return *later
		}
	}
	if err != nil {
		return finish{err: err}
	}
	return w.end(reason)
}

// start checks the device and brings it to its target. later is set if the device is checked again
// later.
func (w *worker) start(ctx, until context.Context) (later *finish, reason *Reason, err error) {
	check := w.was.last
	failed := w.checkSet(until, w.check)
	if failed == nil {
		if reason := w.keepSettings(); reason != nil {
			failed = &checkFailure{reason: reason}
		}
	}
	if failed == nil {
		check.Baseline = &w.baseline
		w.downstream = w.answering(until, w.job.plan.Downstream[w.row.ID])
		for _, d := range w.downstream {
			check.Downstream = append(check.Downstream, d.ID)
		}
	} else {
		check.Cause = failed.reason
	}
	if err := w.record(Over, check); err != nil {
		return nil, nil, err
	}
	if failed != nil {
		if w.worthWaiting(failed.reason) {
			return w.postpone(failed.reason), nil, nil
		}
		w.facts.Declined = failed.declined
		return nil, failed.reason, nil
	}
	if w.row.Parked {
		reason, err = w.finishParked(ctx, until)
		return nil, reason, err
	}
	legs, _ := w.remaining(w.last)
	reason, err = w.forward(ctx, until, legs)
	return nil, reason, err
}

// forward sends the rest of the path, and rolls back if an image cannot be verified. A component
// that an interlock forbids fails alone: the others continue if no later image depends on it.
func (w *worker) forward(ctx, until context.Context, legs []leg) (*Reason, error) {
	var forbidden *Reason
	skip := map[string]bool{}
	for _, l := range legs {
		if skip[l.component] {
			continue
		}
		if w.job.plan.Order.Stage && !w.canPark(l) {
			w.facts.Declined = true
			return &Reason{Why: CannotStage}, nil
		}
		l = w.bySlot(until, l)
		failed, err := w.put(ctx, until, l)
		switch {
		case err != nil:
			return nil, err
		case failed == nil && w.job.plan.Order.Stage:
			return w.park(ctx, l), nil
		case failed == nil:
		case failed.declined:
			return failed.reason.then(w.settleDeclined(ctx)), nil
		case failed.forbidden && len(w.components()) > 1:
			skip[l.component] = true
			forbidden = (&Reason{Why: Forbidden, Want: l.component}).then(failed.reason)
		default:
			reason, verified, err := w.recoverFrom(ctx, *failed, l)
			if err != nil || !verified {
				return reason, err
			}
			w.remark = reason
		}
	}
	if forbidden != nil {
		w.judge()
		w.facts.Declined = true
		return forbidden, nil
	}
	w.judge()
	return nil, nil
}

// park verifies a device that holds its image and waits for its restart: it runs what it ran
// before.
func (w *worker) park(ctx context.Context, l leg) *Reason {
	w.facts.Parked = true
	if reason := w.verify(ctx, l.component, l.from); reason != nil {
		w.unreachable(reason)
		return reason
	}
	w.judge()
	return nil
}

// components returns the components that the path changes.
func (w *worker) components() (all []string) {
	for _, h := range w.row.Path {
		if !slices.Contains(all, h.Component) {
			all = append(all, h.Component)
		}
	}
	return all
}

// settleDeclined verifies a device that was stopped between two images, or right before the first
// byte.
func (w *worker) settleDeclined(ctx context.Context) *Reason {
	w.facts.Declined = true
	if !w.facts.Written {
		return nil
	}
	c := w.components()[0]
	if reason := w.verifyBack(ctx, c, w.last.Of(c)); reason != nil {
		w.unreachable(reason)
		return reason
	}
	w.judge()
	return nil
}

// judge derives what the device runs from its last reading, which was verified.
func (w *worker) judge() {
	w.facts.Runs, w.facts.Reachable, w.facts.Verified = w.runs(w.last), true, true
}

// runs places a reading on the path: at its start, at its end, between them, or nowhere.
func (w *worker) runs(r device.Reading) order.Firmware {
	previous, target, between := true, true, true
	for _, c := range w.components() {
		var hops []order.Hop
		for _, h := range w.row.Path {
			if h.Component == c {
				hops = append(hops, h)
			}
		}
		is := r.Of(c)
		on := slices.ContainsFunc(hops, func(h order.Hop) bool { return w.same(is, h.To) })
		first := w.same(is, hops[0].From)
		previous = previous && first
		target = target && w.same(is, hops[len(hops)-1].To)
		between = between && (on || first)
	}
	switch {
	case target && (!w.row.Again || w.renewed):
		return order.Target
	case previous:
		return order.Previous
	case between:
		return order.Intermediate
	}
	return order.Other
}

// worthWaiting reports whether a device that failed its check may do better later: it was away, not
// healthy, or an interlock forbade it, or another member of its set was. One that rejected the
// login is not asked again: it would lock.
func (w *worker) worthWaiting(reason *Reason) bool {
	if reason.Why == NotTogether {
		reason = reason.Then
	}
	again := w.job.engine.Now().Add(checkAgain)
	if errors.Is(reason.Device, device.ErrNotNow) {
		return again.Before(w.job.holdUntil)
	}
	return again.Before(w.job.joinUntil) &&
		(errors.Is(reason.Device, device.ErrAway) || reason.Why == Unhealthy)
}

// checkAgain is how long a device that was away is left alone before it is checked again.
const checkAgain = 20 * time.Second

// postpone has the dispatcher start the device later.
func (w *worker) postpone(reason *Reason) *finish {
	body := postponedBody{Until: w.job.engine.Now().Add(checkAgain)}
	if errors.Is(reason.Device, device.ErrNotNow) {
		body.Because = reason.Device.Detail
	}
	return &finish{kind: Postponed, body: body}
}

// canPark reports whether a device waits for its restart once it has an image.
func (w *worker) canPark(l leg) bool {
	update, err := w.session.Update(l.component)
	return err == nil && !update.Traits().RestartsByItself
}

// close ends what the session has open at the device. It returns what must still be undone there.
func (w *worker) close(ctx context.Context) (left *device.Cause) {
	if w.session == nil {
		return nil
	}
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), probeWithin)
	defer cancel()
	err := w.session.Close(ctx) // what else it left open at the device, the device ends itself
	w.session = nil
	if errors.Is(err, device.ErrNotLeft) {
		_ = errors.As(err, &left)
	}
	return left
}

// leg is one image on its way into a device.
type leg struct {
	hop       int // its place on the path
	component string
	from, to  string
	image     order.Image // the zero Image: what the other slot holds is started
	direction Direction
}

func (l leg) switches() bool { return l.image == order.Image{} }

func forward(n int, h order.Hop) leg { return leg{n, h.Component, h.From, h.To, h.Image, Forward} }

// back is the rollback of a hop that has an image for it.
func back(n int, h order.Hop) leg { return leg{n, h.Component, h.To, h.From, *h.Back, Back} }

// remaining returns the legs that a device with this reading has before it; an earlier job may have
// brought it a part of the way. strange names a component that runs something else than when it was
// matched.
//
// The path of one component is 1.0 → 1.5 → 2.0: a device on 1.5 has one leg left, one on 2.0 has
// none, and one on 1.7 is strange, because no one decided about it. A device that gets what it runs
// once more has all of them left.
func (w *worker) remaining(r device.Reading) (legs []leg, strange *Reason) {
	done, total, first := map[string]int{}, map[string]int{}, map[string]string{}
	for _, h := range w.row.Path {
		c := h.Component
		total[c]++
		if total[c] == 1 {
			first[c] = h.From
		}
		if w.same(h.To, r.Of(c)) && !w.row.Again {
			done[c] = total[c]
		}
	}
	count := map[string]int{}
	for n, h := range w.row.Path {
		c := h.Component
		count[c]++
		if count[c] > done[c] {
			legs = append(legs, forward(n, h))
		}
		if done[c] == 0 && !w.same(first[c], r.Of(c)) {
			strange = &Reason{Why: ChangedSince, Step: Checking, Is: Label(c, r.Of(c)), Want: first[c]}
		}
	}
	return legs, strange
}

// bySlot returns the leg as a switch if the other slot holds its version already: what is there
// need not be written again. A slot whose version has failed on this device is not trusted, and an
// interlock is left to the transfer, which reports it.
func (w *worker) bySlot(ctx context.Context, l leg) leg {
	hop := w.row.Path[l.hop]
	if !hop.Slots || w.row.Again || w.known.Resend || w.job.plan.Order.Stage ||
		!w.same(w.last.Idle[l.component], l.to) {
		return l
	}
	update, err := w.session.Update(l.component)
	if err == nil {
		err = update.Interlock(ctx)
	}
	if err == nil {
		l.image = order.Image{}
	}
	return l
}

// after returns the legs that follow a hop that was carried out.
func (w *worker) after(hop int) (legs []leg) {
	all, _ := w.remaining(w.last)
	return slices.DeleteFunc(all, func(l leg) bool { return l.hop <= hop })
}

func (w *worker) same(a, b string) bool { return w.known.Versions.Equal(a, b) }

// open logs in and reads the device. It returns what speaks against continuing.
func (w *worker) open(ctx context.Context) *Reason {
	was := w.known.Device
	if w.row.By != order.ByHand && !w.job.engine.Dialects.Updates(was.Endpoint) {
		return &Reason{Why: CannotUpdate, Step: Checking}
	}
	if reason := w.contact(ctx, Checking); reason != nil {
		return reason
	}
	r, err := w.session.Read(ctx)
	if err != nil {
		return said(Checking, err)
	}
	w.last = r
	return another(Checking, was.Identity, r.Identity)
}

// contact starts a session. What the children share at the device ends; nothing else is sent yet.
func (w *worker) contact(ctx context.Context, in Step) *Reason {
	was := w.known.Device
	d, ok := w.job.engine.Dialects.Named(was.Dialect)
	if !ok {
		return &Reason{Why: CannotUpdate, Step: in}
	}
	at, as, ok := w.job.engine.Contacts.ContactOfJob(was)
	if !ok {
		return &Reason{Why: NoLogin, Step: in}
	}
	w.job.suspend(ctx, w.row.ID)
	at.Ask, at.Shows, at.Interlocks = w.ask, w.shows, w.known.Interlocks
	session := d.Open(at, as)
	switch {
	case was.Dialect == hand.Name:
		w.remark = &Reason{Why: PersonsWord}
	case w.row.By == order.ByHand:
		session = hand.Over(session, at)
	}
	w.dialect, w.at, w.session = d, at, dialect.Guard(d, at, was.Identity, session)
	return nil
}

// checkFailure is why a device is not updated.
type checkFailure struct {
	reason   *Reason
	there    bool // it runs its target already
	declined bool // that was decided
}

// check looks at the device before anything is changed; nil: it may be updated.
func (w *worker) check(ctx context.Context) *checkFailure {
	switch reason := w.open(ctx); {
	case ctx.Err() != nil:
		return &checkFailure{reason: &Reason{Why: Abandoned, Step: Checking}, declined: true}
	case reason != nil:
		w.facts.Reachable = reason.Device == nil || !errors.Is(reason.Device, device.ErrAway)
		return &checkFailure{reason: reason}
	}
	w.facts.Reachable = true
	if reason := w.another(); reason != nil {
		return reason
	}
	if err := w.session.Healthy(ctx, w.last); err != nil {
		reason := said(Checking, err)
		reason.Why = Unhealthy
		return &checkFailure{reason: reason}
	}
	if !w.row.Parked {
		if err := w.interlocked(ctx, w.last); err != nil {
			return &checkFailure{reason: said(Checking, err)}
		}
	}
	w.baseline, w.readAt = w.last, time.Now()
	if reason := w.readSettings(ctx); reason != nil {
		return &checkFailure{reason: reason}
	}
	if reason := w.readCarried(ctx); reason != nil {
		return &checkFailure{reason: reason}
	}
	return nil
}

// another compares the version with the one that was matched.
func (w *worker) another() *checkFailure {
	if w.row.Parked {
		return nil // it may have restarted since
	}
	switch legs, strange := w.remaining(w.last); {
	case len(legs) == 0:
		w.recordReading(w.last)
		w.judge()
		return &checkFailure{there: true, reason: &Reason{Why: ThereAlready, Step: Checking,
			Want: w.row.To()}}
	case strange != nil:
		w.recordReading(w.last)
		return &checkFailure{reason: strange}
	}
	return nil
}

// interlocked returns what forbids the updates that the device has before it. If only some of its
// components are forbidden, the others may continue; then nothing is returned.
func (w *worker) interlocked(ctx context.Context, r device.Reading) (first error) {
	legs, _ := w.remaining(r)
	asked := map[string]bool{}
	for _, l := range legs {
		if l.switches() || asked[l.component] {
			continue
		}
		asked[l.component] = true
		update, err := w.session.Update(l.component)
		if err == nil {
			err = update.Interlock(ctx)
		}
		if err == nil && len(w.components()) > 1 {
			return nil // forward leaves out what is forbidden
		}
		if first == nil {
			first = err
		}
	}
	return first
}

// another returns how the device differs from the one that it should be; nil: it does not. A device
// that reported its serial number, and after a login reports none, is not the same either.
func another(step Step, was, now device.Identity) *Reason {
	other := was.Other(now)
	if other == nil && was.Serial != "" && now.Serial == "" {
		other = device.IdentityChangedError(device.KeySerial, was.Serial, "none")
	}
	if other == nil {
		return nil
	}
	return said(step, other)
}

// end ends what is open at the device and returns its end.
func (w *worker) end(reason *Reason) finish {
	left := w.close(context.Background())
	if err := w.job.parents.release(context.Background(), w.row.ID); errors.Is(err,
		device.ErrNotLeft) {
		_ = errors.As(err, &left)
	}
	if reason == nil {
		reason = w.remark
	}
	if left != nil {
		reason = reason.then(&Reason{Why: NotLeft, Device: left})
	}
	body := ending(w.facts, w.version(), reason)
	if !w.startedAt.IsZero() { // else a part of it was done before a crash
		body.Took = time.Since(w.startedAt)
	}
	return finish{kind: Ended, body: body}
}

// version returns what the device reported last: its main component, and those that the path
// changes.
func (w *worker) version() string {
	parts := []string{w.last.Version}
	for _, c := range w.components() {
		if c == firmware.Main || w.last.Of(c) == "" {
			continue
		}
		parts = append(parts, fmt.Sprintf("%s %s", c, w.last.Of(c)))
	}
	return strings.TrimPrefix(strings.Join(parts, ", "), ", ")
}

// recordReading keeps what the device has just reported: the next scan finds it, too.
func (w *worker) recordReading(r device.Reading) {
	now := w.known.Device
	now.Reading = r.Over(now.Reading)
	now.Access, now.Trouble = device.OK, nil
	// the steps and the end are in the ledger regardless
	_ = w.job.engine.Site.RecordDevice(w.job.ID, &now)
}

// record writes an effect down. Only when the entry before it is on the disk may it happen.
func (w *worker) record(kind ledger.Kind, e Effect) error {
	return w.job.engine.Ledger.Append(kind, w.job.ID, w.row.ID, e)
}

// start writes down that an effect starts. Before the device's first byte, and between two images,
// the dispatcher is asked: this is the last moment for a stop or a hold.
func (w *worker) begin(e Effect, ask bool) (*order.Reason, error) {
	if !ask || w.job.requests == nil {
		return nil, w.record(StepStarted, e)
	}
	reply := make(chan permission, 1)
	w.job.requests <- request{device: w.row.ID, permit: &e, reply: reply}
	p := <-reply
	return p.why, p.err
}
