package job_test

import (
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"

	"catena/internal/device"
	"catena/internal/dialect"
	"catena/internal/firmware"
	"catena/internal/job"
	"catena/internal/ledger"
	"catena/internal/login"
	"catena/internal/order"
)

// scenario is a simulated night: all that the seed decides, so that it can be shrunk.
type scenario struct {
	Seed    uint64
	Devices []spec
	Rules   order.Rules
	Jobs    [][]int // the devices of each job
	WaitFor time.Duration
	Stage   bool
	Crashes []crash
	Deeds   []deed // what operators do
	FullAt  int    // the disk is full for the write of that number; 0: never
}

// crash is the death of a process: before the call or the entry of that number that is about a device.
type crash struct{ On, Point int }

// deed is something that an operator does while a job runs.
type deed struct {
	After time.Duration
	What  string // stop, hold, remove, answer, skip
	On    int    // a device
}

// generateNight makes a night.
func generateNight(seed uint64) scenario {
	r := rand.New(rand.NewPCG(seed, 7))
	chance := func(n int) bool { return r.IntN(n) == 0 }
	s := scenario{Seed: seed}
	n := 1 + r.IntN(6)
	for i := range n {
		d := spec{Name: fmt.Sprintf("d%d", i), Up: -1, Model: fmt.Sprintf("M%d", r.IntN(2)), Returns: !chance(8),
			Via: chance(5), Slots: chance(5), Modem: chance(6), Parks: chance(3), Blind: chance(5), Clears: chance(4), Asks: chance(10),
			Write: time.Duration(1+r.IntN(8)) * time.Minute, Down: time.Duration(r.IntN(3)) * time.Minute}
		if i > 0 && chance(2) {
			d.Up = r.IntN(i)
		}
		if chance(3) {
			d.Fault = simulatedFaults[r.IntN(len(simulatedFaults))]
		}
		if chance(6) {
			d.Flaky = 5 + r.IntN(30)
		}
		if chance(8) {
			d.Locked = 1 + r.IntN(20)
		}
		if chance(8) {
			d.AwayFrom = 1 + r.IntN(30)
		}
		d.Parks = d.Parks && !d.Blind
		if d.Blind && d.Fault == "hangs" {
			d.Fault = "" // after a crash nothing tells a device that hangs from one that has no image
		}
		s.Devices = append(s.Devices, d)
	}
	name := func(i int) string { return fmt.Sprintf("d%d", i) }
	some := func() (ids []string) {
		for i := range n {
			if chance(2) {
				ids = append(ids, name(i))
			}
		}
		return ids
	}
	s.Rules.Pilot = chance(2)
	s.Rules.Parallel = r.IntN(4)
	if chance(3) {
		s.Rules.PerUplink = 1 + r.IntN(2)
	}
	if set := some(); len(set) > 1 && chance(2) {
		s.Rules.Lockstep = []order.Set{{Name: "set", Of: set}}
	}
	if of := some(); len(of) > 1 && chance(2) {
		s.Rules.Cover = []order.Cover{{Name: "view", Keep: 1, Of: of}}
	}
	if chance(4) {
		s.Rules.StopAfter.Failures = 1 + r.IntN(2)
	}
	if chance(3) {
		s.WaitFor = 10 * time.Minute
	}
	jobs := 1
	if len(s.Rules.Lockstep) == 0 && n > 2 {
		jobs = 1 + r.IntN(3)
	}
	s.Jobs = make([][]int, jobs)
	for i := range n {
		j := r.IntN(jobs)
		s.Jobs[j] = append(s.Jobs[j], i)
	}
	s.Jobs = slices.DeleteFunc(s.Jobs, func(j []int) bool { return len(j) == 0 })
	for range r.IntN(4) {
		s.Crashes = append(s.Crashes, crash{r.IntN(n), 1 + r.IntN(60)})
	}
	for range r.IntN(4) {
		s.Deeds = append(s.Deeds, deed{After: time.Duration(r.IntN(40*60)) * time.Second,
			What: []string{"stop", "hold", "remove", "skip"}[r.IntN(4)], On: r.IntN(n)})
	}
	if chance(10) {
		s.FullAt = 1 + r.IntN(60)
	}
	return s
}

// simulatedSite is the site of a night, and what happens to it.
type simulatedSite struct {
	seed    uint64
	begin   time.Time
	devices []*box

	mu      sync.Mutex
	points  map[string]int // calls and entries so far, by device
	crashes map[string][]int
	held    map[string]bool
}

