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

// worker takes one device through its steps. Read it from work downwards:
//
//	check    log in; is it the same device, on the version that was matched, and well?
//	put      for each image on the path: send, await the writing, restart, prove
//	rescue   where an image was not proven: as before, back to the earlier version, or hands
//	unwind   where its lockstep set failed: back along the whole path
//
// Three rules hold all the way. Each effect stands in the ledger before it happens and again
// when it is over. Who answers at the address is verified before each login and each image
// (dialect.Guard). Once the first byte of an image has left, nothing that a person does ends
// the step: contexts that end are only handed to what comes before.
type worker struct {
	job      *Job
	row      order.Device // what is to be done
	known    Known
	first    time.Time      // when it began, with the monotonic clock; zero: before a crash
	began    time.Time      // when the way that it is on began, the same
	touched  bool           // an image was begun to be sent
	traits   dialect.Traits // of the update that is under way
	dialect  dialect.Dialect
	at       dialect.At
	session  dialect.Session
	set      *gathering      // its lockstep set, where that begins in this run
	members  []string        // the others of it, where this is the first
	baseline device.Reading  // what it said while it was healthy, before it was touched
	saved    []byte          // its settings then; nil: they were not read in this run
	behind   []device.Device // those that answered through it then
	said     device.Reading  // what it said last
	remark   *Reason         // what is to be told of it although all went well
}

// lookWithin bounds one look at a device that may be restarting.
const lookWithin = 10 * time.Second

// work brings the device to its end, and returns that for the dispatcher. Its error is the
// ledger's alone: a device that fails is not an error of the job. The entry that checking has
// begun was written by the dispatcher. When going ends, no image is sent that was not begun;
// when patience ends, a check is given up; what is being written is always finished.
func (w *worker) work(going, patience context.Context) (order.Event, error) {
	if w.row.Parked {
		return w.finishParked(going, patience)
	}
	check := w.checking(Forth)
	end, reason := w.check(patience)
	defer w.close(patience)
	end, reason = w.gather(patience, end, reason)
	if end == "" {
		if reason = w.keepSettings(); reason != nil {
			end = Failed
		}
	}
	check.Cause = reason
	if end == "" {
		check.Baseline = &w.baseline
		w.behind = w.answering(patience, w.job.plan.Behind[w.row.ID])
		for _, d := range w.behind {
			check.Behind = append(check.Behind, d.ID)
		}
	}
	if err := w.record(Over, check); err != nil {
		return order.Event{}, err
	}
	if end == Failed && w.worthWaiting(reason) {
		return w.postpone(reason)
	}
	if end != "" {
		return w.end(end, reason)
	}
	return w.goOn(going, patience)
}

// worthWaiting tells whether a device that failed its check may do better later: it was away, or
// not well, or an interlock forbade it, or another of its lockstep set was. One that refused the login is not asked again:
// it would lock up.
func (w *worker) worthWaiting(reason *Reason) bool {
	if reason.Why == NotTogether {
		reason = reason.Then
	}
	again := w.job.engine.Now().Add(askAgain)
	if errors.Is(reason.Device, device.ErrNotNow) {
		return again.Before(w.job.holdUntil)
	}
	return again.Before(w.job.joinUntil) &&
		(errors.Is(reason.Device, device.ErrAway) || reason.Why == Unhealthy)
}

// askAgain is how long a device that was away is left alone before it is asked again.
const askAgain = 20 * time.Second

// postpone has the dispatcher begin with the device anew, later.
func (w *worker) postpone(reason *Reason) (order.Event, error) {
	now := w.job.engine.Now()
	until := now.Add(askAgain)
	because := ""
	if errors.Is(reason.Device, device.ErrNotNow) {
		because = reason.Device.Detail
	}
	return order.Event{At: now, Kind: order.Postponed, Device: w.row.ID, Until: until, Because: because},
		w.job.engine.Ledger.Append(Postponed, w.job.ID, w.row.ID, postponedBody{Until: until, Because: because})
}

