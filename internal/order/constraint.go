package order

import (
	"container/heap"
	"slices"
	"time"
)

// constraint is one thing that can keep devices from starting: a limit, a cover set, an uplink in
// use, a pilot, a predecessor. It knows the pending devices that are indexed under it.
//
// While free is 0 or less, it blocks all of them. While free is positive, it blocks those in
// blocked, which were evaluated since it last changed; those in waiting must be evaluated again.
type constraint struct {
	why     Why
	name    string // of the set, model or device
	free    int    // capacity left; constraints that do not count use 0 and 1
	waiting queue
	blocked queue // in no order
	open    bool  // it is in State.open
}

// The index of pending devices. Its invariant holds whenever Next has returned nothing:
//
//	Each pending device is blocked right now: by the parallel limit while that is reached, else by
//	the one constraint that it is indexed under. A device that nothing blocks has been started.
//
// It holds because a device leaves State.ready only by starting or by being indexed under a
// constraint that blocks it at that moment, and because every change of a constraint goes through
// changed, which makes the devices under it candidates again. Candidates are evaluated in the order
// of their priority until the capacity is used up.

// index moves a pending device under the constraint that blocks it; nil: to those that are ready.
func (s *State) index(d *device, c *constraint) {
	s.remove(d)
	d.under = c
	switch {
	case c == nil:
		d.in = &s.ready
	case c.free <= 0:
		d.in = &c.waiting
	default:
		d.in = &c.blocked
		c.blocked.Push(d)
		return
	}
	heap.Push(d.in, d)
}

// remove takes a device out of the index.
func (s *State) remove(d *device) {
	switch {
	case d.in == nil:
	case d.under != nil && d.in == &d.under.blocked:
		q := d.in
		q.Swap(d.at, len(*q)-1)
		q.Pop()
	default:
		heap.Remove(d.in, d.at)
	}
	d.in, d.under = nil, nil
}

// changed makes the devices under a constraint candidates again.
func (s *State) changed(c *constraint) {
	for _, d := range c.blocked {
		d.in = &c.waiting
		heap.Push(d.in, d)
	}
	c.blocked = c.blocked[:0]
	if c.free > 0 && !c.open && len(c.waiting) > 0 {
		c.open = true
		s.open = append(s.open, c)
	}
}

// reevaluate makes them ready even if the constraint is used up: what they need of it has changed.
func (s *State) reevaluate(c *constraint) {
	for _, d := range slices.Concat(c.waiting, c.blocked) {
		s.index(d, nil)
	}
}

// reprioritize puts a device that has become more or less urgent where it belongs.
func (s *State) reprioritize(d *device) {
	d.priority = d.urgency()
	if d.in != nil && (d.under == nil || d.in != &d.under.blocked) {
		heap.Fix(d.in, d.at)
	}
}

// candidate returns the most urgent device that may have become unblocked; nil: there is none.
func (s *State) candidate() *device {
	var best *device
	if len(s.ready) > 0 {
		best = s.ready[0]
	}
	s.open = slices.DeleteFunc(s.open, func(c *constraint) bool {
		c.open = c.free > 0 && len(c.waiting) > 0
		if c.open && (best == nil || c.waiting[0].priority.before(best.priority)) {
			best = c.waiting[0]
		}
		return !c.open
	})
	return best
}

// constraints are all constraints of an order but the predecessors of each device.
type constraints struct {
	parallel  *constraint // nil: there is no limit
	postponed constraint  // devices that are checked again later; the clock frees them
	model     map[string]*constraint
	kind      map[string]*constraint
	uplink    map[string]*constraint
	parent    map[string]*constraint
	cover     []*constraint
	coverOf   map[string][]int // the cover sets of a device, by its ID
	links     map[string]*link
}

// link is a device as others see it that are reached through it. Either it is active or devices
// downstream are, never both: an uplink that writes or restarts cuts off all that is downstream.
type link struct {
	busy       constraint // blocks what is downstream, and the device itself where another job has it
	downstream constraint // blocks the device itself while something downstream is active
	active     int        // it is active, here and in other jobs
	below      int        // active devices downstream
}

func (s *State) build() {
	r := s.order.Rules
	s.limits = constraints{postponed: constraint{why: Away}, model: map[string]*constraint{},
		kind:   map[string]*constraint{},
		uplink: map[string]*constraint{}, parent: map[string]*constraint{},
		coverOf: map[string][]int{}, links: map[string]*link{}}
	if r.Parallel > 0 {
		s.limits.parallel = &constraint{why: Parallel, free: r.Parallel}
	}
	for model, limit := range r.PerModel {
		s.limits.model[model] = &constraint{why: ModelCap, name: model, free: limit}
	}
	for kind, limit := range r.PerKind {
		s.limits.kind[kind] = &constraint{why: KindCap, name: kind, free: limit}
	}
	for id, limit := range r.PerParent {
		s.limits.parent[id] = &constraint{why: ParentCap, name: id, free: limit}
	}
	for i, set := range r.Cover {
		c := &constraint{why: CoverSet, name: set.Name, free: len(set.Of) - set.Keep}
		s.limits.cover = append(s.limits.cover, c)
		for _, id := range set.Of {
			s.limits.coverOf[id] = append(s.limits.coverOf[id], i)
			if s.out[id] {
				c.free--
			}
		}
	}
	for i := range s.devices {
		d := &s.devices[i]
		s.link(d.ID)
		for _, id := range d.Through {
			s.link(id)
			s.below[id] = append(s.below[id], i)
		}
	}
}

