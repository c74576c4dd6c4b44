package plan

import (
	"context"
	"errors"
	"slices"
	"strings"
	"time"

	"catena/internal/care"
	"catena/internal/contact"
	"catena/internal/firmware"
	"catena/internal/job"
	"catena/internal/ledger"
	"catena/internal/order"
	"catena/internal/record"

	"catena/internal/device"
)

// Engine returns the engine of the site's jobs. How long devices may take is as said, else as the
// site has it; what neither says, their families and images say.
func (w *Site) Engine(x *contact.Access, said firmware.Patience) *job.Engine {
	return &job.Engine{Ledger: w.Ledger, Dialects: w.Dialects, Contacts: x, Site: w,
		Settings: w.store(x), Leases: w.leases(), Patience: said.Over(w.Site.Patience), Now: w.now}
}

// store returns where the settings of the site's devices are saved.
func (w *Site) store(x *contact.Access) care.Store {
	return care.Store{Dir: w.Dir, Book: x.Book, Now: w.now}
}

// Care returns what changes single devices of the site.
func (w *Site) Care(x *contact.Access) care.Care {
	return care.Care{Ledger: w.Ledger, Access: x, Now: w.now, Store: w.store(x), Apart: w.apart}
}

// OpenImage opens an image of the shelf whose digest was checked from the very file returned.
func (w *Site) OpenImage(i order.Image) (job.File, error) {
	return w.Shelf.OpenImage(i.SHA256,
		i.File)
}

// RecordDevice records what a device reported in a job.
func (w *Site) RecordDevice(id string, d *device.Device) error {
	return record.Update(w.Ledger, id,
		d)
}

// Jobs returns the newest jobs of the site, the oldest of them first; 0: all.
func (w *Site) Jobs(most int) ([]job.State, error) { return job.Jobs(w.Ledger, most) }

// JobsFor returns the jobs named; without names all since a time, or the newest where that is zero.
func (w *Site) JobsFor(ids []string, from time.Time) (out []job.State, err error) {
	for _, id := range ids {
		s, err := w.JobState(id)
		if err != nil {
			return nil, err
		}
		out = append(out, s)
	}
	if len(ids) > 0 {
		return out, nil
	}
	most := 1
	if !from.IsZero() {
		most = 0
	}
	all, err := w.Jobs(most)
	return slices.DeleteFunc(all, func(s job.State) bool { return s.Started.Before(from) }), err
}

// NewestJob returns the ID of the job that was started last; empty: none was.
func (w *Site) NewestJob() (string, error) {
	last, err := w.Ledger.Entries(ledger.Filter{Kind: job.Started, Mine: true, Last: 1})
	if err == nil && len(last) == 0 {
		last, err = w.Ledger.Entries(ledger.Filter{Kind: job.Started, Last: 1})
	}
	if err != nil || len(last) == 0 {
		return "", err
	}
	return last[0].Job, nil
}

// JobOfOrder returns the job that was started for an order's file, by whatever machine; empty: none
// was. digest is order.Order's.
func (w *Site) JobOfOrder(digest string) (string, error) { return job.OfOrder(w.Ledger, digest) }

// Runs reports whether a process works on a job.
func (w *Site) Runs(id string) bool { return w.Ledger.Held(id) }

// FollowJob follows a job as its entries come.
func (w *Site) FollowJob(id string) *job.Follower { return job.Follow(w.Ledger, id) }

// Events returns what happened in a job after an entry, for people; stream: for programs.
func (w *Site) Events(id string, after int64, names map[string]string, stream bool) ([]job.Event,
	error) {
	if stream {
		return job.Stream(w.Ledger, id, after, names)
	}
	return job.Events(w.Ledger, id, after, names)
}

// Timeline returns when each device of a job was at which step, by its ID.
func (w *Site) Timeline(id string) (map[string][]job.Span, error) {
	return job.Timeline(w.Ledger,
		id)
}

// Answer gives a job what an operator says to the question of a device.
func (w *Site) Answer(id, device string, skip bool, because string) error {
	return job.Answer(w.Ledger, id, device, skip, because)
}

// Start writes a job for an order into the ledger. The caller runs it or releases it.
func (w *Site) Start(x *contact.Access, o order.Order, said firmware.Patience) (*job.Job, error) {
	return w.Engine(x, said).Start(w.Job(o))
}

// ErrGivenUp is returned by Resume for a job that a person has given up at another machine.
var ErrGivenUp = errors.New("the job was given up at another machine")

// Resume takes over a job that no process works on. Its errors are job.ErrRunning, job.ErrOver and
// ErrGivenUp.
func (w *Site) Resume(x *contact.Access, s job.State, said firmware.Patience) (*job.Job, error) {
	if l := w.leases(); l != nil {
		if _, err := l.Others(s.ID); err != nil && l.Taken(err) {
			return nil, ErrGivenUp
		}
	}
	return w.Engine(x, said).Resume(s.ID, w.Job(s.Order), w.closesNow())
}

// closesNow returns when the window ends that is open now; zero: the site has none. Outside of one
// nothing more starts.
func (w *Site) closesNow() time.Time {
	now := w.now()
	opens, closes, has := w.Site.Window(now)
	switch {
	case !has:
		return time.Time{}
	case opens.After(now):
		return now
	}
	return closes
}