// goOn sends what is left of the path.
func (w *worker) goOn(going, patience context.Context) (order.Event, error) {
	lasting := context.WithoutCancel(patience)
	left, _ := w.left(w.said)
	for _, l := range left {
		if going.Err() != nil {
			return w.end(Skipped, &Reason{Why: Stopped, Want: Label(l.component, l.to)})
		}
		if w.job.plan.Order.Stage && !w.canPark(l) {
			return w.end(Skipped, &Reason{Why: CannotStage})
		}
		failed, err := w.put(lasting, patience, l)
		switch {
		case err != nil:
			return order.Event{}, err
		case failed != nil && failed.reason.Why == Abandoned:
			return w.end(Skipped, failed.reason) // nothing was sent
		case failed != nil:
			return w.rescue(lasting, *failed, l)
		case w.job.plan.Order.Stage:
			return w.end(Parked, nil)
		}
	}
	return w.end(Done, nil)
}

// canPark tells whether a device waits for its restart once it has an image.
func (w *worker) canPark(l leg) bool {
	update, err := w.session.Update(l.component)
	return err == nil && !update.Traits().RestartsByItself
}

// checking is the effect with which a device begins, forth or back.
func (w *worker) checking(way Direction) Effect {
	e := Effect{Step: Checking, Component: firmware.Main, From: w.row.From, Version: w.row.To(),
		Direction: way}
	if way == Back {
		e.From, e.Version = e.Version, e.From
	}
	return e
}

// unwind brings a device back along its whole path, image by image, because its lockstep set
// has failed: each step back is proven like one forth.
func (w *worker) unwind(ctx context.Context, why *Reason) (order.Event, error) {
	ctx = context.WithoutCancel(ctx)
	check := w.checking(Back)
	reason := w.open(ctx)
	defer w.close(ctx)
	check.Cause = reason
	if err := w.record(Over, check); err != nil {
		return order.Event{}, err
	}
	if reason != nil {
		return w.end(Stranded, why.then(reason))
	}
	return w.allBack(ctx, why)
}

// allBack sends the images of the way back, from the end of the path to its start.
func (w *worker) allBack(ctx context.Context, why *Reason) (order.Event, error) {
	for n, hop := range slices.Backward(w.row.Path) {
		if !w.same(w.said.Of(hop.Component), hop.To) {
			continue
		}
		failed, err := w.wayBack(ctx, n, hop)
		switch {
		case failed != nil && failed.reason.Why == NoRollback:
			return w.end(Stranded, why.then(failed.reason))
		case err != nil:
			return order.Event{}, err
		case failed != nil:
			return w.end(Stranded, why.then(&Reason{Why: RollbackFailed}).then(failed.reason))
		}
	}
	return w.end(Returned, why)
}

// close ends what the session has open at the device. It returns what must still be undone there.
func (w *worker) close(ctx context.Context) (left *device.Cause) {
	if w.session == nil {
		return nil
	}
	ending, cancel := context.WithTimeout(context.WithoutCancel(ctx), lookWithin)
	defer cancel()
	err := w.session.Close(ending) // what else it left open at the device, the device ends itself
	w.session = nil
	if errors.Is(err, device.ErrNotLeft) {
		_ = errors.As(err, &left)
	}
	return left
}

