package job

import (
	"cmp"
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"catena/internal/device"
	"catena/internal/ledger"
	"catena/internal/order"
)

// History is what earlier jobs did to the devices of a site. What it costs depends on the
// devices, and on what is asked about them, not on how many jobs there were: it starts from
// the newest entries of each device and looks further back only where those do not tell.
type History struct {
	ledger  *ledger.Ledger
	begun   map[string]ledger.Entry   // the newest step that started, by device
	ended   map[string][]ledger.Entry // ends by device, the newest first; all of them where whole
	whole   map[string]bool
	started map[string]started         // by job
	took    map[string][]time.Duration // by model and images; nil: not asked yet
}

// ReadHistory starts a history. It is for one goroutine, and as new as the moment when it
// was read.
func ReadHistory(l *ledger.Ledger) (*History, error) {
	h := &History{ledger: l, begun: map[string]ledger.Entry{}, ended: map[string][]ledger.Entry{},
		whole: map[string]bool{}, started: map[string]started{}}
	begun, err := l.Entries(ledger.Filter{Kind: StepStarted, Newest: true})
	if err != nil {
		return nil, err
	}
	for _, e := range begun {
		h.begun[e.Device] = e
	}
	ended, err := l.Entries(ledger.Filter{Kind: Ended, Newest: true})
	for _, e := range ended {
		h.ended[e.Device] = []ledger.Entry{e}
	}
	return h, err
}

// started is what a job had to do.
type started struct {
	purpose order.Purpose
	rows    map[string]order.Device // by ID
}

// end is how a device ended in a job.
type end struct {
	endBody
	at   time.Time
	job  string
	row  order.Device
	back bool // the job brought devices back
}

// leads tells whether the device's path had an image of a component, of this version or,
// where v is empty, of any.
func (e end) leads(component, v string) bool {
	return slices.ContainsFunc(e.row.Path, func(h order.Hop) bool {
		return h.Component == component && (v == "" || h.To == v)
	})
}

// ends goes through the ends of a device, the newest first and one of each job, until look
// returns false. A device that returned with its lockstep set has two: the last one counts.
func (h *History) ends(device string, look func(end) bool) error {
	seen := ""
	for i := 0; ; i++ {
		if i == len(h.ended[device]) {
			if h.whole[device] || i == 0 {
				return nil
			}
			all, err := h.ledger.Entries(ledger.Filter{Kind: Ended, Device: device})
			if err != nil {
				return err
			}
			slices.Reverse(all)
			h.ended[device], h.whole[device] = all, true
			if i >= len(all) {
				return nil
			}
		}
		e := h.ended[device][i]
		if e.Job == seen {
			continue
		}
		seen = e.Job
		at := end{at: e.At, job: e.Job}
		if err := json.Unmarshal(e.Body, &at.endBody); err != nil {
			return unreadable(e, err)
		}
		did, err := h.did(e.Job)
		if err != nil {
			return err
		}
		at.row, at.back = did.rows[device], did.purpose == order.Backward
		if !look(at) {
			return nil
		}
	}
}

// did is what a job had to do.
func (h *History) did(job string) (started, error) {
	if did, ok := h.started[job]; ok {
		return did, nil
	}
	did := started{rows: map[string]order.Device{}}
	entries, err := h.ledger.Entries(ledger.Filter{Kind: Started, Job: job})
	if err != nil {
		return did, err
	}
	for _, e := range entries {
		var o order.Order
		if err := json.Unmarshal(e.Body, &o); err != nil {
			return did, unreadable(e, err)
		}
		did.purpose = o.Purpose
		for _, d := range o.Devices {
			did.rows[h.ledger.Canonical(d.ID)] = d
		}
	}
	h.started[job] = did
	return did, nil
}

// from is the version that a component ran before the job.
func (e end) from(component string) string {
	for _, h := range e.row.Path {
		if h.Component == component {
			return h.From
		}
	}
	return ""
}

// Earlier is the version that a component of a device ran before the last job that changed it, or
// before the job of; empty: none did. A job that brought it back undoes the one before:
//
//	j1: 1.0 → 2.0    j2: 2.0 → 3.0    j3, back: 3.0 → 2.0    earlier: 1.0
func (h *History) Earlier(device, component, of string) (version string, err error) {
	undone := 0
	err = h.ends(device, func(e end) bool {
		if e.End != Done || e.row.Again || !e.leads(component, "") {
			return true
		}
		switch {
		case of != "":
			if of == e.job {
				version = e.from(component)
			}
		case e.back:
			undone++
		case undone > 0:
			undone--
		default:
			version = e.from(component)
		}
		return version == ""
	})
	return version, err
}

