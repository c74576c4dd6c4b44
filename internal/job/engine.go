package job

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"catena/internal/device"
	"catena/internal/dialect"
	"catena/internal/firmware"
	"catena/internal/ledger"
	"catena/internal/login"
	"catena/internal/order"
	"catena/internal/settings"
)

// File is an open image.
type File interface {
	io.ReaderAt
	io.Closer
}

// Engine carries out plans.
type Engine struct {
	Ledger   *ledger.Ledger
	Dialects dialect.Registry
	// Contact is how to talk to a device, and with which login; false: there is none.
	Contact func(device.Device) (dialect.At, login.Credential, bool)
	// Open opens an image whose digest was checked from the very file returned.
	Open func(order.Image) (File, error)
	// See keeps what a device said of itself in a job.
	See func(job string, d *device.Device) error
	// KeepOrder keeps an order that was made on the fly, for the job of that ID, and returns the name
	// under which; nil: it is not kept.
	KeepOrder func(o order.Order, job string) (string, error)
	// KeepSettings keeps a device's settings, and returns under which name; nil: they are not kept.
	KeepSettings func(d device.Device, version string, f settings.Format, raw []byte) (string, error)
	// KeptSettings returns what KeepSettings has kept.
	KeptSettings func(d device.Device, name string) ([]byte, error)
	// SettingsOn returns what was kept last of a device while it ran a version; nil: nothing was.
	SettingsOn func(d device.Device, version string) ([]byte, error)
	// KeepDefaults keeps what a version of a device's firmware comes with, unless it is kept already;
	// KeptDefaults returns it. nil: it is not kept.
	KeepDefaults func(d device.Device, version string, f settings.Format, raw []byte) error
	KeptDefaults func(d device.Device, version string) ([]byte, error)
	// Patience is what counts before what families and images say.
	Patience firmware.Patience
	Now      func() time.Time
}

// ErrNothing is returned by Start for a plan without devices.
var ErrNothing = errors.New("there is no device to work on")

// BusyError is returned by Start where another job works on a device of the plan.
type BusyError struct{ Device, Job string } // its name, the job's ID

func (e *BusyError) Error() string {
	return fmt.Sprintf("%s: job %s is working on it", e.Device, e.Job)
}

// Job is a job that was started and not yet run.
type Job struct {
	ID        string
	Since     int64 // entries up to this number are from before: of a job that goes on
	engine    *Engine
	plan      Plan
	dispatch  *order.State
	files     map[string]File // by digest: hashed once, held open
	release   func()
	sent      map[string]*transfer       // by device ID
	baselines map[string]*device.Reading // by device ID: what it said before it was touched
	others    bool                       // another job was at work when it was looked last
	joinUntil time.Time                  // until then devices that are away may join
	holdUntil time.Time                  // until then devices are waited for that an interlock forbids
	open      []DeviceState              // at work when the job's Catena died
	sets      map[string]*gathering      // by name: lockstep sets that have begun
	kin       kin
	asks      chan asking              // what those at work wait for that ask a person; nil: nobody decides
	going     map[string]chan struct{} // by device ID: closed when it may go on
}

// asking is that a device waits for a person, or no longer does: then on is closed when it may go on.
type asking struct {
	id string
	on chan struct{} // nil: it begins to wait
}

// transfer is how far a transfer is; its owner is the device's goroutine.
type transfer struct{ done, total atomic.Int64 }

// Start opens and checks every image of the plan and writes the job into the ledger. No
// device is touched before Run. The caller must call Run. Its errors are ErrNothing, a
// BusyError, an *order.Contradictions, those of Open, and those of the ledger.
func (e *Engine) Start(plan Plan) (*Job, error) {
	if len(plan.Order.Devices) == 0 {
		return nil, ErrNothing
	}
	state, err := order.New(plan.Order)
	if err != nil {
		return nil, err
	}
	j := newJob(e, plan, state)
	for _, d := range plan.Order.Devices {
		for _, hop := range d.Path {
			if err := errors.Join(j.take(&hop.Image), j.take(hop.Back)); err != nil {
				j.close()
				return nil, err
			}
		}
	}
	if err := j.enter(); err != nil {
		j.close()
		return nil, err
	}
	return j, nil
}

func newJob(e *Engine, plan Plan, state *order.State) *Job {
	j := &Job{engine: e, plan: plan, dispatch: state, files: map[string]File{},
		sent: map[string]*transfer{}, baselines: map[string]*device.Reading{},
		sets:    map[string]*gathering{},
		release: func() {}}
	for _, d := range plan.Order.Devices {
		j.sent[d.ID], j.baselines[d.ID] = &transfer{}, &device.Reading{}
	}
	return j
}

