package order

import (
	"fmt"
	"strings"
)

// Why is the kind of a Reason.
type Why string

const (
	Parallel    Why = "parallel"     // so many are at work as may be
	ModelCap    Why = "model-cap"    // so many of Set, its model, are at work as may be
	UplinkCap   Why = "uplink-cap"   // so many are at work through Set, an uplink, as may be
	ParentCap   Why = "parent-cap"   // so many children of Set, its parent, are at work as may be
	Behind      Why = "behind"       // Devices, which are reached through it, go first
	Uplink      Why = "uplink"       // Devices: it is reached through them, and they go first
	AtWork      Why = "at-work"      // Devices are at work: through them, or it, the way goes
	Explicit    Why = "after"        // Devices: the order says that they go first
	Pilot       Why = "pilot"        // Devices: the pilot of its model and image
	CoverSet    Why = "cover"        // Set would have too few in service: Devices are out
	LockstepSet Why = "lockstep"     // Set: its lockstep set does not move without Devices
	OtherJob    Why = "other-job"    // Job works on Devices, which it depends on
	PersonStop  Why = "stopped"      // a person stopped the job
	ManyFailed  Why = "many-failed"  // Devices failed, as many as the order allows
	Window      Why = "window"       // it would not end before the window closes
	ThroughLost Why = "through-lost" // Devices: it is reached through them, and they are lost
	Away        Why = "away"         // it did not answer, or Set: why it must not be updated yet; it is asked again
	Ready       Why = "ready"        // nothing: it begins with the next look
)

// Reason says why a device does not begin, now or in this job any more. It is an error.
type Reason struct {
	Why     Why      `json:"why"`
	Devices []string `json:"devices,omitempty"` // names
	Set     string   `json:"set,omitempty"`     // the name of a set, a model or an uplink
	Job     string   `json:"job,omitempty"`     // another job
}

// named is how many devices a sentence names.
const named = 3

// list writes names for a sentence: "cam-11, cam-12, cam-21 and 4 more".
func list(names []string) string {
	if len(names) <= named {
		return strings.Join(names, ", ")
	}
	return fmt.Sprintf("%s and %d more", strings.Join(names[:named], ", "), len(names)-named)
}

// Error is a sentence whose subject is the device, for one that waits.
func (r *Reason) Error() string {
	who := list(r.Devices)
	which, are := "which is", "is"
	if len(r.Devices) > 1 {
		which, are = "which are", "are"
	}
	switch r.Why {
	case Parallel:
		return "waits for room: so many are at work as may be"
	case ModelCap:
		return fmt.Sprintf("waits for %s: so many %s are at work as may be", who, r.Set)
	case UplinkCap:
		return fmt.Sprintf("waits for %s: so many are at work through %s as may be", who, r.Set)
	case ParentCap:
		return fmt.Sprintf("waits for %s: so many are at work behind %s as it allows", who, r.Set)
	case Behind:
		return fmt.Sprintf("waits for %s, %s reached through it", who, which)
	case Uplink:
		return fmt.Sprintf("waits for %s, which it is reached through", who)
	case AtWork:
		return fmt.Sprintf("waits for %s, %s at work on its way", who, which)
	case Explicit:
		return fmt.Sprintf("waits for %s, as the order says", who)
	case Pilot:
		return fmt.Sprintf("waits for %s, the pilot of its model and image", who)
	case CoverSet:
		return fmt.Sprintf("cover set %s: %s %s out of service", r.Set, who, are)
	case LockstepSet:
		return fmt.Sprintf("lockstep set %s does not move without %s", r.Set, who)
	case OtherJob:
		return fmt.Sprintf("waits for job %s, which works on %s", r.Job, who)
	case PersonStop:
		return "the job was stopped before it"
	case ManyFailed:
		return fmt.Sprintf("the job stopped before it: %s failed", who)
	case Window:
		return "it would not end before the window closes"
	case ThroughLost:
		return fmt.Sprintf("%s, which it is reached through, %s stranded", who, are)
	case Away:
		if r.Set != "" {
			return "is asked again: " + r.Set
		}
		return "was away, and is asked again"
	case Ready:
		return "begins next"
	}
	return string(r.Why)
}