// Took is how long devices of a model with these images (order.Device.ModelAndImages) took the
// last times that they were proven: the median; ok is false where none was.
func (h *History) Took(key string) (took time.Duration, ok bool, err error) {
	all, err := h.Past(key)
	if err != nil || len(all) == 0 {
		return 0, false, err
	}
	return all[len(all)/2], true, nil
}

// Past is how long devices of that model and those images took, sorted; it is the caller's to read.
func (h *History) Past(key string) ([]time.Duration, error) {
	if h.took == nil {
		h.took = map[string][]time.Duration{}
		for device := range h.ended {
			looked := 0
			err := h.ends(device, func(e end) bool {
				if e.End == Done && e.endBody.Took > 0 {
					of := e.row.ModelAndImages()
					h.took[of] = append(h.took[of], e.endBody.Took)
				}
				looked++
				return looked < recentEnds
			})
			if err != nil {
				return nil, err
			}
		}
		for _, all := range h.took {
			slices.Sort(all)
		}
	}
	return h.took[key], nil
}

// recentEnds is how many of a device's ends tell how long it takes.
const recentEnds = 6

// Updated is when a job last proved a device on a new version; the zero time: none did.
func (h *History) Updated(device string) (at time.Time, err error) {
	err = h.ends(device, func(e end) bool {
		if e.End == Done {
			at = e.at
		}
		return at.IsZero()
	})
	return at, err
}

// LeftAlone is the last job that speaks against a version of a component for a device: it
// failed in it, after it was touched, on a path that has this version, or was brought back from
// there (back). Empty: there was none, or it got there later.
func (h *History) LeftAlone(device, component, v string) (job string, back bool, err error) {
	job, back, _, err = h.leftAlone(device, component, v)
	return job, back, err
}

// LeftAloneSince is LeftAlone for jobs that ended with the device after a time.
func (h *History) LeftAloneSince(device, component, v string, since time.Time) (job string,
	back bool, err error) {
	job, back, at, err := h.leftAlone(device, component, v)
	if !at.After(since) {
		return "", false, err
	}
	return job, back, err
}

func (h *History) leftAlone(device, component, v string) (job string, back bool, at time.Time,
	err error) {
	err = h.ends(device, func(e end) bool {
		at = e.at
		if e.End == Done && e.back && e.from(component) == v {
			job, back = e.job, true
			return false
		}
		if !e.leads(component, v) {
			return true
		}
		switch e.End {
		case Returned, Stranded:
			job = e.job
			return false
		case Done:
			return false
		}
		return true
	})
	return job, back, at, err
}

// ParkedIn is the job that left a device with an image that waits for its restart; empty: none
// did.
func (h *History) ParkedIn(device string) (job string, err error) {
	err = h.ends(device, func(e end) bool {
		if e.End == Parked {
			job = e.job
		}
		return false
	})
	return job, err
}

// Remnant is how the last job with a device left it, where that needs a person.
type Remnant struct {
	Job   string
	Step  Step      // Stranded, or the step that it was in when its job died
	Since time.Time // of the step
	Cause *Reason   // of Stranded
	// Unread reports that what it runs is unknown: it was not read at its end, or since it was
	// written to.
	Unread bool
}

// Elsewhere reports whether the job is another laptop's.
func (r Remnant) Elsewhere() bool { return isElsewhere(r.Job) }

// Left returns how the last job with a device left it; ok is false if no one needs to act.
func (h *History) Left(device string) (r Remnant, ok bool, err error) {
	begun, was := h.begun[device]
	ended := h.ended[device]
	if was && (len(ended) == 0 || ended[0].Before(begun)) {
		var b Effect
		if err := json.Unmarshal(begun.Body, &b); err != nil {
			return r, false, unreadable(begun, err)
		}
		open, err := isOpen(h.ledger, begun.Job)
		return Remnant{Job: begun.Job, Step: b.Step, Since: begun.At,
				Unread: b.Step != Checking}, open &&
				!h.ledger.Held(begun.Job), err
	}
	err = h.ends(device, func(e end) bool {
		r = Remnant{Job: e.job, Step: e.End, Since: e.at, Cause: e.Cause,
			Unread: e.unread()}
		return false
	})
	return r, r.Step == Stranded, err
}

// Interrupted returns the jobs whose process died and that were neither resumed nor given up. A
// process that died leaves the file of its lock; the newest job is looked at without one, too,
// in case the folder was copied without it.
func Interrupted(l *ledger.Ledger) (out []State, err error) {
	all, err := unended(l)
	return slices.DeleteFunc(all, func(s State) bool { return s.Elsewhere() || l.Held(s.ID) }), err
}

// mostElsewhere is how many of the newest jobs of other laptops are looked at.
const mostElsewhere = 50

