package order

import (
	"cmp"
	"fmt"
	"slices"
	"time"
)

// State is an order and the progress of its devices. It is for one goroutine. Its devices are
// pending, active or finished; the pending ones are indexed by what blocks them (constraint.go).
type State struct {
	order      Order
	devices    []device
	byID       map[string]int
	below      map[string][]int // the devices downstream of one, by its ID
	limits     constraints
	ready      queue           // pending, and blocked by no constraint, or not evaluated yet
	open       []*constraint   // may have capacity for devices that wait under them
	suspects   []*device       // may never start in this job
	out        map[string]bool // out of service for good, by ID
	others     []foreign
	blind      bool    // what other machines have open cannot be told
	halt       *Reason // no more devices start
	abandoned  bool    // half-updated lockstep sets are rolled back
	failed     []string
	active     int
	asking     int // active, and waiting for an operator
	unfinished int
	nextDue    time.Time // when the first postponed device may be checked again
	byNeed     []*device // all, the longest need first
	overdue    int       // devices of byNeed that need more time than the window has left
}

// device is the progress of one device.
type device struct {
	Device
	phase     phase
	task      Task // that it starts with, or was started with
	startedAt time.Time
	outcome   Outcome
	removed   *Reason   // it must not start
	busyBelow []string  // devices that are reached through it and may still be writing
	until     time.Time // it is postponed
	because   string    // why
	question  question

	predecessors     constraint // devices that must end before it
	predecessorsLeft int
	predecessorList  []*device
	successors       []*device
	chain            time.Duration // it and the longest chain of its successors
	chainInSet       time.Duration // the same within its lockstep set
	claims           []claim       // what it takes while it is active
	set              *lockstepSet  // nil: none
	kind             *pilotGroup   // its model and path; nil: there are no pilots

	priority priority
	under    *constraint // that blocks it; nil: it is ready, or not pending
	in       *queue      // nil: it is in none
	at       int         // its place there
}

type phase int

const (
	pending phase = iota
	active
	finished
)

// question is how far an active device is that has asked an operator for something.
type question int

const (
	none     question = iota
	asked             // it waits for the operator
	answered          // it waits for a free slot
)

func (d *device) together(other *device) bool {
	return d == other || d.set != nil && d.set == other.set
}

// New returns the state of an order of which nothing has happened. Its error is a
// *Contradictions.
func New(o Order) (*State, error) {
	s := &State{order: o, devices: make([]device, len(o.Devices)), byID: map[string]int{},
		below: map[string][]int{}, out: map[string]bool{}, unfinished: len(o.Devices)}
	for i, d := range o.Devices {
		s.byID[d.ID] = i
		s.devices[i] = device{Device: d, task: Update, priority: priority{index: i},
			predecessors: constraint{why: Explicit, name: d.ID, free: 1}}
	}
	for id := range o.Rules.Out {
		s.out[id] = true
	}
	s.connect()
	s.group()
	s.build()
	s.chains()
	if found := s.contradictions(); len(found) > 0 {
		return nil, &Contradictions{All: found}
	}
	for i := range s.devices {
		d := &s.devices[i]
		d.priority = d.urgency()
		s.byNeed = append(s.byNeed, d)
		s.index(d, nil)
	}
	slices.SortStableFunc(s.byNeed, func(a, b *device) int {
		return cmp.Compare(s.needs(b),
			s.needs(a))
	})
	return s, nil
}

// find returns a device of the order; nil: it is not in it.
func (s *State) find(id string) *device {
	if i, ok := s.byID[id]; ok {
		return &s.devices[i]
	}
	return nil
}