// left are the hops that a device which says this of itself still has before it: an
// earlier job may have brought it a part of the way. strange names a component that
// runs something else than it did when it was matched.
//
// The path of one component is 1.0 → 1.5 → 2.0: a device on 1.5 has one hop left, one
// on 2.0 has none, and one on 1.7 is strange, because nobody decided about that.
//
// One that gets what it runs already, once more, has all before it.
func (w *worker) left(r device.Reading) (legs []leg, strange *Reason) {
	behind := map[string]int{} // by component: so many of its hops lie behind
	first := map[string]string{}
	count := map[string]int{}
	for _, hop := range w.row.Path {
		c := hop.Component
		count[c]++
		if count[c] == 1 {
			first[c] = hop.From
		}
		if w.same(hop.To, r.Of(c)) && !w.row.Again {
			behind[c] = count[c]
		}
	}
	count = map[string]int{}
	for n, hop := range w.row.Path {
		c := hop.Component
		count[c]++
		if count[c] > behind[c] {
			legs = append(legs, forth(n, hop))
		}
		if behind[c] == 0 && !w.same(first[c], r.Of(c)) {
			strange = &Reason{Why: ChangedSince, Step: Checking, Is: Label(c, r.Of(c)),
				Want: first[c]}
		}
	}
	return legs, strange
}

// leg is one image on its way into a device.
type leg struct {
	hop       int // its place on the path
	component string
	from, to  string
	image     order.Image // the zero Image: what its other slot holds is started
	way       Direction
}

func (l leg) switches() bool { return l.image == order.Image{} }

func forth(n int, h order.Hop) leg { return leg{n, h.Component, h.From, h.To, h.Image, Forth} }

// back is the way back from a hop that has one.
func back(n int, h order.Hop) leg { return leg{n, h.Component, h.To, h.From, *h.Back, Back} }

func (w *worker) same(a, b string) bool { return w.known.Versions.Equal(a, b) }

// open logs in and reads the device. It returns what speaks against going on.
func (w *worker) open(ctx context.Context) *Reason {
	was := w.known.Device
	if w.row.By != order.ByHand && !w.job.engine.Dialects.Updates(was.Endpoint) {
		return &Reason{Why: CannotUpdate, Step: Checking}
	}
	if reason := w.contact(Checking); reason != nil {
		return reason
	}
	r, err := w.session.Read(ctx)
	if err != nil {
		return said(Checking, err)
	}
	w.said = r
	return another(Checking, was.Identity, r.Identity)
}

