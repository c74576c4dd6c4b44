package order

import (
	"cmp"
	"container/heap"
	"fmt"
	"slices"
	"time"
)

// State is an order, and how far its devices are. It is for one goroutine.
type State struct {
	order  Order
	work   []work
	index  map[string]int // by ID
	ready  queue          // those that may be able to begin
	lines  lines
	out    map[string]bool // out of service, by ID
	others []other
	halt   *Reason // nothing more begins
	failed []string
	atWork map[int]bool
	left   int   // how many have not ended
	later  []int // postponed
	slow   []int // all, those first that need longest
	due    int   // so many of them need longer than is left of the window
	stuck  int   // the first that may be left because nothing can move any more
}

// work is one device on its way.
type work struct {
	Device
	phase   phase
	do      Do        // what it begins with, or has begun with
	until   time.Time // it is postponed
	because string    // why
	since   time.Time // when it began
	outcome Outcome
	touched bool
	before  []int         // who must have ended before it
	open    int           // how many of those have not
	then    []int         // who waits for its end
	chain   time.Duration // it, and the longest chain of those that wait for it
	within  time.Duration // the same within its lockstep set
	uses    []use         // what it holds while it is at work
	asking  asking        // at work, it waits for a person
	from    *line         // the line that it was woken from
	set     *set          // its lockstep set, if any
	pilots  *pilotGroup   // its model and image
}

type phase int

const (
	waiting phase = iota
	working
	ended
)

// asking is how far a device at work is that has asked a person for something.
type asking int

const (
	no    asking = iota
	asks         // it waits for the person
	comes        // it waits for a place
)

// pilotGroup is a model and its images: its first device is the pilot.
type pilotGroup struct {
	line
	devices int
	chain   time.Duration // the longest among its devices
	proven  bool
	pilot   int  // a device that is at work, or was, and is not settled
	out     bool // there is a pilot
}

// New begins an order. Its error is a *Contradictions.
func New(o Order) (*State, error) {
	s := &State{order: o, index: map[string]int{}, out: map[string]bool{},
		atWork: map[int]bool{}, left: len(o.Devices)}
	for i, d := range o.Devices {
		s.index[d.ID] = i
		s.work = append(s.work, work{Device: d, do: Flash})
	}
	for id := range o.Rules.Out {
		s.out[id] = true
	}
	s.connect()
	s.group()
	s.draw()
	s.chains()
	if wrong := s.contradictions(); len(wrong) > 0 {
		return nil, &Contradictions{All: wrong}
	}
	for i := range s.work {
		s.slow = append(s.slow, i)
		if s.work[i].open == 0 {
			s.makeReady(i)
		}
	}
	slices.SortFunc(s.slow, func(a, b int) int { return cmp.Compare(s.needs(b), s.needs(a)) })
	return s, nil
}

// connect says who waits for whose end. What is reached through a device goes before it: a
// daisy chain from its end to its head, all devices of a switch before the switch. Where the
// device says First, or the order says so (After), it is the other way round.
func (s *State) connect() {
	edge := func(before, after int) {
		s.work[before].then = append(s.work[before].then, after)
		s.work[after].before = append(s.work[after].before, before)
		s.work[after].open++
	}
	for i := range s.work {
		d := &s.work[i]
		for _, id := range d.After {
			if b, ok := s.index[id]; ok {
				edge(b, i)
			}
		}
		for _, id := range d.Through {
			u, ok := s.index[id]
			switch {
			case !ok || slices.Contains(d.After, id) || slices.Contains(s.work[u].After, d.ID):
			case s.work[u].First:
				edge(u, i)
			default:
				edge(i, u)
			}
		}
	}
}

