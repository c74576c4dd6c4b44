package job

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"catena/internal/dialect"
	"catena/internal/firmware"
	"catena/internal/ledger"
)

// device takes one device through its steps. Read it from work downwards.
type device struct {
	job      *Job
	item     Item
	talk     dialect.Talk
	knows    dialect.Dialect
	peer     dialect.Peer
	before   dialect.Facts // what it said while it was well, before it was touched
	heard    dialect.Facts // what it last told
	patience context.Context
	lasting  context.Context // for what must not be interrupted
}

// lookWithin bounds one look at a device that may be restarting.
const lookWithin = 10 * time.Second

// work brings the device to its end. Its error is the ledger's alone: a device
// that fails is not an error of the job.
func (d *device) work(going context.Context) error {
	if other, ok := d.job.busy[d.item.Device.ID]; ok {
		return d.end(Failed, fmt.Sprintf("job %s is working on it", other), "wait for that job: catena track "+other)
	}
	if going.Err() != nil {
		return d.end(Skipped, "the job was stopped before it", "")
	}
	if err := d.intend(Checking, d.item.To(), false); err != nil {
		return err
	}
	step, reason, advice := d.check()
	if step != "" {
		return d.end(step, reason, advice)
	}
	left, _ := d.left(d.heard)
	for _, hop := range left {
		if going.Err() != nil {
			return d.end(Skipped, "the job was stopped before "+label(hop.Image)+" was sent to it", "")
		}
		problem := d.put(hop.Image, false)
		switch {
		case problem == nil:
		case problem.ledger != nil:
			return problem.ledger
		default:
			return d.recover(*problem, hop)
		}
	}
	return d.end(Done, "", "")
}

// left are the hops that a device which says this of itself still has before it: an
// earlier job may have brought it a part of the way. strange names a component that
// runs something else than it did when it was matched.
func (d *device) left(facts dialect.Facts) (hops []Hop, strange string) {
	behind := map[string]int{} // by component: so many of its hops lie behind
	first := map[string]string{}
	count := map[string]int{}
	for _, hop := range d.item.Path {
		c := hop.Image.Component
		if count[c]++; count[c] == 1 {
			first[c] = hop.From
		}
		if d.same(hop.Image.Version, facts.Of(c)) {
			behind[c] = count[c]
		}
	}
	count = map[string]int{}
	for _, hop := range d.item.Path {
		c := hop.Image.Component
		if count[c]++; count[c] > behind[c] {
			hops = append(hops, hop)
		}
		if behind[c] == 0 && !d.same(first[c], facts.Of(c)) {
			strange = label(firmware.Image{Manifest: firmware.Manifest{Component: c, Version: facts.Of(c)}}) + ", not " + first[c]
		}
	}
	return hops, strange
}

func (d *device) same(a, b string) bool { return d.item.Order.Equal(a, b) }

// check looks before anything is touched. An empty step means: go on.
func (d *device) check() (step Step, reason, advice string) {
	was := d.item.Device
	knows, ok := d.job.engine.Dialect(was.Dialect)
	if !ok {
		return Failed, "this program can read it but has no way yet to send it an image", "flash it by its maker's own means"
	}
	peer, ok := d.job.engine.Peer(was)
	if !ok {
		return Failed, "no login is given for it", "give a login and flash it again"
	}
	d.knows, d.peer = knows, peer
	d.talk = knows.Open(d.peer)
	var facts dialect.Facts
	err := dialect.VerifyIdentity(d.patience, knows, peer, was.Serial)
	if err == nil {
		facts, err = d.talk.Read(d.patience)
	}
	switch {
	case d.patience.Err() != nil:
		return Skipped, "the job was abandoned while it was checked", ""
	case errors.Is(err, dialect.ErrLoginRefused):
		return Failed, err.Error(), "find its password, then flash it again"
	case errors.Is(err, dialect.ErrNewPassword), errors.Is(err, dialect.ErrNoRight), errors.Is(err, dialect.ErrPlain):
		return Failed, err.Error(), "see to its login (catena login test), then flash it again"
	case errors.Is(err, dialect.ErrIdentityChanged):
		return Failed, err.Error(), "find out what was exchanged: catena scan"
	case err != nil:
		return Failed, err.Error(), "look whether it has power and network, then: catena scan"
	}
	d.heard = facts
	if other := stranger(was.Serial, was.Model, facts); other != "" {
		return Failed, "another device is at its address: " + other, "find out what was exchanged: catena scan"
	}
	switch left, strange := d.left(facts); {
	case len(left) == 0:
		d.see(facts)
		return Skipped, "it runs " + d.item.To() + " already", ""
	case strange != "":
		d.see(facts)
		return Failed, "it runs " + strange + " as when it was matched", "match again: catena match"
	}
	if err := d.talk.Healthy(d.patience, facts); err != nil {
		return Failed, "it is not well: " + err.Error(), "mend that first, then flash it again"
	}
	d.before = facts
	return "", "", ""
}

