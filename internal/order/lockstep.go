package order

// set is a lockstep set on its way.
type set struct {
	*Set
	members []int
	begun   bool
	failed  []string // members, by name
	back    [][]int  // members that return, those that others are reached through first
}

// endOfMember takes the end of a member of a lockstep set. All or none: where one is not well,
// those that have not begun are left, and when nobody is at work any more, those that were
// changed return, in the order opposite to that in which they went: what others are reached
// through first. For others the set has ended when all of it has.
//
//	hub-1 with handset-1 … 3, where handset-2 fails
//	handset-1 ── well ──────────────────────────────────┐      ┌─ return ─
//	handset-2 ── returned ─ the set has failed           │      │
//	handset-3 ────────────── well ───────────────────────┴──────┴─ return ─
//	hub-1                    is left: it has not begun
func (s *State) endOfMember(i int, begun bool) {
	w := &s.work[i]
	in := w.set
	for _, j := range w.then {
		if s.work[j].set == in && w.do == Flash {
			s.release(j)
		}
	}
	if w.outcome != Well && w.do == Flash {
		if len(in.failed) == 0 {
			for _, m := range in.members {
				s.makeReady(m) // to be left
			}
		}
		if begun || len(in.failed) == 0 { // not those that are left because of it
			in.failed = append(in.failed, w.Name)
		}
	}
	for _, m := range in.members {
		if s.work[m].phase != ended {
			return
		}
	}
	if len(in.failed) > 0 && in.back == nil {
		in.back = s.backwards(in)
	}
	if len(in.back) > 0 {
		level := in.back[0]
		in.back = in.back[1:]
		for _, m := range level {
			s.work[m].phase, s.work[m].do, s.work[m].open = waiting, Return, 0
			s.left++
			s.makeReady(m)
		}
		return
	}
	for _, m := range in.members {
		s.settle(m)
	}
}

// toLookAt are the other members of a device's set, where nothing was changed on one of them and
// none is at work: then the device is the first, and looks at all before it is changed.
func (s *State) toLookAt(i int) (ids []string) {
	for _, m := range s.work[i].set.members {
		switch w := &s.work[m]; {
		case m == i:
		case w.phase == working || w.touched:
			return nil
		default:
			ids = append(ids, w.ID)
		}
	}
	return ids
}

// backwards are the changed members of a set, in levels.
func (s *State) backwards(in *set) [][]int {
	levels := map[int][]int{}
	for _, m := range in.members {
		w := &s.work[m]
		if w.outcome == Well && w.touched {
			levels[len(w.Through)] = append(levels[len(w.Through)], m)
		}
	}
	out := [][]int{}
	for _, depth := range sortedKeys(levels) {
		out = append(out, levels[depth])
	}
	return out
}
