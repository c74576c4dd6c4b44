package job

import (
	"cmp"
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

// File is an open image. One that has the method Changed() error reports by it that it was changed
// since it was opened, and hands nothing of it on.
type File interface {
	io.ReaderAt
	io.Closer
}

// SettingsStore saves the settings of devices.
type SettingsStore interface {
	// Save saves a device's settings and carried values, and returns the name of the save.
	Save(d device.Device, version string, f settings.Format, raw []byte, carried []device.Value) (
		name string, err error)
	// Load returns a save of a device.
	Load(d device.Device, name string) ([]byte, error)
	// On returns what was saved last of a device while it ran a version; nil: nothing was.
	On(d device.Device, version string) ([]byte, error)
	// SaveDefaults saves what a version of a device's firmware comes with, unless it is saved already.
	SaveDefaults(d device.Device, version string, f settings.Format, raw []byte) error
	// Defaults returns what SaveDefaults saved.
	Defaults(d device.Device, version string) ([]byte, error)
}

// Contacts tells how devices are reached.
type Contacts interface {
	// ContactOfJob returns how to reach a device, and with which login; false: there is none.
	ContactOfJob(d device.Device) (dialect.At, login.Credential, bool)
}

// ContactFunc is a function as Contacts.
type ContactFunc func(device.Device) (dialect.At, login.Credential, bool)

// ContactOfJob calls the function.
func (f ContactFunc) ContactOfJob(d device.Device) (dialect.At, login.Credential,
	bool) {
	return f(d)
}

// Site is what the engine asks of the site that it works at, and tells it.
type Site interface {
	// OpenImage opens an image whose digest was checked from the very file returned.
	OpenImage(i order.Image) (File, error)
	// RecordDevice keeps what a device reported in a job.
	RecordDevice(job string, d *device.Device) error
	// KeepOrder keeps an order that was made on the fly, for the job of that ID, and returns the name
	// under which; empty: it is not kept.
	KeepOrder(o order.Order, job string) (string, error)
	// HeldNow returns why a device is on hold now; empty: it is not. It is asked right before the
	// first byte leaves.
	HeldNow(d device.Device) string
	// Recheck returns, by ID, why devices of a scheduled order must not start now that its time has
	// come.
	Recheck(o order.Order) (map[string]string, error)
}

// Engine carries out orders.
type Engine struct {
	Ledger   *ledger.Ledger
	Dialects dialect.Registry
	Contacts Contacts
	Site     Site
	// Settings is where the settings of devices are saved; nil: they are not.
	Settings SettingsStore
	// Leases keep this machine and others apart; nil: it works alone.
	Leases Leases
	// Patience takes precedence over what families and images specify.
	Patience firmware.Patience
	Now      func() time.Time
}

// ErrNothing is returned by Start for an order without devices.
var ErrNothing = errors.New("there is no device to update")

// BusyError is returned for a device that another job has which is not closed, or that another
// command is changing: then Job is empty.
type BusyError struct {
	Device, Job string // its name, the job's ID
	By          string // the machine that changes it outside of jobs; empty: this one
}

func (e *BusyError) Error() string {
	switch {
	case e.By != "":
		return fmt.Sprintf("%s: %s is changing it", e.Device, e.By)
	case e.Job == "":
		return e.Device + ": another command is changing it"
	}
	return fmt.Sprintf("%s: it is part of job %s, which has not ended", e.Device, e.Job)
}

// Job is a job that was started and has not run yet.
type Job struct {
	ID        string
	Since     int64 // of a resumed job: entries up to this number are older
	engine    *Engine
	plan      Plan
	live      *Follower       // the job as its ledger has it; owned by the dispatcher's goroutine
	files     map[string]File // by digest: hashed once, held open
	release   func()
	sent      map[string]*transfer // by device ID
	joinUntil time.Time            // until then devices that are away may join
	holdUntil time.Time            // until then devices that an interlock forbids are waited for
	reopened  []order.Action       // devices that were in progress when the job was resumed
	others    elsewhere
	board     board
	seen      int64               // entries up to this number were read
	seenAt    time.Time           // when
	barriers  map[string]*barrier // by lockstep set: sets that are checked as a whole
	parents   parentSessions
	requests  chan request // to the dispatcher's goroutine
	// by device ID: ends what comes before its first byte; the dispatcher's
	running map[string]context.CancelFunc
	again   map[string]chan<- error // by device ID: gets nil when an answered device may continue
}

// transfer is the progress of a transfer; the device's goroutine writes it.
type transfer struct{ done, total atomic.Int64 }

// Start opens and checks every image of the plan and writes the job to the ledger. No device is
// touched before Run. The caller must call Run or Release. Its errors are ErrNothing, a BusyError,
// an *order.Contradictions, those of Open, and those of the ledger.
func (e *Engine) Start(plan Plan) (*Job, error) {
	if len(plan.Order.Devices) == 0 {
		return nil, ErrNothing
	}
	if _, err := order.New(plan.Order); err != nil {
		return nil, err
	}
	j := newJob(e, plan)
	for _, d := range plan.Order.Devices {
		for _, hop := range d.Path {
			if err := errors.Join(j.open(&hop.Image), j.open(hop.Back)); err != nil {
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

func newJob(e *Engine, plan Plan) *Job {
	j := &Job{engine: e, plan: plan, files: map[string]File{}, sent: map[string]*transfer{},
		barriers: map[string]*barrier{}, running: map[string]context.CancelFunc{},
		again:   map[string]chan<- error{},
		release: func() {}}
	for _, d := range plan.Order.Devices {
		j.sent[d.ID] = &transfer{}
	}
	return j
}

// open opens an image, once.
func (j *Job) open(image *order.Image) error {
	if image == nil || *image == (order.Image{}) || j.files[image.SHA256] != nil {
		return nil
	}
	f, err := j.engine.Site.OpenImage(*image)
	if err == nil {
		j.files[image.SHA256] = f
	}
	return err
}

// enter gives the job its number and writes its first entry. One process at a time does so, so that
// no two jobs take the same device.
func (j *Job) enter() error {
	l := j.engine.Ledger
	release, err := holdSoon(l, dispatching)
	if err != nil {
		return err
	}
	defer release()
	j.ID, err = NextID(l)
	if err != nil {
		return err
	}
	held, err := Held(l, true)
	if err != nil {
		return err
	}
	for _, d := range j.plan.Order.Devices {
		if other := held[l.Canonical(d.ID)]; other != "" {
			return &BusyError{Device: d.Name, Job: other}
		}
		if l.Held(leaseOf(cmp.Or(d.Parent, d.ID))) {
			return &BusyError{Device: d.Name}
		}
	}
	free, ok, err := l.Hold(j.ID)
	if err != nil || !ok {
		return fmt.Errorf("job %s cannot be claimed: %w", j.ID,
			errors.Join(err, errors.New("its lock is taken")))
	}
	j.release = free
	if o := &j.plan.Order; o.Name == "" {
		if o.Name, err = j.engine.Site.KeepOrder(*o, j.ID); err != nil {
			return err
		}
	}
	if err := l.Append(Started, j.ID, "", j.plan.Order); err != nil {
		return err
	}
	j.live = Follow(l, j.ID)
	return j.live.update()
}

// ErrRunning is returned for a job that another process works on, ErrOver for one that has ended.
var (
	ErrRunning = errors.New("another process is running the job")
	ErrOver    = errors.New("the job has ended")
)

// Resume takes over a job whose process died. Nothing is touched before Run. closes is when the
// window ends that is open now; zero: there is no window. The order is the job's own; known says
// how its devices are known now. Its errors are ErrRunning, ErrOver, and those of the ledger.
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
	live := Follow(e.Ledger, id)
	err = live.update()
	if err == nil && !live.state.Ended.IsZero() {
		err = ErrOver
	}
	if err == nil && live.state.dispatch == nil {
		err = fmt.Errorf("the progress of job %s cannot be derived from the ledger", id)
	}
	since := live.state.Seq
	if err == nil {
		err = e.Ledger.Append(Resumed, id, "", resumedBody{Closes: closes})
	}
	if err == nil {
		err = live.update()
	}
	if err != nil {
		free()
		return nil, err
	}
	known.Order = live.state.Order
	j := newJob(e, known)
	j.ID, j.Since, j.release, j.live = id, since, free, live
	j.others.stale = true
	for _, d := range known.Order.Devices {
		for _, hop := range d.Path { // the device that needs a missing one reports it
			_ = errors.Join(j.open(&hop.Image), j.open(hop.Back))
		}
	}
	return j, nil
}

// dispatching is the lock under which a process decides what starts, so that two of them on one
// site never start at once what only one of them may.
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
	return nil, errors.New("another process has held the lock for starting devices for ten " +
		"seconds; check whether it hangs or is suspended")
}

// Release gives up a job that was started and not run: another process may take it over.
func (j *Job) Release() { j.close() }

func (j *Job) close() {
	for _, f := range j.files {
		_ = f.Close() // only read from
	}
	j.release()
}

// row returns the row of a device in the order.
func (j *Job) row(id string) order.Device {
	all := j.plan.Order.Devices
	return all[slices.IndexFunc(all, func(d order.Device) bool { return d.ID == id })]
}

// Stop asks that a job starts no more devices. Those in progress finish, and a lockstep set that
// was written to is completed; a second Stop has such a set rolled back instead.
func Stop(l *ledger.Ledger, id string) error { return l.Append(Stopping, id, "", struct{}{}) }

// NoteMissed records that the start of a scheduled job was missed. first: no one had recorded it
// before.
func NoteMissed(l *ledger.Ledger, id string) (first bool, err error) {
	f := ledger.Filter{Kind: StartMissed, Job: id, Last: 1}
	err = l.Extend(&f, func(before []ledger.Entry) ([]ledger.Entry, error) {
		if first = len(before) == 0; !first {
			return nil, nil
		}
		e, err := ledger.NewEntry(StartMissed, id, "", struct{}{})
		return []ledger.Entry{e}, err
	})
	return first && err == nil, err
}

// Remove asks a job not to start devices, by their IDs: pending ones are skipped, ones that have
// got no byte yet are abandoned, and the others finish.
func Remove(l *ledger.Ledger, id string, devices []string, why *order.Reason) error {
	return l.Extend(nil, func([]ledger.Entry) (out []ledger.Entry, err error) {
		for _, d := range devices {
			e, err := ledger.NewEntry(Removed, id, d, why)
			if err != nil {
				return nil, err
			}
			out = append(out, e)
		}
		return out, nil
	})
}

// progressEvery is how often the ledger is told how far transfers are. Only tests change it.
var progressEvery = 200 * time.Millisecond

// reportProgress writes the progress of transfers until the returned function is called.
func (j *Job) reportProgress() (stop func()) {
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