// unended are the jobs that have started and not ended, also those that are at work, here or on
// another laptop.
func unended(l *ledger.Ledger) (out []State, err error) {
	newest, err := l.Entries(ledger.Filter{Kind: Started, Mine: true, Last: 1})
	if err != nil {
		return nil, err
	}
	others, err := l.Entries(ledger.Filter{Kind: Started, Theirs: true, Last: mostElsewhere})
	if err != nil {
		return nil, err
	}
	ids := l.Locks()
	for _, e := range append(newest, others...) {
		if !slices.Contains(ids, e.Job) {
			ids = append(ids, e.Job)
		}
	}
	for _, id := range ids {
		exists, err := Exists(l, id)
		if err != nil {
			return nil, err
		}
		if !exists {
			continue
		}
		open, err := isOpen(l, id)
		if err != nil {
			return nil, err
		}
		if !open {
			continue
		}
		s, err := Load(l, id)
		if err != nil {
			return nil, err
		}
		out = append(out, s)
	}
	return out, nil
}

// Held returns, by device ID, the open job that each device is in progress in, whether that job is
// running or was interrupted; with waiting, also the devices that are pending in one.
func Held(l *ledger.Ledger, waiting bool) (map[string]string, error) {
	return held(l, waiting, false)
}

// Working is Held, without devices that are pending, and with the parents of the children that are
// in progress: sessions of the job are open there.
func Working(l *ledger.Ledger) (map[string]string, error) { return held(l, false, true) }

func held(l *ledger.Ledger, waiting, parents bool) (map[string]string, error) {
	states, err := unended(l)
	held := map[string]string{}
	for _, s := range states {
		for i, d := range s.Devices {
			if d.Step.End() || !waiting && d.Step == Waiting {
				continue
			}
			held[l.Canonical(d.ID)] = s.ID
			parent := l.Canonical(s.Order.Devices[i].Parent)
			if parents && parent != "" && held[parent] == "" {
				held[parent] = s.ID
			}
		}
	}
	return held, err
}

// Lease takes a device for a change outside of jobs, until the returned function is called or the
// process dies: no job can start on it until then. A parent and its children are one: what happens
// on one of them is between a job and the others. Its errors are a BusyError, and those of the
// ledger.
func Lease(l *ledger.Ledger, d device.Device) (release func(), err error) {
	done, err := holdSoon(l, dispatching)
	if err != nil {
		return nil, err
	}
	defer done()
	held, err := held(l, true, true)
	if err != nil {
		return nil, err
	}
	for _, id := range []string{d.ID, d.Through} {
		if job := held[id]; job != "" {
			return nil, &BusyError{Device: d.Name, Job: job}
		}
	}
	release, ok, err := l.Hold(leaseOf(cmp.Or(d.Through, d.ID)))
	if err == nil && !ok {
		err = &BusyError{Device: d.Name}
	}
	return release, err
}

// leaseOf names the lock of a device that is changed outside of jobs; of a child, its parent's.
func leaseOf(device string) string { return "device-" + device }

// isOpen reports whether a job was started and not closed: the one definition of an open job.
func isOpen(l *ledger.Ledger, job string) (bool, error) {
	started, err := l.Entries(ledger.Filter{Job: job, Kind: Started, Last: 1})
	if err != nil || len(started) == 0 {
		return false, err
	}
	closed, err := l.Entries(ledger.Filter{Job: job, Kind: Closed, Last: 1})
	return len(closed) == 0, err
}

// OfOrder returns the job that was started for the file of an order, by whatever machine; empty:
// none was. digest is the SHA-256 of the file.
func OfOrder(l *ledger.Ledger, digest string) (job string, err error) {
	entries, err := l.Entries(ledger.Filter{Kind: Started})
	for _, e := range entries {
		var o struct {
			Digest string `json:"digest"`
		}
		if err := json.Unmarshal(e.Body, &o); err != nil {
			return "", unreadable(e, err)
		}
		if o.Digest == digest {
			return e.Job, nil
		}
	}
	return "", err
}

// Exists tells whether the ledger has a job.
func Exists(l *ledger.Ledger, job string) (bool, error) {
	entries, err := l.Entries(ledger.Filter{Job: job, Last: 1})
	return len(entries) > 0, err
}

// NextID returns the ID of this writer's next job: j1, j2, …
func NextID(l *ledger.Ledger) (string, error) {
	last, err := l.Entries(ledger.Filter{Kind: Started, Mine: true, Last: 1})
	if err != nil || len(last) == 0 {
		return "j1", err
	}
	var n int
	if _, err := fmt.Sscanf(last[0].Job, "j%d", &n); err != nil {
		return "", unreadable(last[0], err)
	}
	return fmt.Sprintf("j%d", n+1), nil
}