// Next returns what may happen now, one action at a time: apply it, then ask again. Without a
// change it returns the same action again. It returns false when nothing may happen before an
// event is applied or time passes.
//
// Candidates are pending devices that are indexed under no constraint, the longest remaining chain
// first. Each is checked against its constraints: if one blocks it, it is indexed there and is no
// candidate again until that constraint changes. For example, with two slots, gate-2 downstream of
// gate-1, and one of two cameras to stay in service:
//
//	candidates                     Next            why
//	gate-2 cam-1 cam-2 gate-1      start gate-2    its chain is the longest
//	cam-1 cam-2 gate-1             start cam-1     the cover set keeps cam-2
//	cam-2 gate-1                   false           both slots are taken: it blocks whoever comes
//	                               (cam-1 ends)    a slot is free
//	cam-2 gate-1                   start cam-2
//	gate-1                         false           gate-1 is blocked by gate-2, and indexed there
//	                               (gate-2 ends)   gate-1 is a candidate again
//	gate-1                         start gate-1
//
// So the work of a change is that of the devices under the constraint that changed, not of all.
func (s *State) Next(now time.Time) (Action, bool) {
	s.passTime(now)
	for {
		if a, ok := s.nextSkip(now); ok {
			return a, true
		}
		d := s.candidate()
		if d == nil {
			break
		}
		if s.blind && s.waitsBlind(d) {
			return Action{}, false // whatever is less urgent waits, too
		}
		if c := s.limits.parallel; c != nil && c.free <= 0 {
			return Action{}, false // the limit blocks every device, wherever it is indexed
		}
		if c := s.blocker(d, now); c != nil {
			s.index(d, c)
			continue
		}
		if why := s.never(d, now); why != nil {
			s.suspects = append(s.suspects, d)
			continue
		}
		return s.start(d), true
	}
	if s.active > 0 || len(s.others) > 0 || len(s.limits.postponed.waiting) > 0 || s.unfinished == 0 {
		return Action{}, false
	}
	return s.breakDeadlock()
}

// waitsBlind reports whether a device does not start while what other machines have open cannot be
// told. What goes back, and a set that has started, is completed.
func (s *State) waitsBlind(d *device) bool {
	return d.task == Update && d.question == none && !(d.set != nil && d.set.started)
}

// start is the action that starts a device, or lets it continue.
func (s *State) start(d *device) Action {
	a := Action{Device: d.ID, Task: d.task}
	switch {
	case d.question == answered:
		a.Task = Continue
	case d.set == nil:
	case d.task == RollBack:
		a.Why = d.set.reason()
	default:
		a.Set, a.Check = d.set.Name, d.toCheck()
	}
	return a
}

// passTime frees postponed devices whose time has come, and suspects those that need more time than
// the window has left.
func (s *State) passTime(now time.Time) {
	if p := &s.limits.postponed; len(p.waiting) > 0 && !now.Before(s.nextDue) {
		due := slices.Clone(p.waiting)
		s.nextDue = time.Time{}
		for _, d := range due {
			switch {
			case !now.Before(d.until):
				s.index(d, nil)
			case s.nextDue.IsZero() || d.until.Before(s.nextDue):
				s.nextDue = d.until
			}
		}
	}
	for !s.order.Closes.IsZero() && s.overdue < len(s.byNeed) &&
		now.Add(s.needs(s.byNeed[s.overdue])).After(s.order.Closes) {
		s.suspects = append(s.suspects, s.byNeed[s.overdue])
		s.overdue++
	}
}

// nextSkip returns the skip of a suspect that never starts.
func (s *State) nextSkip(now time.Time) (Action, bool) {
	for len(s.suspects) > 0 {
		d := s.suspects[0]
		if d.phase == pending {
			if why := s.never(d, now); why != nil {
				return s.skip(d, why), true
			}
		}
		s.suspects = s.suspects[1:]
	}
	return Action{}, false
}

func (s *State) skip(d *device, why *Reason) Action {
	a := Action{Device: d.ID, Task: Skip, Of: d.task, Why: why}
	a.outcome = Outcome{Runs: Previous, Reachable: true}
	if d.task == RollBack {
		a.outcome = d.outcome
	}
	if why.Why == ThroughLost { // whatever it was verified on, it cannot be reached now
		a.outcome.Reachable = false
	}
	return a
}

