package job_test

import (
	"bytes"
	"context"
	"fmt"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/device"
	"catena/internal/dialect"
	"catena/internal/job"
	"catena/internal/ledger"
	"catena/internal/login"
	"catena/internal/order"
	"catena/internal/settings"
)

// askers are acted devices of which some ask a person before the first byte.
type askers map[string]*acted

func (t askers) About() dialect.About {
	return dialect.About{Name: "troupe", Rank: 1, Transport: "tcp"}
}

func (t askers) Probe(ctx context.Context, at dialect.At) (device.Reading, error) {
	return t[at.Address].Probe(ctx, at)
}

func (t askers) Open(at dialect.At, _ login.Credential) dialect.Session {
	if t[at.Address] == nil {
		return &acted{}
	}
	return &askSession{acted: t[at.Address], at: at}
}

type askSession struct {
	*acted
	at dialect.At
}

func (a *askSession) Update(string) (dialect.Update, error) { return a, nil }

func (a *askSession) Ready(ctx context.Context, _ dialect.Image) error {
	if a.asksToWait == time.Nanosecond { // this one asks
		return a.at.Ask(ctx, "turn the key", false)
	}
	return nil
}

func bubbleAsk(t *testing.T, devices askers, play func(t *testing.T, n *night)) {
	tr := troupe{}
	for k, v := range devices {
		tr[k] = v
	}
	bubble(t, tr, func(t *testing.T, n *night) {
		n.engine.Dialects = dialect.NewRegistry(devices)
		play(t, n)
	})
}

func TestThePilotRuleSurvivesACrash(t *testing.T) {
	devices := askers{"a": {asksToWait: time.Nanosecond}, "b": {writes: 30 * time.Minute,
		down: time.Minute}, "c": {}}
	bubbleAsk(t, devices, func(t *testing.T, n *night) {
		o := order.Order{Devices: []order.Device{row("a"), row("b"), row("c")},
			Rules: order.Rules{Pilot: true}}
		plan := job.Plan{Order: o, Devices: n.known}
		devices["b"].sending = func() { _ = n.ledger.Close() }
		j, err := n.engine.Start(plan)
		require.NoError(t, err)
		ended := make(chan error, 1)
		going, stop := context.WithCancel(t.Context())
		go func() { ended <- j.Run(going, going) }()
		time.Sleep(5 * time.Second)
		stop()
		require.Error(t, <-ended)
		n.ledger, err = ledger.Open(n.dir, n.clock, ledger.Writer{})
		require.NoError(t, err)
		defer func() { _ = n.ledger.Close() }()
		n.engine.Ledger = n.ledger
		devices["b"].sending = nil
		j, err = n.engine.Resume("j1", plan, time.Time{})
		require.NoError(t, err)
		go func() { ended <- j.Run(t.Context(), t.Context()) }()
		time.Sleep(3 * time.Minute)
		s := n.state(t, "j1")
		assert.Equal(t, job.Waiting, s.Devices[2].Step, "c must wait for a pilot of its kind")
		_ = job.Answer(n.ledger, "j1", "a", true, "test")
		time.Sleep(3 * time.Hour)
		_ = job.Answer(n.ledger, "j1", "a", true, "test")
		require.NoError(t, <-ended)
	})
}

func TestAnInterruptedJobStillCounts(t *testing.T) {
	devices := troupe{"switch-basin": {writes: 5 * time.Minute, down: time.Minute},
		"cam-11": {writes: 10 * time.Minute, down: time.Minute}}
	bubble(t, devices, func(t *testing.T, n *night) {
		l2, err := ledger.Open(n.dir, n.clock, ledger.Writer{})
		require.NoError(t, err)
		defer func() { _ = l2.Close() }()
		e2 := *n.engine
		e2.Ledger = l2
		j1, err := n.engine.Start(job.Plan{Order: order.Order{Devices: []order.Device{row("cam-11",
			"switch-basin")}}, Devices: n.known})
		require.NoError(t, err)
		j2, err := e2.Start(job.Plan{Order: order.Order{Devices: []order.Device{row("switch-basin")}},
			Devices: n.known})
		require.NoError(t, err)
		e1, ended := make(chan error, 1), make(chan error, 1)
		go func() { e1 <- j1.Run(t.Context(), t.Context()) }()
		time.Sleep(30 * time.Second)
		go func() { ended <- j2.Run(t.Context(), t.Context()) }()
		time.Sleep(30 * time.Second)
		s, err := job.Load(l2, "j2")
		require.NoError(t, err)
		require.Equal(t, job.Waiting, s.Devices[0].Step)
		j1.Release()         // as the system does with the lock of a process that was killed
		_ = n.ledger.Close() // and nothing more is written by it
		time.Sleep(time.Minute)
		s, err = job.Load(l2, "j2")
		require.NoError(t, err)
		assert.Equal(t, job.Waiting, s.Devices[0].Step,
			"nothing is sent past a device that was left open")
		assert.Equal(t, "waiting for job j1, which was interrupted while updating cam-11",
			s.Waiting(time.Now())["switch-basin"].Error())
		require.NoError(t, job.Stop(l2, "j2"))
		<-e1
		require.NoError(t, <-ended)
	})
}

