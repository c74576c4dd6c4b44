package order

import "slices"

// lockstepSet is the progress of a lockstep set.
type lockstepSet struct {
	*Set
	members []*device
	started bool        // a member was started, and not all were postponed
	written bool        // a member is about to get its first byte, or got it
	failed  []string    // names of members
	levels  [][]*device // members that are still to be rolled back, uplinks first
	planned bool        // levels was computed
}

// endOfMember handles the end of a member. All or none: once one has not succeeded, pending members
// are skipped, and when no member is active any more, those that were written to are rolled back,
// in the opposite order: an uplink first. Devices outside the set wait until all of it has ended.
//
//	hub-1 with handset-1 … 3, where handset-2 fails
//	handset-1 ── succeeded ─────────────────────────────┐      ┌─ rollback ─
//	handset-2 ── returned ─ the set has failed          │      │
//	handset-3 ───────────── succeeded ──────────────────┴──────┴─ rollback ─
//	hub-1                   is skipped: it was not started
func (s *State) endOfMember(d *device, active bool) {
	set := d.set
	if d.task == Update {
		for _, next := range d.successors {
			if next.set == set {
				s.predecessorEnded(next)
			}
		}
		if !d.outcome.Succeeded() {
			if active || len(set.failed) == 0 { // not those that are skipped because of it
				set.failed = append(set.failed, d.Name)
			}
			s.suspects = append(s.suspects, set.members...)
		}
	}
	if slices.ContainsFunc(set.members, func(m *device) bool { return m.phase != finished }) {
		return
	}
	if len(set.failed) > 0 && !set.planned {
		set.levels, set.planned = rollbackLevels(set), true
	}
	if len(set.levels) == 0 {
		for _, m := range set.members {
			s.settle(m)
		}
		return
	}
	level := set.levels[0]
	set.levels = set.levels[1:]
	for _, m := range level {
		m.phase, m.task = pending, RollBack
		m.predecessorsLeft, m.predecessors.free = 0, 1
		s.unfinished++
		s.reprioritize(m)
		s.index(m, nil)
		s.suspects = append(s.suspects, m)
	}
}

// rollbackLevels returns the members that a failed set must roll back: those that were written to,
// can be reached, and are not back on their previous version.
func rollbackLevels(set *lockstepSet) [][]*device {
	levels := map[int][]*device{}
	for _, m := range set.members {
		if o := m.outcome; o.Written && o.Reachable && !o.Stranded() && o.Runs != Previous {
			levels[len(m.Through)] = append(levels[len(m.Through)], m)
		}
	}
	var out [][]*device
	for _, depth := range sortedKeys(levels) {
		out = append(out, levels[depth])
	}
	return out
}

// toCheck returns the other members of a device's set if the device is the first to start and none
// was written to: it then checks all of them before one is changed.
func (d *device) toCheck() (ids []string) {
	for _, m := range d.set.members {
		switch {
		case m == d:
		case m.phase == active || m.outcome.Written:
			return nil
		default:
			ids = append(ids, m.ID)
		}
	}
	return ids
}