// stranger says what is not the same about a device that should be; empty: nothing.
func stranger(serial, model string, now dialect.Facts) string {
	switch {
	case serial != "" && !strings.EqualFold(serial, now.Serial):
		return fmt.Sprintf("serial number %s, not %s", now.Serial, serial)
	case model != "" && !strings.EqualFold(model, now.Model):
		return fmt.Sprintf("model %s, not %s", now.Model, model)
	}
	return ""
}

// problem says how far an image came.
type problem struct {
	ledger error // the ledger could not be written: nothing more was done
	taken  bool  // the device has all of the image: what it will start is not known any more
	away   bool  // it did not come back
	why    string
}

// put sends an image, restarts the device and proves it. nil means proven.
func (d *device) put(image firmware.Image, returning bool) *problem {
	if err := d.intend(Sending, label(image), returning); err != nil {
		return &problem{ledger: err}
	}
	meter := d.job.sent[d.item.Device.ID]
	meter.done.Store(0)
	meter.total.Store(image.Size)
	traits, err := d.talk.Send(d.lasting, dialect.Upload{
		Component: image.Component, Image: d.job.files[image.SHA256], Size: image.Size, SHA256: image.SHA256,
		Sent: func(n int64) { meter.done.Store(n) },
	})
	if err != nil {
		return &problem{why: "while sending: " + err.Error()}
	}
	if err := d.intend(Writing, label(image), returning); err != nil {
		return &problem{ledger: err, taken: true}
	}
	if p := d.awaitWritten(meter); p != nil {
		return p
	}
	if err := d.intend(Restarting, label(image), returning); err != nil {
		return &problem{ledger: err, taken: true}
	}
	if p := d.restart(traits, image.Component, image.Version); p != nil {
		return p
	}
	if err := d.intend(Proving, label(image), returning); err != nil {
		return &problem{ledger: err, taken: true}
	}
	if err := d.prove(image.Component, image.Version); err != nil {
		return &problem{taken: true, why: "after its restart: " + err.Error()}
	}
	return nil
}

// awaitWritten follows the device's own writing.
func (d *device) awaitWritten(meter *transfer) *problem {
	for wait := d.wait(d.job.engine.Timing.WriteWithin); ; {
		percent, err := d.talk.Writing(d.lasting)
		switch {
		case err == nil && percent >= 100:
			return nil
		case errors.Is(err, dialect.ErrRefused):
			return &problem{why: "while writing: " + err.Error()}
		case err == nil:
			meter.done.Store(int64(percent))
			meter.total.Store(100)
		}
		if !wait() {
			return &problem{taken: true, why: fmt.Sprintf("it has not written the image within %s", d.job.engine.Timing.WriteWithin)}
		}
	}
}

// restart sees the device go and come back. One that should restart by itself and
// does not is asked to, once. Where it was gone too shortly to be seen, the new
// version tells; not so on a rollback to the version that it runs all along.
// Presence is looked for without a login: a device that came back with another
// password must not be locked out by us.
func (d *device) restart(traits dialect.Traits, component, to string) *problem {
	t, now := d.job.engine.Timing, d.job.engine.Now
	asked := !traits.RestartsAlone
	if asked {
		if err := d.talk.Restart(d.lasting); err != nil && !errors.Is(err, dialect.ErrAway) {
			return &problem{taken: true, why: "it would not restart: " + err.Error()}
		}
	}
	since, telling := now(), !d.same(d.heard.Of(component), to)
	wait := d.wait(t.BackWithin)
	for gone := false; ; {
		late, there := now().Sub(since) > traits.Down+t.Grace, d.there()
		switch {
		case !there:
			gone = true
		case gone || telling && d.runs(component, to):
			return nil
		case late && asked:
			return nil // it may have been gone between two looks; the proof tells
		case late:
			asked, since = true, now()
			_ = d.talk.Restart(d.lasting) // the proof tells whether it did
		}
		switch {
		case wait():
		case there:
			return nil // it never went: the proof tells what it runs
		default:
			return &problem{taken: true, away: true, why: fmt.Sprintf("it did not come back within %s after its restart", t.BackWithin)}
		}
	}
}

// there tells whether the device answers, without a login.
func (d *device) there() bool {
	ctx, cancel := context.WithTimeout(d.lasting, lookWithin)
	defer cancel()
	_, err := d.knows.Recognise(ctx, d.peer)
	return err == nil
}

// runs tells whether the device says that a component runs that version.
func (d *device) runs(component, v string) bool {
	ctx, cancel := context.WithTimeout(d.lasting, lookWithin)
	defer cancel()
	facts, err := d.talk.Read(ctx)
	return err == nil && d.same(facts.Of(component), v)
}

// loginTries is how often a login is tried on a device that was let in before and
// now refuses: a device that is starting may refuse wrongly, one whose login was
// cleared must not be locked out by us.
const loginTries = 2

// errFinal marks what no later look can better.
var errFinal = errors.New("it is another device")

