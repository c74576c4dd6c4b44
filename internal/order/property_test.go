package order_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/order"
)

var begin = time.Date(2026, 11, 25, 22, 0, 0, 0, time.UTC)

// lost is the outcome of a device that the job stranded.
var lost = order.Outcome{Written: true}

// path is that of every device here: pilots are then per model.
var path = []order.Hop{{Component: "main", From: "1.0", To: "2.0"}}

// generate makes a site: switches with devices, some in daisy chains, with cover sets, lockstep
// sets and caps. slack leaves out what makes a night longer than any simple bound can say.
func generate(r *rand.Rand, devices int, slack bool) order.Order {
	var o order.Order
	minutes := func(low, high int) time.Duration {
		return time.Duration(low*60+r.IntN((high-low)*60+1)) * time.Second
	}
	switches := max(1, devices/12)
	for i := range devices {
		model := fmt.Sprintf("M%d", r.IntN(4))
		d := order.Device{ID: fmt.Sprintf("d%d", i), Model: model, Path: path,
			Takes: minutes(2, 8), Returns: minutes(1, 4)}
		if i < switches {
			d.Model = "OS-8"
			if i > 0 && r.IntN(3) == 0 {
				d.Through = append(d.Through, fmt.Sprintf("d%d", r.IntN(i)))
			}
		} else {
			up := r.IntN(switches)
			if r.IntN(4) == 0 { // a daisy chain
				up = r.IntN(i)
			}
			if len(o.Devices[up].Through) < 6 {
				d.Through = append(slices.Clone(o.Devices[up].Through), o.Devices[up].ID)
			}
		}
		d.First = i >= switches && r.IntN(5) == 0
		d.Name = d.ID
		o.Devices = append(o.Devices, d)
	}
	for i := range o.Devices { // a switch behind a switch: all its devices are, too
		for _, id := range o.Devices[i].Through {
			for _, u := range o.Devices {
				if u.ID != id {
					continue
				}
				for _, up := range u.Through {
					if !slices.Contains(o.Devices[i].Through, up) {
						o.Devices[i].Through = append(o.Devices[i].Through, up)
					}
				}
			}
		}
	}
	o.Rules.Pilot = r.IntN(2) == 0
	o.Rules.Parallel = 2 + r.IntN(8)
	o.Rules.Feeds = map[string][]string{}
	pick := func(n int) (out []string) {
		for range n {
			id := o.Devices[r.IntN(len(o.Devices))].ID
			if !slices.Contains(out, id) {
				out = append(out, id)
			}
		}
		return out
	}
	for i := range r.IntN(3) {
		of := pick(3)
		o.Rules.Cover = append(o.Rules.Cover,
			order.Cover{Name: fmt.Sprintf("view %d", i), Of: of, Keep: len(of) / 2})
	}
	if slack {
		o.Rules.Pilot = false
		return o
	}
	if r.IntN(2) == 0 {
		o.Rules.PerModel = map[string]int{"M0": 1 + r.IntN(2)}
		o.Rules.PerUplink = 1 + r.IntN(4)
	}
	if r.IntN(3) == 0 {
		o.Rules.PerKind = map[string]int{"camera": 1 + r.IntN(2)}
		for i := range o.Devices {
			o.Devices[i].Kind = []string{"camera", "switch", ""}[r.IntN(3)]
		}
	}
	if r.IntN(3) == 0 {
		o.Rules.PerParent = map[string]int{}
		for i, d := range o.Devices {
			if len(d.Through) > 0 {
				o.Devices[i].Parent = d.Through[r.IntN(len(d.Through))]
				o.Rules.PerParent[o.Devices[i].Parent] = 1 + r.IntN(3)
			}
		}
	}
	for i := range r.IntN(2) {
		set := pick(2 + r.IntN(3))
		o.Rules.Lockstep = append(o.Rules.Lockstep,
			order.Set{Name: fmt.Sprintf("set %d", i), Of: set})
	}
	if r.IntN(3) == 0 {
		feeder := o.Devices[0].ID
		for _, d := range o.Devices {
			if slices.Contains(d.Through, feeder) && r.IntN(2) == 0 {
				o.Rules.Feeds[feeder] = append(o.Rules.Feeds[feeder], d.ID)
			}
		}
	}
	if r.IntN(3) == 0 {
		o.Rules.StopAfter = order.StopAfter{Failures: 1 + r.IntN(4)}
	}
	if r.IntN(3) == 0 {
		o.Closes = begin.Add(minutes(10, 60))
	}
	if r.IntN(4) == 0 {
		o.Rules.Out = map[string]string{o.Devices[r.IntN(len(o.Devices))].ID: "is away"}
	}
	return o
}

