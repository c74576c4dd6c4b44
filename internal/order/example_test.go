package order_test

import (
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/order"
)

// read makes an order of lines such as
//
//	cam-11  WX-40  4  through switch, core
//
// a device, its model, the minutes that it takes (it returns in half of them), and what it is
// reached through, also by way of others.
func read(t *testing.T, site string) order.Order {
	var o order.Order
	for line := range strings.Lines(site) {
		words := strings.Fields(strings.ReplaceAll(line, ",", " "))
		if len(words) == 0 {
			continue
		}
		minutes, err := strconv.Atoi(words[2])
		require.NoError(t, err)
		d := order.Device{ID: words[0], Name: words[0], Model: words[1], Path: path,
			Takes:   time.Duration(minutes) * time.Minute,
			Returns: time.Duration(minutes) * 30 * time.Second}
		if len(words) > 4 {
			d.Through = words[4:]
		}
		d.First = strings.HasPrefix(d.ID, "controller")
		if strings.HasPrefix(d.ID, "cam-") {
			d.Kind = "camera"
		}
		o.Devices = append(o.Devices, d)
	}
	return o
}

// drawn is a plan as text: a line for each device, a sign for each minute. = is at work, < is
// during its rollback; what stands behind is why it was left.
func drawn(o order.Order, p order.Schedule) string {
	rows := map[string][]byte{}
	why := map[string]string{}
	for _, s := range p.Spans {
		sign := byte('=')
		switch s.Task {
		case order.RollBack:
			sign = '<'
		case order.Skip:
			why[s.Device] = " " + s.Why.Error()
			continue
		}
		from, to := int(s.Start.Sub(begin).Minutes()), int(math.Ceil(s.End.Sub(begin).Minutes()))
		row := rows[s.Device]
		for len(row) < to {
			row = append(row, '.')
		}
		for m := from; m < to; m++ {
			row[m] = sign
		}
		rows[s.Device] = row
	}
	var b strings.Builder
	for _, d := range o.Devices {
		fmt.Fprintf(&b, "%-12s|%s|%s\n", d.Name, rows[d.ID], why[d.ID])
	}
	return b.String()
}