// breakDeadlock resolves what no event will: nothing is active or postponed, and every pending
// device is blocked. Limits and links are free then, so what blocks is a pilot whose lockstep set
// waits for others, a cover set whose devices stay out of service, or the end of a device that is
// itself blocked. A pilot that was verified proves its kind without its set, and one that was not
// makes way for another. What a cover set blocks after that it blocks for ever: it is skipped.
func (s *State) breakDeadlock() (Action, bool) {
	for i := range s.devices {
		d := &s.devices[i]
		if k := d.kind; d.phase == pending && k != nil && d.under == &k.constraint {
			return Action{Device: k.pilot.ID, Task: SettlePilot}, true
		}
	}
	for i := range s.devices {
		if d := &s.devices[i]; d.phase == pending && d.under != nil && d.under.why == CoverSet {
			return s.skip(d, s.explain(d, d.under)), true
		}
	}
	return Action{}, false
}

// never returns why a device will not start in this job any more; nil: it may. Neither a stop nor
// the end of the window keeps a lockstep set half-updated: one that was written to is completed,
// and one that failed is rolled back.
func (s *State) never(d *device, now time.Time) *Reason {
	for _, id := range d.Through {
		if u := s.find(id); u != nil && u.phase == finished && u.outcome.Stranded() {
			return &Reason{Why: ThroughLost, Devices: []string{u.Name}}
		}
	}
	if len(d.busyBelow) > 0 {
		return &Reason{Why: BelowBusy, Devices: slices.Clone(d.busyBelow)}
	}
	if d.task == RollBack || d.question != none {
		return nil
	}
	switch {
	case d.removed != nil:
		return d.removed
	case d.set != nil && len(d.set.failed) > 0:
		return d.set.reason()
	case s.halt != nil && !(d.set != nil && d.set.written && !s.abandoned):
		return s.halt
	case d.kind != nil && d.kind.lost != nil && !d.kind.proven && !(d.set != nil && d.set.written):
		return &Reason{Why: PilotLost, Devices: []string{d.kind.lost.Name}}
	case d.set != nil && d.set.started: // all of it was expected to fit
		return nil
	case !s.order.Closes.IsZero() && now.Add(s.needs(d)).After(s.order.Closes):
		return &Reason{Why: Window}
	}
	return nil
}

func (set *lockstepSet) reason() *Reason {
	return &Reason{Why: LockstepSet, Set: set.Name, Devices: slices.Clone(set.failed)}
}

// needs returns how long a device may take until it is verified or rolled back; for a lockstep set,
// how long all of it may. In whatever sequence the members are taken, n at a time, either all n
// slots are in use or the longest chain moves on. So they end within the chain plus an n-th of the
// rest.
func (s *State) needs(d *device) time.Duration {
	if d.set == nil {
		return d.Takes + d.Returns
	}
	var sum, chain, back, longestBack time.Duration
	n := len(d.set.members)
	limit := func(most int) {
		if most > 0 {
			n = min(n, most)
		}
	}
	limit(s.order.Rules.Parallel)
	for _, m := range d.set.members {
		sum += m.Takes
		chain = max(chain, m.chainInSet)
		back += m.Returns
		longestBack = max(longestBack, m.Returns)
		limit(s.order.Rules.PerModel[m.Model])
		limit(s.order.Rules.PerKind[m.Kind])
		limit(s.order.Rules.PerParent[m.Parent])
		if len(m.Through) > 0 {
			limit(s.order.Rules.PerUplink)
		}
	}
	return (sum-chain)/time.Duration(n) + chain + (back-longestBack)/time.Duration(n) + longestBack
}

// Unfinished returns how many devices have not ended.
func (s *State) Unfinished() int { return s.unfinished }

// Halted returns why no more devices start; nil: they may.
func (s *State) Halted() *Reason { return s.halt }

// Asking reports whether a device waits for an operator, or for a free slot after that.
func (s *State) Asking(id string) bool {
	d := s.find(id)
	return d != nil && d.question != none
}

// MayWrite returns why an active device must not be written to; nil: it may. Before its first byte
// this is the last moment at which a stop or a hold is honored, and between two images a stop.
func (s *State) MayWrite(id string) *Reason {
	d := s.find(id)
	switch {
	case d == nil || d.task == RollBack:
		return nil
	case d.removed != nil && !d.outcome.Written:
		return d.removed
	case s.halt != nil && s.halt.Why == PersonStop && !(d.set != nil && d.set.written && !s.abandoned):
		return s.halt
	}
	return nil
}