func (s *simulatedSite) named(name string) *box {
	for _, b := range s.devices {
		if b.Name == name {
			return b
		}
	}
	return nil
}

// crashBefore kills a process at the points that the seed has chosen.
func (s *simulatedSite) crashBefore(p *process, device string) {
	s.mu.Lock()
	s.points[device]++
	dies := slices.Contains(s.crashes[device], s.points[device])
	s.mu.Unlock()
	if dies {
		p.kill()
	}
}

// simulatedNight plays a scenario.
type simulatedNight struct {
	scenario
	site   *simulatedSite
	dir    string
	known  map[string]job.Known
	stored map[string][]byte
	oracle oracle
	writes int
}

func imageOf(model, component, version string) order.Image {
	file := model + "/" + component + " " + version
	return order.Image{File: file, Size: int64(len(file)), SHA256: fmt.Sprintf("%x", sha256.Sum256([]byte(file)))}
}

// order returns the order of one of the jobs.
func (n *simulatedNight) order(which []int) order.Order {
	o := order.Order{Purpose: order.Forward, WaitFor: n.WaitFor, WaitAway: n.WaitFor, Rules: n.Rules, Stage: n.Stage}
	for _, i := range which {
		d := n.Devices[i]
		row := order.Device{ID: d.Name, Name: d.Name, Model: d.Model, From: "1.0", Takes: d.Write + d.Down, Returns: d.Write + d.Down}
		for up := d.Up; up >= 0; up = n.Devices[up].Up {
			row.Through = append(row.Through, n.Devices[up].Name)
		}
		hop := func(component, from, to string) {
			h := order.Hop{Component: component, From: from, To: to, Image: imageOf(d.Model, component, to), Slots: d.Slots && component == "main"}
			if d.Returns {
				image := imageOf(d.Model, component, from)
				h.Back = &image
			}
			row.Path = append(row.Path, h)
		}
		if d.Via {
			hop("main", "1.0", "1.5")
			hop("main", "1.5", "2.0")
		} else {
			hop("main", "1.0", "2.0")
		}
		if d.Modem {
			hop("modem", "1.0", "2.0")
		}
		o.Devices = append(o.Devices, row)
	}
	return o
}

// engine returns the engine of a process that has just started.
func (n *simulatedNight) engine(p *process) (*job.Engine, error) {
	l, err := ledger.Open(n.dir, time.Now)
	if err != nil {
		return nil, err
	}
	l.Intercept(func(entries []ledger.Entry) error {
		if p.died() {
			return errors.New("the process was killed")
		}
		for _, e := range entries {
			if e.Device != "" {
				n.site.crashBefore(p, e.Device)
			}
		}
		if p.died() {
			return errors.New("the process was killed")
		}
		n.site.mu.Lock()
		n.writes++
		full := n.writes == n.FullAt
		n.site.mu.Unlock()
		if full {
			return errors.New("no space left on device")
		}
		n.oracle.entries(n, entries)
		return nil
	})
	var mu sync.Mutex
	return &job.Engine{Ledger: l, Dialects: dialect.NewRegistry(simulatedDialect{n.site, p}), Now: time.Now,
		Contact: func(d device.Device) (dialect.At, login.Credential, bool) {
			return dialect.At{Endpoint: d.Endpoint}, login.Credential{}, true
		},
		See:  func(string, *device.Device) error { return nil },
		Open: func(i order.Image) (job.File, error) { return memory{bytes.NewReader([]byte(i.File))}, nil },
		Held: func(d device.Device) string {
			n.site.mu.Lock()
			defer n.site.mu.Unlock()
			if n.site.held[d.ID] {
				return "for the swans"
			}
			return ""
		},
		KeepSettings: func(d device.Device, version string, _ settingsFormat, raw []byte) (string, error) {
			mu.Lock()
			defer mu.Unlock()
			name := fmt.Sprint(d.ID, " ", len(n.stored))
			n.stored[name] = bytes.Clone(raw)
			return name, nil
		},
		KeptSettings: func(_ device.Device, name string) ([]byte, error) {
			mu.Lock()
			defer mu.Unlock()
			return n.stored[name], nil
		},
		Patience: firmware.Patience{},
	}, nil
}

