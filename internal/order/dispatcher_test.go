package order_test

import (
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/order"
)

// player plays a State with real events, and compares it with its invariant whenever it is at rest.
type player struct {
	order  order.Order
	state  *order.State
	now    time.Time
	active map[string]order.Task
	asking map[string]order.Kind // Asks, or Answered
	ended  map[string]order.Outcome
	events []order.Event
	others bool   // another job has a device open
	wrong  string // the first thing that may not be
}

func play(o order.Order) (*player, error) {
	s, err := order.New(o)
	return &player{order: o, state: s, now: begin, active: map[string]order.Task{},
		asking: map[string]order.Kind{},
		ended:  map[string]order.Outcome{}}, err
}

func (p *player) fail(format string, args ...any) {
	if p.wrong == "" {
		p.wrong = fmt.Sprintf(format, args...)
	}
}

func (p *player) apply(e order.Event) {
	e.At = p.now
	if e.Kind == order.OtherJobs {
		p.others = len(e.Others) > 0
	}
	p.events = append(p.events, e)
	if err := p.state.Apply(e); err != nil {
		p.fail("%s", err)
	}
}

// mayBeSkippedFor are the reasons for which a device may be skipped: none of them passes.
var mayBeSkippedFor = []order.Why{order.CoverSet, order.LockstepSet, order.Window, order.ManyFailed,
	order.ThroughLost, order.PilotLost,
	order.PersonStop, order.TakenOut}

// settle takes actions until nothing may happen.
func (p *player) settle() {
	for range 10 * len(p.order.Devices) {
		a, ok := p.state.Next(p.now)
		if !ok {
			if v := order.Violation(p.state, p.now); v != "" {
				p.fail("%s", v)
			}
			if !p.others && p.state.Unfinished() > 0 && len(p.choices()) == 0 {
				p.fail("%d devices wait for ever: %v", p.state.Unfinished(), p.state.Waiting(p.now))
			}
			return
		}
		switch a.Task {
		case order.Skip:
			if !slices.Contains(mayBeSkippedFor, a.Why.Why) {
				p.fail("%s is skipped because: %s", a.Device, a.Why)
			}
			p.ended[a.Device] = a.Skipped()
			p.apply(order.Event{Kind: order.Ended, Device: a.Device, Outcome: a.Skipped()})
		case order.SettlePilot:
			p.apply(order.Event{Kind: order.PilotSettled, Device: a.Device})
		case order.Continue:
			if p.asking[a.Device] != order.Answered {
				p.fail("%s continues and was not answered", a.Device)
			}
			delete(p.asking, a.Device)
			p.apply(order.Event{Kind: order.Continued, Device: a.Device})
		default:
			p.mayStart(a)
			p.active[a.Device] = a.Task
			p.apply(order.Event{Kind: order.Started, Device: a.Device, Task: a.Task})
		}
	}
	p.fail("the dispatcher takes actions without end")
}

// mayStart checks a start against the links: nothing on the path of an active device starts.
func (p *player) mayStart(a order.Action) {
	for id := range p.active {
		if id == a.Device || slices.Contains(p.device(id).Through, a.Device) ||
			slices.Contains(p.device(a.Device).Through, id) {
			p.fail("%s starts beside %s", a.Device, id)
		}
	}
}

func (p *player) device(id string) order.Device {
	return p.order.Devices[slices.IndexFunc(p.order.Devices,
		func(d order.Device) bool { return d.ID == id })]
}

func (p *player) postponed() bool {
	for _, why := range p.state.Waiting(p.now) {
		if why.Why == order.Away {
			return true
		}
	}
	return false
}

// end ends an active device.
func (p *player) end(id string, e order.Event) {
	e.Kind, e.Device = order.Ended, id
	delete(p.active, id)
	delete(p.asking, id)
	p.ended[id] = e.Outcome
	p.apply(e)
}