func TestNothingStartsOnThePathOfAnInterruptedJob(t *testing.T) {
	devices := troupe{"switch-basin": {writes: 30 * time.Minute, down: time.Minute},
		"cam-11": {drops: 9, drains: time.Nanosecond}}
	bubble(t, devices, func(t *testing.T, n *night) {
		plan := job.Plan{Order: order.Order{Devices: []order.Device{row("cam-11", "switch-basin")}},
			Devices: n.known}
		n.crash(t, plan, devices["cam-11"])
		devices["cam-11"].drops = 0
		j2, err := n.engine.Start(job.Plan{Order: order.Order{Devices: []order.Device{
			row("switch-basin")}}, Devices: n.known})
		require.NoError(t, err)
		ended := make(chan error, 2)
		go func() { ended <- j2.Run(t.Context(), t.Context()) }()
		time.Sleep(time.Minute)
		s := n.state(t, "j2")
		require.Equal(t, job.Waiting, s.Devices[0].Step, "cam-11 is reached through it, and may still "+
			"write")
		j1, err := n.engine.Resume("j1", plan, time.Time{})
		require.NoError(t, err)
		require.NoError(t, j1.Run(t.Context(), t.Context()))
		require.NoError(t, <-ended)
		assert.Equal(t, "done 2.0", ends(n.state(t, "j1"))["cam-11"])
		assert.Equal(t, "done 2.0", ends(n.state(t, "j2"))["switch-basin"])
	})
}

func TestAgainWritesOnceDespiteACrash(t *testing.T) {
	cam := &acted{counts: true}
	bubble(t, troupe{"cam-11": cam}, func(t *testing.T, n *night) {
		r := row("cam-11")
		r.Path[0].To, r.Again, r.Path[0].Image = "1.0", true, *r.Path[0].Back
		plan := job.Plan{Order: order.Order{Devices: []order.Device{r}}, Devices: n.known}
		n.crash(t, plan, cam)
		require.Equal(t, 1, cam.attempts)
		require.NotEmpty(t, cam.sent+cam.version)
		j, err := n.engine.Resume("j1", plan, time.Time{})
		require.NoError(t, err)
		require.NoError(t, j.Run(t.Context(), t.Context()))
		assert.Equal(t, 1, cam.attempts, "it had the whole image, has restarted, and was proven")
	})
}

func TestAgainWritesOnceWhenParked(t *testing.T) {
	gate := &acted{parks: true, drains: time.Nanosecond, counts: true}
	bubble(t, troupe{"gate-1": gate}, func(t *testing.T, n *night) {
		r := row("gate-1")
		r.Path[0].To, r.Again, r.Path[0].Image = "1.0", true, *r.Path[0].Back
		s := n.run(t, order.Order{Stage: true, Devices: []order.Device{r}})
		require.Equal(t, 1, s.Count(job.Parked), ends(s))
		n.run(t, n.state(t, "j1").Unfinished(func(string) bool { return true }))
		assert.Equal(t, 1, gate.attempts, "it was parked with it")
		assert.EqualValues(t, 1, gate.starts)
	})
}

// twoHops is a row from 1.0 by 1.5 to 2.0.
func twoHops(name string, through ...string) order.Device {
	r := row(name, through...)
	h := r.Path[0]
	mid := order.Image{File: "1.5", Size: 3, SHA256: "15" + h.Image.SHA256[2:]}
	old := *h.Back
	r.Path = []order.Hop{{Component: "main", From: "1.0", To: "1.5", Image: mid, Back: &old},
		{Component: "main", From: "1.5", To: "2.0", Image: h.Image, Back: &mid}}
	return r
}