// take opens an image, once.
func (j *Job) take(image *order.Image) error {
	if image == nil || *image == (order.Image{}) || j.files[image.SHA256] != nil {
		return nil
	}
	f, err := j.engine.Open(*image)
	if err == nil {
		j.files[image.SHA256] = f
	}
	return err
}

// enter gives the job its number and writes it down. One Catena at a time does
// so, so that no two jobs take the same device.
func (j *Job) enter() error {
	l := j.engine.Ledger
	release, err := holdSoon(l, dispatching)
	if err != nil {
		return err
	}
	defer release()
	j.ID, err = nextID(l)
	if err != nil {
		return err
	}
	others, err := j.otherJobs()
	if err != nil {
		return err
	}
	for _, other := range others {
		for _, d := range other.Devices {
			if j.sent[d.ID] != nil && !d.Step.End() {
				return &BusyError{Device: d.Name, Job: other.ID}
			}
		}
	}
	free, ok, err := l.Hold(j.ID)
	if err != nil || !ok {
		return fmt.Errorf("job %s cannot be claimed: %w", j.ID,
			errors.Join(err, errors.New("its lock is held")))
	}
	j.release = free
	if o := &j.plan.Order; o.Name == "" && j.engine.KeepOrder != nil {
		if o.Name, err = j.engine.KeepOrder(*o, j.ID); err != nil {
			return err
		}
	}
	return l.Append(Started, j.ID, "", j.plan.Order)
}

// otherJobs are the jobs that other Catenas are at work on.
func (j *Job) otherJobs() (out []State, err error) {
	l := j.engine.Ledger
	for _, other := range l.Locks() { // only a job that is alive holds one
		if other == j.ID {
			continue
		}
		if exists, err := Exists(l, other); err != nil || !exists {
			continue
		}
		state, err := Load(l, other)
		if err != nil {
			return nil, err
		}
		if state.Alive {
			out = append(out, state)
		}
	}
	return out, nil
}

// ErrRunning is returned for a job that another Catena is at work on, ErrOver for one that has
// ended.
var (
	ErrRunning = errors.New("another Catena is at work on the job")
	ErrOver    = errors.New("the job has ended")
)

// Resume takes over a job whose Catena died. Nothing is touched before Run. closes is when the
// window ends that is open now; zero: there is no window. The order is the job's own, known says
// how its devices are known now. Its errors are ErrRunning, ErrOver,
// and those of the ledger.
func (e *Engine) Resume(id string, known Plan, closes time.Time) (*Job, error) {
	release, err := holdSoon(e.Ledger, dispatching)
	if err != nil {
		return nil, err
	}
	defer release()
	free, ok, err := e.Ledger.Hold(id)
	if err != nil {
		return nil, err
	}
	if !ok {
		return nil, ErrRunning
	}
	state, err := Load(e.Ledger, id)
	if err == nil && !state.Ended.IsZero() {
		err = ErrOver
	}
	if err == nil && state.dispatch == nil {
		err = fmt.Errorf("how far job %s is cannot be told from the ledger", id)
	}
	if err == nil {
		err = e.Ledger.Append(Resumed, id, "", resumedBody{Closes: closes})
	}
	if err == nil {
		err = state.dispatch.Apply(order.Event{At: e.Now(), Kind: order.Resumed, Closes: closes})
	}
	if err != nil {
		free()
		return nil, err
	}
	known.Order = state.Order
	j := newJob(e, known, state.dispatch)
	j.ID, j.Since, j.release, j.open = id, state.Seq, free, state.Open()
	for i, d := range state.Devices {
		if d.baseline != nil {
			*j.baselines[d.ID] = *d.baseline
		}
		for _, hop := range state.Order.Devices[i].Path {
			// one that is not there any more is told by the device that needs it
			_ = errors.Join(j.take(&hop.Image), j.take(hop.Back))
		}
	}
	return j, nil
}

// dispatching is the lock under which a Catena decides what begins: so that two of them on one
// site never begin at once what only one of them may.
const dispatching = "dispatching"

// holdSoon waits for a lock that others hold only for moments.
func holdSoon(l *ledger.Ledger, name string) (func(), error) {
	for range 200 {
		release, ok, err := l.Hold(name)
		if err != nil || ok {
			return release, err
		}
		time.Sleep(50 * time.Millisecond)
	}
	return nil, errors.New("another Catena has been starting a job here for ten seconds; look whether it hangs")
}

// Release gives a job away that was started and not run: another Catena may take it over.
func (j *Job) Release() { j.close() }

