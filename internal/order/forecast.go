package order

import (
	"cmp"
	"container/heap"
	"fmt"
	"slices"
	"time"
)

// Span is the task of a device in a forecast, or its skip.
type Span struct {
	Device     string
	Task       Task
	Start, End time.Time // the same for one that is skipped
	Outcome    Outcome
	Why        *Reason // of Skip
}

// Schedule is what is expected of an order.
type Schedule struct {
	Start, End time.Time
	Spans      []Span // in the order in which they start
	// Bound is the shortest that any sequence could take; BoundBy is what makes it so.
	Bound   time.Duration
	BoundBy string
}

// Late returns the IDs of the devices that would not finish before the window closes.
func (p Schedule) Late() (ids []string) {
	for _, s := range p.Spans {
		if s.Why != nil && s.Why.Why == Window {
			ids = append(ids, s.Device)
		}
	}
	return ids
}

// Ratio is how much longer than the bound the schedule takes; 1: it cannot be shorter.
func (p Schedule) Ratio() float64 {
	if p.Bound <= 0 {
		return 1
	}
	return float64(p.End.Sub(p.Start)) / float64(p.Bound)
}

// Draw returns how a device does in a forecast: how long it is active, and how it ends.
type Draw func(d Device, task Task) (takes time.Duration, end Event)

// Verified is the outcome of a device that was written to and verified on a version.
func Verified(runs Firmware) Outcome {
	return Outcome{Runs: runs, Reachable: true, Verified: true, Written: true}
}

// AsExpected is a Draw in which each device takes as long as expected and is verified.
func AsExpected(d Device, task Task) (time.Duration, Event) {
	if task == RollBack {
		return d.Returns, Event{Outcome: Verified(Previous)}
	}
	return d.Takes, Event{Outcome: Verified(Target)}
}

// Forecast is what is expected of an order that starts at a time. Its error is a
// *Contradictions.
func Forecast(o Order, start time.Time) (Schedule, error) {
	p, err := Play(o, start, AsExpected)
	if err != nil {
		return p, err
	}
	p.Bound, p.BoundBy, err = Bound(o)
	return p, err
}

// Play runs an order on a virtual clock.
func Play(o Order, start time.Time, draw Draw) (Schedule, error) {
	s, err := New(o)
	if err != nil {
		return Schedule{}, err
	}
	return s.Rest(start, draw)
}

// Rest returns what is expected from a time on. It uses the state up. Devices that are active end
// as they are drawn, but not in the past.
func (s *State) Rest(now time.Time, draw Draw) (Schedule, error) {
	f := forecast{state: s, draw: draw, Schedule: Schedule{Start: now, End: now}}
	for i := range s.devices {
		if d := &s.devices[i]; d.phase == active {
			f.add(d, d.task, d.startedAt, now)
		}
	}
	for {
		for {
			a, ok := s.Next(now)
			if !ok {
				break
			}
			if err := f.take(a, now); err != nil {
				return f.Schedule, err
			}
		}
		if f.endings.Len() == 0 {
			return f.Schedule, nil
		}
		e := heap.Pop(&f.endings).(ending)
		now = e.At
		f.End = now
		if err := s.Apply(e.Event); err != nil {
			return f.Schedule, err
		}
	}
}

// forecast is a Schedule in the making.
type forecast struct {
	Schedule
	state   *State
	draw    Draw
	endings endings
}

// add schedules the end of a task that started at a time, but not before now.
func (f *forecast) add(d *device, task Task, start, now time.Time) {
	takes, end := f.draw(d.Device, task)
	end.At, end.Kind, end.Device = start.Add(takes), Ended, d.ID
	if end.At.Before(now) {
		end.At = now
	}
	heap.Push(&f.endings, ending{end, len(f.Spans)})
	f.Spans = append(f.Spans, Span{Device: d.ID, Task: task, Start: start, End: end.At,
		Outcome: end.Outcome})
}

// take carries out an action.
func (f *forecast) take(a Action, now time.Time) error {
	switch a.Task {
	case Skip:
		f.Spans = append(f.Spans, Span{Device: a.Device, Task: Skip, Start: now, End: now,
			Outcome: a.Skipped(), Why: a.Why})
		return f.state.Apply(Event{At: now, Kind: Ended, Device: a.Device, Outcome: a.Skipped()})
	case SettlePilot:
		return f.state.Apply(Event{At: now, Kind: PilotSettled, Device: a.Device})
	case Continue: // its end is scheduled already
		return f.state.Apply(Event{At: now, Kind: Continued, Device: a.Device})
	}
	if err := f.state.Apply(Event{At: now, Kind: Started, Device: a.Device,
		Task: a.Task}); err != nil {
		return err
	}
	f.add(f.state.find(a.Device), a.Task, now, now)
	return nil
}

