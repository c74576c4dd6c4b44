package order

import (
	"cmp"
	"fmt"
	"strings"
)

// Why is the kind of a Reason.
type Why string

const (
	Parallel    Why = "parallel"     // Limit devices are in progress
	ModelCap    Why = "model-cap"    // Limit devices of Set, its model, are in progress: Devices
	KindCap     Why = "kind-cap"     // Limit devices of Set, its kind, are in progress: Devices
	UplinkCap   Why = "uplink-cap"   // Limit devices are in progress through Set, an uplink: Devices
	ParentCap   Why = "parent-cap"   // Limit children of Set, its parent, are in progress: Devices
	Downstream  Why = "downstream"   // Devices are downstream of it and go first
	Uplink      Why = "uplink"       // Devices are its uplinks and go first
	Busy        Why = "busy"         // Devices are in progress on its path
	Explicit    Why = "after"        // the order puts Devices first
	Pilot       Why = "pilot"        // Devices: the pilot of its model and images
	CoverSet    Why = "cover"        // Set would have too few in service: Devices are out
	LockstepSet Why = "lockstep"     // Set, its lockstep set, does not move without Devices
	OtherJob    Why = "other-job"    // Job has Devices open, on which it depends
	Interrupted Why = "interrupted"  // the same, and no process works on that job
	Unseen      Why = "unseen"       // whether another machine works at the site cannot be told
	PersonStop  Why = "stopped"      // an operator stopped the job
	TakenOut    Why = "taken-out"    // an operator took the device out of the job
	Held        Why = "held"         // it was put on hold: Set says why
	Changed     Why = "changed"      // the site has changed since the order was made: Set says how
	ManyFailed  Why = "many-failed"  // Devices failed, as many as the order allows
	Window      Why = "window"       // it would not finish before the window closes
	PilotLost   Why = "pilot-lost"   // Devices: the pilot of its model and images is stranded
	ThroughLost Why = "through-lost" // Devices are its uplinks and stranded
	BelowBusy   Why = "below-busy"   // Devices are reached through it, and may still be writing
	Away        Why = "away"         // it was away, or Set says why it must not be updated yet
	Ready       Why = "ready"        // nothing: it starts next
)

// Reason states why a device does not start, now or in this job. It is an error.
type Reason struct {
	Why     Why      `json:"why"`
	Devices []string `json:"devices,omitempty"` // names
	// the name of a set, model or uplink; of Held and Away: a cause
	Set   string `json:"set,omitempty"`
	Job   string `json:"job,omitempty"` // another job
	Limit int    `json:"limit,omitempty"`
}

// alone are the sentences of reasons that name nothing.
var alone = map[Why]string{
	Unseen:     "waiting for the office: whether another machine works here cannot be told",
	PersonStop: "the job was stopped before this device started",
	TakenOut:   "an operator took it out of the job",
	Window:     "would not finish before the window closes",
	Ready:      "starts next",
}

// maxNames is how many devices a sentence names.
const maxNames = 3

// list joins names for a sentence: "cam-11, cam-12, cam-21 and 4 more".
func list(names []string) string {
	if len(names) <= maxNames {
		return strings.Join(names, ", ")
	}
	return fmt.Sprintf("%s and %d more", strings.Join(names[:maxNames], ", "), len(names)-maxNames)
}

// Error returns a sentence about the device, without its name.
func (r *Reason) Error() string {
	names := list(r.Devices)
	is, uplink := "is", "its uplink"
	if len(r.Devices) > 1 {
		is, uplink = "are", "its uplinks"
	}
	switch r.Why {
	case Parallel:
		return fmt.Sprintf("waiting for a free slot (limit: %d)", r.Limit)
	case ModelCap:
		return fmt.Sprintf("waiting for %s (limit for %s: %d)", names, r.Set, r.Limit)
	case KindCap:
		return fmt.Sprintf("waiting for %s (limit for each %s: %d)", names, r.Set, r.Limit)
	case UplinkCap:
		return fmt.Sprintf("waiting for %s (limit through %s: %d)", names, r.Set, r.Limit)
	case ParentCap:
		return fmt.Sprintf("waiting for %s (limit behind %s: %d)", names, r.Set, r.Limit)
	case Downstream:
		return fmt.Sprintf("waiting for %s, which %s downstream", names, is)
	case Uplink:
		return fmt.Sprintf("waiting for %s, %s", names, uplink)
	case Busy:
		return fmt.Sprintf("waiting for %s, which %s in progress on its path", names, is)
	case Explicit:
		return fmt.Sprintf("waiting for %s, as the order specifies", names)
	case Pilot:
		return fmt.Sprintf("waiting for %s, the pilot of its model and images", names)
	case CoverSet:
		return fmt.Sprintf("waiting: cover set %q needs %s back in service", r.Set, names)
	case LockstepSet:
		return fmt.Sprintf("lockstep set %s requires %s", r.Set, names)
	case OtherJob:
		return fmt.Sprintf("waiting for job %s, which is updating %s", r.Job, names)
	case Interrupted:
		return fmt.Sprintf("waiting for job %s, which was interrupted while updating %s", r.Job, names)
	case Held:
		return "it was put on hold: " + r.Set
	case Changed:
		return r.Set
	case ManyFailed:
		return fmt.Sprintf("the job stopped because %s failed", names)
	case PilotLost:
		return fmt.Sprintf("%s, the pilot of its model and images, is stranded", names)
	case ThroughLost:
		return fmt.Sprintf("%s, %s, %s stranded", names, uplink, is)
	case BelowBusy:
		return fmt.Sprintf("%s, which %s reached through it, may still be writing", names, is)
	case Away:
		if r.Set != "" {
			return "will be checked again: " + r.Set
		}
		return "was away; will be checked again"
	}
	return cmp.Or(alone[r.Why], string(r.Why))
}
