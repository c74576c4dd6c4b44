package job

import (
	"time"

	"catena/internal/order"
)

// endBody is the body of an Ended entry: the facts, and the step that follows from them.
type endBody struct {
	End     Step    `json:"end"`
	Version string  `json:"version,omitempty"` // that the device reported last
	Cause   *Reason `json:"cause,omitempty"`
	// Took is the time from its check to its end, in ns; 0: a crash was in between.
	Took  time.Duration `json:"took,omitempty"`
	Facts Facts         `json:"facts"`
}

// NotRead stands for the version of a device that could not be read at its end.
const NotRead = "?"

// unread reports that no one has read which version the device runs at its end.
func (b endBody) unread() bool { return b.Version == "" || b.Cause.Away() }

// runs returns the version that the device runs at its end: NotRead where a device that needs
// someone was not read.
func (b endBody) runs() string {
	if (b.End == Stranded || b.End == Failed) && b.unread() {
		return NotRead
	}
	return b.Version
}

// Facts are what is known of a device at the end of its task. Nothing is reported of it that does
// not follow from them.
type Facts struct {
	order.Outcome
	Task order.Task `json:"task"` // its task: update, or roll-back with its lockstep set
	// Parked says that the device holds the image and waits for its restart.
	Parked bool `json:"parked,omitempty"`
	// Declined says that it was decided not to continue: the job was stopped, or the device held.
	Declined bool `json:"declined,omitempty"`
	// RolledBack says that a rollback was carried out.
	RolledBack bool `json:"rolled_back,omitempty"`
}

// Step returns the end that the facts add up to.
//
//	task       written  runs          verified  end
//	roll-back  -        previous      yes       returned
//	roll-back  -        anything else           stranded
//	update     -        target        yes       done; skipped if it was not written to
//	update     yes      anything      no        stranded
//	update     yes      previous      yes       returned after a rollback; skipped if it was decided not to
//	                                            continue; else failed
//	update     yes      intermediate  yes       skipped if it was decided not to continue, else stranded
//	update     no       -             -         skipped if that was decided, else failed
func (f Facts) Step() Step {
	previous := f.Runs == order.Previous && f.Verified && f.Reachable
	switch {
	case f.Task == order.RollBack && previous:
		return Returned
	case f.Task == order.RollBack:
		return Stranded
	case f.Parked && !f.Stranded():
		return Parked
	case f.Succeeded() && f.Written:
		return Done
	case f.Succeeded() || !f.Written && f.Declined:
		return Skipped
	case !f.Written:
		return Failed
	case previous && f.RolledBack:
		return Returned
	case f.Declined && (previous || f.Runs == order.Intermediate && !f.Stranded()):
		return Skipped
	case previous:
		return Failed
	}
	return Stranded
}

// ending makes the body of an Ended entry.
func ending(f Facts, version string, cause *Reason) endBody {
	return endBody{End: f.Step(), Version: version, Cause: cause, Facts: f}
}

// failure reports whether the end counts for the failure limit of the order. A device that returns
// with its lockstep set did not fail itself, and a stop is not a failure.
func (b endBody) failure() bool {
	switch b.End {
	case Stranded:
		return true
	case Failed, Returned:
		return b.Facts.Written && b.Facts.Task == order.Update && !b.Facts.Declined
	}
	return false
}

// event returns the end as the dispatcher records it. A parked device is as it should be, and has
// nothing to roll back.
func (b endBody) event(device string, at time.Time) order.Event {
	o := b.Facts.Outcome
	if b.End == Parked {
		o = order.Outcome{Runs: order.Target, Reachable: true, Verified: true}
	}
	return order.Event{At: at, Kind: order.Ended, Device: device, Outcome: o, Failure: b.failure()}
}