// simulate plays a night and returns the first thing that must not be.
func simulate(t *testing.T, s scenario) (wrong string) {
	dir, err := os.MkdirTemp(fastDir, "night")
	require.NoError(t, err)
	defer func() { _ = os.RemoveAll(dir) }()
	synctest.Test(t, func(t *testing.T) {
		n := &simulatedNight{scenario: s, dir: dir, known: map[string]job.Known{}, stored: map[string][]byte{}}
		n.oracle.init()
		n.site = &simulatedSite{seed: s.Seed, begin: time.Now(), points: map[string]int{}, crashes: map[string][]int{}, held: map[string]bool{}}
		for _, c := range s.Crashes {
			name := s.Devices[c.On].Name
			n.site.crashes[name] = append(n.site.crashes[name], c.Point)
		}
		for _, d := range s.Devices {
			b := &box{spec: d, site: n.site, version: map[string]string{"main": "1.0"}, idle: "0.9", serial: "S-" + d.Name, config: "level=7"}
			if d.Modem {
				b.version["modem"] = "1.0"
			}
			n.site.devices = append(n.site.devices, b)
			reading := device.Reading{Identity: device.Identity{Serial: b.serial, Model: d.Model}, Version: "1.0"}
			if d.Modem {
				reading.Components = map[string]string{"modem": "1.0"}
			}
			n.known[d.Name] = job.Known{Alters: d.Clears, Clears: d.Clears, Device: device.Device{ID: d.Name, Name: d.Name,
				Endpoint: device.Endpoint{Dialect: "simulated", Address: d.Name}, Reading: reading}}
		}
		l, err := ledger.Create(dir, time.Now)
		require.NoError(t, err)
		require.NoError(t, l.Close())
		wrong = n.play(t)
	})
	return wrong
}

// play runs the jobs of the night, each in a process of its own that is started again when it dies, and
// the operators.
func (n *simulatedNight) play(t *testing.T) string {
	var group sync.WaitGroup
	for _, which := range n.Jobs {
		group.Go(func() { n.process(t, which) })
		time.Sleep(time.Duration(len(which)) * time.Minute)
	}
	group.Go(n.operate)
	group.Wait()
	return n.oracle.verdict(n)
}

// process runs one job to its end.
func (n *simulatedNight) process(t *testing.T, which []int) {
	id := ""
	for attempt := 0; ; attempt++ {
		if attempt > 40 {
			n.oracle.wrong("job %s was started again 40 times and has not ended", id)
			return
		}
		p := &process{job: id}
		e, err := n.engine(p)
		if err != nil {
			n.oracle.wrong("the ledger cannot be opened: %s", err)
			return
		}
		plan := job.Plan{Order: n.order(which), Devices: n.known, Downstream: n.downstream(which)}
		var j *job.Job
		if id == "" {
			j, err = e.Start(plan)
		} else {
			j, err = e.Resume(id, plan, time.Time{})
		}
		var c *order.Contradictions
		if errors.As(err, &c) || errors.Is(err, job.ErrOver) {
			_ = e.Ledger.Close()
			return
		}
		if err == nil {
			id = j.ID
			p.mu.Lock()
			p.job = id
			p.mu.Unlock()
			ctx, cancel := context.WithTimeout(t.Context(), maxNight)
			err = j.Run(ctx, ctx)
			if ctx.Err() != nil {
				n.oracle.wrong("job %s waits for ever: %v", id, n.waits(e.Ledger, id))
			}
			cancel()
			n.oracle.compare(e.Ledger, j)
		}
		_ = e.Ledger.Close()
		if err == nil {
			return
		}
		// until an operator resumes it: at once, or after a while in which other jobs go on
		time.Sleep(time.Duration(10+attempt)*time.Second + time.Duration((n.Seed+uint64(attempt))%3)*2*time.Minute)
	}
}

// maxNight is longer than any job takes that waits for nothing in vain.
const maxNight = 48 * time.Hour

// waits returns what the devices of a job wait for.
func (n *simulatedNight) waits(l *ledger.Ledger, id string) (all []string) {
	s, err := job.Load(l, id)
	if err != nil {
		return nil
	}
	for _, d := range s.Devices {
		all = append(all, fmt.Sprint(d.Name, " ", d.Step, " ", d.Asks, " ", d.Reason))
	}
	return all
}

func (n *simulatedNight) downstream(which []int) map[string][]device.Device {
	out := map[string][]device.Device{}
	for _, i := range which {
		for _, b := range n.site.devices {
			if b.below(n.site.devices[i]) {
				out[n.Devices[i].Name] = append(out[n.Devices[i].Name], n.known[b.Name].Device)
			}
		}
	}
	return out
}