func TestASetReturnsAlongItsWholePath(t *testing.T) {
	bad := &acted{writes: 3 * time.Minute, down: time.Minute, back: func(a *acted) {
		a.sickFrom = time.Time{}
		if a.version == "2.0" {
			a.sickFrom = a.until
		}
	}}
	devices := troupe{"hub-1": {}, "hub-2": bad}
	bubble(t, devices, func(t *testing.T, n *night) {
		n.run(t, order.Order{Devices: []order.Device{twoHops("hub-1"), twoHops("hub-2")},
			Rules: order.Rules{Lockstep: []order.Set{{Name: "hubs", Of: []string{"hub-1", "hub-2"}}}}})
		assert.Equal(t, devices["hub-1"].version, devices["hub-2"].version, "they return together")
	})
}

func TestAStopCompletesASet(t *testing.T) {
	devices := troupe{"hub-1": {}, "hub-2": {writes: 3 * time.Minute, down: time.Minute}}
	bubble(t, devices, func(t *testing.T, n *night) {
		j, err := n.engine.Start(job.Plan{Devices: n.known,
			Order: order.Order{Devices: []order.Device{twoHops("hub-1"), twoHops("hub-2")},
				Rules: order.Rules{Lockstep: []order.Set{{Name: "hubs", Of: []string{"hub-1", "hub-2"}}}}}})
		require.NoError(t, err)
		ended := make(chan error, 1)
		go func() { ended <- j.Run(t.Context(), t.Context()) }()
		time.Sleep(6 * time.Minute)
		require.NoError(t, job.Stop(n.ledger, "j1"))
		require.NoError(t, <-ended)
		assert.Equal(t, devices["hub-1"].version, devices["hub-2"].version)
	})
}

func TestAThirdVersionIsNotReturned(t *testing.T) {
	a := &acted{}
	bad := &acted{writes: 30 * time.Minute, down: time.Minute, back: func(x *acted) {
		if x.version == "2.0" {
			x.version = "1.0" // fails
			a.mu.Lock()
			a.version = "3.0-beta" // an operator has moved the other slot to another version
			a.mu.Unlock()
		}
	}}
	devices := troupe{"hub-1": a, "hub-2": bad}
	bubble(t, devices, func(t *testing.T, n *night) {
		s := n.run(t, order.Order{Devices: []order.Device{row("hub-1"), row("hub-2")},
			Rules: order.Rules{Lockstep: []order.Set{{Name: "hubs", Of: []string{"hub-1", "hub-2"}}}}})
		assert.NotEqual(t, job.Returned, s.Devices[0].Step, "returned means proven back on the "+
			"earlier version; it runs %s", a.version)
	})
}

func TestAMemberThatIsAwayForAMomentReturns(t *testing.T) {
	a := &acted{}
	bad := &acted{writes: 30 * time.Minute, down: time.Minute}
	bad.back = func(x *acted) {
		if x.version == "2.0" {
			x.version = "1.0"
		} else { // it was returned itself: now the other one
			time.AfterFunc(30*time.Second, func() {
				a.mu.Lock()
				a.until = time.Now().Add(3 * time.Minute)
				a.mu.Unlock()
			})
		}
	}
	devices := troupe{"handset-1": a, "handset-2": bad}
	bubble(t, devices, func(t *testing.T, n *night) {
		s := n.run(t, order.Order{Devices: []order.Device{row("handset-1"), row("handset-2")},
			Rules: order.Rules{Lockstep: []order.Set{{Name: "handsets", Of: []string{"handset-1",
				"handset-2"}}}}})
		assert.Equal(t, job.Returned, s.Devices[0].Step, "patience for a device that restarts is 10 "+
			"minutes elsewhere")
		time.Sleep(time.Hour)
	})
}