// broken looks at a plan as someone would who knows the rules and not the dispatcher: at the
// instant when each span starts, is anything so that may not be? It returns the first that is.
func broken(o order.Order, p order.Schedule) string {
	by := map[string]order.Device{}
	for _, d := range o.Devices {
		by[d.ID] = d
	}
	worked := slices.DeleteFunc(slices.Clone(p.Spans), func(s order.Span) bool {
		return s.Task == order.Skip
	})
	for n, s := range worked {
		d := by[s.Device]
		var at []order.Span // at work when s starts, s among them
		for m, other := range worked {
			// what ends in this instant has ended; of those that start in it, the earlier count
			if other.Start.Before(s.Start) && other.End.After(s.Start) ||
				other.Start.Equal(s.Start) && m <= n {
				at = append(at, other)
			}
		}
		count := func(is func(order.Device) bool) (c int) {
			for _, a := range at {
				if is(by[a.Device]) {
					c++
				}
			}
			return c
		}
		for _, a := range at {
			if slices.Contains(d.Through, a.Device) ||
				slices.Contains(by[a.Device].Through, s.Device) {
				return fmt.Sprintf("%s and %s are at work, and one leads to the other", s.Device,
					a.Device)
			}
		}
		if most := o.Rules.Parallel; most > 0 && len(at) > most {
			return fmt.Sprintf("%d are at work, not %d", len(at), most)
		}
		if most := o.Rules.PerModel[d.Model]; most > 0 &&
			count(func(x order.Device) bool { return x.Model == d.Model }) > most {
			return "too many of model " + d.Model
		}
		if most := o.Rules.PerKind[d.Kind]; most > 0 &&
			count(func(x order.Device) bool { return x.Kind == d.Kind }) > most {
			return "too many of kind " + d.Kind
		}
		if most := o.Rules.PerParent[d.Parent]; most > 0 &&
			count(func(x order.Device) bool { return x.Parent == d.Parent }) > most {
			return "too many children of " + d.Parent
		}
		for _, u := range d.Through {
			through := count(func(x order.Device) bool { return slices.Contains(x.Through, u) })
			if most := o.Rules.PerUplink; most > 0 && through > most {
				return "too many through " + u
			}
		}
		if bad := uncovered(o, p, s, at); bad != "" {
			return bad
		}
		if s.Task == order.Update {
			if bad := outOfTurn(o, p, s); bad != "" {
				return bad
			}
		}
	}
	return unequal(o, p)
}

// uncovered checks a span against the cover sets.
func uncovered(o order.Order, p order.Schedule, s order.Span, at []order.Span) string {
	for _, c := range o.Rules.Cover {
		out := map[string]bool{}
		add := func(id string) {
			if slices.Contains(c.Of, id) {
				out[id] = true
			}
		}
		before := 0
		for id := range o.Rules.Out {
			back := slices.ContainsFunc(p.Spans, func(x order.Span) bool {
				return x.Device == id && x.Task != order.Skip && x.Outcome.InService() && !x.End.After(s.Start)
			})
			if !back {
				add(id)
			}
		}
		for _, x := range p.Spans {
			if x.Outcome.Stranded() && !x.End.After(s.Start) {
				add(x.Device)
				for _, fed := range o.Rules.Feeds[x.Device] {
					add(fed)
				}
			}
		}
		before = len(out)
		for _, a := range at {
			add(a.Device)
			for _, fed := range o.Rules.Feeds[a.Device] {
				add(fed)
			}
		}
		// what was lost is not the dispatcher's doing; what it adds to it is
		if len(out) > before && len(c.Of)-len(out) < c.Keep {
			return fmt.Sprintf("cover set %s has %d of %d out when %s starts", c.Name, len(out),
				len(c.Of), s.Device)
		}
	}
	return ""
}