// group finds the lockstep sets, and the kinds that have pilots.
func (s *State) group() {
	for i := range s.order.Rules.Lockstep {
		one := &set{Set: &s.order.Rules.Lockstep[i]}
		for _, id := range one.Of {
			if m, ok := s.index[id]; ok && s.work[m].set == nil {
				s.work[m].set = one
				one.members = append(one.members, m)
			}
		}
	}
	if !s.order.Rules.Pilot {
		return
	}
	groups := map[string]*pilotGroup{}
	for i := range s.work {
		w := &s.work[i]
		key := w.ModelAndImages()
		if groups[key] == nil {
			groups[key] = &pilotGroup{line: line{why: Pilot, free: 1}}
		}
		w.pilots = groups[key]
		w.pilots.devices++
	}
}

// chains finds the longest chain from each device on; those in a circle get none.
func (s *State) chains() {
	order := s.topological()
	for _, i := range slices.Backward(order) {
		w := &s.work[i]
		for _, j := range w.then {
			w.chain = max(w.chain, s.work[j].chain)
			if w.set != nil && w.set == s.work[j].set {
				w.within = max(w.within, s.work[j].within)
			}
		}
		w.chain += w.Takes
		w.within += w.Takes
		if w.pilots != nil {
			w.pilots.chain = max(w.pilots.chain, w.chain)
		}
	}
}

// topological is an order in which each device stands after those that it waits for; those of
// a circle, and behind one, are not in it.
func (s *State) topological() []int {
	open := make([]int, len(s.work))
	var out []int
	for i := range s.work {
		open[i] = s.work[i].open
		if open[i] == 0 {
			out = append(out, i)
		}
	}
	for n := 0; n < len(out); n++ {
		for _, j := range s.work[out[n]].then {
			open[j]--
			if open[j] == 0 {
				out = append(out, j)
			}
		}
	}
	return out
}

// Next is what may begin at a time, one action at a time: apply it, then ask again. Nothing
// says that nothing may begin before something is applied.
func (s *State) Next(now time.Time) (Action, bool) {
	s.later = slices.DeleteFunc(s.later, func(i int) bool {
		due := !now.Before(s.work[i].until) || s.halt != nil
		if due {
			s.makeReady(i)
		}
		return due
	})
	for !s.order.Closes.IsZero() && s.due < len(s.slow) &&
		now.Add(s.needs(s.slow[s.due])).After(s.order.Closes) {
		s.makeReady(s.slow[s.due]) // to be left, wherever it waits
		s.due++
	}
	for s.ready.Len() > 0 {
		i := s.ready[0].device
		w := &s.work[i]
		if w.phase != waiting && w.asking != comes {
			heap.Pop(&s.ready)
			continue
		}
		if now := s.entry(i); now != s.ready[0] {
			s.ready[0] = now
			heap.Fix(&s.ready, 0)
			continue
		}
		if why := s.never(i, now); why != nil && w.asking != comes {
			return Action{Device: w.ID, Do: Leave, Of: w.do, Why: why}, true
		}
		if w.open > 0 && w.asking != comes { // it was woken for never's sake
			heap.Pop(&s.ready)
			continue
		}
		at := s.blocked(i)
		if at == nil && w.asking == comes {
			return Action{Device: w.ID, Do: GoOn}, true
		}
		if at == nil {
			a := Action{Device: w.ID, Do: w.do}
			if w.set != nil && w.do == Flash {
				a.Set = w.set.Name
			}
			if w.set != nil && w.do == Flash {
				a.Look = s.toLookAt(i)
			}
			if w.do == Return {
				a.Why = &Reason{Why: LockstepSet, Set: w.set.Name,
					Devices: slices.Clone(w.set.failed)}
			}
			return a, true
		}
		heap.Pop(&s.ready)
		from := w.from
		w.from = nil
		if from == at { // it needs more than there is; who needs less may go on
			at.aside = append(at.aside, i)
		} else {
			s.put(at, i)
		}
		s.wake(from)
	}
	if len(s.atWork) > 0 || len(s.others) > 0 || len(s.later) > 0 || s.left == 0 {
		return Action{}, false
	}
	return s.unstick(now)
}