func TestAnEndedJobReportsAnUnfinishedReturn(t *testing.T) {
	a := &acted{drains: time.Nanosecond}
	bad := &acted{writes: 30 * time.Minute, down: time.Minute, back: func(x *acted) {
		if x.version == "2.0" {
			x.version = "1.0"
		}
	}}
	devices := troupe{"hub-1": a, "hub-2": bad}
	bubble(t, devices, func(t *testing.T, n *night) {
		plan := job.Plan{Order: order.Order{Devices: []order.Device{row("hub-1"), row("hub-2")},
			Rules: order.Rules{Lockstep: []order.Set{{Name: "hubs", Of: []string{"hub-1", "hub-2"}}}}},
			Devices: n.known}
		times := 0
		a.sending = func() {
			if times++; times == 2 { // during its rollback: the power goes before a byte has left
				_ = n.ledger.Close()
				a.drops = 99
			}
		}
		n.crashing(t, plan)
		a.sending = nil
		require.NoError(t, n.engine.GiveUp(t.Context(), "j1", plan))
		s := n.state(t, "j1")
		assert.NotEqual(t, job.Done, s.Devices[0].Step, "its set has failed; it runs another version "+
			"than the rest of it")
	})
}

func TestSlowDownstreamDevicesAreVerified(t *testing.T) {
	for _, c := range []struct {
		n    int
		each time.Duration
	}{{100, 500 * time.Millisecond}, {200, time.Second}, {400, 500 * time.Millisecond}} {
		devices := troupe{"switch": {}}
		for i := range c.n {
			devices[fmt.Sprintf("cam-%03d", i)] = &acted{}
		}
		slowly = c.each
		bubble(t, devices, func(t *testing.T, n *night) {
			plan := job.Plan{Order: order.Order{Devices: []order.Device{row("switch")}}, Devices: n.known,
				Downstream: map[string][]device.Device{}}
			for i := range c.n {
				plan.Downstream["switch"] = append(plan.Downstream["switch"], n.known[fmt.Sprintf("cam-%03d",
					i)].Device)
			}
			n.engine.Dialects = slowRegistry(devices)
			j, err := n.engine.Start(plan)
			require.NoError(t, err)
			require.NoError(t, j.Run(t.Context(), t.Context()))
			s := n.state(t, "j1")
			assert.Equal(t, job.Done, s.Devices[0].Step)
		})
	}
}

// keepSettings has the engine store settings in memory.
func (n *night) keepSettings() { n.engine.Settings = &savedSettings{} }

// savedSettings is a store of settings in memory.
type savedSettings struct {
	mu   sync.Mutex
	data map[string][]byte
}

func (s *savedSettings) Save(d device.Device, version string, _ settings.Format,
	raw []byte, _ []device.Value) (string, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.data == nil {
		s.data = map[string][]byte{}
	}
	name := fmt.Sprint(d.ID, " ", version, " ", len(s.data))
	s.data[name] = bytes.Clone(raw)
	return name, nil
}

func (s *savedSettings) Load(_ device.Device, name string) ([]byte, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.data[name], nil
}

func (s *savedSettings) On(device.Device, string) ([]byte, error) { return nil, nil }
func (s *savedSettings) SaveDefaults(device.Device, string, settings.Format, []byte) error {
	return nil
}
func (s *savedSettings) Defaults(device.Device, string) ([]byte, error) { return nil, nil }

func TestTheBaselineSurvivesACrash(t *testing.T) {
	cleared := func(a *acted) { a.config = "quiet: false" }
	a := &acted{config: "quiet: true", back: cleared, drains: time.Nanosecond}
	bad := &acted{config: "quiet: true", writes: 30 * time.Minute, down: time.Minute,
		back: func(x *acted) {
			cleared(x)
			if x.version == "2.0" {
				x.version = "1.0"
			}
		}}
	devices := troupe{"hub-1": a, "hub-2": bad}
	bubble(t, devices, func(t *testing.T, n *night) {
		n.alterSettings()
		n.dieChecking(t, twoHubs(), nil)
		assert.Equal(t, "quiet: true", a.config,
			"its settings are restored on the earlier version, too")
	})
	// the same without a crash
	a2 := &acted{config: "quiet: true", back: cleared, drains: time.Nanosecond}
	bad2 := &acted{config: "quiet: true", writes: 30 * time.Minute, down: time.Minute, back: bad.back}
	bubble(t, troupe{"hub-1": a2, "hub-2": bad2}, func(t *testing.T, n *night) {
		n.alterSettings()
		n.run(t, twoHubs())
		assert.Equal(t, "quiet: true", a2.config)
	})
}