// GiveUp ends a job that no process works on: each device that was left open is asked once.
func (w *Site) GiveUp(ctx context.Context, x *contact.Access, s job.State) (job.State, error) {
	err := w.Engine(x, firmware.Patience{}).GiveUp(ctx, s.ID, w.Job(s.Order))
	if err == nil {
		err = w.forgetJob(s.ID)
	}
	if err != nil {
		return s, err
	}
	return w.JobState(s.ID)
}

// Prove reads the devices of a job again. Another job may work on them, and is not disturbed.
func (w *Site) Prove(ctx context.Context, x *contact.Access, s job.State) ([]job.Proof, error) {
	engine := w.Engine(x, firmware.Patience{})
	engine.Contacts = job.ContactFunc(x.Contact)
	return engine.Prove(ctx, s, w.Job(s.Order).Devices)
}

const (
	// reserveEach is the space that is reserved for the record of one device in progress, in bytes:
	// about thirty entries, each of which takes several pages until they are packed.
	reserveEach = 512 << 10
	// reserveMost is the largest number of devices that space is reserved for: an order without a
	// limit does not have all of its devices in progress at the same time.
	reserveMost = 128
)

// Run runs a job, with space on the disk for the record of every device that may be in progress
// when the disk becomes full: those are finished, and no more start (DiskWasFull). Its errors are
// ledger.ErrFull, before anything was touched, and those of job.Run.
func (w *Site) Run(j *job.Job, going, patience context.Context) error {
	o := j.Order()
	most := min(len(o.Devices), reserveMost)
	if o.Rules.Parallel > 0 {
		most = min(most, o.Rules.Parallel)
	}
	release, err := w.Ledger.Reserve(j.ID, int64(most+1)*reserveEach)
	if err != nil {
		j.Release()
		return err
	}
	defer release()
	return j.Run(going, patience)
}

// DiskWasFull reports whether the disk of the ledger became full during the newest job of this
// process.
func (w *Site) DiskWasFull() bool { return w.Ledger.Short() }

// PrepareGift checks a first address for a device that has none.
func (w *Site) PrepareGift(ctx context.Context, f care.FirstAddress) (care.Gift, error) {
	return care.PrepareGift(ctx, w.Ledger, f)
}

// CopySettings copies the saves that the second place does not have yet, and returns how many.
func (w *Site) CopySettings(ctx context.Context, x *contact.Access) (copied int, err error) {
	return care.Copy(ctx, x, w.Dir, w.Site)
}

// Stop asks a running job to start no more devices.
func (w *Site) Stop(id string) error { return job.Stop(w.Ledger, id) }

// UnknownMemberError is returned for words that mean no device of a job.
type UnknownMemberError struct {
	Job   string
	Words []string
}

func (e *UnknownMemberError) Error() string {
	return "job " + e.Job + " has no device " + strings.Join(e.Words, ", ")
}

// Members returns the devices of a job that the words mean, by ID or name. Its error is an
// UnknownMemberError.
func Members(s job.State, words []string) (out []job.DeviceState, err error) {
	unknown := &UnknownMemberError{Job: s.ID}
	for _, word := range words {
		i := slices.IndexFunc(s.Devices, func(d job.DeviceState) bool {
			return d.ID == word || strings.EqualFold(d.Name, word)
		})
		if i < 0 {
			unknown.Words = append(unknown.Words, word)
			continue
		}
		out = append(out, s.Devices[i])
	}
	if len(unknown.Words) > 0 {
		return nil, unknown
	}
	return out, nil
}

// TakeOut takes devices out of a job that has not ended: those that have not ended themselves.
func (w *Site) TakeOut(s job.State, devices []job.DeviceState) error {
	var ids []string
	for _, d := range devices {
		if !d.Step.End() {
			ids = append(ids, d.ID)
		}
	}
	if len(ids) == 0 {
		return nil
	}
	return job.Remove(w.Ledger, s.ID, ids, &order.Reason{Why: order.TakenOut})
}

// Parked returns the order that restarts what a job has parked: of those devices, or of all where
// none are named.
func (w *Site) Parked(s job.State, of []job.DeviceState) order.Order {
	still := map[string]bool{}
	for _, r := range w.Rows {
		still[r.ID] = still[r.ID] || r.ParkedIn == s.ID
	}
	o := s.Unfinished(func(id string) bool {
		return still[id] && (len(of) == 0 ||
			slices.ContainsFunc(of, func(d job.DeviceState) bool { return d.ID == id }))
	})
	o.Name, o.Note, o.Digest, o.Station = "", "finish of "+s.ID, "", nil
	return o
}

// Failed returns the order that tries the devices of a job again that failed or were not started.
func Failed(s job.State) order.Order {
	o := s.Again()
	o.Name, o.Note, o.Digest, o.Station = "", "retry of "+s.ID, "", nil
	return o
}

// OrderOf returns the order of that name, or of a job. Its error is an UnknownOrderError.
func (w *Site) OrderOf(word string) (order.Order, error) {
	o, err := w.ReadOrder(word)
	if err == nil {
		return o, w.Mistaken(o)
	}
	if state, jobErr := w.JobState(word); jobErr == nil {
		return state.Order, nil
	}
	return o, err
}
