package order

import (
	"cmp"
	"container/heap"
	"slices"
	"time"
)

// Span is a device at work in a forecast, or left.
type Span struct {
	Device     string
	Do         Do
	Start, End time.Time // the same for one that is left
	Outcome    Outcome
	Why        *Reason // of Leave
}

// Schedule is what is expected of an order.
type Schedule struct {
	Start, End time.Time
	Spans      []Span // in the order in which they begin
	// Bound is the shortest that any sequence could take, and BoundBy what makes it so.
	Bound   time.Duration
	BoundBy string
}

// Ratio is how much longer than the bound the schedule takes; 1: it cannot be shorter.
func (p Schedule) Ratio() float64 {
	if p.Bound <= 0 {
		return 1
	}
	return float64(p.End.Sub(p.Start)) / float64(p.Bound)
}

// Draw says how a device fares in a forecast: how long it is at work, and how it ends.
type Draw func(d Device, do Do) (takes time.Duration, end Event)

// AsExpected is a Draw in which each device takes what it is expected to and ends well.
func AsExpected(d Device, do Do) (time.Duration, Event) {
	if do == Return {
		return d.Returns, Event{Outcome: AsBefore, Touched: true}
	}
	return d.Takes, Event{Outcome: Well, Touched: true}
}

// Forecast is what is expected of an order that begins at a time. Its error is a
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

// Rest is what is to come of a state, from a time on. It uses the state up: it is at its end
// afterwards. Devices that are at work end as they are drawn, but not in the past.
func (s *State) Rest(now time.Time, draw Draw) (Schedule, error) {
	p := Schedule{Start: now, End: now}
	var ends endings
	for _, i := range sortedKeys(s.atWork) {
		w := &s.work[i]
		takes, end := draw(w.Device, w.do)
		end.At, end.Kind, end.Device = w.since.Add(takes), Ended, w.ID
		if end.At.Before(now) {
			end.At = now
		}
		heap.Push(&ends, ending{end, len(p.Spans)})
		p.Spans = append(p.Spans, Span{Device: w.ID, Do: w.do, Start: w.since, End: end.At,
			Outcome: end.Outcome})
	}
	for {
		for {
			a, ok := s.Next(now)
			if !ok {
				break
			}
			d := s.work[s.index[a.Device]].Device
			if a.Do == Leave {
				end := Event{At: now, Kind: Ended, Device: d.ID, Outcome: a.Left()}
				p.Spans = append(p.Spans, Span{Device: d.ID, Do: Leave, Start: now, End: now,
					Outcome: end.Outcome, Why: a.Why})
				if err := s.Apply(end); err != nil {
					return p, err
				}
				continue
			}
			if err := s.Apply(Event{At: now, Kind: Began, Device: d.ID, Do: a.Do}); err != nil {
				return p, err
			}
			takes, end := draw(d, a.Do)
			end.At, end.Kind, end.Device = now.Add(takes), Ended, d.ID
			heap.Push(&ends, ending{end, len(p.Spans)})
			p.Spans = append(p.Spans, Span{Device: d.ID, Do: a.Do, Start: now, End: end.At,
				Outcome: end.Outcome})
		}
		if ends.Len() == 0 {
			return p, nil
		}
		e := heap.Pop(&ends).(ending)
		now = e.At
		p.End = now
		if err := s.Apply(e.Event); err != nil {
			return p, err
		}
	}
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
	for i := range s.work {
		larger(s.work[i].chain, "the chain from "+s.work[i].Name)
	}
	of := map[*pilotGroup][]*work{}
	for i := range s.work {
		if k := s.work[i].pilots; k != nil && k.devices > 1 {
			of[k] = append(of[k], &s.work[i])
		}
	}
	for _, all := range of {
		larger(pilotBound(all), "the pilot of "+all[0].Model)
	}
	for l, work := range s.workload() {
		larger(work/time.Duration(l.free)+s.idle(l), l.describe())
	}
	return bound, by, nil
}

// pilotBound is the shortest for a kind: one goes first, and all others of its kind wait for
// its end. Members of a lockstep set go as one, so where there is one nothing is known.
func pilotBound(of []*work) time.Duration {
	if slices.ContainsFunc(of, func(w *work) bool { return w.set != nil }) {
		return 0
	}
	slices.SortFunc(of, func(a, b *work) int { return cmp.Compare(b.chain, a.chain) })
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

// workload is the work that must pass each line that counts.
func (s *State) workload() map[*line]time.Duration {
	out := map[*line]time.Duration{}
	for i := range s.work {
		w := &s.work[i]
		for _, u := range s.claims(&w.Device) {
			if u.line.free > 0 {
				out[u.line] += time.Duration(u.n) * w.Takes
			}
		}
	}
	return out
}

// idle is what of the parallel cap cannot be used while all kinds wait for their pilots: until
// the first of them can have ended, no more than the pilots are at work.
func (s *State) idle(l *line) time.Duration {
	if l != s.lines.parallel {
		return 0
	}
	groups := map[*pilotGroup]bool{}
	quickest := time.Duration(-1)
	for i := range s.work {
		k := s.work[i].pilots
		if k == nil || s.work[i].set != nil {
			return 0
		}
		groups[k] = true
		if quickest < 0 || s.work[i].Takes < quickest {
			quickest = s.work[i].Takes
		}
	}
	unused := max(0, l.free-len(groups))
	return quickest * time.Duration(unused) / time.Duration(l.free)
}

func (l *line) describe() string {
	switch l.why {
	case Parallel:
		return "the work, so many at a time"
	case ModelCap:
		return "the cap of " + l.name
	case UplinkCap:
		return "the cap of an uplink"
	case ParentCap:
		return "so many at a time behind their parent"
	}
	return "cover set " + l.name
}
