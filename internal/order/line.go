package order

import (
	"container/heap"
	"time"
)

// queue holds devices, the most urgent one first. A device may lie in several queues, and in
// one that it has no business in any more, and how urgent it is may have changed: who takes it
// out looks at what it is by then.
type queue []entry

type entry struct {
	device int
	rank   int           // a return, then the rest of a set that has begun, then all others
	chain  time.Duration // longest first
	tie    time.Duration // shortest first
}

func (q queue) Len() int { return len(q) }
func (q queue) Less(a, b int) bool {
	x, y := q[a], q[b]
	switch {
	case x.rank != y.rank:
		return x.rank < y.rank
	case x.chain != y.chain:
		return x.chain > y.chain
	case x.tie != y.tie:
		return x.tie < y.tie
	}
	return x.device < y.device
}
func (q queue) Swap(a, b int) { q[a], q[b] = q[b], q[a] }
func (q *queue) Push(x any)   { *q = append(*q, x.(entry)) }
func (q *queue) Pop() any {
	last := len(*q) - 1
	x := (*q)[last]
	*q = (*q)[:last]
	return x
}

// line is where devices wait for one thing: room under a cap or in a cover set, the proof of
// a pilot, a way that is in use. Those whose line moves are looked at again, and only those:
// that is why a step of a night with ten thousand devices costs what a step of one with ten
// does.
type line struct {
	why   Why
	name  string // of the set, model or uplink
	free  int    // how many more may be at work; see limits for lines that do not count
	queue queue
	aside []int // those that need more of it than was free when they were looked at
}

// A use is how much of a line a device takes while it is at work.
type use struct {
	line *line
	n    int
}

// way is what leads through one uplink. Either it is at work or some behind it are, never
// both: what writes or restarts cuts off all that is behind it.
type way struct {
	line
	at     int // the uplink is at work, so many times: here, and in other jobs
	behind int // so many behind it are at work
}

// put queues a device at a line.
func (s *State) put(l *line, device int) { heap.Push(&l.queue, s.entry(device)) }

// wake takes the most urgent of a line that may go on to those that are looked at next. It
// takes one only: if that cannot begin after all, Next wakes another one. It passes over those
// that have begun meanwhile, or that are looked at anyway.
func (s *State) wake(l *line) {
	for l != nil && l.free > 0 && l.queue.Len() > 0 {
		e := heap.Pop(&l.queue).(entry)
		w := &s.work[e.device]
		switch now := s.entry(e.device); {
		case w.phase != waiting && w.asking != comes || w.from != nil:
		case now != e: // another one may be more urgent by now
			heap.Push(&l.queue, now)
		default:
			w.from = l
			s.makeReady(e.device)
			return
		}
	}
}

// freed is wake for a line that has more room than before.
func (s *State) freed(l *line) {
	for _, device := range l.aside {
		s.put(l, device)
	}
	l.aside = nil
	s.wake(l)
}

// wakeAll does so with all of a line.
func (s *State) wakeAll(l *line) {
	for _, device := range l.aside {
		s.makeReady(device)
	}
	l.aside = nil
	for l.queue.Len() > 0 {
		s.makeReady(heap.Pop(&l.queue).(entry).device)
	}
}

// noReturn is more than any device takes.
const noReturn = 1000 * time.Hour

// makeReady has a device looked at by Next.
func (s *State) makeReady(device int) {
	heap.Push(&s.ready, s.entry(device))
	s.stuck = min(s.stuck, device)
}

// entry is how urgent a device is now.
//
// The longest remaining chain goes first: what is left of a night cannot be shorter than it.
// While a pilot is out, the others of its kind wait for it; so whoever may become the pilot
// is as urgent as the longest chain among them. Of those that can be returned the quickest
// is taken.
func (s *State) entry(device int) entry {
	w := &s.work[device]
	e := entry{device: device, rank: 2, chain: w.chain}
	switch {
	case w.do == Return || w.asking == comes:
		e.rank = 0
	case w.set != nil && w.set.begun:
		e.rank = 1
	}
	if k := w.pilots; k != nil && !k.proven {
		e.chain, e.tie = w.Takes+k.chain, w.Takes
		if k.devices == 1 {
			e.chain, e.tie = w.chain, 0
		}
		if w.Returns == 0 { // one that can be returned is the better pilot
			e.tie += noReturn
		}
	}
	return e
}