// link returns the link of a device.
func (s *State) link(id string) *link {
	l := s.limits.links[id]
	if l == nil {
		l = &link{busy: constraint{why: Busy, name: id, free: 1},
			downstream: constraint{why: Busy, name: id, free: 1}}
		s.limits.links[id] = l
	}
	return l
}

// claim is how much of a constraint a device takes while it is active.
type claim struct {
	of *constraint
	n  int
}

// capacity returns what a device takes of the limits.
func (s *State) capacity(d *Device) []claim {
	claims := make([]claim, 0, 4+len(d.Through))
	if c := s.limits.parallel; c != nil {
		claims = append(claims, claim{c, 1})
	}
	if c := s.limits.model[d.Model]; c != nil {
		claims = append(claims, claim{c, 1})
	}
	if c := s.limits.kind[d.Kind]; c != nil {
		claims = append(claims, claim{c, 1})
	}
	if c := s.limits.parent[d.Parent]; c != nil {
		claims = append(claims, claim{c, 1})
	}
	if limit := s.order.Rules.PerUplink; limit > 0 {
		for _, id := range d.Through {
			if s.limits.uplink[id] == nil {
				s.limits.uplink[id] = &constraint{why: UplinkCap, name: id, free: limit}
			}
			claims = append(claims, claim{s.limits.uplink[id], 1})
		}
	}
	return claims
}

// cover returns what a device takes of the cover sets: of each as many as are then out of service
// that are in service now, itself and those that it feeds.
func (s *State) cover(d *Device) []claim {
	var claims []claim
	for _, id := range s.takesOut(d) {
		if s.out[id] {
			continue
		}
		for _, i := range s.limits.coverOf[id] {
			c := s.limits.cover[i]
			if at := slices.IndexFunc(claims, func(o claim) bool { return o.of == c }); at >= 0 {
				claims[at].n++
				continue
			}
			claims = append(claims, claim{c, 1})
		}
	}
	return claims
}

// takesOut returns the IDs of the devices that are out of service while one is active.
func (s *State) takesOut(d *Device) []string {
	ids := []string{d.ID}
	for _, id := range s.order.Rules.Feeds[d.ID] {
		if !slices.Contains(ids, id) {
			ids = append(ids, id)
		}
	}
	return ids
}

// blocker returns the constraint that keeps a device from its next action now; nil: nothing does.
func (s *State) blocker(d *device, now time.Time) *constraint {
	if now.Before(d.until) {
		return &s.limits.postponed
	}
	if d.question == none && d.predecessorsLeft > 0 {
		return &d.predecessors
	}
	if k := d.kind; k != nil && d.task == Update && k.blocks(d) {
		return &k.constraint
	}
	if d.question == answered { // it still has its path and its share of the cover sets
		return short(s.capacity(&d.Device))
	}
	own := s.link(d.ID)
	if own.active > 0 {
		return &own.busy
	}
	if own.below > 0 {
		return &own.downstream
	}
	for _, id := range d.Through {
		if l := s.link(id); l.active > 0 {
			return &l.busy
		}
	}
	if c := short(s.capacity(&d.Device)); c != nil {
		return c
	}
	return short(s.cover(&d.Device))
}

// short returns the first constraint that has less left than is claimed.
func short(claims []claim) *constraint {
	for _, c := range claims {
		if c.of.free < c.n {
			return c.of
		}
	}
	return nil
}

// occupy takes what a device needs while it is active.
func (s *State) occupy(d *Device, claims []claim) {
	for _, c := range claims {
		c.of.free -= c.n
	}
	own := s.link(d.ID)
	own.active++
	own.busy.free = 0
	for _, id := range d.Through {
		l := s.link(id)
		l.below++
		l.downstream.free = 0
	}
}

// vacate gives it back.
func (s *State) vacate(d *Device, claims []claim) {
	s.free(claims)
	own := s.link(d.ID)
	if own.active--; own.active == 0 {
		own.busy.free = 1
		s.changed(&own.busy)
	}
	for _, id := range d.Through {
		l := s.link(id)
		if l.below--; l.below == 0 {
			l.downstream.free = 1
			s.changed(&l.downstream)
		}
	}
}

func (s *State) free(claims []claim) {
	for _, c := range claims {
		c.of.free += c.n
		s.changed(c.of)
	}
}

// takeOut has devices leave service for good; what others need of their cover sets shrinks.
func (s *State) takeOut(ids []string) {
	for _, id := range ids {
		if s.out[id] {
			continue
		}
		s.out[id] = true
		for _, i := range s.limits.coverOf[id] {
			s.limits.cover[i].free--
			s.reevaluate(s.limits.cover[i])
		}
	}
}

// bringBack has a device return to service.
func (s *State) bringBack(id string) {
	if !s.out[id] {
		return
	}
	delete(s.out, id)
	for _, i := range s.limits.coverOf[id] {
		s.limits.cover[i].free++
		s.changed(s.limits.cover[i])
	}
}

// foreign is a device that another job has open, and what it takes.
type foreign struct {
	Foreign
	claims []claim
}

// otherJobs replaces what other jobs have open.
func (s *State) otherJobs(now []Foreign) {
	before := s.others
	s.others = nil
	for _, o := range now {
		f := foreign{o, slices.Concat(s.capacity(&o.Device), s.cover(&o.Device))}
		s.others = append(s.others, f)
		s.occupy(&f.Device, f.claims)
	}
	for _, f := range before {
		s.vacate(&f.Device, f.claims)
	}
}