// operate does what operators do, and answers what devices ask for until every job has ended.
func (n *simulatedNight) operate() {
	l, err := ledger.Open(n.dir, time.Now)
	if err != nil {
		n.oracle.wrong("the ledger cannot be opened: %s", err)
		return
	}
	defer func() { _ = l.Close() }()
	deeds := slices.Clone(n.Deeds)
	slices.SortFunc(deeds, func(a, b deed) int { return int(a.After - b.After) })
	seen := int64(0)
	for round := 0; ; round++ {
		time.Sleep(30 * time.Second)
		if last, err := l.Last(); err == nil && last == seen && round%10 > 0 &&
			(len(deeds) == 0 || time.Since(n.site.begin) <= deeds[0].After) {
			continue
		}
		jobs, err := job.Jobs(l, 0)
		if err != nil || round > 5000 {
			n.oracle.wrong("the operator waits for ever: %v", err)
			return
		}
		for _, s := range jobs {
			seen = max(seen, s.Seq)
		}
		open := slices.DeleteFunc(jobs, func(s job.State) bool { return !s.Ended.IsZero() })
		for len(deeds) > 0 && time.Since(n.site.begin) > deeds[0].After {
			n.do(l, deeds[0], open)
			deeds = deeds[1:]
		}
		for _, s := range open {
			for _, d := range s.Devices {
				if d.Asks != "" {
					_ = job.Answer(l, s.ID, d.ID, false, "")
				}
			}
		}
		n.oracle.mu.Lock()
		ended := n.oracle.closed
		n.oracle.mu.Unlock()
		if len(open) == 0 && (ended >= len(n.Jobs) || round > 20 && len(jobs) == 0 || ended >= len(jobs) && round > 60) {
			return
		}
	}
}

func (n *simulatedNight) do(l *ledger.Ledger, d deed, open []job.State) {
	name := n.Devices[d.On].Name
	switch d.What {
	case "hold":
		n.site.mu.Lock()
		n.site.held[name] = true
		n.site.mu.Unlock()
	case "stop":
		for _, s := range open {
			_ = job.Stop(l, s.ID)
		}
	case "remove":
		for _, s := range open {
			if slices.ContainsFunc(s.Devices, func(d job.DeviceState) bool { return d.ID == name }) {
				_ = job.Remove(l, s.ID, []string{name}, &order.Reason{Why: order.TakenOut})
			}
		}
	}
}

// fastDir is in memory where the system has that.
var fastDir = func() string {
	if info, err := os.Stat("/dev/shm"); err == nil && info.IsDir() {
		return "/dev/shm"
	}
	return ""
}()

// shrink makes a failing night smaller as long as it fails.
func shrink(t *testing.T, s scenario) scenario {
	fails := func(s scenario) bool { return simulate(t, s) != "" }
	for smaller := true; smaller; {
		smaller = false
		for _, c := range s.smaller() {
			if fails(c) {
				s, smaller = c, true
				break
			}
		}
	}
	return s
}

// smaller returns nights that lack one thing of this one.
func (s scenario) smaller() (all []scenario) {
	for i := range s.Devices {
		if c, ok := s.without(i); ok {
			all = append(all, c)
		}
	}
	for i := range s.Crashes {
		c := s
		c.Crashes = slices.Delete(slices.Clone(s.Crashes), i, i+1)
		all = append(all, c)
	}
	for i := range s.Deeds {
		c := s
		c.Deeds = slices.Delete(slices.Clone(s.Deeds), i, i+1)
		all = append(all, c)
	}
	change := func(i int, how func(*spec)) {
		c := s
		c.Devices = slices.Clone(s.Devices)
		how(&c.Devices[i])
		if c.Devices[i] != s.Devices[i] {
			all = append(all, c)
		}
	}
	for i := range s.Devices {
		change(i, func(d *spec) { d.Fault = "" })
		change(i, func(d *spec) { d.Flaky = 0 })
		change(i, func(d *spec) { d.Locked, d.AwayFrom = 0, 0 })
		change(i, func(d *spec) { d.Modem, d.Via = false, false })
		change(i, func(d *spec) { d.Slots, d.Asks, d.Clears = false, false, false })
		change(i, func(d *spec) { d.Parks, d.Blind = false, false })
	}
	c := s
	c.Rules = order.Rules{Lockstep: s.Rules.Lockstep, Cover: s.Rules.Cover}
	if c.Rules.Pilot != s.Rules.Pilot || c.Rules.Parallel != s.Rules.Parallel || c.Rules.PerUplink != s.Rules.PerUplink ||
		c.Rules.StopAfter != s.Rules.StopAfter {
		all = append(all, c)
	}
	if len(s.Rules.Cover) > 0 {
		c := s
		c.Rules.Cover = nil
		all = append(all, c)
	}
	if s.WaitFor > 0 {
		c := s
		c.WaitFor = 0
		all = append(all, c)
	}
	return all
}

