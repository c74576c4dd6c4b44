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
	stuck  int   // the first that may be left because nothing can move any more
}

// lines are where devices wait.
type lines struct {
	parallel *line
	model    map[string]*line
	uplink   map[string]*line
	cover    []*line
	coverOf  map[string][]int // by a device's ID: the cover sets it belongs to
	ways     map[string]*way
}

// work is one device on its way.
type work struct {
	Device
	phase   phase
	do      Do        // what it begins with, or has begun with
	until   time.Time // it is postponed
	since   time.Time // when it began
	outcome Outcome
	touched bool
	before  []int         // who must have ended before it
	open    int           // how many of those have not
	then    []int         // who waits for its end
	chain   time.Duration // it, and the longest chain of those that wait for it
	within  time.Duration // the same within its lockstep set
	uses    []use         // what it holds while it is at work
	from    *line         // the line that it was woken from
	set     *set          // its lockstep set, if any
	pilots  *kind         // its model and image
}

type phase int

const (
	waiting phase = iota
	working
	ended
)

// set is a lockstep set on its way.
type set struct {
	*Set
	members []int
	begun   bool
	failed  []string // members, by name
	back    [][]int  // members that return, those that others are reached through first
}

// kind is a model and an image: its first device is the pilot.
type kind struct {
	line
	devices int
	chain   time.Duration // the longest among its devices
	proven  bool
	pilot   int  // a device that is at work, or was, and is not settled
	out     bool // there is a pilot
}

// other is a device that another job works on, and what it holds.
type other struct {
	Other
	uses []use
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
		if s.work[i].open == 0 {
			s.makeReady(i)
		}
	}
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
	kinds := map[string]*kind{}
	for i := range s.work {
		w := &s.work[i]
		key := w.Kind()
		if kinds[key] == nil {
			kinds[key] = &kind{line: line{why: Pilot, free: 1}}
		}
		w.pilots = kinds[key]
		w.pilots.devices++
	}
}

// draw makes the lines.
func (s *State) draw() {
	r := s.order.Rules
	s.lines = lines{parallel: &line{why: Parallel, free: r.Parallel}, model: map[string]*line{},
		uplink: map[string]*line{}, coverOf: map[string][]int{}, ways: map[string]*way{}}
	for model, most := range r.PerModel {
		s.lines.model[model] = &line{why: ModelCap, name: model, free: most}
	}
	for i, c := range r.Cover {
		l := &line{why: CoverSet, name: c.Name, free: len(c.Of) - c.Keep}
		s.lines.cover = append(s.lines.cover, l)
		for _, id := range c.Of {
			s.lines.coverOf[id] = append(s.lines.coverOf[id], i)
			if s.out[id] {
				l.free--
			}
		}
	}
	for i := range s.work {
		for _, id := range s.work[i].Through {
			s.way(id)
		}
		s.way(s.work[i].ID)
	}
}

