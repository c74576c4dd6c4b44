package job

import (
	"errors"
	"slices"
	"strings"
	"time"

	"catena/internal/order"
)

// Leases keep the machines of a site apart. An error of Others or Hold says that no one can tell
// what other machines do, unless it is ErrTaken's.
type Leases interface {
	// Others returns what other machines have open. job is the one that asks.
	Others(job string) ([]order.Foreign, error)
	// Hold says what this machine has open, and returns the number of that. ok is false where another
	// machine has said something since Others was called.
	Hold(mine []order.Foreign) (revision uint64, ok bool, err error)
	// Taken reports whether an error says that the job was given up at another machine.
	Taken(err error) bool
}

// seenEvery is how often other machines are looked at while nothing starts.
const seenEvery = 5 * time.Second

// board is what other machines have said, as the dispatcher knows it.
type board struct {
	others []order.Foreign
	at     time.Time // when they were read
	blind  bool      // they could not be
	// when the office did not answer, and that was accepted
	unseenAt time.Time
	said     []string // the IDs of the devices that this machine has said it has open
}

// see reads what other machines have open, where that is due. The ledger has the last word: what it
// says has ended was open when its machine could not be reached any more.
func (j *Job) see(now bool) error {
	b, leases := &j.board, j.engine.Leases
	if leases == nil || !now && j.engine.Now().Sub(b.at).Abs() < seenEvery {
		return nil
	}
	others, err := leases.Others(j.ID)
	b.at = j.engine.Now()
	switch {
	case err != nil && leases.Taken(err):
		return j.givenUp()
	case err != nil:
		b.blind = !j.acceptsUnseen()
		return nil
	}
	b.blind, b.others = false, nil
	for _, f := range others {
		ended, err := j.hasEnded(f)
		if err != nil {
			return err
		}
		if !ended {
			f.Device.ID = j.engine.Ledger.Canonical(f.Device.ID)
			b.others = append(b.others, f)
		}
	}
	return nil
}

// hasEnded reports whether the ledger has the end of what another machine says it has open.
func (j *Job) hasEnded(f order.Foreign) (bool, error) {
	l := j.engine.Ledger
	known, err := Exists(l, f.Job)
	if err != nil || !known {
		return false, err
	}
	open, err := isOpen(l, f.Job)
	return !open, err
}

// givenUp has the job start no more devices: a person at another machine has given it up.
func (j *Job) givenUp() error {
	if j.live.state.Stopped {
		return nil
	}
	return errors.Join(Stop(j.engine.Ledger, j.ID), j.live.update())
}

// UnseenCaution is the name of the caution by which a person accepts that a job starts although no
// one can tell what other machines do.
const UnseenCaution = "unseen"

func (j *Job) acceptsUnseen() bool {
	return j.plan.Order.Accepts(UnseenCaution)
}

// beside are the devices of other jobs: those that the ledger has open, and those that their
// machines have said. Of a machine that has said anything, that counts: it is newer.
func (j *Job) beside(known []order.Foreign) []order.Foreign {
	of := func(job string) string { name, _, _ := strings.Cut(job, "/"); return name }
	out := slices.DeleteFunc(slices.Clone(known), func(f order.Foreign) bool {
		return isElsewhere(f.Job) && slices.ContainsFunc(j.board.others, func(o order.Foreign) bool {
			return of(o.Job) == of(f.Job)
		})
	})
	return append(out, j.board.others...)
}

// mine are the devices that this machine has open, in this job and in its others.
func (j *Job) mine() []order.Foreign {
	out := []order.Foreign{}
	for _, f := range j.others.here {
		if !isElsewhere(f.Job) {
			out = append(out, f)
		}
	}
	for _, d := range j.live.state.Open() {
		out = append(out, j.foreign(d.ID))
	}
	return out
}

func (j *Job) foreign(id string) order.Foreign {
	d := j.row(id)
	return order.Foreign{
		Job: j.ID,
		Device: order.Device{ID: d.ID, Name: d.Name, Model: d.Model, Kind: d.Kind,
			Through: d.Through, Parent: d.Parent},
	}
}

// mostTries is how often a decision is made again at once because other machines have started
// something.
const mostTries = 20

// lease says that this machine has a device open, before it is started. again is set where the
// dispatcher has to decide again: another machine has started something, or cannot be seen. What
// goes back does so unseen, too.
func (j *Job) lease(a order.Action) (revision uint64, again bool, err error) {
	leases := j.engine.Leases
	if leases == nil || a.Task != order.Update && a.Task != order.RollBack ||
		j.acceptsUnseen() && j.blindly() {
		return 0, false, nil
	}
	mine := append(j.mine(), j.foreign(a.Device))
	revision, ok, failed := leases.Hold(mine)
	switch {
	case failed == nil && ok:
		j.board.said = idsOf(mine)
		return revision, false, nil
	case failed == nil: // who has said what?
		if err := j.see(true); err != nil {
			return 0, false, err
		}
	case j.acceptsUnseen() || a.Task == order.RollBack:
		j.board.unseenAt = j.engine.Now()
		return 0, false, nil
	default:
		j.board.blind = true
	}
	return 0, true, j.lookElsewhere()
}

// blindly reports whether the office did not answer a moment ago.
func (j *Job) blindly() bool {
	return j.engine.Now().Sub(j.board.unseenAt) < seenEvery
}

// giveBack says what this machine still has open, where that is less than it has said. What cannot
// be said now is said with the next device, or the next job.
func (j *Job) giveBack() {
	if j.engine.Leases == nil {
		return
	}
	mine := j.mine()
	if slices.Equal(idsOf(mine), j.board.said) {
		return
	}
	for range 5 {
		if _, ok, err := j.engine.Leases.Hold(mine); err != nil || ok {
			if ok {
				j.board.said = idsOf(mine)
			}
			return
		}
		if _, err := j.engine.Leases.Others(j.ID); err != nil {
			return
		}
		j.board.at = time.Time{} // what they say is looked at before the next decision
	}
}

// giveBackAll is giveBack once all devices of the job have ended.
func (j *Job) giveBackAll() {
	if j.engine.Leases == nil {
		return
	}
	release, err := holdSoon(j.engine.Ledger, dispatching)
	if err != nil {
		return // the next job says it
	}
	defer release()
	if j.lookElsewhere() == nil {
		j.giveBack()
	}
}

func idsOf(all []order.Foreign) (ids []string) {
	for _, f := range all {
		ids = append(ids, f.Device.ID)
	}
	slices.Sort(ids)
	return ids
}