// prove returns what is wrong with the device, which should run that version, be
// the same as before, and be well. One that has just come back may need a while,
// so it looks again.
func (d *device) prove(component, to string) error {
	wait := d.wait(d.job.engine.Timing.ProveWithin)
	for refused := 0; ; {
		err := d.look(component, to)
		if errors.Is(err, dialect.ErrLoginRefused) {
			refused++
		}
		if err == nil || errors.Is(err, errFinal) || refused >= loginTries || !wait() {
			return err
		}
	}
}

// look is one look at the device.
func (d *device) look(component, to string) error {
	ctx, cancel := context.WithTimeout(d.lasting, lookWithin)
	defer cancel()
	facts, err := d.talk.Read(ctx)
	if err != nil {
		return err
	}
	d.heard = facts
	if other := stranger(d.before.Serial, d.before.Model, facts); other != "" {
		return fmt.Errorf("%w: %s", errFinal, other)
	}
	if !d.same(facts.Of(component), to) {
		return fmt.Errorf("it runs %s, not %s", facts.Of(component), to)
	}
	if err := d.talk.Healthy(ctx, d.before); err != nil {
		return fmt.Errorf("it runs %s but is not well: %w", facts.Of(component), err)
	}
	d.see(facts)
	return nil
}

// wait returns a function that waits a while before the next look, and returns
// false when the time is over. A device that has just gone is looked at often, one
// that has been away for long, rarely.
func (d *device) wait(within time.Duration) func() bool {
	since := d.job.engine.Now()
	return func() bool {
		gone := d.job.engine.Now().Sub(since)
		time.Sleep(min(longestPause, max(shortestPause, gone/8)))
		return gone < within
	}
}

// Between two looks at a device.
const (
	shortestPause = 100 * time.Millisecond
	longestPause  = 3 * time.Second
)

// awaitThere waits until the device answers, and returns false where it does not.
func (d *device) awaitThere() bool {
	for wait := d.wait(d.job.engine.Timing.BackWithin); ; {
		if d.there() {
			return true
		}
		if !wait() {
			return false
		}
	}
}

// recover decides what becomes of a device whose image of a hop was not proven.
func (d *device) recover(p problem, hop Hop) error {
	component, from := hop.Image.Component, hop.From
	onSite := "look at it on site: switch it off and on; when it answers: catena scan, then catena flash or catena rollback"
	if p.away {
		return d.end(Stranded, p.why, onSite)
	}
	if !p.taken {
		// The device has not said that it has the image. It is the truth, not we.
		if !d.awaitThere() {
			return d.end(Stranded, p.why+"; it has not answered since", onSite)
		}
		to := hop.Image.Version
		if d.runs(component, to) && d.prove(component, to) == nil {
			return d.end(d.arrived(), "proven, although it broke off "+p.why, "")
		}
		err := d.prove(component, from)
		if err == nil {
			return d.end(Failed, p.why+"; it still runs "+from, "mend the cause, then flash it again")
		}
		p.why += "; then " + err.Error()
	}
	if hop.Back == nil {
		return d.end(Stranded, p.why+"; it cannot be rolled back", fmt.Sprintf("put an image of %s on the shelf (catena shelf add), then: catena rollback --to %s %s",
			from, from, d.item.Device.Name))
	}
	back := d.put(*hop.Back, true)
	switch {
	case back == nil:
		return d.end(Returned, p.why, "")
	case back.ledger != nil:
		return back.ledger
	}
	return d.end(Stranded, p.why+"; and on its rollback: "+back.why,
		"look at it on site: switch it off and on; when it answers: catena rollback "+d.item.Device.Name)
}

// arrived is the end of a device that is proven on a version of its path: a intermediate version
// on the way is not where it should be.
func (d *device) arrived() Step {
	if left, _ := d.left(d.heard); len(left) == 0 {
		return Done
	}
	return Failed
}

// intend writes down what is about to be done. Only when it is on the disk may
// the effect follow.
func (d *device) intend(step Step, to string, returning bool) error {
	return d.job.engine.Ledger.Append(ledger.Step, d.job.ID, d.item.Device.ID, stepBody{step, to, returning})
}

func (d *device) end(step Step, reason, advice string) error {
	return d.job.engine.Ledger.Append(ledger.Ended, d.job.ID, d.item.Device.ID,
		endBody{End: step, Version: d.runsNow(), Reason: reason, Advice: advice})
}

// runsNow is what the device last said that it runs: its main component, and those
// that the job changes.
func (d *device) runsNow() string {
	parts := []string{d.heard.Version}
	for _, hop := range d.item.Path {
		if c := hop.Image.Component; c != firmware.Main && d.heard.Of(c) != "" {
			if text := c + " " + d.heard.Of(c); !slices.Contains(parts, text) {
				parts = append(parts, text)
			}
		}
	}
	return strings.TrimPrefix(strings.Join(parts, ", "), ", ")
}

// see tells the ledger what the device has just said of itself.
func (d *device) see(facts dialect.Facts) {
	now := d.item.Device
	facts.Into(&now)
	now.Access, now.Trouble = "answers", ""
	_ = d.job.engine.Ledger.See(d.job.ID, &now) // the next scan sees it too
}