// endings are what is to come, the soonest first.
type endings []ending

type ending struct {
	Event
	n int
}

func (e endings) Len() int           { return len(e) }
func (e endings) Less(a, b int) bool { return cmp.Or(e[a].At.Compare(e[b].At), e[a].n-e[b].n) < 0 }
func (e endings) Swap(a, b int)      { e[a], e[b] = e[b], e[a] }
func (e *endings) Push(x any)        { *e = append(*e, x.(ending)) }
func (e *endings) Pop() any {
	last := len(*e) - 1
	x := (*e)[last]
	*e = (*e)[:last]
	return x
}

// Bound is how long an order takes at least, whatever the sequence, and what makes it so. It
// is the largest of these:
//
//	the longest chain            devices of which each waits for the end of the one before
//	a pilot and what waits       the quickest of a kind, then the longest chain of the others
//	the work under a cap         all work, divided by how much may be done at the same time
//	the work in a cover set      the same, with as many as may be out of service
//
// For example three cameras of 4, 5 and 6 minutes, two at a time, and no pilot: the work under
// the cap is 15 minutes for two, so 7:30; no sequence is better than 9 (4+5 beside 6), and the
// bound says only that none is better than 7:30.
func Bound(o Order) (time.Duration, string, error) {
	s, err := New(o)
	if err != nil {
		return 0, "", err
	}
	bound, by := time.Duration(0), ""
	larger := func(d time.Duration, what string) {
		if d > bound {
			bound, by = d, what
		}
	}
	for i := range s.devices {
		larger(s.devices[i].chain, "the chain from "+s.devices[i].Name)
	}
	of := map[*pilotGroup]bool{}
	for i := range s.devices {
		if k := s.devices[i].kind; k != nil && k.devices > 1 && !of[k] {
			of[k] = true
			larger(pilotBound(k.members), "the pilot of "+s.devices[i].Model)
		}
	}
	for c, work := range s.workload() {
		larger(work/time.Duration(c.free)+s.idle(c), s.describe(c))
	}
	return bound, by, nil
}

// pilotBound is the shortest for a kind: one goes first, and all others of its kind wait for
// its end. Members of a lockstep set go as one, so where there is one nothing is known.
func pilotBound(members []*device) time.Duration {
	if slices.ContainsFunc(members, func(d *device) bool { return d.set != nil }) {
		return 0
	}
	of := slices.Clone(members)
	slices.SortFunc(of, func(a, b *device) int { return cmp.Compare(b.chain, a.chain) })
	best := time.Duration(-1)
	for i, pilot := range of {
		next := of[0]
		if i == 0 {
			next = of[1]
		}
		if d := max(pilot.chain, pilot.Takes+next.chain); best < 0 || d < best {
			best = d
		}
	}
	return best
}

// workload returns the work that must pass each constraint that counts.
func (s *State) workload() map[*constraint]time.Duration {
	out := map[*constraint]time.Duration{}
	for i := range s.devices {
		d := &s.devices[i].Device
		for _, c := range slices.Concat(s.capacity(d), s.cover(d)) {
			if c.of.free > 0 {
				out[c.of] += time.Duration(c.n) * d.Takes
			}
		}
	}
	return out
}

// idle returns what of the parallel limit cannot be used while all kinds wait for their pilots:
// until the first of them can have ended, only pilots are active.
func (s *State) idle(c *constraint) time.Duration {
	if c != s.limits.parallel {
		return 0
	}
	kinds := map[*pilotGroup]bool{}
	quickest := time.Duration(-1)
	for i := range s.devices {
		d := &s.devices[i]
		if d.kind == nil || d.set != nil {
			return 0
		}
		kinds[d.kind] = true
		if quickest < 0 || d.Takes < quickest {
			quickest = d.Takes
		}
	}
	unused := max(0, c.free-len(kinds))
	return quickest * time.Duration(unused) / time.Duration(c.free)
}

func (s *State) describe(c *constraint) string {
	switch c.why {
	case Parallel:
		return fmt.Sprintf("the limit of %d at a time", s.order.Rules.Parallel)
	case ModelCap:
		return fmt.Sprintf("the limit of %d %s at a time", s.order.Rules.PerModel[c.name], c.name)
	case KindCap:
		return fmt.Sprintf("the limit of %d of kind %s at a time", s.order.Rules.PerKind[c.name],
			c.name)
	case UplinkCap:
		return fmt.Sprintf("the limit of %d at a time through %s", s.order.Rules.PerUplink,
			s.name(c.name))
	case ParentCap:
		return fmt.Sprintf("the limit of %d at a time behind %s", s.order.Rules.PerParent[c.name],
			s.name(c.name))
	}
	return "cover set " + c.name
}