// Each rule, on a site and the timeline that follows.
func TestRules(t *testing.T) {
	chain := `
		gate-1 TG-200 2
		gate-2 TG-200 2 through gate-1
		gate-3 TG-200 2 through gate-2, gate-1
		cam-11 WX-40  3`
	cameras := `
		cam-11 WX-40 4
		cam-12 WX-40 4
		cam-21 WX-20 2`
	set := `
		hub-1     PK-1 2
		handset-1 PH-2 2 through hub-1
		handset-2 PH-2 4 through hub-1`
	for _, c := range []struct {
		name     string
		site     string
		rules    order.Rules
		closes   time.Duration
		fails    map[string]order.Outcome
		timeline string
	}{
		{name: "the end of a chain goes before its head", site: chain, timeline: `
gate-1      |....==|
gate-2      |..==|
gate-3      |==|
cam-11      |===|
`},
		{name: "a controller that says so goes first", site: `
			controller-1 HC-3 2
			unit-1       HU-1 2 through controller-1
			unit-2       HU-1 2 through controller-1`, timeline: `
controller-1|==|
unit-1      |..==|
unit-2      |..==|
`},
		{name: "what is behind a stranded device is left", site: `
			controller-1 HC-3 2
			unit-1       HU-1 2 through controller-1`,
			fails: map[string]order.Outcome{"controller-1": lost}, timeline: `
controller-1|==|
unit-1      || controller-1, its uplink, is stranded
`},
		{name: "a limit on devices at the same time, the longest chain first", site: chain,
			rules: order.Rules{Parallel: 1}, timeline: `
gate-1      |.......==|
gate-2      |..==|
gate-3      |==|
cam-11      |....===|
`},
		{name: "a limit by model", site: cameras,
			rules: order.Rules{PerModel: map[string]int{"WX-40": 1}}, timeline: `
cam-11      |====|
cam-12      |....====|
cam-21      |==|
`},
		{name: "a limit by kind", site: cameras,
			rules: order.Rules{PerKind: map[string]int{"camera": 1}}, timeline: `
cam-11      |====|
cam-12      |....====|
cam-21      |........==|
`},
		{name: "a limit by uplink", site: `
			cam-11 WX-40 2 through switch-basin
			cam-12 WX-40 2 through switch-basin
			cam-21 WX-40 2 through switch-upper`,
			rules: order.Rules{PerUplink: 1}, timeline: `
cam-11      |==|
cam-12      |..==|
cam-21      |==|
`},
		{name: "a cover set keeps one in service", site: cameras,
			rules: order.Rules{Cover: []order.Cover{
				{Name: "chamber 1 view", Keep: 1, Of: []string{"cam-11", "cam-12"}}}}, timeline: `
cam-11      |====|
cam-12      |....====|
cam-21      |==|
`},
		{name: "a stranded device is out of service", site: cameras,
			rules: order.Rules{Cover: []order.Cover{
				{Name: "chamber 1 view", Keep: 1, Of: []string{"cam-11", "cam-12"}}}},
			fails: map[string]order.Outcome{"cam-11": lost}, timeline: `
cam-11      |====|
cam-12      || waiting: cover set "chamber 1 view" needs cam-11 back in service
cam-21      |==|
`},
		{name: "a device that feeds others takes them out of service", site: `
			switch-basin OS-8  3
			cam-12       WX-40 2`,
			rules: order.Rules{Feeds: map[string][]string{"switch-basin": {"cam-11"}},
				Cover: []order.Cover{
					{Name: "chamber 1 view", Keep: 1, Of: []string{"cam-11", "cam-12"}}}}, timeline: `
switch-basin|===|
cam-12      |...==|
`},
		{name: "the pilot is proven before the next one starts", site: cameras,
			rules: order.Rules{Pilot: true}, timeline: `
cam-11      |====|
cam-12      |....====|
cam-21      |==|
`},
		{name: "a pilot that fails proves nothing", site: cameras + `
			cam-31 WX-40 4`,
			rules: order.Rules{Pilot: true},
			fails: map[string]order.Outcome{"cam-11": order.Verified(order.Previous)}, timeline: `
cam-11      |====|
cam-12      |....====|
cam-21      |==|
cam-31      |........====|
`},
		{name: "too many failures", site: `
			cam-11 WX-40 2
			cam-12 WX-40 2
			cam-21 WX-40 2`,
			rules: order.Rules{Parallel: 1, StopAfter: order.StopAfter{Failures: 2}},
			fails: map[string]order.Outcome{"cam-11": order.Verified(order.Previous),
				"cam-12": order.Verified(order.Previous)},
			timeline: `
cam-11      |==|
cam-12      |..==|
cam-21      || the job stopped because cam-11, cam-12 failed
`},
		{name: "a lockstep set moves together", site: set, timeline: `
hub-1       |....==|
handset-1   |==|
handset-2   |====|
`, rules: order.Rules{Lockstep: []order.Set{{Name: "handsets", Of: []string{"hub-1", "handset-1", "handset-2"}}}}},
		{name: "and returns together", site: set,
			fails: map[string]order.Outcome{"handset-2": order.Verified(order.Previous)}, timeline: `
hub-1       || lockstep set handsets requires handset-2
handset-1   |==..<|
handset-2   |====|
`, rules: order.Rules{Lockstep: []order.Set{{Name: "handsets", Of: []string{"hub-1", "handset-1", "handset-2"}}}}},
		{name: "nothing starts that may not end before the window closes", site: chain,
			closes: 6 * time.Minute, timeline: `
gate-1      || would not finish before the window closes
gate-2      |..==|
gate-3      |==|
cam-11      |===|
`},
	} {
		t.Run(c.name, func(t *testing.T) {
			o := read(t, c.site)
			o.Rules = c.rules
			if c.closes > 0 {
				o.Closes = begin.Add(c.closes)
			}
			p, err := order.Play(o, begin,
				func(d order.Device, do order.Task) (time.Duration, order.Event) {
					takes, end := order.AsExpected(d, do)
					if out, ok := c.fails[d.ID]; ok {
						end = order.Event{Outcome: out, Failure: true}
					}
					return takes, end
				})
			require.NoError(t, err)
			assert.Equal(t, strings.TrimPrefix(c.timeline, "\n"), drawn(o, p))
			assert.Empty(t, broken(o, p))
		})
	}
}