// way is what leads through a device.
func (s *State) way(id string) *way {
	w := s.lines.ways[id]
	if w == nil {
		w = &way{line: line{why: AtWork, name: id, free: 1}}
		s.lines.ways[id] = w
	}
	return w
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

// claims are what a device takes while it is at work: room under each cap, and of each cover
// set as many as are then out of service. A cover set that it takes nothing of is not there.
func (s *State) claims(d *Device) []use {
	uses := make([]use, 0, 2+len(d.Through))
	if s.order.Rules.Parallel > 0 {
		uses = append(uses, use{s.lines.parallel, 1})
	}
	if l := s.lines.model[d.Model]; l != nil {
		uses = append(uses, use{l, 1})
	}
	if most := s.order.Rules.PerUplink; most > 0 {
		for _, id := range d.Through {
			if s.lines.uplink[id] == nil {
				s.lines.uplink[id] = &line{why: UplinkCap, name: id, free: most}
			}
			uses = append(uses, use{s.lines.uplink[id], 1})
		}
	}
	takes := func(id string) {
		if s.out[id] {
			return
		}
		for _, c := range s.lines.coverOf[id] {
			l := s.lines.cover[c]
			if last := len(uses) - 1; last >= 0 && uses[last].line == l {
				uses[last].n++
				continue
			}
			uses = append(uses, use{l, 1})
		}
	}
	takes(d.ID)
	for _, id := range s.order.Rules.Feeds[d.ID] {
		if id != d.ID {
			takes(id)
		}
	}
	return joined(uses)
}

// joined adds up uses of one line.
func joined(uses []use) []use {
	out := uses[:0]
	for _, u := range uses {
		at := slices.IndexFunc(out, func(o use) bool { return o.line == u.line })
		if at < 0 {
			out = append(out, u)
			continue
		}
		out[at].n += u.n
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
	for s.ready.Len() > 0 {
		i := s.ready[0].device
		w := &s.work[i]
		if w.phase != waiting {
			heap.Pop(&s.ready)
			continue
		}
		if why := s.never(i, now); why != nil {
			return Action{Device: w.ID, Do: Leave, Of: w.do, Why: why}, true
		}
		if w.open > 0 { // it was woken for never's sake
			heap.Pop(&s.ready)
			continue
		}
		at := s.blocked(i)
		if at == nil {
			a := Action{Device: w.ID, Do: w.do}
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
func (s *State) prove(k *kind) {
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
	cap := func(most int) {
		if most > 0 {
			at = min(at, most)
		}
	}
	cap(s.order.Rules.Parallel)
	for _, m := range w.set.members {
		member := &s.work[m]
		sum += member.Takes
		chain = max(chain, member.within)
		back += member.Returns
		longestBack = max(longestBack, member.Returns)
		cap(s.order.Rules.PerModel[member.Model])
		if len(member.Through) > 0 {
			cap(s.order.Rules.PerUplink)
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
		s.order.Closes = e.Closes
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
	case e.Kind == Postponed && w.phase == working:
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
	if w.set != nil {
		w.set.begun = true
	}
	if k := w.pilots; k != nil && !k.proven && !k.out {
		k.pilot, k.out, k.free = i, true, 0
	}
}

// pass lets the next one of the line go on from which a device was woken.
func (s *State) pass(w *work) {
	from := w.from
	w.from = nil
	s.wake(from)
}

// postpone has a device that was away wait until a time; another one may be the pilot meanwhile.
func (s *State) postpone(i int, until time.Time) {
	w := &s.work[i]
	delete(s.atWork, i)
	w.phase, w.until = waiting, until
	s.hold(w.Device, w.uses, -1)
	w.uses = nil
	s.later = append(s.later, i)
	if k := w.pilots; k != nil && k.out && k.pilot == i {
		k.out, k.free = false, 1
		s.freed(&k.line)
	}
}

// hold takes what a device uses, or with -1 gives it back.
func (s *State) hold(d Device, uses []use, n int) {
	for _, u := range uses {
		u.line.free -= n * u.n
	}
	own := s.way(d.ID)
	own.at += n
	for _, id := range d.Through {
		s.way(id).behind += n
	}
	if n > 0 {
		return
	}
	for _, u := range uses {
		s.freed(u.line)
	}
	if own.at == 0 {
		s.wakeAll(&own.line)
	}
	for _, id := range d.Through {
		if through := s.way(id); through.behind == 0 {
			s.wakeAll(&through.line)
		}
	}
}

// end takes the end of a device, which may never have begun.
func (s *State) end(i int, e Event) {
	w := &s.work[i]
	begun := w.phase == working
	if begun {
		delete(s.atWork, i)
		if e.Outcome == Lost {
			s.lose(w)
		}
		s.hold(w.Device, w.uses, -1)
		w.uses = nil
	}
	s.pass(w)
	w.phase, w.outcome = ended, e.Outcome
	w.touched = w.touched || e.Touched
	s.left--
	if e.Outcome == Well && s.out[w.ID] { // it is back in service
		delete(s.out, w.ID)
		for _, c := range s.lines.coverOf[w.ID] {
			s.lines.cover[c].free++
			s.freed(s.lines.cover[c])
		}
	}
	if e.Failure {
		s.failed = append(s.failed, w.Name)
		stop := s.order.Rules.StopAfter
		if n := len(s.failed); stop.Failures > 0 && n >= stop.Failures || stop.Share > 0 &&
			float64(n) >= stop.Share*float64(len(s.work)) {
			s.stop(&Reason{Why: ManyFailed, Devices: slices.Clone(s.failed)})
		}
	}
	if w.set == nil {
		s.settle(i)
		return
	}
	s.endOfMember(i, begun)
}

// lose keeps what a lost device, and what it feeds, takes of the cover sets. Who would take them
// out of service, too, needs less of the sets now.
func (s *State) lose(w *work) {
	w.uses = slices.DeleteFunc(w.uses, func(u use) bool { return u.line.why == CoverSet })
	for _, id := range append([]string{w.ID}, s.order.Rules.Feeds[w.ID]...) {
		s.out[id] = true
		for _, c := range s.lines.coverOf[id] {
			s.wakeAll(s.lines.cover[c])
		}
	}
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

// elsewhere takes what other jobs work on now.
func (s *State) elsewhere(now []Other) {
	before := s.others
	s.others = nil
	for _, o := range now {
		n := other{Other: o, uses: s.claims(&o.Device)}
		s.others = append(s.others, n)
		s.hold(o.Device, n.uses, 1)
	}
	for _, o := range before {
		s.hold(o.Device, o.uses, -1)
		s.wakeAll(&s.way(o.ID).line)
	}
}