// unstick is called where nothing is at work that could make room. A cover set stays then as
// full as it is: who waits for it waits for ever, and is left; who waits for the end of those
// may begin afterwards. What remains waits for a pilot in a lockstep set that itself waits for
// devices of that kind: such a pilot is proven by itself.
func (s *State) unstick(now time.Time) (Action, bool) {
	for ; s.stuck < len(s.work); s.stuck++ {
		w := &s.work[s.stuck]
		if w.phase != waiting || w.open > 0 {
			continue
		}
		if at := s.blocked(s.stuck); at == nil || at.why == CoverSet {
			return Action{Device: w.ID, Do: Leave, Of: w.do, Why: s.why(s.stuck, now)}, true
		}
	}
	for i := range s.work {
		k := s.work[i].pilots
		if s.work[i].phase == waiting && k != nil && !k.proven && k.out &&
			s.work[k.pilot].outcome == Well {
			s.prove(k)
			return s.Next(now)
		}
	}
	return Action{}, false
}

// prove lets all of a kind go on.
func (s *State) prove(k *pilotGroup) {
	k.proven = true
	s.wakeAll(&k.line)
}

// never says why a device will not begin in this job any more; nil: it may. A set that has to
// return does so whether the job was stopped or its window has closed.
func (s *State) never(i int, now time.Time) *Reason {
	w := &s.work[i]
	for _, id := range w.Through {
		if u, ok := s.index[id]; ok && s.work[u].phase == ended && s.work[u].outcome == Lost {
			return &Reason{Why: ThroughLost, Devices: []string{s.work[u].Name}}
		}
	}
	if w.do == Return {
		return nil
	}
	if s.halt != nil {
		return s.halt
	}
	if w.set != nil && len(w.set.failed) > 0 {
		return &Reason{Why: LockstepSet, Set: w.set.Name, Devices: slices.Clone(w.set.failed)}
	}
	begun := w.set != nil && w.set.begun // the whole of it was looked at
	if !begun && !s.order.Closes.IsZero() && now.Add(s.needs(i)).After(s.order.Closes) {
		return &Reason{Why: Window}
	}
	return nil
}

// needs is how long a device may need until it is proven or returned; for a lockstep set, how
// long all of it may, there and back. In whatever sequence its members are taken, so many at a
// time, either all of these are busy or the longest chain goes on: so they end within the chain
// and the rest of the work divided by that number.
func (s *State) needs(i int) time.Duration {
	w := &s.work[i]
	if w.set == nil {
		return w.Takes + w.Returns
	}
	var sum, chain, back, longestBack time.Duration
	at := len(w.set.members)
	atMost := func(most int) {
		if most > 0 {
			at = min(at, most)
		}
	}
	atMost(s.order.Rules.Parallel)
	for _, m := range w.set.members {
		member := &s.work[m]
		sum += member.Takes
		chain = max(chain, member.within)
		back += member.Returns
		longestBack = max(longestBack, member.Returns)
		atMost(s.order.Rules.PerModel[member.Model])
		atMost(s.order.Rules.PerParent[member.Parent])
		if len(member.Through) > 0 {
			atMost(s.order.Rules.PerUplink)
		}
	}
	return (sum-chain)/time.Duration(at) + chain + (back-longestBack)/time.Duration(at) +
		longestBack
}

// blocked is the line that a device must wait in; nil: it may begin.
func (s *State) blocked(i int) *line {
	w := &s.work[i]
	if k := w.pilots; k != nil && !k.proven && k.out && !s.together(k.pilot, i) && w.do == Flash {
		return &k.line
	}
	if w.asking == comes { // it has its way, and what it takes of cover sets
		for _, u := range s.claims(&w.Device) {
			if u.line.why != CoverSet && u.line.free < u.n {
				return u.line
			}
		}
		return nil
	}
	if own := s.way(w.ID); own.behind > 0 || own.at > 0 { // at: another job works on it
		return &own.line
	}
	for _, id := range w.Through {
		if through := s.way(id); through.at > 0 {
			return &through.line
		}
	}
	for _, u := range s.claims(&w.Device) {
		if u.line.free < u.n {
			return u.line
		}
	}
	return nil
}