// contact begins a session. It sends nothing yet.
func (w *worker) contact(in Step) *Reason {
	was := w.known.Device
	d, ok := w.job.engine.Dialects.Named(was.Dialect)
	if !ok {
		return &Reason{Why: CannotUpdate, Step: in}
	}
	at, as, ok := w.job.engine.Contact(was)
	if !ok {
		return &Reason{Why: NoLogin, Step: in}
	}
	at.Ask, at.Interlocks = w.ask, w.known.Interlocks
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

// check looks before anything is touched. An empty end means: go on.
func (w *worker) check(ctx context.Context) (end Step, reason *Reason) {
	switch reason := w.open(ctx); {
	case ctx.Err() != nil:
		return Skipped, &Reason{Why: Abandoned, Step: Checking}
	case reason != nil:
		return Failed, reason
	}
	r := w.said
	switch left, strange := w.left(r); {
	case len(left) == 0:
		w.see(r)
		return Skipped, &Reason{Why: ThereAlready, Step: Checking, Want: w.row.To()}
	case strange != nil:
		w.see(r)
		return Failed, strange
	}
	if err := w.session.Healthy(ctx, r); err != nil {
		reason := said(Checking, err)
		reason.Why = Unhealthy
		return Failed, reason
	}
	if err := w.interlocked(ctx, r); err != nil {
		return Failed, said(Checking, err)
	}
	w.baseline = r
	if reason := w.readSettings(ctx); reason != nil {
		return Failed, reason
	}
	if reason := w.readCarried(ctx); reason != nil {
		return Failed, reason
	}
	return "", nil
}

// interlocked is what forbids an update that the device has before it.
func (w *worker) interlocked(ctx context.Context, r device.Reading) error {
	left, _ := w.left(r)
	asked := map[string]bool{}
	for _, l := range left {
		if l.switches() || asked[l.component] {
			continue
		}
		asked[l.component] = true
		update, err := w.session.Update(l.component)
		if err == nil {
			err = update.Interlock(ctx)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// another says what is not the same about a device that should be; nil: nothing. A device
// that told its serial number, and after a login tells none, is not the same either.
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

// failure says how far an image came.
type failure struct {
	taken  bool // the device has all of the image: what it will start is not known any more
	away   bool // it did not come back
	reason *Reason
}

// put sends an image, restarts the device and proves it; until ends only what comes before
// the first byte. No failure means proven; the
// error is the ledger's, and nothing more was done after it.
//
// Each step is written down before its effect and after it: whoever finds the ledger
// after a crash knows of a step that has begun and is not over that its effect may or
// may not have happened, and of one that is over how it went.
func (w *worker) put(ctx, until context.Context, l leg) (*failure, error) {
	return w.steps(ctx, until, l, w.stepsOf(l))
}

// putSteps are the steps of put.
var putSteps = []Step{Sending, Writing, Restarting, Proving}

// stepsOf are the steps of an image: all, without those of sending where the other slot holds it, or where images are only sent, those before the restart.
func (w *worker) stepsOf(l leg) []Step {
	if l.switches() {
		return putSteps[2:]
	}
	if w.job.plan.Order.Stage && l.way == Forth {
		return putSteps[:2]
	}
	return putSteps
}

// steps takes some of the steps of put, in order.
func (w *worker) steps(ctx, until context.Context, l leg, which []Step) (*failure, error) {
	effect := Effect{Component: l.component, Hop: l.hop, From: l.from, Version: l.to,
		SHA256: l.image.SHA256, Direction: l.way}
	meter := w.job.sent[w.row.ID]
	update, err := w.session.Update(l.component)
	if err != nil {
		return &failure{reason: said(Sending, err)}, nil
	}
	for _, step := range []struct {
		step Step
		do   func() *failure
	}{
		{Sending, func() *failure { return w.send(ctx, until, update, l, meter) }},
		{Writing, func() *failure { return w.awaitWritten(ctx, update, meter) }},
		{Restarting, func() *failure { return w.restart(ctx, update, l) }},
		{Proving, func() *failure {
			if reason := w.prove(ctx, l.component, l.to); reason != nil {
				return &failure{taken: true, reason: reason}
			}
			return nil
		}},
	} {
		if !slices.Contains(which, step.step) {
			continue
		}
		effect.Step, effect.Cause = step.step, nil
		if err := w.record(Begun, effect); err != nil {
			return nil, err
		}
		w.touched = true
		w.traits = update.Traits()
		failed := step.do()
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

// A transfer that breaks off before the device has all of the image is tried again: it
// cannot have begun to write it.
const (
	sendTries  = 3
	holdsEvery = 2 * time.Second // an interlock is looked at
	sendPauses = 2 * time.Second // before the second try, twice as long before the third
)

// send sends an image. While the device only gets ready for it nothing is sent: that ends
// with until.
func (w *worker) send(ctx, until context.Context, update dialect.Update, l leg,
	meter *transfer) *failure {
	image := l.image
	meter.total.Store(image.Size)
	if w.job.files[image.SHA256] == nil { // in a job that goes on after a crash
		return &failure{reason: &Reason{Why: ImageGone, Step: Sending, Want: image.File}}
	}
	pause := sendPauses
	for try := 1; ; try++ {
		meter.done.Store(0)
		err := update.Ready(until)
		for errors.Is(err, device.ErrNotNow) && until.Err() == nil && w.job.engine.Now().Before(w.job.holdUntil) {
			time.Sleep(holdsEvery) // in the middle of its path it is waited for where it is
			err = update.Ready(until)
		}
		if until.Err() != nil {
			return &failure{reason: &Reason{Why: Abandoned, Step: Sending}}
		}
		if err == nil {
			err = update.Transfer(ctx, dialect.Image{ReaderAt: w.job.files[image.SHA256],
				Size: image.Size, SHA256: image.SHA256, File: image.File, Version: l.to},
				func(n int64) { meter.done.Store(n) })
		}
		switch {
		case err == nil:
			return nil
		case errors.Is(err, device.ErrRefused): // the interlock that has changed meanwhile says why
			if why := update.Interlock(until); errors.Is(why, device.ErrNotNow) {
				err = why
			}
			return &failure{reason: said(Sending, err)}
		case try == sendTries || !errors.Is(err, device.ErrAway) || meter.done.Load() >= image.Size:
			return &failure{reason: said(Sending, err)}
		}
		time.Sleep(pause)
		pause *= 2
	}
}

// awaitWritten follows the device's own writing.
func (w *worker) awaitWritten(ctx context.Context, update dialect.Update,
	meter *transfer) *failure {
	within := w.patience().Writing
	for wait := w.wait(within); ; {
		percent, err := update.Progress(ctx)
		switch {
		case err == nil && percent >= 100, errors.Is(err, device.ErrUnsupported):
			return nil
		case errors.Is(err, device.ErrRefused), errors.Is(err, device.ErrLoginRefused),
			errors.Is(err, device.ErrIdentityChanged):
			return &failure{reason: said(Writing, err)}
		case err == nil:
			meter.done.Store(int64(percent))
			meter.total.Store(100)
		}
		if !wait() {
			return &failure{taken: true,
				reason: &Reason{Why: NotWritten, Step: Writing, Within: within}}
		}
	}
}

// restart sees the device go and come back. It watches for one of three signs:
//
//	it was there, it was gone, it is there again
//	it says that it runs the new version, has been up for less time than before, or has
//	    started once more: it was gone between two looks
//	it never went, is asked to restart, and the time for that is over: the proof tells
//
// One that should restart by itself and does not is asked to, once. The second sign does not
// count on the way back to the version that it runs all along. Presence is looked for without
// a login: a device that came back with another password must not be locked up by Catena.
func (w *worker) restart(ctx context.Context, update dialect.Update, l leg) *failure {
	patience, now := w.patience(), w.job.engine.Now
	within := w.within(patience.Restarting)
	activate := update.Activate
	if l.switches() {
		activate = update.Revert
	}
	before := w.said.Boot
	asked := l.switches() || !update.Traits().RestartsByItself
	if asked {
		if err := activate(ctx); err != nil && !errors.Is(err, device.ErrAway) {
			return &failure{taken: true, reason: said(Restarting, err)}
		}
	}
	since, another := now(), !w.same(w.said.Of(l.component), l.to)
	telling := another || before != nil
	tells := func() bool {
		if !telling {
			return false
		}
		r, err := w.read(ctx)
		telling = !errors.Is(err, device.ErrLoginRefused) // the proof tries it again, and no more
		return err == nil && (another && w.same(r.Of(l.component), l.to) || r.Boot.After(before))
	}
	wait := w.wait(within)
	for gone := false; ; {
		there, other := w.there(ctx)
		late := now().Sub(since) > update.Traits().Down+patience.Grace
		switch {
		case other != nil:
			return &failure{taken: true, reason: said(Restarting, other)}
		case !there:
			gone = true
		case gone || tells():
			return nil
		case late && asked && w.row.Again: // nothing else would tell
			return &failure{taken: true, reason: &Reason{Why: NotRestarted, Step: Restarting}}
		case late && asked:
			return nil // it may have been gone between two looks; the proof tells
		case late:
			asked, since = true, now()
			_ = activate(ctx) // the proof tells whether it did
		}
		switch {
		case wait():
		case there && !w.row.Again:
			return nil // it never went: the proof tells what it runs
		case there:
			return &failure{taken: true, reason: &Reason{Why: NotRestarted, Step: Restarting}}
		default:
			return &failure{taken: true, away: true,
				reason: &Reason{Why: DidNotReturn, Step: Restarting, Within: within}}
		}
	}
}

// there tells whether the device answers, without a login; a child, whether its parent tells of it.
// The error is that another device does.
func (w *worker) there(ctx context.Context) (bool, error) {
	if w.at.Parent != nil {
		_, err := w.read(ctx)
		if errors.Is(err, device.ErrIdentityChanged) {
			return false, err
		}
		return err == nil, nil
	}
	ctx, cancel := context.WithTimeout(ctx, lookWithin)
	defer cancel()
	err := dialect.VerifyIdentity(ctx, w.dialect, w.at, w.known.Device.Identity)
	if errors.Is(err, device.ErrIdentityChanged) {
		return false, err
	}
	return err == nil, nil
}

// read reads the device, which may be restarting.
func (w *worker) read(ctx context.Context) (device.Reading, error) {
	ctx, cancel := context.WithTimeout(ctx, lookWithin)
	defer cancel()
	return w.session.Read(ctx)
}

// within is how long a step may be waited for: as long as its patience is, and until the order
// gives the device up. Writing is always waited for.
func (w *worker) within(patience time.Duration) time.Duration {
	giveUp := w.job.plan.Order.GiveUp
	if giveUp == 0 {
		return patience
	}
	return min(patience, max(0, giveUp-time.Since(w.began)))
}

// wait returns a function that waits a while before the next look, and returns
// false when the time is over. A device that has just gone is looked at often, one
// that has been away for long, rarely.
func (w *worker) wait(within time.Duration) func() bool {
	since := time.Now() // its own measure: the clock may be set meanwhile
	return func() bool {
		gone := time.Since(since)
		time.Sleep(min(longestPause, max(shortestPause, gone/8)))
		return gone < within
	}
}

// Between two looks at a device.
const (
	shortestPause = 100 * time.Millisecond
	longestPause  = 3 * time.Second
)

// awaitThere waits until the device answers, and returns false where it does not. The error
// is that another device does.
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

// record writes an effect down. Only when the entry before it is on the disk may it
// happen.
func (w *worker) record(kind ledger.Kind, e Effect) error {
	return w.job.engine.Ledger.Append(kind, w.job.ID, w.row.ID, e)
}

// end ends what is open at the device, and writes its end down.
func (w *worker) end(end Step, reason *Reason) (order.Event, error) {
	left := w.close(context.Background())
	if err := w.job.kin.part(context.Background(), w.row.ID); errors.Is(err, device.ErrNotLeft) {
		_ = errors.As(err, &left)
	}
	if reason == nil {
		reason = w.remark
	}
	if left != nil {
		reason = reason.then(&Reason{Why: NotLeft, Device: left})
	}
	now := w.job.engine.Now()
	body := endBody{End: end, Version: w.runsNow(), Cause: reason, Touched: w.touched}
	if !w.first.IsZero() { // else a part of it was done before a crash: how long it takes is not told by the rest
		body.Took = time.Since(w.first)
	}
	return body.event(w.row.ID, now), w.job.engine.Ledger.Append(Ended, w.job.ID, w.row.ID, body)
}

// runsNow is what the device last said that it runs: its main component, and those
// that the job changes.
func (w *worker) runsNow() string {
	parts := []string{w.said.Version}
	for _, hop := range w.row.Path {
		c := hop.Component
		if c == firmware.Main || w.said.Of(c) == "" {
			continue
		}
		if s := fmt.Sprintf("%s %s", c, w.said.Of(c)); !slices.Contains(parts, s) {
			parts = append(parts, s)
		}
	}
	return strings.TrimPrefix(strings.Join(parts, ", "), ", ")
}

// see keeps what the device has just said of itself: the next scan sees it too.
func (w *worker) see(r device.Reading) {
	now := w.known.Device
	now.Reading = r.Over(now.Reading)
	now.Access, now.Trouble = device.OK, nil
	_ = w.job.engine.See(w.job.ID, &now) // the steps and the end are in the ledger all the same
}
