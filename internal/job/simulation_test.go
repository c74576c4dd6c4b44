package job_test

import (
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"reflect"
	"regexp"
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
	GiveUp  time.Duration // how long one device is waited for; 0: as long as it has patience
	Closes  time.Duration // when the window ends; 0: there is none
	Later   []string      // jobs that follow: retry, finish, rollback
	Crashes []crash
	Deeds   []deed // what operators do
	Jumps   []jump // of the clock
	GivesUp int    // the job whose process has died so often is given up; 0: none
	FullAt  int    // the disk is full for the write of that number; 0: never
}

// jump is the clock of the laptop being set.
type jump struct{ After, By time.Duration }

// crash is the death of a process: before the call or the entry of that number that is about a
// device.
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
	later := rand.New(rand.NewPCG(seed, 8)) // of what joined later: seeds that failed play on
	n := 1 + r.IntN(6)
	for i := range n {
		d := spec{Name: fmt.Sprintf("d%d", i), Up: -1, Model: fmt.Sprintf("M%d", r.IntN(2)),
			Returns: !chance(8),
			Via:     chance(5), Slots: chance(5), Modem: chance(6), Parks: chance(3), Blind: chance(5),
			Clears: chance(4), Asks: chance(10), Wipes: later.IntN(8) == 0, Needs: later.IntN(6) == 0,
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
		if d.Locked > 0 && d.Modem && chance(2) {
			d.Part, d.Locked = "modem", 100_000
		}
		if chance(8) {
			d.AwayFrom = 1 + r.IntN(30)
		}
		d.Parks = d.Parks && !d.Blind
		d.Again, d.Uncounted = chance(12), chance(4)
		d.Child = d.Up >= 0 && !s.Devices[d.Up].Child && chance(3)
		if d.Blind && d.Uncounted { // nothing tells how far it is: it is given as long as usual
			d.Write = min(d.Write, 3*time.Minute)
		}
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
	if chance(4) {
		s.Rules.PerModel = map[string]int{"M0": 1}
	}
	if chance(2) {
		s.Rules.PerParent = map[string]int{}
		for _, d := range s.Devices {
			if d.Child {
				s.Rules.PerParent[name(d.Up)] = 1
			}
		}
	}
	if chance(3) {
		s.Rules.PerUplink = 1 + r.IntN(2)
	}
	if set := some(); len(set) > 1 && chance(2) {
		s.Rules.Lockstep = []order.Set{{Name: "set", Of: set}}
	}
	if n > 1 && chance(12) { // a set that returns over a bad connection
		set := order.Set{Name: "set"}
		for i := range s.Devices {
			set.Of = append(set.Of, name(i))
			s.Devices[i].Fault, s.Devices[i].Flaky = "", 8+r.IntN(12)
		}
		if d := &s.Devices[n-1]; !d.Blind {
			d.Fault = simulatedFaults[r.IntN(4)]
		}
		s.Rules.Lockstep = []order.Set{set}
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
	if chance(5) {
		s.Closes = time.Duration(20+r.IntN(120)) * time.Minute
	}
	s.Stage = chance(8)
	if chance(10) {
		s.GiveUp = time.Duration(5+r.IntN(20)) * time.Minute
	}
	if chance(3) { // what is downstream is out of service with its uplink
		s.Rules.Feeds = map[string][]string{}
		for i, d := range s.Devices {
			for up := d.Up; up >= 0; up = s.Devices[up].Up {
				s.Rules.Feeds[name(up)] = append(s.Rules.Feeds[name(up)], name(i))
			}
		}
	}
	for range r.IntN(3) {
		s.Later = append(s.Later, []string{"retry", "finish", "rollback"}[r.IntN(3)])
	}
	if s.Stage {
		s.Later = append([]string{"finish"}, s.Later...)
	}
	if chance(8) {
		s.GivesUp = 1 + r.IntN(3)
	}
	for range r.IntN(4) {
		s.Crashes = append(s.Crashes, crash{r.IntN(n), 1 + r.IntN(60+60*len(s.Later))})
	}
	if chance(6) {
		for range 1 + r.IntN(2) {
			s.Jumps = append(s.Jumps, jump{time.Duration(r.IntN(60)) * time.Minute,
				time.Duration(r.IntN(180)-90) * time.Minute})
		}
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
	skips   map[string]bool // what they ask for next is skipped
	jumps   []jump
}

// now is what the laptop's clock shows.
func (s *simulatedSite) now() time.Time {
	now := time.Now()
	for _, j := range s.jumps {
		if time.Since(s.begin) >= j.After {
			now = now.Add(j.By)
		}
	}
	return now
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
	stored *savedSettings
	oracle oracle
	writes int
	over   chan struct{} // closed when every job has ended
}

func imageOf(model, component, version string) order.Image {
	file := model + "/" + component + " " + version
	return order.Image{File: file, Size: int64(len(file)), SHA256: fmt.Sprintf("%x",
		sha256.Sum256([]byte(file)))}
}

// order returns the order that brings devices to their targets.
func (n *simulatedNight) order(which []int) order.Order {
	o := order.Order{Purpose: order.Forward, WaitFor: n.WaitFor, WaitAway: n.WaitFor, Rules: n.Rules,
		Stage:  n.Stage,
		GiveUp: n.GiveUp}
	for _, i := range which {
		versions := []string{"1.0", "2.0"}
		switch {
		case n.Devices[i].Again:
			versions = []string{"1.0", "1.0"}
		case n.Devices[i].Via:
			versions = []string{"1.0", "1.5", "2.0"}
		}
		row := n.row(i, versions)
		row.Again = n.Devices[i].Again
		o.Devices = append(o.Devices, row)
	}
	if n.Closes > 0 {
		o.Closes = n.site.begin.Add(n.Closes)
		o.Window = 1000 * time.Hour
	}
	return o
}

// row returns the row of a device that is to run these versions one after the other.
func (n *simulatedNight) row(i int, versions []string) order.Device {
	d := n.Devices[i]
	row := order.Device{ID: d.Name, Name: d.Name, Model: d.Model, From: versions[0],
		Takes: d.Write + d.Down, Returns: d.Write + d.Down}
	for up := d.Up; up >= 0; up = n.Devices[up].Up {
		row.Through = append(row.Through, n.Devices[up].Name)
	}
	if d.Child {
		row.Parent = n.Devices[d.Up].Name
	}
	hop := func(component, from, to string) {
		h := order.Hop{Component: component, From: from, To: to, Image: imageOf(d.Model, component, to),
			Slots: d.Slots && component == "main"}
		if h.Slots && from > to && n.site.devices[i].truth().idle == to {
			h.Image = order.Image{} // it is only switched to
		}
		if d.Returns {
			image := imageOf(d.Model, component, from)
			h.Back = &image
		}
		row.Path = append(row.Path, h)
	}
	for v := 1; v < len(versions); v++ {
		hop("main", versions[v-1], versions[v])
	}
	if d.Modem {
		hop("modem", versions[0], versions[len(versions)-1])
	}
	return row
}

// later returns the order of a job that follows the others; without devices: there is nothing to
// do. It chooses by what the devices really are, as a scan would.
func (n *simulatedNight) later(what string) order.Order {
	var which []int
	for i, b := range n.site.devices {
		is := b.truth()
		if !is.up || is.sick || is.busy || is.serial != "S-"+b.Name || n.oracle.out[b.Name] {
			continue
		}
		end := n.oracle.newest[b.Name]
		all := func(v string) bool {
			return is.version["main"] == v &&
				(!b.Modem || is.version["modem"] == v)
		}
		switch what {
		case "retry":
			if all("1.0") && end != "parked" && is.held == "" {
				which = append(which, i)
			}
		case "finish":
			if end == "parked" {
				which = append(which, i)
			}
		case "rollback":
			if all("2.0") && is.held == "" {
				which = append(which, i)
			}
		}
	}
	o := n.order(which)
	o.Stage, o.Closes, o.Window = false, time.Time{}, 0
	o.Rules.Lockstep = nil
	for i := range o.Devices {
		switch what {
		case "finish":
			o.Devices[i].Parked = true
		case "rollback":
			o.Purpose = order.Backward
			o.Devices[i] = n.row(which[i], []string{"2.0", "1.0"})
			o.Devices[i].First = true
		}
	}
	return o
}

// engine returns the engine of a process that has just started.
func (n *simulatedNight) engine(p *process) (*job.Engine, error) {
	l, err := ledger.Open(n.dir, n.site.now, ledger.Writer{})
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
	shared := map[string]*dialect.SharedSession{}
	return &job.Engine{Ledger: l, Dialects: dialect.NewRegistry(simulatedDialect{n.site, p}),
		Now: n.site.now,
		Contacts: job.ContactFunc(func(d device.Device) (dialect.At, login.Credential, bool) {
			at := dialect.At{Endpoint: d.Endpoint}
			if up := d.Through; up != "" {
				mu.Lock()
				defer mu.Unlock()
				if shared[up] == nil {
					shared[up] = &dialect.SharedSession{}
				}
				parent := dialect.At{Endpoint: n.known[up].Device.Endpoint}
				at.Parent = &dialect.Parent{Contact: dialect.Contact{At: parent},
					Identity: n.known[up].Device.Identity,
					Shared:   shared[up]}
			}
			return at, login.Credential{}, true
		}),
		Site: &testSite{
			open: func(i order.Image) (job.File, error) {
				return memory{bytes.NewReader([]byte(i.File))},
					nil
			},
			held: func(d device.Device) string {
				n.site.mu.Lock()
				defer n.site.mu.Unlock()
				if n.site.held[d.ID] {
					return "for the swans"
				}
				return ""
			}},
		Settings: n.stored,
		Patience: firmware.Patience{},
	}, nil
}

// simulate plays a night and returns the first thing that must not be.
func simulate(t *testing.T, s scenario) (wrong string) {
	wrong, _ = playNight(t, s)
	return wrong
}

// playNight returns its timeline, too.
func playNight(t *testing.T, s scenario) (wrong string, timeline []string) {
	dir, err := os.MkdirTemp(fastDir, "night")
	require.NoError(t, err)
	defer func() { _ = os.RemoveAll(dir) }()
	synctest.Test(t, func(t *testing.T) {
		n := &simulatedNight{scenario: s, dir: dir, known: map[string]job.Known{},
			stored: &savedSettings{},
			over:   make(chan struct{})}
		n.oracle.init()
		n.site = &simulatedSite{seed: s.Seed, begin: time.Now(), points: map[string]int{},
			crashes: map[string][]int{},
			held:    map[string]bool{}, skips: map[string]bool{}, jumps: s.Jumps}
		for _, c := range s.Crashes {
			name := s.Devices[c.On].Name
			n.site.crashes[name] = append(n.site.crashes[name], c.Point)
		}
		for _, d := range s.Devices {
			b := &box{spec: d, site: n.site, version: map[string]string{"main": "1.0"}, idle: "0.9",
				serial: "S-" + d.Name, config: asSet}
			if d.Modem {
				b.version["modem"] = "1.0"
			}
			n.site.devices = append(n.site.devices, b)
			reading := device.Reading{Identity: device.Identity{Serial: b.serial, Model: d.Model},
				Version: "1.0"}
			if d.Modem {
				reading.Components = map[string]string{"modem": "1.0"}
			}
			through := ""
			if d.Child {
				through = s.Devices[d.Up].Name
			}
			n.known[d.Name] = job.Known{Alters: d.Clears, Clears: d.Clears, Device: device.Device{ID: d.Name,
				Name:     d.Name,
				Endpoint: device.Endpoint{Dialect: "simulated", Address: d.Name, Through: through},
				Reading:  reading}}
		}
		l, err := ledger.Create(dir, time.Now, ledger.Writer{})
		require.NoError(t, err)
		require.NoError(t, l.Close())
		wrong, timeline = n.play(t), n.oracle.timeline
	})
	return wrong, timeline
}

// play runs the jobs of the night, each in a process of its own that is started again when it dies,
// the jobs that follow, and the operators.
func (n *simulatedNight) play(t *testing.T) string {
	var jobs, operators sync.WaitGroup
	operators.Go(n.operate)
	for _, which := range n.Jobs {
		jobs.Go(func() { n.process(t, n.order(which)) })
		time.Sleep(time.Duration(len(which))*time.Minute + apart)
	}
	jobs.Wait()
	for _, what := range n.Later {
		time.Sleep(10*time.Minute + apart)
		if o := n.later(what); len(o.Devices) > 0 {
			n.process(t, o)
		}
	}
	close(n.over)
	operators.Wait()
	return n.oracle.verdict(n)
}

// apart keeps what is done at regular intervals from happening at the same instants: processes that
// look for news, and operators.
const apart = 1373 * time.Millisecond

// process runs one job to its end.
func (n *simulatedNight) process(t *testing.T, o order.Order) {
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
		plan := job.Plan{Order: o, Devices: n.known, Downstream: n.downstream(o)}
		var j *job.Job
		switch {
		case id == "":
			j, err = e.Start(plan)
		case attempt == n.GivesUp:
			if err = e.GiveUp(t.Context(), id, plan); err == nil {
				_ = e.Ledger.Close()
				return
			}
		default:
			j, err = e.Resume(id, plan, o.Closes)
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
			job.Watch(j, n.compare(e.Ledger, j))
			ctx, cancel := context.WithTimeout(t.Context(), maxNight)
			err = j.Run(ctx, ctx)
			if ctx.Err() != nil {
				n.oracle.wrong("job %s waits for ever: %v", id, n.waits(e.Ledger, id))
			}
			cancel()
		}
		_ = e.Ledger.Close()
		if err == nil {
			return
		}
		// until an operator resumes it: at once, or after a while in which other jobs continue
		time.Sleep(time.Duration(attempt+1)*(10*time.Second+apart/7) + time.Duration(
			(n.Seed+uint64(attempt))%3)*2*time.Minute)
	}
}

// compare returns what is called whenever a job has read entries back: folding the ledger gives the
// live state. The other follower of the same entries is moved on by nothing else.
func (n *simulatedNight) compare(l *ledger.Ledger, j *job.Job) func() {
	follower := job.Follow(l, j.ID)
	return func() {
		folded, err := job.Described(follower, j)
		if err != nil {
			n.oracle.wrong("the ledger cannot be folded: %s", err)
			return
		}
		live := job.Live(j)
		for i := range live {
			if i >= len(folded) || live[i] != folded[i] {
				n.oracle.wrong("the live state has\n  %s\nand the ledger\n  %s", live[i],
					folded[min(i, len(folded)-1)])
				return
			}
		}
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

func (n *simulatedNight) downstream(of order.Order) map[string][]device.Device {
	out := map[string][]device.Device{}
	for _, d := range of.Devices {
		for _, b := range n.site.devices {
			if b.below(n.site.named(d.ID)) {
				out[d.ID] = append(out[d.ID], n.known[b.Name].Device)
			}
		}
	}
	return out
}

// operate does what operators do, and answers what devices ask for until every job has ended.
func (n *simulatedNight) operate() {
	l, err := ledger.Open(n.dir, n.site.now, ledger.Writer{})
	if err != nil {
		n.oracle.wrong("the ledger cannot be opened: %s", err)
		return
	}
	defer func() { _ = l.Close() }()
	deeds := slices.Clone(n.Deeds)
	slices.SortFunc(deeds, func(a, b deed) int { return int(a.After - b.After) })
	var jobs []*job.Follower
	seen := int64(0)
	time.Sleep(apart / 2)
	for {
		select {
		case <-n.over:
			return
		case <-time.After(30 * time.Second):
		}
		started, err := l.Entries(ledger.Filter{Kind: job.Started, After: seen})
		for _, s := range started {
			seen = s.Seq
			jobs = append(jobs, job.Follow(l, s.Job))
		}
		var open []job.State
		for _, f := range jobs {
			s, more := f.Look()
			err = errors.Join(err, more)
			if s.Ended.IsZero() {
				open = append(open, s)
			}
		}
		if err != nil {
			n.oracle.wrong("the operator cannot read the ledger: %s", err)
			return
		}
		for len(deeds) > 0 && time.Since(n.site.begin) > deeds[0].After {
			n.do(l, deeds[0], open)
			deeds = deeds[1:]
		}
		for _, s := range open {
			for _, d := range s.Devices {
				if d.Asks != "" {
					_ = job.Answer(l, s.ID, d.ID, n.site.skips[d.ID], "the key is lost")
					delete(n.site.skips, d.ID)
				}
			}
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
	case "skip":
		n.site.skips[name] = true
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

// kindOf is what went wrong, without names and numbers.
func kindOf(wrong string) string {
	first, _, _ := strings.Cut(wrong, "\n")
	return regexp.MustCompile(`[a-z]?[0-9.]+`).ReplaceAllString(first, "#")
}

// shrink makes a failing night smaller as long as the same goes wrong.
func shrink(t *testing.T, s scenario, wrong string) scenario {
	fails := func(s scenario) bool { return kindOf(simulate(t, s)) == kindOf(wrong) }
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
	for i := range s.Later {
		c := s
		c.Later = slices.Delete(slices.Clone(s.Later), i, i+1)
		all = append(all, c)
	}
	for _, simpler := range []func(*scenario){
		func(c *scenario) { c.Closes = 0 }, func(c *scenario) { c.Jumps = nil },
		func(c *scenario) { c.GivesUp = 0 },
		func(c *scenario) { c.FullAt = 0 }, func(c *scenario) { c.Stage = false },
		func(c *scenario) { c.GiveUp = 0 },
	} {
		c := s
		simpler(&c)
		if !reflect.DeepEqual(c, s) {
			all = append(all, c)
		}
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
		change(i, func(d *spec) { d.Wipes, d.Needs = false, false })
		change(i, func(d *spec) { d.Again, d.Uncounted, d.Part = false, false, "" })
		change(i, func(d *spec) { d.Parks, d.Blind = false, false })
	}
	c := s
	c.Rules = order.Rules{Lockstep: s.Rules.Lockstep, Cover: s.Rules.Cover}
	if !reflect.DeepEqual(c, s) {
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
			d.Up, d.Child = s.Devices[i].Up, false
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

// Whole nights on generated sites, with crashes between any two writes or calls, devices that fail
// in every way, and operators. CATENA_NIGHTS sets the number of nights, CATENA_SEED plays one.
func TestNights(t *testing.T) {
	first, nights := uint64(time.Now().UnixNano()), 100
	if n, err := strconv.Atoi(os.Getenv("CATENA_NIGHTS")); err == nil {
		nights = n
	}
	if s, err := strconv.ParseUint(os.Getenv("CATENA_SEED"), 10, 64); err == nil {
		first = s
	}
	defer job.Poll(15*time.Second, time.Second)()
	defer runtime.GOMAXPROCS(runtime.GOMAXPROCS(1)) // so that a seed plays the same night again
	startedAt := time.Now()
	for seed := first; seed < first+uint64(nights); seed++ {
		s := generateNight(seed)
		if wrong := simulate(t, s); wrong != "" {
			if os.Getenv("CATENA_WHOLE") != "" {
				t.Fatalf("seed %d: %s\n%s", seed, describe(s), wrong)
			}
			small := shrink(t, s, wrong)
			first, _, _ := strings.Cut(wrong, "\n")
			t.Fatalf("seed %d: %s\nshrunk to %s\n%s", seed, first, describe(small), simulate(t, small))
		}
	}
	t.Logf("%d nights from seed %d, %.1f a second", nights, first,
		float64(nights)/time.Since(startedAt).Seconds())
}

// Nights that showed a fault that was put right since.
func TestNightsThatFailed(t *testing.T) {
	defer job.Poll(15*time.Second, time.Second)()
	defer runtime.GOMAXPROCS(runtime.GOMAXPROCS(1))
	for why, seed := range map[string]uint64{
		"a device serves again although a stranded one feeds it": 1795978504741353438,
		"three requests to restart are lost":                     1795978504741487235,
		"a request to restart and two probes are lost":           1795981075926112106,
		"a crash after a device that tells nothing had refused":  1795983298456281510,
		"it starts in no time an image whose answer was lost":    1795985724719188189,
		"an uplink is restarted while a device behind it hangs":  1796008648879143986,
		"two lost answers look like a restart in a rollback":     1796008718233273918,
		"settings are lost twice on the way":                     1796008541776075744,
		"settings are lost three times on the way":               1796041724598111391,
		"four requests to restart and the last probe are lost":   1795990170506775929,
	} {
		if wrong := simulate(t, generateNight(seed)); wrong != "" {
			t.Errorf("%s: %s", why, wrong)
		}
	}
}

// A seed plays the same night again, but for the sequence of what happens at one instant.
func TestASeedPlaysTheSameNight(t *testing.T) {
	defer job.Poll(15*time.Second, time.Second)()
	defer runtime.GOMAXPROCS(runtime.GOMAXPROCS(1))
	for seed := uint64(1); seed <= 40; seed++ {
		s := generateNight(seed)
		_, first := playNight(t, s)
		_, second := playNight(t, s)
		slices.Sort(first)
		slices.Sort(second)
		require.Equal(t, first, second, "seed %d", seed)
	}
}

// A component that an interlock forbids fails alone: the device's other components continue.
func TestAForbiddenComponentFailsAlone(t *testing.T) {
	d := spec{Name: "d0", Up: -1, Model: "M0", Modem: true, Returns: true, Write: time.Minute,
		Down: time.Minute, Locked: 100_000,
		Part: "modem"}
	require.Empty(t, simulate(t, scenario{Devices: []spec{d}, Jobs: [][]int{{0}}}))
}

func describe(s scenario) string {
	var b strings.Builder
	for _, d := range s.Devices {
		fmt.Fprintf(&b, "\n  %s", strings.NewReplacer(":false", ":-").Replace(fmt.Sprintf("%+v", d)))
	}
	fmt.Fprintf(&b, "\n  %+v\n  jobs %v then %v, crashes %v, deeds %+v, jumps %v, gives up %d, "+
		"full at %d, wait %s, closes %s, stage %v, give up %s",
		s.Rules, s.Jobs, s.Later, s.Crashes, s.Deeds, s.Jumps, s.GivesUp, s.FullAt, s.WaitFor, s.Closes,
		s.Stage, s.GiveUp)
	return b.String()
}