// choices are the events that may happen to a state at rest, each as a function that lets it
// happen.
func (p *player) choices() (all []func()) {
	add := func(f func()) { all = append(all, f) }
	var ids []string
	for id := range p.active {
		ids = append(ids, id)
	}
	slices.Sort(ids)
	for _, id := range ids {
		switch p.asking[id] {
		case order.Asks:
			add(func() {
				p.asking[id] = order.Answered
				p.apply(order.Event{Kind: order.Answered, Device: id})
			})
			continue
		case order.Answered:
			continue
		}
		if p.active[id] == order.RollBack {
			add(func() { p.end(id, order.Event{Outcome: order.Verified(order.Previous)}) })
			add(func() { p.end(id, order.Event{Outcome: lost, Failure: true}) })
			continue
		}
		add(func() { p.end(id, order.Event{Outcome: order.Verified(order.Target)}) })
		add(func() { p.end(id, order.Event{Outcome: order.Verified(order.Previous), Failure: true}) })
		// away at its check
		add(func() { p.end(id, order.Event{Outcome: order.Outcome{Runs: order.Previous}}) })
		add(func() { p.end(id, order.Event{Outcome: lost, Failure: true}) })
		add(func() { p.apply(order.Event{Kind: order.Writing, Device: id}) })
		add(func() {
			p.asking[id] = order.Asks
			p.apply(order.Event{Kind: order.Asks, Device: id})
		})
		add(func() {
			delete(p.active, id)
			p.apply(order.Event{Kind: order.Postponed, Device: id, Until: p.now.Add(20 * time.Second)})
		})
	}
	if p.postponed() {
		add(func() { p.now = p.now.Add(30 * time.Second) })
	}
	return all
}

// rare are events that may happen at any time.
func (p *player) rare() (all []func()) {
	all = append(all, func() { p.apply(order.Event{Kind: order.Stopped}) },
		func() { p.apply(order.Event{Kind: order.Abandoned}) })
	for _, d := range p.order.Devices {
		all = append(all, func() {
			p.apply(order.Event{Kind: order.Removed, Device: d.ID, Why: &order.Reason{Why: order.TakenOut}})
		})
	}
	return all
}

// Everything that can happen, in any sequence, on generated sites: the invariant of the index holds
// at every instant at which the dispatcher is at rest, nothing waits for ever, and nothing is
// skipped that will not stay blocked.
func TestTheIndexIsRight(t *testing.T) {
	first, nights := uint64(time.Now().UnixNano()), uint64(10_000)
	if n, err := strconv.ParseUint(os.Getenv("CATENA_NIGHTS"), 10, 64); err == nil {
		nights = n
	}
	if s, err := strconv.ParseUint(os.Getenv("CATENA_SEED"), 10, 64); err == nil {
		first = s
	}
	for seed := first; seed < first+nights; seed++ {
		r := rand.New(rand.NewPCG(seed, 99))
		p, err := play(generate(r, 2+r.IntN(16), false))
		if err != nil {
			continue
		}
		foreign := func() {
			d := p.order.Devices[r.IntN(len(p.order.Devices))]
			d.ID = "x" + d.ID // of another job, on the same path
			p.apply(order.Event{Kind: order.OtherJobs, Others: []order.Foreign{{Job: "j9", Device: d}}})
		}
		for range 2000 {
			p.settle()
			choices := p.choices()
			if p.wrong != "" || len(choices) == 0 {
				break
			}
			switch r.IntN(60) {
			case 0:
				rare := p.rare()
				rare[r.IntN(len(rare))]()
			case 1:
				foreign()
			case 2:
				p.apply(order.Event{Kind: order.OtherJobs})
			default:
				choices[r.IntN(len(choices))]()
			}
		}
		p.apply(order.Event{Kind: order.OtherJobs})
		for range 200 { // whatever is still open ends
			p.settle()
			choices := p.choices()
			if p.wrong != "" || len(choices) == 0 {
				break
			}
			choices[0]()
		}
		require.Empty(t, p.wrong, "seed %d after %d events", seed, len(p.events))
		require.Zero(t, p.state.Unfinished(), "seed %d", seed)
	}
	t.Logf("%d nights from seed %d", nights, first)
}

// A lockstep set that waits for the pilot of its kind starts with the pilot once a member becomes
// that. These members used to be skipped because they would "start next", and the verified one was
// rolled back.
func TestAMemberThatNothingBlocksIsStarted(t *testing.T) {
	site := func(id, model string) order.Device {
		return order.Device{ID: id, Name: id, Model: model, Path: path, Takes: time.Minute,
			Returns: time.Minute}
	}
	o := order.Order{Devices: []order.Device{site("x", "A"), site("z", "B"), site("p", "A"),
		site("q", "A"), site("r", "A")},
		Rules: order.Rules{Pilot: true, Lockstep: []order.Set{{Name: "set", Of: []string{"z", "p", "q",
			"r"}}}}}
	plan, err := order.Play(o, begin, func(d order.Device, task order.Task) (time.Duration,
		order.Event) {
		takes, e := order.AsExpected(d, task)
		if d.ID == "x" {
			e.Outcome, e.Failure = order.Verified(order.Previous), true
		}
		return takes, e
	})
	require.NoError(t, err)
	for _, s := range plan.Spans {
		assert.Equal(t, order.Update, s.Task, s.Device)
	}
}