// outOfTurn checks a span against sequence, pilot, window and the end of a job.
func outOfTurn(o order.Order, p order.Schedule, s order.Span) string {
	by := map[string]order.Device{}
	for _, d := range o.Devices {
		by[d.ID] = d
	}
	inSet := func(a, b string) bool {
		return slices.ContainsFunc(o.Rules.Lockstep, func(set order.Set) bool {
			return slices.Contains(set.Of, a) && slices.Contains(set.Of, b)
		})
	}
	d := by[s.Device]
	failures := 0
	proven := false
	for _, x := range p.Spans {
		ended := !x.End.After(s.Start)
		other := by[x.Device]
		before := slices.Contains(other.Through, s.Device) && !d.First ||
			slices.Contains(d.Through, x.Device) && other.First
		again := x.Task != order.Update && inSet(x.Device, s.Device)
		if before && !ended && !again {
			return fmt.Sprintf("%s starts before %s has ended", s.Device, x.Device)
		}
		if x.Task == order.Update && ended && !x.Outcome.Succeeded() {
			failures++
		}
		sameKind := other.Model == d.Model
		proven = proven || sameKind && ended && x.Outcome.Succeeded()
	}
	if o.Rules.Pilot && !proven {
		for _, x := range p.Spans {
			other := by[x.Device]
			if x.Task == order.Update && x.Device != s.Device && other.Model == d.Model &&
				!x.Start.After(s.Start) && x.End.After(s.Start) && !inSet(x.Device, s.Device) {
				return fmt.Sprintf("%s starts beside %s, and none of its kind is proven", s.Device,
					x.Device)
			}
			if x.Task == order.Update && x.Device != s.Device && other.Model == d.Model &&
				!x.End.After(s.Start) && x.Outcome.Stranded() && s.Task == order.Update &&
				!inSet(x.Device, s.Device) {
				return fmt.Sprintf("%s starts although %s, the pilot of its kind, is stranded", s.Device,
					x.Device)
			}
		}
	}
	if most := o.Rules.StopAfter.Failures; most > 0 && failures >= most {
		return fmt.Sprintf("%s starts after %d failures", s.Device, failures)
	}
	alone := !slices.ContainsFunc(o.Rules.Lockstep, func(set order.Set) bool {
		return slices.Contains(set.Of, s.Device)
	})
	if !o.Closes.IsZero() && alone && s.Start.Add(d.Takes+d.Returns).After(o.Closes) {
		return s.Device + " may not end before the window closes"
	}
	return ""
}

// unequal holds the ends of lockstep sets against each other, and all devices against the order.
func unequal(o order.Order, p order.Schedule) string {
	last := map[string]order.Outcome{}
	for _, s := range p.Spans {
		last[s.Device] = s.Outcome
	}
	if len(last) != len(o.Devices) {
		return fmt.Sprintf("%d of %d devices have ended", len(last), len(o.Devices))
	}
	for _, s := range p.Spans {
		if s.Task == order.Skip && !slices.Contains([]order.Why{order.CoverSet, order.LockstepSet,
			order.Window, order.ManyFailed, order.ThroughLost, order.PilotLost}, s.Why.Why) {
			return fmt.Sprintf("%s is left because it %s", s.Device, s.Why)
		}
	}
	claimed := map[string]bool{}
	for _, set := range o.Rules.Lockstep {
		target, previous, stranded := false, false, false
		for _, id := range set.Of {
			if !claimed[id] {
				o := last[id]
				stranded = stranded || o.Stranded() || !o.Reachable
				target = target || o.Runs == order.Target && o.Reachable
				previous = previous || o.Runs == order.Previous
			}
			claimed[id] = true
		}
		// where one was lost, others may be out of reach, or needed in service
		if target && previous && !stranded {
			return "lockstep set " + set.Name + " has ended in parts"
		}
	}
	return ""
}

