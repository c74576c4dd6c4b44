package order

import "time"

// Task is what a device is started for.
type Task string

const (
	Update   Task = "update"    // bring the device to its target and verify it
	RollBack Task = "roll-back" // return it to its previous version: its lockstep set failed
	Skip     Task = "skip"      // do not start it in this job
	Continue Task = "continue"  // an operator has answered, and a slot is free for it again
	// SettlePilot ends the wait for a pilot whose lockstep set waits for others: nothing else can
	// happen.
	SettlePilot Task = "settle-pilot"
)

// Action is what may happen now.
type Action struct {
	Device string // ID
	Task   Task
	Of     Task    // of Skip: the task that is not started
	Why    *Reason // of Skip and RollBack
	// Set is the name of the device's lockstep set, of Update. Check lists the IDs of the other
	// members where this one is the first: no member is changed before all of them were checked.
	Set   string
	Check []string

	outcome Outcome // of Skip
}

// Skipped is the outcome of a device that an Action skips.
func (a Action) Skipped() Outcome { return a.outcome }

// Firmware is what a device runs, as seen from its path.
type Firmware string

const (
	Unknown      Firmware = ""             // it was not read since it was written to
	Previous     Firmware = "previous"     // the version before the job
	Intermediate Firmware = "intermediate" // a version between previous and target
	Target       Firmware = "target"
	Other        Firmware = "other" // none of these
)

// Outcome holds what is known of a device when its task ends. The three facts are independent:
// a device may run its target and be sick, or be reachable and never have been touched.
type Outcome struct {
	Runs      Firmware `json:"runs,omitempty"`
	Reachable bool     `json:"reachable,omitempty"`
	Verified  bool     `json:"verified,omitempty"` // the same device, on that version, healthy
	Written   bool     `json:"written,omitempty"`  // this job sent it an image or switched its slot
	// Busy: it may still be writing, or waits to. What it is reached through is not restarted.
	Busy bool `json:"busy,omitempty"`
}

// Succeeded reports whether the device was verified on its target.
func (o Outcome) Succeeded() bool { return o.Runs == Target && o.Verified && o.Reachable }

// Stranded reports whether the job left the device in a state that it could not verify.
func (o Outcome) Stranded() bool { return o.Written && !(o.Verified && o.Reachable) }

// InService reports whether the device counts for its cover sets.
func (o Outcome) InService() bool { return o.Reachable && !o.Stranded() }

// Kind is what an Event reports.
type Kind string

const (
	Started Kind = "started" // Device started with Task
	Writing Kind = "writing" // Device is about to get its first byte
	Ended   Kind = "ended"   // Device ended with Outcome
	// Device was away or must not be updated: it is checked again at Until
	Postponed Kind = "postponed"
	Asks      Kind = "asks"      // Device waits for an operator; it needs no slot and is not a pilot
	Answered  Kind = "answered"  // the operator answered: Device continues when a slot is free
	Continued Kind = "continued" // Device continues
	// PilotSettled: Device, a pilot, proves its kind without its lockstep set, or makes way for
	// another.
	PilotSettled Kind = "pilot-settled"
	// the job was resumed after a crash; Closes is the new end of its window
	Resumed Kind = "resumed"
	// no more devices start; a lockstep set that was written to is completed
	Stopped   Kind = "stopped"
	Abandoned Kind = "abandoned"  // the operator stopped again: such a set is rolled back, too
	Removed   Kind = "removed"    // Device must not start, because of Why
	OtherJobs Kind = "other-jobs" // Others are the devices that other jobs have open now
)

// Event is something that happened in a job. All that changes a State is an Event, so a job that
// records its events can be folded back from them.
type Event struct {
	At      time.Time `json:"at"`
	Kind    Kind      `json:"kind"`
	Device  string    `json:"device,omitempty"`  // ID
	Task    Task      `json:"task,omitempty"`    // of Started; empty: Update
	Outcome Outcome   `json:"outcome,omitzero"`  // of Ended
	Failure bool      `json:"failure,omitempty"` // of Ended: it counts for Rules.StopAfter
	Others  []Foreign `json:"others,omitempty"`  // of OtherJobs
	// of OtherJobs: IDs of devices that they have stranded, and of those that serve no more for it
	Out []string `json:"out,omitempty"`
	// of OtherJobs: what other machines have open cannot be told, so no more devices start
	Blind   bool      `json:"blind,omitempty"`
	Until   time.Time `json:"until,omitzero"`    // of Postponed
	Because string    `json:"because,omitempty"` // of Postponed; empty: it was away
	Closes  time.Time `json:"closes,omitzero"`   // of Resumed
	Why     *Reason   `json:"why,omitempty"`     // of Removed
}

// Foreign is a device that another job has open.
type Foreign struct {
	Job string `json:"job"`
	// Interrupted says that no process works on that job: it must be resumed or ended first.
	Interrupted bool `json:"interrupted,omitempty"`
	// Change says that it is no job: another machine changes the device outside of jobs.
	Change bool   `json:"change,omitempty"`
	Device Device `json:"work"`
}
