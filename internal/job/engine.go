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
	Open func(firmware.Image) (File, error)
	// See keeps what a device said of itself in a job.
	See      func(job string, d *device.Device) error
	Patience Patience
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
	ID      string
	engine  *Engine
	plan    Plan
	files   map[string]File // by digest: hashed once, held open
	release func()
	sent    map[string]*transfer // by device ID
}

// transfer is how far a transfer is; its owner is the device's goroutine.
type transfer struct{ done, total atomic.Int64 }

// Start opens and checks every image of the plan and writes the job into the
// ledger. No device is touched before Run. The caller must call Run.
func (e *Engine) Start(plan Plan) (*Job, error) {
	if len(plan.Items) == 0 {
		return nil, ErrNothing
	}
	j := &Job{engine: e, plan: plan, files: map[string]File{}, sent: map[string]*transfer{},
		release: func() {}}
	for _, item := range plan.Items {
		j.sent[item.Device.ID] = &transfer{}
		for _, hop := range item.Path {
			if err := errors.Join(j.open(hop.Image), j.open(hop.Back)); err != nil {
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

// open opens an image, once.
func (j *Job) open(image *firmware.Image) error {
	if image == nil || j.files[image.SHA256] != nil {
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
	release, err := holdSoon(l, "start")
	if err != nil {
		return err
	}
	defer release()
	j.ID, err = nextID(l)
	if err != nil {
		return err
	}
	for _, other := range l.Locks() { // only a job that is alive holds one
		if exists, err := Exists(l, other); err != nil || !exists {
			continue
		}
		state, err := Load(l, other)
		if err != nil {
			return err
		}
		for _, d := range state.Devices {
			if j.sent[d.ID] != nil && state.Alive && !d.Step.End() {
				return &BusyError{Device: d.Name, Job: other}
			}
		}
	}
	free, ok, err := l.Hold(j.ID)
	if err != nil || !ok {
		return fmt.Errorf("job %s cannot be claimed: %w", j.ID,
			errors.Join(err, errors.New("its lock is held")))
	}
	j.release = free
	body := startedBody{Purpose: j.plan.Purpose, Parallel: j.plan.Parallel}
	for _, i := range j.plan.Items {
		s := startItem{Device: i.Device.ID, Name: i.Device.Name, From: i.From, To: i.To(),
			After: i.After}
		for _, h := range i.Path {
			hop := startHop{Component: h.Image.Component, From: h.From, Version: h.Image.Version,
				SHA256: h.Image.SHA256, Size: h.Image.Size}
			if h.Back != nil {
				hop.Rollback = h.Back.SHA256
			}
			s.Path = append(s.Path, hop)
		}
		body.Items = append(body.Items, s)
	}
	return l.Append(Started, j.ID, "", body)
}

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
	err := j.dispatch(func(item Item) error {
		w := &worker{job: j, item: item}
		return w.work(going, patience)
	})
	if err == nil {
		err = j.engine.Ledger.Append(Closed, j.ID, "", struct{}{})
	}
	return err
}

// dispatch does something with every item, so many at the same time, in the order of the
// plan, but none before those that it comes after have ended. A circle, which no plan should
// have, does not stop the others: what is in it goes last, one by one. After an error, which
// is the ledger's, nothing is started any more.
func (j *Job) dispatch(do func(Item) error) (first error) {
	type end struct {
		id  string
		err error
	}
	ends := make(chan end)
	open := map[string]bool{} // not ended yet
	for _, item := range j.plan.Items {
		open[item.Device.ID] = true
	}
	blocked := func(item Item) bool {
		return slices.ContainsFunc(item.After, func(id string) bool { return open[id] })
	}
	pending, running := slices.Clone(j.plan.Items), 0
	for len(pending) > 0 || running > 0 {
		for running < max(1, j.plan.Parallel) && first == nil {
			next := slices.IndexFunc(pending, func(item Item) bool { return !blocked(item) })
			if next < 0 && running == 0 && len(pending) > 0 {
				next = 0
			}
			if next < 0 {
				break
			}
			item := pending[next]
			pending = slices.Delete(pending, next, next+1)
			running++
			go func() { ends <- end{item.Device.ID, do(item)} }()
		}
		if running == 0 {
			break
		}
		e := <-ends
		running--
		delete(open, e.id)
		first = errors.Join(first, e.err)
	}
	return first
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