// No rule is broken at any instant, every device ends, and nothing waits for ever: over
// thousands of sites, with devices that fail in every way.
func TestNoRuleIsBroken(t *testing.T) {
	refused := 0
	for seed := range uint64(6000) {
		r := rand.New(rand.NewPCG(seed, 1))
		o := generate(r, 2+r.IntN(40), false)
		share := []float64{0, 0.05, 0.3, 1}[r.IntN(4)]
		p, err := order.Play(o, begin,
			func(d order.Device, do order.Task) (time.Duration, order.Event) {
				takes, end := order.AsExpected(d, do)
				takes = time.Duration(float64(takes) * (0.5 + r.Float64()))
				if r.Float64() < share {
					end = order.Event{Outcome: []order.Outcome{order.Verified(order.Previous),
						lost}[r.IntN(2)],
						Failure: true}
					takes += d.Returns
				}
				if do == order.RollBack && end.Outcome.Succeeded() {
					end.Outcome = order.Verified(order.Previous)
				}
				return takes, end
			})
		if err != nil {
			var c *order.Contradictions
			require.ErrorAs(t, err, &c, "seed %d", seed)
			refused++
			continue
		}
		require.Empty(t, broken(o, p), "seed %d", seed)
	}
	assert.Less(t, refused, 3000, "sites that contradict themselves")
}

// How close the dispatcher comes to what no sequence can better.
func TestMakespan(t *testing.T) {
	sum, n := 0.0, 0
	for seed := range uint64(400) {
		r := rand.New(rand.NewPCG(seed, 2))
		p, err := order.Forecast(generate(r, 20+r.IntN(100), true), begin)
		if err != nil {
			continue
		}
		require.GreaterOrEqual(t, p.Ratio(), 1-1e-9, "seed %d: shorter than its bound", seed)
		sum, n = sum+p.Ratio(), n+1
	}
	t.Logf("mean of %d sites: %.4f of the lower bound", n, sum/float64(n))
	assert.Greater(t, n, 200)
	assert.LessOrEqual(t, sum/float64(n), 1.05)
}

// work are the spans of a plan in which someone is at work. When it is found out that a device
// is left does not matter: that it is.
func work(p order.Schedule) (out []order.Span, left map[string]bool) {
	left = map[string]bool{}
	for _, s := range p.Spans {
		if s.Task == order.Skip {
			left[s.Device] = true
			continue
		}
		out = append(out, s)
	}
	return out, left
}

// Whoever applies what happened until then is where the job was: a state made of the events of
// a night, cut anywhere, says the same of every device that waits, and continues the same way.
func TestAStateIsItsEvents(t *testing.T) {
	for seed := range uint64(400) {
		r := rand.New(rand.NewPCG(seed, 4))
		o := generate(r, 2+r.IntN(30), false)
		s, err := order.New(o)
		if err != nil {
			continue
		}
		var happened []order.Event
		cut := r.IntN(3 * len(o.Devices))
		ends := map[string]order.Event{}
		now := begin
		apply := func(e order.Event) {
			require.NoError(t, s.Apply(e))
			happened = append(happened, e)
		}
		for len(happened) < cut {
			if a, ok := s.Next(now); ok && a.Task == order.SettlePilot {
				apply(order.Event{At: now, Kind: order.PilotSettled, Device: a.Device})
				continue
			} else if ok && a.Task == order.Skip {
				apply(order.Event{At: now, Kind: order.Ended, Device: a.Device, Outcome: a.Skipped()})
				continue
			} else if ok {
				apply(order.Event{At: now, Kind: order.Started, Device: a.Device, Task: a.Task})
				end := order.Event{At: now.Add(time.Duration(1+r.IntN(600)) * time.Second), Kind: order.Ended,
					Device: a.Device, Outcome: order.Verified(order.Target)}
				if a.Task == order.RollBack || r.IntN(5) == 0 {
					end.Outcome, end.Failure = order.Verified(order.Previous), a.Task != order.RollBack
				}
				ends[a.Device] = end
				continue
			}
			next := ""
			for id, e := range ends {
				if next == "" || e.At.Before(ends[next].At) || e.At.Equal(ends[next].At) && id < next {
					next = id
				}
			}
			if next == "" {
				break
			}
			now = ends[next].At
			apply(ends[next])
			delete(ends, next)
		}
		again, err := order.New(o)
		require.NoError(t, err)
		for _, e := range happened {
			require.NoError(t, again.Apply(e))
		}
		require.Equal(t, s.Waiting(now), again.Waiting(now), "seed %d", seed)
		rest, err := s.Rest(now, order.AsExpected)
		require.NoError(t, err)
		same, err := again.Rest(now, order.AsExpected)
		require.NoError(t, err)
		spans, left := work(rest)
		sameSpans, sameLeft := work(same)
		require.Equal(t, spans, sameSpans, "seed %d", seed)
		require.Equal(t, left, sameLeft, "seed %d", seed)
	}
}