func (j *Job) close() {
	for _, f := range j.files {
		_ = f.Close() // only read from
	}
	j.release()
}

// Run works through the plan and returns when every device has come to its end.
// When going ends, no further device is started; when patience ends, devices that
// are only being checked are let go too. What is being written is always finished.
func (j *Job) Run(going, patience context.Context) error {
	defer j.close()
	stop := j.tellProgress()
	defer stop()
	j.joinUntil = j.engine.Now().Add(j.plan.Order.WaitAway)
	j.holdUntil = j.engine.Now().Add(j.plan.Order.WaitFor)
	going, stopGoing := context.WithCancel(going)
	defer stopGoing()
	j.gatherKin()
	err := j.work(going, stopGoing, func(a order.Action, set *gathering) (order.Event, error) {
		now := time.Now()
		w := &worker{job: j, known: j.plan.Devices[a.Device], row: j.row(a.Device),
			first: now, began: now, set: set, members: a.Look}
		at := slices.IndexFunc(j.open, func(d DeviceState) bool { return d.ID == a.Device })
		if at >= 0 && a.Do == j.open[at].did {
			w.first = time.Time{} // a part of it was done before
			w.baseline = *j.baselines[a.Device]
			w.touched = j.open[at].Touched
			for _, d := range j.plan.Behind[a.Device] {
				if slices.Contains(j.open[at].behind, d.ID) {
					w.behind = append(w.behind, d)
				}
			}
			return w.recover(going, patience, j.open[at])
		}
		if a.Do == order.Return {
			w.baseline = *j.baselines[a.Device]
			return w.unwind(patience, &Reason{Why: NotBegun, Order: a.Why})
		}
		defer func() { *j.baselines[a.Device] = w.baseline }()
		return w.work(going, patience)
	})
	j.kin.parting.Wait()
	if err == nil {
		err = j.engine.Ledger.Append(Closed, j.ID, "", struct{}{})
	}
	return err
}

// row is what is to be done with a device.
func (j *Job) row(id string) order.Device {
	all := j.plan.Order.Devices
	return all[slices.IndexFunc(all, func(d order.Device) bool { return d.ID == id })]
}

// lookEvery is how often it is looked whether a person has stopped the job from elsewhere, and
// what other jobs are doing.
const lookEvery = time.Second

// Stop asks that a job begins with no more devices. What it is at work on is finished.
func Stop(l *ledger.Ledger, id string) error {
	return l.Extend(&ledger.Filter{Job: id, Kind: Stopping, Last: 1},
		func(asked []ledger.Entry) ([]ledger.Entry, error) {
			if len(asked) > 0 {
				return nil, nil
			}
			e, err := ledger.NewEntry(Stopping, id, "", struct{}{})
			return []ledger.Entry{e}, err
		})
}

// stopAsked tells whether a person has stopped the job from elsewhere.
func (j *Job) stopAsked() bool {
	asked, err := j.engine.Ledger.Entries(ledger.Filter{Job: j.ID, Kind: Stopping, Last: 1})
	return err == nil && len(asked) > 0
}

// work carries out what the dispatcher says, until every device has ended. It is the one place
// that tells it what happened. After an error, which is the ledger's, nothing begins any more.
func (j *Job) work(going context.Context, stopGoing func(),
	do func(order.Action, *gathering) (order.Event, error)) (first error) {
	type end struct {
		order.Event
		err error
	}
	ends := make(chan end)
	j.asks, j.going = make(chan asking), map[string]chan struct{}{}
	running, stop := 0, going.Done()
	start := func(a order.Action) {
		running++
		set := j.sets[a.Set]
		go func() {
			e, err := do(a, set)
			ends <- end{e, err}
		}()
	}
	for _, d := range j.open {
		start(order.Action{Device: d.ID, Do: d.did})
	}
	look := time.NewTicker(lookEvery)
	defer look.Stop()
	for {
		if first == nil {
			first = j.begin(start)
		}
		if first != nil { // nobody decides any more: who has something open ends it
			for id, on := range j.going {
				close(on)
				delete(j.going, id)
			}
		}
		if running == 0 && (first != nil || j.dispatch.Open() == 0) {
			return first
		}
		select {
		case e := <-ends:
			running--
			first = errors.Join(first, e.err)
			if e.err == nil {
				first = errors.Join(first, j.dispatch.Apply(e.Event))
			}
		case q := <-j.asks:
			first = errors.Join(first, j.asked(q))
		case <-stop:
			stop = nil
			first = errors.Join(first, Stop(j.engine.Ledger, j.ID),
				j.dispatch.Apply(order.Event{At: j.engine.Now(), Kind: order.Stopped}))
		case <-look.C:
			if stop != nil && j.stopAsked() {
				stopGoing() // by another Catena; stop tells
			}
		}
	}
}