// A pilot that is stranded stops the others of its model and images, and no one else. One that was
// rolled back makes way for another, and without pilots nothing of the kind happens.
func TestAStrandedPilotStopsItsKind(t *testing.T) {
	site := func(id, model string) order.Device {
		return order.Device{ID: id, Name: id, Model: model, Path: path, Takes: time.Minute,
			Returns: time.Minute}
	}
	for name, c := range map[string]struct {
		pilot   bool
		outcome order.Outcome
		skipped []string
	}{
		"stranded":    {true, lost, []string{"cam-12", "cam-21"}},
		"rolled back": {true, order.Verified(order.Previous), nil},
		"no pilots":   {false, lost, nil},
	} {
		t.Run(name, func(t *testing.T) {
			o := order.Order{Rules: order.Rules{Parallel: 1, Pilot: c.pilot}, Devices: []order.Device{
				site("cam-11", "WX-40"), site("cam-12", "WX-40"), site("cam-21", "WX-40"),
				site("gate-1", "TG-200")}}
			plan, err := order.Play(o, begin, func(d order.Device, task order.Task) (time.Duration,
				order.Event) {
				takes, e := order.AsExpected(d, task)
				if d.ID == "cam-11" {
					e.Outcome, e.Failure = c.outcome, true
				}
				return takes, e
			})
			require.NoError(t, err)
			var skipped []string
			for _, s := range plan.Spans {
				if s.Task == order.Skip {
					skipped = append(skipped, s.Device)
					assert.Equal(t, order.PilotLost, s.Why.Why)
					assert.Equal(t, "cam-11, the pilot of its model and images, is stranded", s.Why.Error())
				}
			}
			assert.ElementsMatch(t, c.skipped, skipped)
		})
	}
}

// A lockstep set that failed proves nothing of its kind, even if one of its members runs the target
// still.
func TestAFailedSetProvesNoKind(t *testing.T) {
	site := func(id, model string, through ...string) order.Device {
		return order.Device{ID: id, Name: id, Model: model, Path: path, Through: through,
			Takes: time.Minute, Returns: time.Minute}
	}
	p, err := play(order.Order{Devices: []order.Device{site("handset-1", "PH-2", "hub"),
		site("hub", "PK-1"), site("handset-8", "PH-2"),
		site("handset-9", "PH-2")},
		Rules: order.Rules{Pilot: true, Lockstep: []order.Set{{Name: "handsets", Of: []string{"hub",
			"handset-1"}}}}})
	require.NoError(t, err)
	p.settle()
	p.end("handset-1", order.Event{Outcome: order.Verified(order.Target)})
	p.settle()
	p.end("hub", order.Event{Outcome: lost, Failure: true})
	p.settle()
	require.Empty(t, p.wrong)
	assert.Len(t, p.active, 1, "one more pilot, not both")
	assert.False(t, p.ended["handset-1"].Succeeded(), "no one can reach it any more")
}

// Where a cover set never lets a member return, the cover set wins.
func TestACoverSetWins(t *testing.T) {
	o := read(t, `
		cam-11 WX-40 4
		hub-1  PK-1  2`)
	o.Rules.Lockstep = []order.Set{{Name: "pair", Of: []string{"cam-11", "hub-1"}}}
	o.Rules.Cover = []order.Cover{{Name: "view", Keep: 1, Of: []string{"cam-11", "cam-12"}}}
	o.Rules.Out = map[string]string{}
	p, err := play(o)
	require.NoError(t, err)
	p.settle()
	p.end("cam-11", order.Event{Outcome: order.Verified(order.Target)})
	other := order.Device{ID: "cam-12", Name: "cam-12", Model: "WX-40"}
	p.apply(order.Event{Kind: order.OtherJobs, Others: []order.Foreign{{Job: "j2", Device: other}}})
	p.end("hub-1", order.Event{Outcome: order.Verified(order.Previous), Failure: true})
	p.settle()
	assert.Empty(t, p.active, "it waits for cam-12")
	assert.Equal(t, `waiting: cover set "view" needs cam-12 back in service`,
		p.state.Waiting(p.now)["cam-11"].Error())
	p.apply(order.Event{Kind: order.OtherJobs})
	p.settle()
	assert.Equal(t, map[string]order.Task{"cam-11": order.RollBack}, p.active)
}

