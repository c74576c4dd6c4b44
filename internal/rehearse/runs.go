// Package rehearse plays an order before it is carried out: many times on a virtual clock (Runs,
// which is pure), or once by the real runner on a Stage, on this machine alone.
package rehearse

import (
	"math"
	"math/rand/v2"
	"slices"
	"time"

	"catena/internal/order"
)

// Fault is how a device fails in a run, where it does.
type Fault string

const (
	// it does not come back: it is stranded, and all behind it is out of reach
	NeverReturns Fault = "never-returns"
	KeepsVersion Fault = "keeps-version" // it comes back as before
	// it comes back on the new version, and is not well: it returns
	Sick Fault = "sick"
)

// Faults are those that can be chosen.
var Faults = []Fault{NeverReturns, KeepsVersion, Sick}

// Input is what is played.
type Input struct {
	Order order.Order
	Start time.Time
	Runs  int
	Seed  uint64
	// Took are how long such devices took at this site before; none: it is drawn around what is
	// expected.
	Took func(order.Device) []time.Duration
	// Fails is how likely a device fails, from 0 to 1.
	Fails func(order.Device) float64
	// Chosen are the faults that are sure, by device ID.
	Chosen map[string]Fault
}

// The share of failed devices that never come back; those that cannot be rolled back are all
// stranded.
const neverBack = 0.1

// spread is the standard deviation of the logarithm of a duration that no history tells: two thirds
// of them lie within a quarter of what is expected.
const spread = 0.25

// Chance is how often a device ended so, from 0 to 1.
type Chance struct {
	ID       string  `json:"device"`
	Name     string  `json:"name"`
	Returned float64 `json:"returned"`
	Stranded float64 `json:"stranded"`
	Skipped  float64 `json:"skipped"` // it was not started, for whatever reason
	Window   float64 `json:"window_missed"`
}

// Result is what the runs brought.
type Result struct {
	Runs    int     `json:"runs"`
	Seed    uint64  `json:"seed"`
	Half    float64 `json:"half"`    // seconds: half of the runs ended by then
	Most    float64 `json:"most"`    // seconds: 95 % of the runs did
	Longest float64 `json:"longest"` // seconds
	// the share of runs in which the window closed on a device
	Missed float64 `json:"missed"`
	// the share in which every device was brought to its target
	Clean   float64         `json:"all_well"`
	Devices []Chance        `json:"devices"` // those with any chance, the most stranded first
	Ends    []time.Duration `json:"-"`       // of all runs, sorted
}

// Runs plays the order in.Runs times. The same input brings the same result. Its error is an
// *order.Contradictions.
func Runs(in Input) (Result, error) {
	r := Result{Runs: in.Runs, Seed: in.Seed}
	chances := map[string]*Chance{}
	for _, d := range in.Order.Devices {
		chances[d.ID] = &Chance{ID: d.ID, Name: d.Name}
	}
	for n := range in.Runs {
		rng := rand.New(rand.NewPCG(in.Seed, uint64(n)))
		p, err := order.Play(in.Order, in.Start, in.draw(rng))
		if err != nil {
			return r, err
		}
		missed, well := count(p.Spans, chances)
		if missed {
			r.Missed++
		}
		if well {
			r.Clean++
		}
		r.Ends = append(r.Ends, p.End.Sub(p.Start))
	}
	r.share(in.Order.Devices, chances)
	return r, nil
}

// count adds a run to the chances of the devices. missed: a device did not start before the window
// closed; well: all reached their targets.
func count(spans []order.Span, chances map[string]*Chance) (missed, well bool) {
	well = true
	back := map[string]bool{}
	for _, s := range spans {
		c := chances[s.Device]
		switch {
		case s.Task == order.Skip:
			well = false
			c.Skipped++
			if s.Why != nil && s.Why.Why == order.Window {
				c.Window++
				missed = true
			}
		case s.Outcome.Stranded():
			well = false
			c.Stranded++
		case s.Outcome.Runs == order.Previous && !back[s.Device]:
			well, back[s.Device] = false, true
			c.Returned++
		}
	}
	return missed, well
}