// begin starts what may begin now, and ends what never may. What another job does meanwhile
// counts, too: nobody decides beside it.
func (j *Job) begin(start func(order.Action)) error {
	release, err := holdSoon(j.engine.Ledger, dispatching)
	if err != nil {
		return err
	}
	defer release()
	if err := j.lookElsewhere(); err != nil {
		return err
	}
	for {
		now := j.engine.Now()
		a, ok := j.dispatch.Next(now)
		if !ok {
			return nil
		}
		if a.Do == order.GoOn {
			err = j.dispatch.Apply(order.Event{At: now, Kind: order.WentOn, Device: a.Device})
			close(j.going[a.Device])
			delete(j.going, a.Device)
		} else if a.Do == order.Leave {
			err = j.leave(a, now)
			j.kin.partLater(a.Device)
		} else {
			err = j.engine.Ledger.Append(Begun, j.ID, a.Device, j.checking(a))
			if err == nil {
				err = j.dispatch.Apply(order.Event{At: now, Kind: order.Began, Device: a.Device,
					Do: a.Do})
			}
			if a.Look != nil {
				j.sets[a.Set] = &gathering{done: make(chan struct{})}
			}
			if err == nil {
				start(a)
			}
		}
		if err != nil {
			return err
		}
	}
}

// asked has the dispatcher know that a device waits for a person, or comes back from that.
func (j *Job) asked(q asking) error {
	kind := order.Asks
	if q.on != nil {
		kind = order.Answered
		if !j.dispatch.Asking(q.id) { // it was only looked at
			close(q.on)
			return nil
		}
		j.going[q.id] = q.on
	}
	return j.dispatch.Apply(order.Event{At: j.engine.Now(), Kind: kind, Device: q.id})
}

// checking is the effect with which an action begins.
func (j *Job) checking(a order.Action) Effect {
	w := worker{row: j.row(a.Device)}
	if a.Do == order.Return {
		e := w.checking(Back)
		e.Cause = &Reason{Why: NotBegun, Order: a.Why}
		return e
	}
	return w.checking(Forth)
}

// leave ends a device that does not begin. One that should have returned with its lockstep set
// and cannot needs hands: it runs another version than the rest of the set.
func (j *Job) leave(a order.Action, now time.Time) error {
	body := endBody{End: Skipped, Cause: &Reason{Why: NotBegun, Order: a.Why}}
	if a.Of == order.Return {
		body.End, body.Version = Stranded, j.row(a.Device).To()
	}
	err := j.engine.Ledger.Append(Ended, j.ID, a.Device, body)
	if err != nil {
		return err
	}
	return j.dispatch.Apply(body.event(a.Device, now))
}

// lookElsewhere tells the dispatcher what other jobs are working on.
func (j *Job) lookElsewhere() error {
	jobs, err := j.otherJobs()
	if err != nil || len(jobs) == 0 && !j.others {
		return err
	}
	j.others = len(jobs) > 0
	e := order.Event{At: j.engine.Now(), Kind: order.Elsewhere}
	for _, other := range jobs {
		for i, d := range other.Devices {
			if d.Step != Waiting && !d.Step.End() {
				e.Others = append(e.Others,
					order.Other{Job: other.ID, Device: other.Order.Devices[i]})
			}
		}
	}
	return j.dispatch.Apply(e)
}

// progressEvery is how often the ledger is told how far transfers are.
const progressEvery = 200 * time.Millisecond

// tellProgress keeps the ledger told until the returned function is called.
func (j *Job) tellProgress() (stop func()) {
	end := make(chan struct{})
	var group sync.WaitGroup
	group.Go(func() {
		tick := time.NewTicker(progressEvery)
		defer tick.Stop()
		last := map[string]ledger.Progress{}
		for going := true; going; {
			select {
			case <-tick.C:
			case <-end:
				going = false
			}
			moved := map[string]ledger.Progress{}
			for id, t := range j.sent {
				p := ledger.Progress{Done: t.done.Load(), Total: t.total.Load()}
				if p.Total > 0 && p != last[id] {
					last[id] = p
					p.At = j.engine.Now()
					moved[id] = p
				}
			}
			if len(moved) > 0 {
				_ = j.engine.Ledger.SetProgress(j.ID, moved) // it passes; the steps are what counts
			}
		}
	})
	return func() { close(end); group.Wait() }
}