// twoHubs is an order for a lockstep set of two.
func twoHubs() order.Order {
	return order.Order{Devices: []order.Device{row("hub-1"), row("hub-2")},
		Rules: order.Rules{Lockstep: []order.Set{{Name: "hubs", Of: []string{"hub-1", "hub-2"}}}}}
}

// alterSettings has every image alter the settings, which are kept.
func (n *night) alterSettings() {
	for id, k := range n.known {
		k.Alters = true
		n.known[id] = k
	}
	n.keepSettings()
}

// dieChecking has a job die when it has started to check all its devices, and resumes it. before is
// called between the two; nil: nothing is.
func (n *night) dieChecking(t *testing.T, o order.Order, before func()) {
	plan := job.Plan{Order: o, Devices: n.known}
	j, err := n.engine.Start(plan)
	require.NoError(t, err)
	for _, d := range o.Devices {
		require.NoError(t, n.ledger.Append(job.StepStarted, j.ID, d.ID, job.Effect{Step: job.Checking,
			Component: "main",
			From:      "1.0", Version: "2.0", Direction: job.Forward}))
	}
	j.Release()
	if before != nil {
		before()
	}
	j, err = n.engine.Resume(j.ID, plan, time.Time{})
	require.NoError(t, err)
	require.NoError(t, j.Run(t.Context(), t.Context()))
}

func TestASetIsCheckedAgainAfterACrash(t *testing.T) {
	devices := troupe{"hub-1": {}, "hub-2": {}}
	bubble(t, devices, func(t *testing.T, n *night) {
		// away
		n.dieChecking(t, twoHubs(), func() { devices["hub-2"].until = time.Now().Add(1000 * time.Hour) })
		assert.Zero(t, devices["hub-1"].attempts, "nothing is changed on a member before all were "+
			"looked at")
	})
}

func TestProvingDoesNotReopenAJob(t *testing.T) {
	devices := troupe{"cam-11": {}}
	bubble(t, devices, func(t *testing.T, n *night) {
		s := n.run(t, order.Order{Devices: []order.Device{row("cam-11")}})
		open, err := job.Interrupted(n.ledger)
		require.NoError(t, err)
		require.Empty(t, open)
		_, err = n.engine.Prove(t.Context(), s, n.known)
		require.NoError(t, err)
		open, err = job.Interrupted(n.ledger)
		require.NoError(t, err)
		assert.Empty(t, open, "it has ended at %s", s.Ended)
	})
}

func TestAStoppedProcessEndsNoOtherJob(t *testing.T) {
	devices := troupe{"cam-11": {writes: 5 * time.Minute, down: time.Minute}, "cam-12": {}}
	bubble(t, devices, func(t *testing.T, n *night) {
		l2, err := ledger.Open(n.dir, n.clock, ledger.Writer{})
		require.NoError(t, err)
		defer func() { _ = l2.Close() }()
		j, err := n.engine.Start(job.Plan{Order: order.Order{Devices: []order.Device{row("cam-11"),
			row("cam-12")}, Rules: order.Rules{Parallel: 1}}, Devices: n.known})
		require.NoError(t, err)
		ended := make(chan error, 1)
		go func() { ended <- j.Run(t.Context(), t.Context()) }()
		time.Sleep(time.Minute)
		release, ok, err := l2.Hold("dispatching") // as by a process that was stopped with Ctrl-Z
		for err == nil && !ok {
			release, ok, err = l2.Hold("dispatching")
		}
		require.NoError(t, err)
		time.Sleep(15 * time.Minute)
		assert.Equal(t, job.Waiting, n.state(t, "j1").Devices[1].Step, "a running job waits for its turn")
		release()
		require.NoError(t, <-ended)
		assert.Equal(t, 2, n.state(t, "j1").Count(job.Done))
	})
}

func TestVerifiedMembersAreNotRolledBack(t *testing.T) {
	devices := troupe{"x": {back: func(a *acted) { a.version = "1.0" }}, "z": {}, "p": {}, "q": {},
		"r": {}}
	bubble(t, devices, func(t *testing.T, n *night) {
		z := row("z")
		z.Model = "PK-1"
		s := n.run(t, order.Order{Devices: []order.Device{row("x"), z, row("p"), row("q"), row("r")},
			Rules: order.Rules{Pilot: true, Lockstep: []order.Set{{Name: "set", Of: []string{"z", "p", "q",
				"r"}}}}})
		assert.Equal(t, 4, s.Count(job.Done))
	})
}

