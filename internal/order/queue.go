package order

import "time"

// priority decides who starts first among those that may.
type priority struct {
	rank  int           // a rollback or an answered device, then a started set, then all others
	chain time.Duration // longest first
	tie   time.Duration // shortest first
	index int           // the place in the order
}

func (p priority) before(q priority) bool {
	switch {
	case p.rank != q.rank:
		return p.rank < q.rank
	case p.chain != q.chain:
		return p.chain > q.chain
	case p.tie != q.tie:
		return p.tie < q.tie
	}
	return p.index < q.index
}

// irreversible is longer than any device takes.
const irreversible = 1000 * time.Hour

// urgency returns the priority of a device now.
//
// The longest remaining chain goes first, because a night cannot be shorter than it. While a kind
// has no proven pilot, the rest of the kind waits for one; so a possible pilot is as urgent as the
// longest chain among them. Of the possible pilots the quickest that can be rolled back is chosen.
func (d *device) urgency() priority {
	p := priority{rank: 2, chain: d.chain, index: d.priority.index}
	switch {
	case d.task == RollBack || d.question == answered:
		p.rank = 0
	case d.set != nil && d.set.started:
		p.rank = 1
	}
	if k := d.kind; k != nil && !k.proven {
		if k.devices > 1 {
			p.chain, p.tie = d.Takes+k.chain, d.Takes
		}
		if d.Returns == 0 {
			p.tie += irreversible
		}
	}
	return p
}

// queue is a heap of devices, the most urgent first. A device is in at most one queue; at is its
// place there.
type queue []*device

func (q queue) Len() int           { return len(q) }
func (q queue) Less(a, b int) bool { return q[a].priority.before(q[b].priority) }
func (q queue) Swap(a, b int) {
	q[a], q[b] = q[b], q[a]
	q[a].at, q[b].at = a, b
}
func (q *queue) Push(x any) {
	d := x.(*device)
	d.at = len(*q)
	*q = append(*q, d)
}
func (q *queue) Pop() any {
	last := len(*q) - 1
	d := (*q)[last]
	*q = (*q)[:last]
	return d
}
