// Package order says what is worked on, in which sequence, and what must hold meanwhile: the
// order of a night, the dispatcher that decides what may begin now, and the forecast.
//
// Its central type is State: an order, and how far its devices are. State.Next says what may
// begin at a time, State.Apply takes what happened. Nobody else decides: a forecast plays
// the two on a virtual clock (Play), a job plays them with real devices, and a job that goes
// on after a crash applies what its record holds. So what a forecast promises is what a job
// does, and a rule stands once.
//
// It is pure: no I/O, no clock, no goroutine. It never decides how a device is written to,
// only when.
package order

import "time"

// Order is what is to be done, and under which rules. Devices are called by their IDs; the
// names in it are for sentences.
type Order struct {
	Devices []Device // who stands first goes first where nothing else decides
	Rules   Rules
	Closes  time.Time // when the window ends; zero: it does not
	// Window is how long the longest window is; 0: there is always one.
	Window time.Duration
	// Names are those of devices that the rules mean and that are not worked on, by ID.
	Names map[string]string
}

// Device is a device that is worked on.
type Device struct {
	ID, Name string
	Model    string
	Image    string        // which image, or images, it gets; pilots are per model and image
	Takes    time.Duration // from its check to its proof, as expected
	Returns  time.Duration // its way back, should it fail; 0: there is none
	// Through are the devices that it is reached through or fed by, whether they are worked
	// on or not, also by way of others.
	Through []string
	// First says that it goes before those that are reached through it; else it goes after.
	First bool
	After []string // devices that must have ended before, besides
}

// Rules are what must hold at every instant. A zero value asks for nothing.
type Rules struct {
	Parallel  int            // at work at the same time; 0: any number
	PerModel  map[string]int // by model; a model that is not here has no cap of its own
	PerUplink int            // at work at the same time through one uplink; 0: any number
	Cover     []Cover
	Lockstep  []Set
	Pilot     bool // the first of each model and image is proven before the next begins
	StopAfter StopAfter
	// Feeds are the devices that are out of service while one is worked on, besides itself.
	Feeds map[string][]string
	// Out are devices that are out of service before anything begins, and why: "is away".
	Out map[string]string
}

// Cover is a cover set: at least Keep of its devices stay in service.
type Cover struct {
	Name string
	Keep int
	Of   []string
}

// Set is a lockstep set: its devices move together, and where one fails all return.
type Set struct {
	Name string
	Of   []string
	// Missing are those of its members that should move and cannot, and why: "is held".
	Missing map[string]string
}

// StopAfter stops a job from beginning more.
type StopAfter struct {
	Failures int     // so many devices failed; 0: any number
	Share    float64 // of all devices, from 0 to 1; 0: any share
}

// Do is what an Action asks for.
type Do string

const (
	Flash  Do = "flash"  // bring it to its target, prove it, return it if it fails
	Return Do = "return" // bring it back: its lockstep set has failed
	Leave  Do = "leave"  // it is not begun in this job any more
)

// Action is what may begin now.
type Action struct {
	Device string
	Do     Do
	Of     Do      // of Leave: what is not done
	Why    *Reason // of Leave
}

// Left is the outcome of a device that is left: it is on what it ran before, unless it should
// have returned from what it runs now.
func (a Action) Left() Outcome {
	if a.Of == Return {
		return Well
	}
	return AsBefore
}

// Outcome is how a device ended, as far as others depend on it.
type Outcome string

const (
	Well     Outcome = "well"      // proven on what it should run, or it ran that already
	AsBefore Outcome = "as-before" // it is on what it ran before: returned, or not touched
	Lost     Outcome = "lost"      // it is out of service, and what is behind it out of reach
)

// Kind is what an Event tells.
type Kind string

const (
	Began     Kind = "began"     // Device is at work: what Do asks for
	Ended     Kind = "ended"     // Device has ended with Outcome
	Stopped   Kind = "stopped"   // a person asked that no more devices begin
	Elsewhere Kind = "elsewhere" // Others are what other jobs are working on now
)

// Event is something that happened in a job.
type Event struct {
	At      time.Time
	Kind    Kind
	Device  string
	Do      Do      // of Began
	Outcome Outcome // of Ended
	Touched bool    // of Ended: its image was begun to be sent, in this job
	// Failure, of Ended: it counts for Rules.StopAfter.
	Failure bool
	Others  []Other // of Elsewhere
}

// Other is a device that another job is working on.
type Other struct {
	Job string
	Device
}