func TestAStopCompletesASetOfUnequalPaths(t *testing.T) {
	devices := troupe{"hub-1": {}, "hub-2": {writes: 5 * time.Minute, down: time.Minute}}
	bubble(t, devices, func(t *testing.T, n *night) {
		j, err := n.engine.Start(job.Plan{Devices: n.known,
			Order: order.Order{Devices: []order.Device{twoHops("hub-1"), row("hub-2")},
				Rules: order.Rules{Lockstep: []order.Set{{Name: "hubs", Of: []string{"hub-1", "hub-2"}}}}}})
		require.NoError(t, err)
		ended := make(chan error, 1)
		go func() { ended <- j.Run(t.Context(), t.Context()) }()
		time.Sleep(time.Minute)
		require.NoError(t, job.Stop(n.ledger, "j1"))
		require.NoError(t, <-ended)
		assert.Equal(t, devices["hub-1"].version, devices["hub-2"].version)
	})
}

// X: two sessions log in to one member of a lockstep set at the same time.
type counted struct {
	troupe
	mu  *sync.Mutex
	now map[string]int
	max map[string]int
}

func (c counted) Open(at dialect.At, as login.Credential) dialect.Session {
	return &countedSession{Session: c.troupe.Open(at, as), c: c, id: at.Address}
}

type countedSession struct {
	dialect.Session
	c  counted
	id string
}

func (s *countedSession) Read(ctx context.Context) (device.Reading, error) {
	s.c.mu.Lock()
	s.c.now[s.id]++
	s.c.max[s.id] = max(s.c.max[s.id], s.c.now[s.id])
	s.c.mu.Unlock()
	if s.id == "hub-1" {
		time.Sleep(time.Second)
	} else {
		time.Sleep(10 * time.Second)
	}
	s.c.mu.Lock()
	s.c.now[s.id]--
	s.c.mu.Unlock()
	return s.Session.Read(ctx)
}

func TestOneSessionAtATime(t *testing.T) {
	devices := troupe{"hub-1": {}, "hub-2": {}, "hub-3": {}}
	bubble(t, devices, func(t *testing.T, n *night) {
		c := counted{devices, new(sync.Mutex), map[string]int{}, map[string]int{}}
		n.engine.Dialects = dialect.NewRegistry(c)
		n.run(t, order.Order{Devices: []order.Device{row("hub-1"), row("hub-2"), row("hub-3")},
			Rules: order.Rules{Lockstep: []order.Set{{Name: "hubs", Of: []string{"hub-1", "hub-2",
				"hub-3"}}}}})
		for id, n := range c.max {
			assert.Equal(t, 1, n, id)
		}
	})
}

func TestTheOtherJobIsNamed(t *testing.T) {
	devices := troupe{"switch-basin": {}, "cam-11": {writes: 5 * time.Minute, down: time.Minute}}
	bubble(t, devices, func(t *testing.T, n *night) {
		j1, err := n.engine.Start(job.Plan{Order: order.Order{Devices: []order.Device{row("cam-11",
			"switch-basin")}}, Devices: n.known})
		require.NoError(t, err)
		j2, err := n.engine.Start(job.Plan{Order: order.Order{Devices: []order.Device{
			row("switch-basin")}}, Devices: n.known})
		require.NoError(t, err)
		ended := make(chan error, 2)
		go func() { ended <- j1.Run(t.Context(), t.Context()) }()
		time.Sleep(time.Minute)
		go func() { ended <- j2.Run(t.Context(), t.Context()) }()
		time.Sleep(time.Minute)
		s := n.state(t, "j2")
		assert.Contains(t, s.Waiting(time.Now())["switch-basin"].Error(), "j1")
		<-ended
		<-ended
	})
}

