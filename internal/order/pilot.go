package order

import "time"

// pilotGroup is the devices of one model and path. Until one of them was verified, at most one
// is started at a time: the pilot. A lockstep set counts as one.
type pilotGroup struct {
	constraint
	devices int
	members []*device
	chain   time.Duration // the longest chain among its devices
	proven  bool
	pilot   *device // it is active, or has ended and its set has not; nil: there is none
	lost    *device // a pilot that ended stranded: no other of the group starts; nil: there is none
}

// lose keeps the whole group from starting, because its pilot is stranded: what one device did not
// survive, the next one is not given.
func (s *State) lose(k *pilotGroup, d *device) {
	if k == nil || k.proven || k.pilot == nil || k.pilot != d && !k.pilot.together(d) {
		return
	}
	k.lost = d
	s.suspects = append(s.suspects, k.members...)
}

// blocks reports whether a device must wait for the pilot. One that was started before and has
// only waited for an operator does not wait for the rest of the pilot's set.
func (k *pilotGroup) blocks(d *device) bool {
	switch {
	case k.proven || k.pilot == nil || k.pilot.together(d):
		return false
	case d.question == answered:
		return k.pilot.phase == active && k.pilot.task == Update
	}
	return true
}

// choose makes a started device the pilot, if its kind needs one.
func (s *State) choose(d *device) {
	k := d.kind
	if k == nil || k.proven || k.pilot != nil || d.task != Update {
		return
	}
	k.pilot, k.free = d, 0
	if d.set == nil {
		return
	}
	for _, m := range d.set.members { // the pilot's set starts together
		if m.under == &k.constraint {
			s.index(m, nil)
		}
	}
}

// release ends a pilot's turn; another device may be the next.
func (s *State) release(k *pilotGroup) {
	k.pilot, k.free = nil, 1
	s.changed(&k.constraint)
}

// settlePilot ends the wait for the set of a pilot that has ended itself.
func (s *State) settlePilot(d *device) {
	switch k := d.kind; {
	case k == nil || k.proven || k.pilot != d:
	case d.outcome.Succeeded():
		s.prove(k)
	default:
		s.release(k)
	}
}

// prove lets the whole kind start.
func (s *State) prove(k *pilotGroup) {
	k.proven, k.pilot, k.free = true, nil, 1
	for _, d := range k.members {
		s.reprioritize(d)
	}
	s.changed(&k.constraint)
}