// What another job works on holds up what depends on it, and nothing else.
func TestOtherJobs(t *testing.T) {
	o := read(t, `
		switch-basin OS-8  3
		cam-21       WX-40 2
		cam-31       WX-40 2 through switch-upper`)
	o.Rules.Cover = []order.Cover{{Name: "chamber 2 view", Keep: 1,
		Of: []string{"cam-21", "cam-22"}}}
	s, err := order.New(o)
	require.NoError(t, err)
	busy := func(id string, through ...string) order.Foreign {
		return order.Foreign{Job: "j1",
			Device: order.Device{ID: id, Name: id, Model: "X", Through: through}}
	}
	now := func(others ...order.Foreign) (began []string, waits map[string]string) {
		require.NoError(t, s.Apply(order.Event{At: begin, Kind: order.OtherJobs, Others: others}))
		for {
			a, ok := s.Next(begin)
			if !ok {
				break
			}
			require.Equal(t, order.Update, a.Task)
			began = append(began, a.Device)
			require.NoError(t, s.Apply(order.Event{Kind: order.Started, Device: a.Device}))
		}
		waits = map[string]string{}
		for id, r := range s.Waiting(begin) {
			waits[id] = r.Error()
		}
		return began, waits
	}
	began, waits := now(busy("cam-11", "switch-basin"), busy("cam-22"), busy("switch-upper"))
	assert.Empty(t, began)
	assert.Equal(t, map[string]string{
		"switch-basin": "waiting for job j1, which is updating cam-11",
		"cam-21":       `waiting: cover set "chamber 2 view" needs cam-22 back in service`,
		"cam-31":       "waiting for job j1, which is updating switch-upper"}, waits)
	began, _ = now(busy("cam-22"), busy("switch-upper"))
	assert.Equal(t, []string{"switch-basin"}, began)
	began, waits = now(busy("cam-31", "switch-upper"))
	assert.Equal(t, []string{"cam-21"}, began)
	assert.Equal(t, "waiting for job j1, which is updating cam-31", waits["cam-31"], "the same device")
	began, _ = now()
	assert.Equal(t, []string{"cam-31"}, began)
}

// What an order contradicts itself in is told before anything starts.
func TestContradictions(t *testing.T) {
	site := `
		cam-11  WX-40 4
		cam-12  WX-40 4
		gate-1  TG-200 2 through gate-2
		gate-2  TG-200 2 through gate-1`
	o := read(t, site)
	o.Names = map[string]string{"d9": "handset-9"}
	o.Window = 3 * time.Minute
	o.Rules = order.Rules{
		Cover: []order.Cover{{Name: "chamber 1 view", Keep: 2,
			Of: []string{"cam-11", "cam-12"}}},
		Lockstep: []order.Set{{Name: "pair", Of: []string{"cam-12", "d9"},
			Missing: map[string]string{"d9": "is held"}}},
	}
	_, err := order.Forecast(o, begin)
	require.Error(t, err)
	assert.Equal(
		t,
		`gate-2 → gate-1 → gate-2: each must finish before the next one starts; remove one of these rules
cover set chamber 1 view keeps 2 of 2 in service, but cam-11 takes 1 of them out; keep fewer, or leave cam-11 out
cover set chamber 1 view keeps 2 of 2 in service, but cam-12 takes 1 of them out; keep fewer, or leave cam-12 out
lockstep set pair is updated as a whole, but handset-9 is held; resolve that, or leave the whole set out
cam-11 may take 6m0s to be verified or rolled back, but the longest window is 3m0s; extend a window, or leave it out
lockstep set pair may take 6m0s to be verified or rolled back, but the longest window is 3m0s; extend a window, or leave it out`,
		err.Error(),
	)
}