// LetGo reports whether an active device is to be abandoned if it has not got its first byte yet:
// it was taken out of the job, or the operator has stopped the job twice.
func (s *State) LetGo(id string) bool {
	d := s.find(id)
	return d != nil && d.task == Update && (d.removed != nil || s.abandoned)
}

// SetToCheck returns the lockstep set of a device and its other members that have not ended, if
// none of them was written to: after a crash the whole set is checked again.
func (s *State) SetToCheck(id string) (set string, check []string) {
	d := s.find(id)
	if d == nil || d.set == nil || d.set.written {
		return "", nil
	}
	check = []string{}
	for _, m := range d.set.members {
		if m != d && m.phase != finished {
			check = append(check, m.ID)
		}
	}
	return d.set.Name, check
}

// Obstructed reports whether another job is active on the path of an active device.
func (s *State) Obstructed(id string) bool {
	d := s.find(id)
	return d != nil && slices.ContainsFunc(s.others, func(o foreign) bool {
		return o.Device.ID == id || slices.Contains(d.Through, o.Device.ID) ||
			slices.Contains(o.Device.Through, id)
	})
}

// Apply records what happened. Its error is an event that cannot have happened: of a device that is
// not in the order, that starts twice, or that ends twice.
func (s *State) Apply(e Event) error {
	switch e.Kind {
	case Stopped:
		s.stop(&Reason{Why: PersonStop})
		return nil
	case Abandoned:
		s.abandoned = true
		s.stop(&Reason{Why: PersonStop})
		return nil
	case Resumed:
		s.order.Closes, s.overdue = e.Closes, 0
		return nil
	case OtherJobs:
		s.blind = e.Blind
		s.otherJobs(e.Others)
		s.takeOut(e.Out)
		return nil
	}
	d := s.find(e.Device)
	if d == nil {
		return fmt.Errorf("device %s is not in the order", e.Device)
	}
	switch {
	case e.Kind == Started && d.phase == pending:
		s.started(d, e)
	case e.Kind == Removed:
		d.removed = e.Why
		s.suspects = append(s.suspects, d)
	case e.Kind == PilotSettled:
		s.settlePilot(d)
	case e.Kind == Ended && d.phase != finished:
		s.ended(d, e)
	case d.phase != active:
		return fmt.Errorf("device %s is not active: %s", e.Device, e.Kind)
	case e.Kind == Writing:
		d.outcome.Written = true
		if d.set != nil {
			d.set.written = true
		}
	case e.Kind == Postponed:
		s.postpone(d, e)
	case e.Kind == Asks && d.question == none:
		s.ask(d)
	case e.Kind == Answered && d.question == asked:
		s.setQuestion(d, answered)
		s.index(d, nil)
	case e.Kind == Continued && d.question == answered:
		s.remove(d)
		s.setQuestion(d, none)
		claims := s.capacity(&d.Device)
		for _, c := range claims {
			c.of.free -= c.n
		}
		d.claims = append(d.claims, claims...)
		s.choose(d)
	}
	return nil
}

func (s *State) started(d *device, e Event) {
	s.remove(d)
	d.phase, d.startedAt, d.until = active, e.At, time.Time{}
	if e.Task != "" {
		d.task = e.Task
	}
	s.active++
	d.claims = slices.Concat(s.capacity(&d.Device), s.cover(&d.Device))
	s.occupy(&d.Device, d.claims)
	if d.set != nil && !d.set.started {
		s.setStarted(d.set, true)
	}
	s.choose(d)
}

// setStarted makes the members of a set more urgent once it has started.
func (s *State) setStarted(set *lockstepSet, started bool) {
	set.started = started
	for _, m := range set.members {
		s.reprioritize(m)
	}
}

func (s *State) setQuestion(d *device, q question) {
	if (d.question == asked) != (q == asked) {
		s.asking += map[bool]int{true: 1, false: -1}[q == asked]
	}
	d.question = q
	s.reprioritize(d)
}

