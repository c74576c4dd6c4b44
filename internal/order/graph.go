package order

import "slices"

// connect builds the dependency edges. A downstream device precedes its uplink, so that the
// uplink's restart cannot interrupt a transfer that passes through it: a daisy chain goes from its
// end to its head. Where the device says First, or the order says so (After), it is the reverse.
func (s *State) connect() {
	edge := func(before, after *device) {
		before.successors = append(before.successors, after)
		after.predecessorList = append(after.predecessorList, before)
		after.predecessorsLeft++
		after.predecessors.free = 0
	}
	for i := range s.devices {
		d := &s.devices[i]
		for _, id := range d.After {
			if before := s.find(id); before != nil {
				edge(before, d)
			}
		}
		for _, id := range d.Through {
			uplink := s.find(id)
			switch {
			case uplink == nil || slices.Contains(d.After, id) || slices.Contains(uplink.After, d.ID):
			case uplink.First:
				edge(uplink, d)
			default:
				edge(d, uplink)
			}
		}
	}
}

// group finds the lockstep sets, and the kinds that have pilots.
func (s *State) group() {
	for i := range s.order.Rules.Lockstep {
		set := &lockstepSet{Set: &s.order.Rules.Lockstep[i]}
		for _, id := range set.Of {
			if m := s.find(id); m != nil && m.set == nil {
				m.set = set
				set.members = append(set.members, m)
			}
		}
	}
	if !s.order.Rules.Pilot {
		return
	}
	kinds := map[string]*pilotGroup{}
	for i := range s.devices {
		d := &s.devices[i]
		key := d.ModelAndImages()
		if kinds[key] == nil {
			kinds[key] = &pilotGroup{constraint: constraint{why: Pilot, free: 1}}
		}
		d.kind = kinds[key]
		d.kind.devices++
		d.kind.members = append(d.kind.members, d)
	}
}

// chains computes the longest chain that starts with each device; devices in a circle have none.
func (s *State) chains() {
	for _, d := range slices.Backward(s.topological()) {
		for _, next := range d.successors {
			d.chain = max(d.chain, next.chain)
			if d.set != nil && d.set == next.set {
				d.chainInSet = max(d.chainInSet, next.chainInSet)
			}
		}
		d.chain += d.Takes
		d.chainInSet += d.Takes
		if d.kind != nil {
			d.kind.chain = max(d.kind.chain, d.chain)
		}
	}
}

// topological returns the devices so that each one follows its predecessors. Those in a circle, and
// those that depend on it, are not among them.
func (s *State) topological() []*device {
	left := map[*device]int{}
	var sorted []*device
	for i := range s.devices {
		d := &s.devices[i]
		left[d] = len(d.predecessorList)
		if left[d] == 0 {
			sorted = append(sorted, d)
		}
	}
	for n := 0; n < len(sorted); n++ {
		for _, next := range sorted[n].successors {
			left[next]--
			if left[next] == 0 {
				sorted = append(sorted, next)
			}
		}
	}
	return sorted
}