func TestAnImageThatFellBackIsNotSentAgain(t *testing.T) {
	cam := &acted{drains: time.Nanosecond}
	bubble(t, troupe{"cam-11": cam}, func(t *testing.T, n *night) {
		oo := &ops{sent: map[string][]string{}}
		n.engine.Dialects = dialect.NewRegistry(opTroupe{troupe{"cam-11": cam}, oo})
		cam.back = func(a *acted) { a.version = "1.0" }
		plan := job.Plan{Order: order.Order{Devices: []order.Device{row("cam-11")}}, Devices: n.known}
		for range 3 {
			l := n.ledger
			time.AfterFunc(3*time.Minute, func() { _ = l.Close() }) // while it is being proven: it runs 1.0
			var j *job.Job
			var err error
			if len(oo.sent) == 0 {
				j, err = n.engine.Start(plan)
			} else {
				j, err = n.engine.Resume("j1", plan, time.Time{})
			}
			require.NoError(t, err)
			if j.Run(t.Context(), t.Context()) == nil {
				break
			}
			n.ledger, err = ledger.Open(n.dir, n.clock, ledger.Writer{})
			require.NoError(t, err)
			defer func() { _ = n.ledger.Close() }()
			n.engine.Ledger = n.ledger
			time.Sleep(time.Minute)
		}
		assert.Equal(t, "failed 1.0", ends(n.state(t, "j1"))["cam-11"],
			"it holds no image and is as before: nothing is sent to it")
		count := 0
		for _, v := range oo.sent["cam-11"] {
			if v == "2.0" {
				count++
			}
		}
		assert.Equal(t, 1, count)
	})
}

var slowly time.Duration

type slow struct{ troupe }

func (s slow) Probe(ctx context.Context, at dialect.At) (device.Reading, error) {
	if at.Address != "switch" {
		select {
		case <-time.After(slowly):
		case <-ctx.Done():
			return device.Reading{}, ctx.Err()
		}
	}
	return s.troupe.Probe(ctx, at)
}

func slowRegistry(d troupe) dialect.Registry { return dialect.NewRegistry(slow{d}) }

type ops struct{ sent map[string][]string }
type opTroupe struct {
	troupe
	ops *ops
}

func (o opTroupe) Open(at dialect.At, as login.Credential) dialect.Session {
	return &opSession{acted: o.troupe[at.Address], ops: o.ops, at: at.Address}
}

type opSession struct {
	*acted
	ops *ops
	at  string
}

func (s *opSession) Update(string) (dialect.Update, error) { return s, nil }
func (s *opSession) Transfer(ctx context.Context, image dialect.Image, sent func(int64)) error {
	s.ops.sent[s.at] = append(s.ops.sent[s.at], image.Version)
	return s.acted.Transfer(ctx, image, sent)
}

// A hold that is set while a job runs is honored as long as no byte has left.
func TestAHoldIsHonoredUntilTheFirstByte(t *testing.T) {
	devices := troupe{"cam-11": {}, "cam-12": {}, "cam-13": {asksToWait: 10 * time.Minute}}
	bubble(t, devices, func(t *testing.T, n *night) {
		held := map[string]string{}
		n.engine.Site.(*testSite).held = func(d device.Device) string { return held[d.Name] }
		devices["cam-11"].sending = func() {
			held["cam-11"], held["cam-12"] = "too late",
				"for the swans"
		}
		s := n.run(t, order.Order{Rules: order.Rules{Parallel: 1}, Devices: []order.Device{row("cam-11"),
			row("cam-12"), row("cam-13")}})
		assert.Equal(t, map[string]string{"cam-11": "done 2.0", "cam-12": "skipped 1.0",
			"cam-13": "done 2.0"}, ends(s))
		assert.Equal(t, "2.0 was not sent to it: it was put on hold: for the swans", s.Devices[1].Reason)
		assert.Zero(t, devices["cam-12"].attempts)
	})
}