// ask has a device wait for an operator. It keeps its path and its share of the cover sets, because
// what the operator does there is unknown. Its slots are free for others.
func (s *State) ask(d *device) {
	s.setQuestion(d, asked)
	var kept, given []claim
	for _, c := range d.claims {
		if c.of.why == CoverSet {
			kept = append(kept, c)
		} else {
			given = append(given, c)
		}
	}
	d.claims = kept
	s.free(given)
	if k := d.kind; k != nil && k.pilot == d {
		s.release(k)
	}
}

// postpone has a device that was away, or must not be updated now, wait until a time.
func (s *State) postpone(d *device, e Event) {
	s.deactivate(d)
	d.phase, d.until, d.because = pending, e.Until, e.Because
	if s.nextDue.IsZero() || d.until.Before(s.nextDue) {
		s.nextDue = d.until
	}
	s.index(d, &s.limits.postponed)
	if d.set != nil && !slices.ContainsFunc(d.set.members,
		func(m *device) bool { return m.phase != pending }) {
		s.setStarted(d.set, false)
	}
	if k := d.kind; k != nil && k.pilot == d {
		s.release(k)
	}
	s.suspects = append(s.suspects, d)
}

// deactivate gives back what an active device holds.
func (s *State) deactivate(d *device) {
	s.active--
	s.setQuestion(d, none)
	claims := d.claims
	d.claims = nil
	s.vacate(&d.Device, claims)
}

// ended handles the end of a device, which may never have been started.
func (s *State) ended(d *device, e Event) {
	s.remove(d)
	wasActive := d.phase == active
	if wasActive {
		s.deactivate(d)
	}
	d.phase = finished
	written := d.outcome.Written || e.Outcome.Written
	d.outcome = e.Outcome
	d.outcome.Written = written
	s.unfinished--
	if e.Failure {
		s.failed = append(s.failed, d.Name)
		stop := s.order.Rules.StopAfter
		n := len(s.failed)
		if stop.Failures > 0 && n >= stop.Failures ||
			stop.Share > 0 && float64(n) >= stop.Share*float64(len(s.devices)) {
			s.stop(&Reason{Why: ManyFailed, Devices: slices.Clone(s.failed)})
		}
	}
	if e.Outcome.Busy {
		for _, id := range d.Through {
			if u := s.find(id); u != nil {
				u.busyBelow = append(u.busyBelow, d.Name)
				s.suspects = append(s.suspects, u)
			}
		}
	}
	switch {
	case d.outcome.Stranded():
		if wasActive {
			s.lose(d.kind, d)
		}
		s.takeOut(s.takesOut(&d.Device))
		for _, i := range s.below[d.ID] {
			s.suspects = append(s.suspects, &s.devices[i])
		}
	case !d.outcome.InService():
		s.takeOut([]string{d.ID})
	case wasActive:
		s.bringBack(d.ID)
	}
	if k := d.kind; k != nil && k.pilot == d { // those that it did not keep from starting may continue
		k.free = 1
		s.changed(&k.constraint)
	}
	if d.set == nil {
		s.settle(d)
	} else {
		s.endOfMember(d, wasActive)
	}
}

// stop has no more devices start.
func (s *State) stop(why *Reason) {
	if s.halt == nil {
		s.halt = why
	}
	for i := range s.devices {
		if s.devices[i].phase == pending {
			s.suspects = append(s.suspects, &s.devices[i])
		}
	}
}

// settle lets those continue that wait for the end of a device, or of its lockstep set.
func (s *State) settle(d *device) {
	for _, next := range d.successors {
		if d.set == nil || next.set != d.set {
			s.predecessorEnded(next)
		}
	}
	k := d.kind
	if k == nil || k.proven {
		return
	}
	switch {
	case d.outcome.Succeeded() && d.outcome.Written && (d.set == nil || len(d.set.failed) == 0):
		s.prove(k)
	case k.pilot == d:
		s.release(k)
	}
}

func (s *State) predecessorEnded(d *device) {
	d.predecessorsLeft--
	if d.predecessorsLeft == 0 {
		d.predecessors.free = 1
		s.changed(&d.predecessors)
	}
}