// share makes shares of what was counted, and sorts them.
func (r *Result) share(devices []order.Device, chances map[string]*Chance) {
	share := func(count *float64) { *count /= float64(r.Runs) }
	share(&r.Missed)
	share(&r.Clean)
	slices.Sort(r.Ends)
	r.Half, r.Most, r.Longest = at(r.Ends, 0.5).Seconds(), at(r.Ends, 0.95).Seconds(), at(r.Ends,
		1).Seconds()
	for _, d := range devices {
		c := *chances[d.ID]
		for _, count := range []*float64{&c.Returned, &c.Stranded, &c.Skipped, &c.Window} {
			share(count)
		}
		if c.Returned+c.Stranded+c.Skipped > 0 {
			r.Devices = append(r.Devices, c)
		}
	}
	slices.SortStableFunc(r.Devices, func(a, b Chance) int {
		for _, pair := range [][2]float64{{b.Stranded, a.Stranded}, {b.Skipped, a.Skipped},
			{b.Returned, a.Returned}} {
			if pair[0] != pair[1] {
				return map[bool]int{true: 1, false: -1}[pair[0] > pair[1]]
			}
		}
		return 0
	})
}

// at is the value below which that share of a sorted list lies.
func at(sorted []time.Duration, share float64) time.Duration {
	if len(sorted) == 0 {
		return 0
	}
	return sorted[max(0, min(len(sorted)-1, int(math.Ceil(share*float64(len(sorted))))-1))]
}

// draw returns how a device does in one run.
func (in Input) draw(rng *rand.Rand) order.Draw {
	return func(d order.Device, task order.Task) (time.Duration, order.Event) {
		if task == order.RollBack {
			return in.length(rng, d, d.Returns), order.Event{Outcome: order.Verified(order.Previous)}
		}
		takes := in.length(rng, d, d.Takes)
		failed, lost := rng.Float64() < in.Fails(d), rng.Float64() < neverBack
		if fault, is := in.Chosen[d.ID]; is {
			failed, lost = true, fault == NeverReturns
		}
		switch {
		case !failed:
			return takes, order.Event{Outcome: order.Verified(order.Target)}
		case lost, !d.Returnable():
			return takes, order.Event{Outcome: order.Outcome{Written: true}, Failure: true}
		}
		return takes + in.length(rng, d, d.Returns),
			order.Event{Outcome: order.Verified(order.Previous), Failure: true}
	}
}

// InjectFaults chooses faults for a share of the devices that have none yet; the same seed brings
// the same.
func InjectFaults(o order.Order, chosen map[string]Fault, share float64, seed uint64) {
	rng := rand.New(rand.NewPCG(seed, 0))
	for _, d := range o.Devices {
		hit, lost, how := rng.Float64() < share, rng.Float64() < neverBack,
			Faults[1+rng.IntN(len(Faults)-1)]
		if _, is := chosen[d.ID]; is || !hit {
			continue
		}
		if chosen[d.ID] = how; lost {
			chosen[d.ID] = NeverReturns
		}
	}
}

// Enough is how many durations of the past make a history: fewer say little of how they vary, but
// what to expect.
const Enough = 4

// length draws how long a device is at work: as one of the past, or around what is expected.
func (in Input) length(rng *rand.Rand, d order.Device, expected time.Duration) time.Duration {
	past := in.Took(d)
	switch {
	case len(past) >= Enough:
		return past[rng.IntN(len(past))]
	case len(past) > 0 && expected > 0:
		expected = past[len(past)/2]
	}
	return time.Duration(float64(expected) * math.Exp(spread*rng.NormFloat64()))
}

// Histogram returns how many of the ends lie in each of n equal parts from the first to the last.
func Histogram(ends []time.Duration, parts int) (counts []int, from, to time.Duration) {
	counts = make([]int, parts)
	if len(ends) == 0 {
		return counts, 0, 0
	}
	from, to = ends[0], ends[len(ends)-1]
	for _, e := range ends {
		i := 0
		if to > from {
			i = min(parts-1, int(int64(parts)*int64(e-from)/int64(to-from)))
		}
		counts[i]++
	}
	return counts, from, to
}
