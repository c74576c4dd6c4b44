package order

import (
	"fmt"
	"slices"
	"strconv"
	"time"
)

// Violation holds a state at which Next has returned nothing against its invariant, with all
// capacities counted again from the devices. It returns the first contradiction.
func Violation(s *State, now time.Time) string {
	for i := range s.devices {
		d := &s.devices[i]
		waits := d.phase == pending || d.question == answered
		switch {
		case !waits && d.in != nil:
			return d.ID + " is indexed and not waiting"
		case waits && (d.in == nil || (*d.in)[d.at] != d):
			return d.ID + " waits and is not where the index says"
		case waits && d.under == nil && !s.parallelReached():
			return d.ID + " waits, and nothing blocks it"
		case waits && d.under != nil && !s.parallelReached() && !s.blocksNow(d.under, d, now):
			return fmt.Sprintf("%s is indexed under %s %s, which does not block it", d.ID, d.under.why,
				d.under.name)
		case waits && d.question == none && s.never(d, now) != nil:
			return fmt.Sprintf("%s never starts, because %s, and was not skipped", d.ID, s.never(d, now))
		case d.priority != d.urgency():
			return d.ID + " has an old priority"
		}
	}
	for _, c := range s.all() {
		if want := s.left(c); c.free != want {
			return fmt.Sprintf("%s %s has %d left, not %d", c.why, c.name, c.free, want)
		}
	}
	return ""
}

// StateHash identifies what a state will do from here.
func StateHash(s *State) string {
	yes := func(b bool) byte {
		if b {
			return '1'
		}
		return '0'
	}
	out := []byte{yes(s.halt != nil), yes(s.abandoned), byte('0' + len(s.failed)),
		byte('0' + len(s.others))}
	for i := range s.devices {
		d := &s.devices[i]
		o := d.outcome
		out = append(out, '|', byte('0'+d.phase), d.task[0], byte('0'+d.question), yes(o.Reachable),
			yes(o.Verified),
			yes(o.Written), yes(d.removed != nil))
		out = append(out, o.Runs...)
		out = strconv.AppendInt(out, d.until.Unix(), 10)
		if d.kind != nil {
			out = append(out, yes(d.kind.proven), yes(d.kind.pilot == d))
		}
		if d.set != nil {
			out = append(out, yes(d.set.started), yes(d.set.written), byte('0'+len(d.set.failed)),
				byte('0'+len(d.set.levels)))
		}
	}
	return string(out)
}

func (s *State) parallelReached() bool {
	c := s.limits.parallel
	return c != nil && s.left(c) <= 0
}

func (s *State) all() []*constraint {
	all := slices.Clone(s.limits.cover)
	if s.limits.parallel != nil {
		all = append(all, s.limits.parallel)
	}
	for _, m := range []map[string]*constraint{s.limits.model, s.limits.uplink, s.limits.parent} {
		for _, c := range m {
			all = append(all, c)
		}
	}
	for _, l := range s.limits.links {
		all = append(all, &l.busy, &l.downstream)
	}
	for i := range s.devices {
		all = append(all, &s.devices[i].predecessors)
	}
	return all
}

// left counts the free capacity of a constraint, from the devices alone.
func (s *State) left(c *constraint) int {
	one := func(yes bool) int {
		if yes {
			return 1
		}
		return 0
	}
	holders, path := []*Device{}, []*Device{}
	for i := range s.devices {
		if d := &s.devices[i]; d.phase == active {
			path = append(path, &d.Device)
			if d.question == none {
				holders = append(holders, &d.Device)
			}
		}
	}
	for i := range s.others {
		path, holders = append(path, &s.others[i].Device), append(holders, &s.others[i].Device)
	}
	count := func(all []*Device, is func(*Device) bool) (n int) {
		for _, d := range all {
			n += one(is(d))
		}
		return n
	}
	r := s.order.Rules
	switch c.why {
	case Parallel:
		return r.Parallel - len(holders)
	case ModelCap:
		return r.PerModel[c.name] - count(holders, func(d *Device) bool { return d.Model == c.name })
	case KindCap:
		return r.PerKind[c.name] - count(holders, func(d *Device) bool { return d.Kind == c.name })
	case ParentCap:
		return r.PerParent[c.name] - count(holders, func(d *Device) bool { return d.Parent == c.name })
	case UplinkCap:
		return r.PerUplink - count(holders, func(d *Device) bool {
			return slices.Contains(d.Through,
				c.name)
		})
	case Busy:
		l := s.limits.links[c.name]
		if c == &l.busy {
			return one(!slices.ContainsFunc(path, func(d *Device) bool { return d.ID == c.name }))
		}
		return one(!slices.ContainsFunc(path, func(d *Device) bool {
			return slices.Contains(d.Through,
				c.name)
		}))
	case Explicit:
		return one(s.find(c.name).predecessorsLeft == 0)
	}
	return c.free // cover sets: uncovered of the property tests counts them
}

// blocksNow reports whether a constraint blocks a device, as far as that can be told without asking
// the constraint itself.
func (s *State) blocksNow(c *constraint, d *device, now time.Time) bool {
	switch c.why {
	case Away:
		return now.Before(d.until)
	case Pilot:
		k := d.kind
		return !k.proven && k.pilot != nil && !k.pilot.together(d)
	case CoverSet:
		for _, claim := range s.cover(&d.Device) {
			if claim.of == c {
				return claim.n > c.free
			}
		}
		return false
	}
	return s.left(c) <= 0
}