// together tells whether two devices are one, or of one lockstep set.
func (s *State) together(a, b int) bool {
	return a == b || s.work[a].set != nil && s.work[a].set == s.work[b].set
}

// Open is how many devices have not ended.
func (s *State) Open() int { return s.left }

// Apply takes what happened. Its error is an event that cannot have happened: of a device
// that is not in the order, that begins twice, or ends without having begun.
func (s *State) Apply(e Event) error {
	switch e.Kind {
	case Stopped:
		s.stop(&Reason{Why: PersonStop})
		return nil
	case Resumed:
		s.order.Closes, s.due = e.Closes, 0
		return nil
	case Elsewhere:
		s.elsewhere(e.Others)
		return nil
	}
	i, ok := s.index[e.Device]
	if !ok {
		return fmt.Errorf("device %s is not in the order", e.Device)
	}
	w := &s.work[i]
	switch {
	case e.Kind == Began && w.phase == waiting:
		w.since = e.At
		s.begin(i, cmp.Or(e.Do, Flash))
		return nil
	case e.Kind == Asks || e.Kind == Answered || e.Kind == WentOn:
		s.asked(i, e.Kind)
		return nil
	case e.Kind == Postponed && w.phase == working:
		w.because = e.Because
		s.postpone(i, e.Until)
		return nil
	case e.Kind == Ended && w.phase != ended:
		s.end(i, e)
		return nil
	}
	return fmt.Errorf("device %s has %s already", e.Device, e.Kind)
}

func (s *State) begin(i int, do Do) {
	w := &s.work[i]
	w.phase, w.do = working, do
	s.atWork[i] = true
	w.uses = s.claims(&w.Device)
	s.hold(w.Device, w.uses, 1)
	s.pass(w)
	if w.set != nil && !w.set.begun {
		w.set.begun = true
		for _, m := range w.set.members { // they are more urgent now
			if s.work[m].phase == waiting {
				s.makeReady(m)
			}
		}
	}
	switch k := w.pilots; {
	case k == nil || k.proven || do == Return:
	case !k.out:
		k.pilot, k.out, k.free = i, true, 0
	case !s.together(k.pilot, i):
		s.prove(k) // unstick has; the events say so, too
	}
}

// pass lets the next one of the line go on from which a device was woken.
func (s *State) pass(w *work) {
	from := w.from
	w.from = nil
	s.wake(from)
}

// postpone has a device that was away wait until a time; another one may be the pilot meanwhile.
// asked takes that a device waits for a person, or no longer does. It stays at work, and on its way:
// nobody knows what the person does there. Its places under the caps are others' meanwhile.
func (s *State) asked(i int, kind Kind) {
	w := &s.work[i]
	if w.phase != working { // a device that is only looked at
		return
	}
	switch {
	case kind == Asks && w.asking == no:
		w.asking = asks
		var kept []use
		for _, u := range w.uses {
			if u.line.why == CoverSet {
				kept = append(kept, u)
				continue
			}
			u.line.free += u.n
			s.freed(u.line)
		}
		w.uses = kept
		if k := w.pilots; k != nil && !k.proven && k.out && k.pilot == i {
			k.out, k.free = false, 1
			s.freed(&k.line)
		}
	case kind == Answered && w.asking == asks:
		w.asking = comes
		s.makeReady(i)
	case kind == WentOn && w.asking == comes:
		w.asking = no
		for _, u := range s.claims(&w.Device) {
			if u.line.why != CoverSet {
				u.line.free -= u.n
				w.uses = append(w.uses, u)
			}
		}
		s.pass(w)
		if k := w.pilots; k != nil && !k.proven && !k.out && w.do == Flash {
			k.pilot, k.out, k.free = i, true, 0
		}
	}
}

