package order

import (
	"fmt"
	"slices"
)

// Describe returns all that a state knows, a line for each device and constraint, so that two
// states can be compared: one that has lived through a night, and one that was folded from its
// record.
func (s *State) Describe() []string {
	var lines []string
	line := func(format string, args ...any) { lines = append(lines, fmt.Sprintf(format, args...)) }
	for i := range s.devices {
		d := &s.devices[i]
		line("%s: phase %d, task %s, question %d, outcome %+v, removed %v, until %s %q, predecessors %d",
			d.ID, d.phase,
			d.task, d.question, d.outcome, d.removed != nil, d.until.UTC(), d.because, d.predecessorsLeft)
		for _, c := range d.claims {
			line("%s holds %d of %s %s", d.ID, c.n, c.of.why, c.of.name)
		}
		if k := d.kind; k != nil {
			line("%s: kind proven %v, lost %v, pilot %v", d.ID, k.proven, k.lost != nil, k.pilot == d)
		}
		if set := d.set; set != nil {
			line("%s: set started %v, written %v, failed %v, levels %d", d.ID, set.started, set.written,
				set.failed, len(set.levels))
		}
	}
	for id, l := range s.limits.links {
		line("link %s: active %d, below %d", id, l.active, l.below)
	}
	for i, c := range s.limits.cover {
		line("cover %d: %d left", i, c.free)
	}
	for id := range s.out {
		line("%s is out of service", id)
	}
	for _, o := range s.others {
		line("%s has %s open", o.Job, o.Device.ID)
	}
	line("blind %v", s.blind)
	line("halt %v, abandoned %v, failed %v, unfinished %d, active %d, closes %s", s.halt, s.abandoned,
		s.failed, s.unfinished,
		s.active, s.order.Closes.UTC())
	slices.Sort(lines)
	return lines
}