// without leaves a device out; false: it cannot be.
func (s scenario) without(i int) (scenario, bool) {
	if len(s.Devices) == 1 {
		return s, false
	}
	name := s.Devices[i].Name
	c := s
	c.Devices = nil
	for j, d := range s.Devices {
		if j == i {
			continue
		}
		switch {
		case d.Up == i:
			d.Up = s.Devices[i].Up
		case d.Up > i:
			d.Up--
		}
		c.Devices = append(c.Devices, d)
	}
	c.Jobs = nil
	for _, which := range s.Jobs {
		var left []int
		for _, j := range which {
			switch {
			case j < i:
				left = append(left, j)
			case j > i:
				left = append(left, j-1)
			}
		}
		if len(left) > 0 {
			c.Jobs = append(c.Jobs, left)
		}
	}
	c.Crashes = nil
	for _, at := range s.Crashes {
		if at.On > i {
			at.On--
		} else if at.On == i {
			continue
		}
		c.Crashes = append(c.Crashes, at)
	}
	c.Deeds = nil
	for _, d := range s.Deeds {
		if d.On == i {
			continue
		}
		if d.On > i {
			d.On--
		}
		c.Deeds = append(c.Deeds, d)
	}
	gone := func(of []string) []string {
		return slices.DeleteFunc(slices.Clone(of), func(id string) bool { return id == name })
	}
	c.Rules.Lockstep, c.Rules.Cover = nil, nil
	for _, set := range s.Rules.Lockstep {
		set.Of = gone(set.Of)
		c.Rules.Lockstep = append(c.Rules.Lockstep, set)
	}
	for _, set := range s.Rules.Cover {
		if set.Of = gone(set.Of); len(set.Of) > set.Keep {
			c.Rules.Cover = append(c.Rules.Cover, set)
		}
	}
	return c, true
}

// Whole nights on generated sites, with crashes between any two writes or calls, devices that fail in every
// way, and operators. CATENA_NIGHTS sets the number of nights, CATENA_SEED plays one.
func TestNights(t *testing.T) {
	first, nights := uint64(time.Now().UnixNano()), 100
	if n, err := strconv.Atoi(os.Getenv("CATENA_NIGHTS")); err == nil {
		nights = n
	}
	if s, err := strconv.ParseUint(os.Getenv("CATENA_SEED"), 10, 64); err == nil {
		first = s
	}
	defer job.Poll(15 * time.Second)()
	defer runtime.GOMAXPROCS(runtime.GOMAXPROCS(1)) // so that a seed plays the same night again
	began := time.Now()
	for seed := first; seed < first+uint64(nights); seed++ {
		s := generateNight(seed)
		if wrong := simulate(t, s); wrong != "" {
			small := shrink(t, s)
			first, _, _ := strings.Cut(wrong, "\n")
			t.Fatalf("seed %d: %s\nshrunk to %s\n%s", seed, first, describe(small), simulate(t, small))
		}
	}
	t.Logf("%d nights from seed %d, %.1f a second", nights, first, float64(nights)/time.Since(began).Seconds())
}

// A component that an interlock forbids fails alone: the device's other components continue.
func TestAForbiddenComponentFailsAlone(t *testing.T) {
	d := spec{Name: "d0", Up: -1, Model: "M0", Modem: true, Returns: true, Write: time.Minute, Down: time.Minute, Locked: 100_000,
		Part: "modem"}
	require.Empty(t, simulate(t, scenario{Devices: []spec{d}, Jobs: [][]int{{0}}}))
}

func describe(s scenario) string {
	var b strings.Builder
	for _, d := range s.Devices {
		fmt.Fprintf(&b, "\n  %s", strings.NewReplacer(":false", ":-").Replace(fmt.Sprintf("%+v", d)))
	}
	fmt.Fprintf(&b, "\n  %+v\n  jobs %v, crashes %v, deeds %+v, full at %d, wait %s", s.Rules, s.Jobs, s.Crashes, s.Deeds, s.FullAt, s.WaitFor)
	return b.String()
}