// Asking tells whether a device waits for a person, or for a place after that.
func (s *State) Asking(id string) bool {
	i, ok := s.index[id]
	return ok && s.work[i].asking != no
}

func (s *State) postpone(i int, until time.Time) {
	w := &s.work[i]
	delete(s.atWork, i)
	w.phase, w.until = waiting, until
	s.hold(w.Device, w.uses, -1)
	w.uses = nil
	s.later = append(s.later, i)
	if w.set != nil && !slices.ContainsFunc(w.set.members, func(m int) bool {
		return s.work[m].phase != waiting
	}) {
		w.set.begun = false
	}
	if k := w.pilots; k != nil && k.out && k.pilot == i {
		k.out, k.free = false, 1
		s.freed(&k.line)
	}
}

// end takes the end of a device, which may never have begun. First all is brought up to date
// that says how urgent others are; then what it held is given back, to the most urgent.
func (s *State) end(i int, e Event) {
	w := &s.work[i]
	begun := w.phase == working
	w.phase, w.outcome, w.asking = ended, e.Outcome, no
	w.touched = w.touched || e.Touched
	s.left--
	if e.Failure {
		s.failed = append(s.failed, w.Name)
		stop := s.order.Rules.StopAfter
		if n := len(s.failed); stop.Failures > 0 && n >= stop.Failures || stop.Share > 0 &&
			float64(n) >= stop.Share*float64(len(s.work)) {
			s.stop(&Reason{Why: ManyFailed, Devices: slices.Clone(s.failed)})
		}
	}
	if begun {
		delete(s.atWork, i)
	}
	uses := w.uses
	w.uses = nil
	if w.set == nil {
		s.settle(i)
	} else {
		s.endOfMember(i, begun)
	}
	if e.Outcome == Well && s.out[w.ID] { // it is back in service
		delete(s.out, w.ID)
		for _, c := range s.lines.coverOf[w.ID] {
			s.lines.cover[c].free++
			s.freed(s.lines.cover[c])
		}
	}
	if begun && e.Outcome == Lost {
		uses = s.lose(w, uses)
	}
	if begun {
		s.hold(w.Device, uses, -1)
	}
	s.pass(w)
}

// lose keeps what a lost device, and what it feeds, takes of the cover sets, and returns the rest.
// Who would take them out of service, too, needs less of the sets now.
func (s *State) lose(w *work, uses []use) (given []use) {
	for _, id := range append([]string{w.ID}, s.order.Rules.Feeds[w.ID]...) {
		s.out[id] = true
		for _, c := range s.lines.coverOf[id] {
			s.wakeAll(s.lines.cover[c])
		}
	}
	return slices.DeleteFunc(uses, func(u use) bool { return u.line.why == CoverSet })
}

// stop has nothing more begin.
func (s *State) stop(why *Reason) {
	if s.halt != nil {
		return
	}
	s.halt = why
	for i := range s.work {
		if s.work[i].phase == waiting {
			s.makeReady(i)
		}
	}
}

// settle lets those go on that wait for the end of a device.
func (s *State) settle(i int) {
	w := &s.work[i]
	for _, j := range w.then {
		if w.set == nil || s.work[j].set != w.set {
			s.release(j)
		}
	}
	k := w.pilots
	if k == nil || k.proven || !k.out || !s.together(k.pilot, i) {
		return
	}
	switch {
	case w.outcome == Well && w.touched:
		s.prove(k)
	case i == k.pilot: // it proves nothing; the next one may be the pilot
		k.out, k.free = false, 1
		s.freed(&k.line)
	}
}

func (s *State) release(j int) {
	s.work[j].open--
	if s.work[j].open == 0 && s.work[j].phase == waiting {
		s.makeReady(j)
	}
}