// Devices that are taken out of a running job are skipped, or abandoned while they only get ready;
// what is being written finishes.
func TestDevicesAreTakenOutOfAJob(t *testing.T) {
	devices := troupe{"cam-11": {writes: 5 * time.Minute, down: time.Minute},
		"cam-12": {asksToWait: time.Hour}, "cam-13": {}}
	bubble(t, devices, func(t *testing.T, n *night) {
		j, err := n.engine.Start(job.Plan{Devices: n.known,
			Order: order.Order{Rules: order.Rules{Parallel: 2},
				Devices: []order.Device{row("cam-11"), row("cam-12"), row("cam-13")}}})
		require.NoError(t, err)
		ended := make(chan error, 1)
		go func() { ended <- j.Run(t.Context(), t.Context()) }()
		time.Sleep(2 * time.Minute)
		require.NoError(t, job.Remove(n.ledger, "j1", []string{"cam-11", "cam-12", "cam-13"},
			&order.Reason{Why: order.TakenOut}))
		startedAt := time.Now()
		require.NoError(t, <-ended)
		s := n.state(t, "j1")
		assert.Equal(t, "done 2.0", ends(s)["cam-11"])
		assert.Equal(t, job.Skipped, s.Devices[1].Step)
		assert.Equal(t, job.Skipped, s.Devices[2].Step)
		assert.Equal(t, []int{1, 0, 0}, []int{devices["cam-11"].attempts, devices["cam-12"].attempts,
			devices["cam-13"].attempts})
		assert.Less(t, time.Since(startedAt), 10*time.Minute)
	})
}

// A second stop rolls a half-updated lockstep set back; neither stop counts as a failure of its
// devices.
func TestASecondStopRollsASetBack(t *testing.T) {
	devices := troupe{"hub-1": {}, "hub-2": {writes: 20 * time.Minute, down: time.Minute}, "hub-3": {}}
	bubble(t, devices, func(t *testing.T, n *night) {
		long := row("hub-2") // goes before hub-1, which is pending when the operator stops
		long.Takes = 20 * time.Minute
		j, err := n.engine.Start(job.Plan{Devices: n.known, Order: order.Order{
			Devices: []order.Device{row("hub-1"), long, row("hub-3", "hub-1", "hub-2")},
			Rules: order.Rules{Parallel: 1, StopAfter: order.StopAfter{Failures: 1},
				Lockstep: []order.Set{{Name: "hubs", Of: []string{"hub-1", "hub-2", "hub-3"}}}}}})
		require.NoError(t, err)
		ended := make(chan error, 1)
		go func() { ended <- j.Run(t.Context(), t.Context()) }()
		time.Sleep(6 * time.Minute)
		require.NoError(t, job.Stop(n.ledger, "j1"))
		time.Sleep(time.Minute)
		assert.Equal(t, []string{"hubs"}, n.state(t, "j1").Halfway())
		require.NoError(t, job.Stop(n.ledger, "j1"))
		require.NoError(t, <-ended)
		for _, d := range devices {
			assert.Equal(t, "1.0", d.version)
		}
		s := n.state(t, "j1")
		assert.Zero(t, s.Count(job.Done)+s.Count(job.Stranded), ends(s))
	})
}

// What another job had open when a job's process died does not match the resumed job up once that is
// over.
func TestAResumedJobForgetsWhatIsOver(t *testing.T) {
	devices := troupe{"switch-basin": {writes: 10 * time.Minute, down: time.Minute}, "cam-11": {},
		"cam-12": {drops: 9}}
	bubble(t, devices, func(t *testing.T, n *night) {
		plan := job.Plan{Order: order.Order{Devices: []order.Device{row("cam-11", "switch-basin"),
			row("cam-12")}}, Devices: n.known}
		j1, err := n.engine.Start(job.Plan{Order: order.Order{Devices: []order.Device{
			row("switch-basin")}}, Devices: n.known})
		require.NoError(t, err)
		l2, err := ledger.Open(n.dir, n.clock, ledger.Writer{})
		require.NoError(t, err)
		defer func() { _ = l2.Close() }()
		e2 := *n.engine
		e2.Ledger = l2
		ended := make(chan error, 1)
		go func() { ended <- j1.Run(t.Context(), t.Context()) }()
		time.Sleep(time.Minute)
		// the second job dies while the first one writes the switch
		devices["cam-12"].sending = func() { _ = l2.Close() }
		j2, err := e2.Start(plan)
		require.NoError(t, err)
		require.Error(t, j2.Run(t.Context(), t.Context()))
		require.NoError(t, <-ended)
		devices["cam-12"].sending, devices["cam-12"].drops = nil, 0
		j2, err = n.engine.Resume("j2", plan, time.Time{})
		require.NoError(t, err)
		ctx, cancel := context.WithTimeout(t.Context(), 10*time.Hour)
		defer cancel()
		require.NoError(t, j2.Run(ctx, ctx))
		assert.Equal(t, "done 2.0", ends(n.state(t, "j2"))["cam-11"])
	})
}