// Every site of up to four devices, and every sequence of events up to a bounded depth; states that
// will do the same from there on are visited once. A long run takes all of them, to the depth that
// CATENA_EXHAUSTIVE gives; a short one takes a share of the larger sites, and prints which.
func TestEverySmallSite(t *testing.T) {
	depths, shares := []int{0, 5, 3, 2, 1}, []int{1, 1, 1, 16, 256}
	if depth, err := strconv.Atoi(os.Getenv("CATENA_EXHAUSTIVE")); err == nil {
		depths, shares = []int{0, depth + 2, depth + 1, depth, depth}, []int{1, 1, 1, 1, 1}
	}
	offset := int(time.Now().UnixNano() % 256)
	sites, states := 0, 0
	for n := 1; n <= 4; n++ {
		at := 0
		for o := range smallSites(n) {
			if at++; (at+offset)%shares[n] != 0 {
				continue
			}
			if _, err := play(o); err != nil {
				continue
			}
			sites++
			x := explorer{t: t, order: o, seen: map[string]bool{}}
			x.explore(nil, depths[n])
			states += len(x.seen)
			require.False(t, t.Failed(), "offset %d", offset)
		}
		t.Logf("up to %d devices: %d sites, %d distinct states, offset %d", n, sites, states, offset)
	}
	assert.Greater(t, states, 5_000)
}

// explorer visits the states of one site.
type explorer struct {
	t     *testing.T
	order order.Order
	seen  map[string]bool
}

// explore visits the states that the choices after a path of choices lead to.
func (x *explorer) explore(path []int, depth int) {
	p, err := play(x.order)
	require.NoError(x.t, err)
	p.settle()
	for _, c := range path {
		all := append(p.choices(), p.rare()...)
		all[c]()
		p.settle()
	}
	if p.wrong != "" {
		require.Empty(x.t, p.wrong, "order %+v\nevents %+v", x.order, p.events)
	}
	h := order.StateHash(p.state)
	if x.seen[h] {
		return
	}
	x.seen[h] = true
	if depth == 0 || p.state.Unfinished() == 0 {
		return
	}
	for c := range append(p.choices(), p.rare()...) {
		x.explore(append(slices.Clone(path), c), depth-1)
	}
}

// smallSites yields every site of n devices: all trees, one model or two, with and without pilots,
// a limit, cover sets and lockstep sets.
func smallSites(n int) func(yield func(order.Order) bool) {
	ids := []string{"a", "b", "c", "d"}[:n]
	var pairs [][]string
	for i := range ids {
		for j := range i {
			pairs = append(pairs, []string{ids[j], ids[i]})
		}
	}
	sets := append([][]string{nil}, pairs...)
	if n > 2 {
		sets = append(sets, ids)
	}
	return func(yield func(order.Order) bool) {
		for tree := range trees(n) {
			for variant := range 16 {
				for _, lockstep := range sets {
					for _, cover := range append([][]string{nil}, pairs...) {
						o := order.Order{Rules: order.Rules{Pilot: variant&1 > 0}}
						if variant&2 > 0 {
							o.Rules.Parallel = 1
						}
						if variant&8 > 0 {
							o.Rules.StopAfter.Failures = 1
						}
						for i, id := range ids {
							d := order.Device{ID: id, Name: id, Model: "M", Path: path, Takes: time.Minute,
								Returns: time.Minute}
							if variant&4 > 0 && i%2 > 0 {
								d.Model = "N"
							}
							for up := tree[i]; up >= 0; up = tree[up] {
								d.Through = append(d.Through, ids[up])
							}
							o.Devices = append(o.Devices, d)
						}
						if lockstep != nil {
							o.Rules.Lockstep = []order.Set{{Name: "set", Of: lockstep}}
						}
						if cover != nil {
							o.Rules.Cover = []order.Cover{{Name: "view", Keep: 1, Of: cover}}
						}
						if !yield(o) {
							return
						}
					}
				}
			}
		}
	}
}

// trees yields the uplink of each of n devices, -1 for none.
func trees(n int) func(yield func([]int) bool) {
	return func(yield func([]int) bool) {
		tree := make([]int, n)
		var fill func(i int) bool
		fill = func(i int) bool {
			if i == n {
				return yield(tree)
			}
			for up := -1; up < i; up++ {
				tree[i] = up
				if !fill(i + 1) {
					return false
				}
			}
			return true
		}
		fill(0)
	}
}