// The sequence is nearly the best there is: beside an exhaustive search on small sites, which
// tries at each instant to start or not to start each device that the rules allow.
func TestNearlyOptimal(t *testing.T) {
	sum, worst, n := 0.0, 1.0, 0
	for seed := range uint64(500) {
		r := rand.New(rand.NewPCG(seed, 3))
		o := generate(r, 4+r.IntN(3), false)
		o.Rules.Lockstep, o.Rules.StopAfter, o.Closes, o.Rules.Out = nil, order.StopAfter{}, time.Time{},
			nil
		o.Rules.Parallel = 1 + r.IntN(3)
		p, err := order.Forecast(o, begin)
		if err != nil || slices.ContainsFunc(p.Spans,
			func(s order.Span) bool { return s.Task == order.Skip }) {
			continue
		}
		best := &search{order: o, best: p.End.Sub(p.Start)}
		best.from(0, nil)
		require.GreaterOrEqual(t, best.best, p.Bound, "seed %d: the bound is wrong", seed)
		ratio := float64(p.End.Sub(p.Start)) / float64(best.best)
		sum, worst, n = sum+ratio, max(worst, ratio), n+1
	}
	t.Logf("mean of %d sites: %.4f of the optimum, the worst %.3f", n, sum/float64(n), worst)
	assert.Greater(t, n, 300)
	assert.LessOrEqual(t, sum/float64(n), 1.02)
}

// search finds the shortest plan of an order by trying all.
type search struct {
	order order.Order
	best  time.Duration
}

// from continues from a time and what was started until then.
func (s *search) from(now time.Duration, begun []order.Span) {
	end := time.Duration(0)
	for _, b := range begun {
		end = max(end, b.End.Sub(begin))
	}
	if end >= s.best {
		return
	}
	if len(begun) == len(s.order.Devices) {
		s.best = end
		return
	}
	for _, d := range s.order.Devices {
		if slices.ContainsFunc(begun, func(b order.Span) bool { return b.Device == d.ID }) {
			continue
		}
		next := append(slices.Clone(begun), order.Span{Device: d.ID, Task: order.Update,
			Start: begin.Add(now), End: begin.Add(now + d.Takes), Outcome: order.Verified(order.Target)})
		if s.allowed(next) {
			s.from(now, next)
		}
	}
	later := time.Duration(-1)
	for _, b := range begun {
		if e := b.End.Sub(begin); e > now && (later < 0 || e < later) {
			later = e
		}
	}
	if later >= 0 {
		s.from(later, begun)
	}
}

// allowed tells whether the last span may stand where it does.
func (s *search) allowed(spans []order.Span) bool {
	o := s.order
	last := spans[len(spans)-1]
	for _, d := range o.Devices { // those that must have ended have
		me := o.Devices[slices.IndexFunc(o.Devices, func(x order.Device) bool {
			return x.ID == last.Device
		})]
		first := slices.Contains(d.Through, me.ID) && !me.First ||
			slices.Contains(me.Through, d.ID) && d.First
		at := slices.IndexFunc(spans, func(x order.Span) bool { return x.Device == d.ID })
		if first && (at < 0 || spans[at].End.After(last.Start)) {
			return false
		}
	}
	p := order.Schedule{Spans: spans}
	for _, d := range o.Devices { // broken asks that all have ended
		if !slices.ContainsFunc(spans, func(x order.Span) bool { return x.Device == d.ID }) {
			p.Spans = append(p.Spans, order.Span{Device: d.ID, Task: order.Skip,
				Start: last.Start, End: last.Start, Why: &order.Reason{Why: order.Window}})
		}
	}
	return broken(o, p) == ""
}
