package job_test

import (
	"bytes"
	"context"
	"crypto/sha256"
	"fmt"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/device"
	"catena/internal/dialect"
	"catena/internal/job"
	"catena/internal/ledger"
	"catena/internal/login"
	"catena/internal/order"
)

// troupe is several acted devices, by address: one dialect for all.
type troupe map[string]*acted

func (t troupe) About() dialect.About {
	return dialect.About{Name: "troupe", Rank: 1, Transport: "tcp"}
}

func (t troupe) Probe(ctx context.Context, at dialect.At) (device.Reading, error) {
	return t[at.Address].Probe(ctx, at)
}

func (t troupe) Open(at dialect.At, _ login.Credential) dialect.Session {
	if t[at.Address] == nil {
		return &acted{}
	}
	return t[at.Address]
}

// night is a site of acted devices in a test bubble.
type night struct {
	engine *job.Engine
	ledger *ledger.Ledger
	dir    string
	known  map[string]job.Known
	jumped time.Duration // how far the machine's clock has jumped; durations do not see it
}

// clock is the machine's, as the ledger reads it.
func (n *night) clock() time.Time { return time.Now().Round(0).Add(n.jumped) }

// bubble plays a night on a clock that costs nothing. Each device takes a minute to write, and
// one to restart, unless it says otherwise.
func bubble(t *testing.T, devices troupe, play func(t *testing.T, n *night)) {
	dir := t.TempDir()
	synctest.Test(t, func(t *testing.T) {
		n := &night{dir: dir, known: map[string]job.Known{}}
		l, err := ledger.Create(dir, n.clock, ledger.Writer{})
		require.NoError(t, err)
		defer func() { _ = l.Close() }()
		n.ledger = l
		n.engine = &job.Engine{Ledger: l, Dialects: dialect.NewRegistry(devices),
			Now: time.Now,
			Contacts: job.ContactFunc(func(d device.Device) (dialect.At, login.Credential, bool) {
				return dialect.At{Endpoint: d.Endpoint}, login.Credential{}, true
			}),
			Site: &testSite{open: func(i order.Image) (job.File, error) {
				return memory{bytes.NewReader([]byte(i.File))}, nil
			}}}
		for name, a := range devices {
			a.version, a.is = "1.0", "S-"+name
			if a.writes == 0 {
				a.writes, a.down = time.Minute, time.Minute
			}
			n.known[name] = job.Known{Device: device.Device{ID: name, Name: name,
				Endpoint: device.Endpoint{Dialect: "troupe", Address: name},
				Reading: device.Reading{Identity: device.Identity{Serial: a.is, Model: "TG-200"},
					Version: "1.0"}}}
		}
		play(t, n)
	})
}

// row is a device of an order from 1.0 to 2.0.
func row(name string, through ...string) order.Device {
	image := func(v string) order.Image {
		return order.Image{File: v, Size: int64(len(v)),
			SHA256: fmt.Sprintf("%x", sha256.Sum256([]byte(v)))}
	}
	old := image("1.0")
	return order.Device{ID: name, Name: name, Model: "TG-200", From: "1.0", Through: through,
		Takes: 2 * time.Minute, Returns: 2 * time.Minute,
		Path: []order.Hop{{Component: "main", From: "1.0", To: "2.0", Image: image("2.0"),
			Back: &old}}}
}

func (n *night) run(t *testing.T, o order.Order) job.State {
	j, err := n.engine.Start(job.Plan{Order: o, Devices: n.known})
	require.NoError(t, err)
	require.NoError(t, j.Run(t.Context(), t.Context()))
	state, err := job.Load(n.ledger, j.ID)
	require.NoError(t, err)
	return state
}

// ends are the devices' ends in words.
func ends(s job.State) map[string]string {
	out := map[string]string{}
	for _, d := range s.Devices {
		out[d.Name] = string(d.Step) + " " + d.Version
	}
	return out
}

// A lockstep set of which one fails returns as a whole, each member proven on what it ran.
func TestALockstepSetReturnsTogether(t *testing.T) {
	keeps := &acted{writes: 3 * time.Minute, down: time.Minute, back: func(a *acted) {
		a.version = "1.0"
	}}
	devices := troupe{"hub-1": {}, "handset-1": {}, "handset-2": keeps, "cam-11": {}}
	bubble(t, devices, func(t *testing.T, n *night) {
		s := n.run(t, order.Order{
			Devices: []order.Device{row("handset-1", "hub-1"), row("handset-2", "hub-1"),
				row("hub-1"), row("cam-11")},
			Rules: order.Rules{Lockstep: []order.Set{{Name: "handsets",
				Of: []string{"hub-1", "handset-1", "handset-2"}}}}})
		assert.Equal(t, map[string]string{"handset-1": "returned 1.0", "handset-2": "returned 1.0",
			"hub-1": "skipped ", "cam-11": "done 2.0"}, ends(s))
		assert.Equal(t, "lockstep set handsets requires handset-2",
			s.Devices[0].Reason)
		assert.Equal(t, []int{2, 2, 0, 1}, []int{devices["handset-1"].attempts,
			devices["handset-2"].attempts, devices["hub-1"].attempts, devices["cam-11"].attempts})
		assert.Equal(t, "1.0", devices["handset-1"].version)

		// The last time that it was proven does not count as an update, nor as its history.
		h, err := job.ReadHistory(n.ledger)
		require.NoError(t, err)
		earlier, err := h.Earlier("handset-1", "main", "")
		require.NoError(t, err)
		assert.Empty(t, earlier)
		left, _, err := h.LeftAlone("handset-1", "main", "2.0")
		require.NoError(t, err)
		assert.Equal(t, "j1", left)
	})
}

// After its window has closed a job starts nothing, and proves what it started.
func TestTheWindowCloses(t *testing.T) {
	devices := troupe{"gate-1": {}, "gate-2": {},
		"gate-3": {writes: 6 * time.Minute, down: time.Minute}}
	bubble(t, devices, func(t *testing.T, n *night) {
		o := order.Order{Closes: time.Now().Add(7 * time.Minute),
			Devices: []order.Device{row("gate-1", "gate-2", "gate-3"), row("gate-2", "gate-3"),
				row("gate-3")},
			Rules: order.Rules{Parallel: 1}}
		for i := range o.Devices {
			o.Devices[i].Through = [][]string{nil, {"gate-1"}, {"gate-1", "gate-2"}}[i]
		}
		s := n.run(t, o)
		assert.Equal(t, map[string]string{"gate-3": "done 2.0", "gate-2": "skipped ",
			"gate-1": "skipped "}, ends(s))
		assert.Equal(t, "would not finish before the window closes", s.Devices[1].Reason)
	})
}

// A device that an interlock forbids to update is left as it is, with the interlock's sentence, or
// waited for while the others continue; and where a device refuses the image, the interlock that
// has come between is the reason.
func TestInterlocks(t *testing.T) {
	devices := troupe{"gate-1": {}, "gate-2": {}, "gate-3": {closes: true}}
	bubble(t, devices, func(t *testing.T, n *night) {
		devices["gate-1"].forbidden = time.Now().Add(5 * time.Minute)
		devices["gate-2"].forbidden = time.Now().Add(time.Hour)
		s := n.run(t, order.Order{Devices: []order.Device{row("gate-1"), row("gate-2"), row("gate-3")},
			WaitFor: 10 * time.Minute, Rules: order.Rules{Parallel: 1}})
		assert.Equal(t, map[string]string{"gate-1": "done 2.0", "gate-2": "failed 1.0",
			"gate-3": "failed 1.0"}, ends(s))
		assert.Equal(t, "must not be updated now: the valve is open", s.Devices[1].Reason)
		assert.Contains(t, s.Devices[2].Reason, "while sending: it must not be updated now: the valve "+
			"is open")
		assert.Equal(t, []int{1, 0, 1}, []int{devices["gate-1"].attempts, devices["gate-2"].attempts,
			devices["gate-3"].attempts})
	})
	devices = troupe{"gate-1": {}}
	bubble(t, devices, func(t *testing.T, n *night) {
		devices["gate-1"].forbidden = time.Now().Add(time.Minute)
		s := n.run(t, order.Order{Devices: []order.Device{row("gate-1")}})
		assert.Equal(t, map[string]string{"gate-1": "failed 1.0"}, ends(s))
		assert.Zero(t, devices["gate-1"].attempts)
	})
}

// Two jobs on one site keep each other's rules: what leads to a device of the other waits.
func TestJobsWaitForEachOther(t *testing.T) {
	devices := troupe{"switch-basin": {}, "cam-11": {writes: 5 * time.Minute, down: time.Minute},
		"cam-21": {}}
	bubble(t, devices, func(t *testing.T, n *night) {
		start := func(rows ...order.Device) *job.Job {
			j, err := n.engine.Start(job.Plan{Order: order.Order{Devices: rows}, Devices: n.known})
			require.NoError(t, err)
			return j
		}
		j1, j2 := start(row("cam-11", "switch-basin")), start(row("switch-basin"), row("cam-21"))
		ended := make(chan error, 2)
		go func() { ended <- j1.Run(t.Context(), t.Context()) }()
		time.Sleep(time.Minute)
		go func() { ended <- j2.Run(t.Context(), t.Context()) }()
		time.Sleep(time.Minute)
		s, err := job.Load(n.ledger, "j2")
		require.NoError(t, err)
		assert.Equal(t, job.Waiting, s.Devices[0].Step)
		require.NoError(t, job.Stop(n.ledger, "j2"), "from elsewhere")
		require.NoError(t, <-ended)
		require.NoError(t, <-ended)
		s, err = job.Load(n.ledger, "j2")
		require.NoError(t, err)
		assert.Equal(t, map[string]string{"switch-basin": "skipped ", "cam-21": "done 2.0"},
			ends(s))
		assert.Equal(t, "the job was stopped before this device started", s.Devices[0].Reason)
		s = n.run(t, order.Order{Devices: []order.Device{row("switch-basin")}})
		assert.Equal(t, job.Done, s.Devices[0].Step)
	})
}

// What a forecast says is what a job takes, where the devices take what is expected of them.
func TestAForecastHolds(t *testing.T) {
	devices := troupe{}
	var o order.Order
	for i := range 30 {
		name := fmt.Sprintf("cam-%02d", i)
		devices[name] = &acted{writes: time.Duration(1+i%3) * time.Minute, down: time.Minute}
		r := row(name, fmt.Sprintf("switch-%d", i%3))
		r.Takes, r.Model = time.Duration(2+i%3)*time.Minute, fmt.Sprintf("M%d", i%2)
		o.Devices = append(o.Devices, r)
	}
	for i := range 3 {
		name := fmt.Sprintf("switch-%d", i)
		devices[name] = &acted{}
		o.Devices = append(o.Devices, row(name))
	}
	o.Rules = order.Rules{Parallel: 6, PerUplink: 3, Pilot: true,
		Cover: []order.Cover{{Name: "view", Keep: 1, Of: []string{"cam-00", "cam-03"}}}}
	bubble(t, devices, func(t *testing.T, n *night) {
		p, err := order.Forecast(o, time.Now())
		require.NoError(t, err)
		startedAt := time.Now()
		s := n.run(t, o)
		assert.Equal(t, 33, s.Count(job.Done))
		took, expected := time.Since(startedAt), p.End.Sub(p.Start)
		t.Logf("took %s, expected %s, at least %s", took, expected, p.Bound)
		assert.InDelta(t, 1, float64(took)/float64(expected), 0.1)
		assert.GreaterOrEqual(t, took, p.Bound)
	})
}

// What is reached through a device must answer again after its restart: one whose new firmware
// runs, and lets nothing through any more, returns. What was silent before is not asked for.
func TestWhatIsBehindAnswersAgain(t *testing.T) {
	devices := troupe{"switch-basin": {}, "cam-11": {}, "cam-12": {}}
	devices["switch-basin"].back = func(a *acted) {
		for _, name := range []string{"cam-11", "cam-12"} {
			cam := devices[name]
			cam.mu.Lock()
			cam.until = time.Time{}
			if a.version == "2.0" || name == "cam-12" { // cam-12 is away all along
				cam.until = time.Now().Add(1000 * time.Hour)
			}
			cam.mu.Unlock()
		}
	}
	bubble(t, devices, func(t *testing.T, n *night) {
		devices["cam-12"].until = time.Now().Add(1000 * time.Hour)
		plan := job.Plan{Order: order.Order{Devices: []order.Device{row("switch-basin")}},
			Devices: n.known,
			Downstream: map[string][]device.Device{"switch-basin": {n.known["cam-11"].Device,
				n.known["cam-12"].Device}}}
		j, err := n.engine.Start(plan)
		require.NoError(t, err)
		require.NoError(t, j.Run(t.Context(), t.Context()))
		s, err := job.Load(n.ledger, j.ID)
		require.NoError(t, err)
		assert.Equal(t, map[string]string{"switch-basin": "returned 1.0"}, ends(s))
		assert.Equal(t, "after its restart: cam-11, which is downstream, no longer answers",
			s.Devices[0].Reason)
	})
}

// A device that still takes what is on the wire when its job is resumed may yet find that it is
// not the whole image: then it is sent it, for the first time in full.
func TestResumeWaitsForWhatIsOnTheWire(t *testing.T) {
	gate := &acted{writes: time.Minute, down: time.Minute, drops: 3, drains: time.Minute}
	bubble(t, troupe{"gate-1": gate}, func(t *testing.T, n *night) {
		plan := job.Plan{Order: order.Order{Devices: []order.Device{row("gate-1")}},
			Devices: n.known}
		n.crash(t, plan, gate)
		require.Equal(t, 3, gate.attempts)
		gate.drained = time.Now().Add(time.Minute)
		left, err := job.Interrupted(n.engine.Ledger)
		require.NoError(t, err)
		require.Len(t, left, 1)
		j, err := n.engine.Resume("j1", plan, time.Time{})
		require.NoError(t, err)
		require.NoError(t, j.Run(t.Context(), t.Context()))
		s := n.state(t, "j1")
		assert.Equal(t, map[string]string{"gate-1": "done 2.0"}, ends(s), s.Devices[0].Reason)
		assert.Equal(t, 4, gate.attempts)
		_, err = n.engine.Resume("j1", plan, time.Time{})
		assert.ErrorIs(t, err, job.ErrOver)
	})
}

// Devices that are away at first join late; one that stays away fails when the time is over.
func TestDevicesThatAreAwayJoinLate(t *testing.T) {
	devices := troupe{"cam-11": {}, "cam-12": {}, "cam-21": {}}
	bubble(t, devices, func(t *testing.T, n *night) {
		devices["cam-11"].until = time.Now().Add(5 * time.Minute)
		devices["cam-12"].until = time.Now().Add(1000 * time.Hour)
		startedAt := time.Now()
		s := n.run(t, order.Order{WaitAway: 10 * time.Minute,
			Rules:   order.Rules{Parallel: 1, Pilot: true},
			Devices: []order.Device{row("cam-11"), row("cam-12"), row("cam-21")}})
		assert.Equal(t, map[string]string{"cam-11": "done 2.0", "cam-12": "failed ?",
			"cam-21": "done 2.0"}, ends(s))
		assert.InDelta(t, 10, time.Since(startedAt).Minutes(), 1)
		assert.Equal(t, []int{1, 0, 1},
			[]int{devices["cam-11"].attempts, devices["cam-12"].attempts,
				devices["cam-21"].attempts})
	})
}

// crash plays a job until a device starts to send, when its ledger goes away as in a power cut.
func (n *night) crash(t *testing.T, plan job.Plan, at *acted) {
	before := at.sending
	at.sending = func() { _ = n.ledger.Close() }
	n.crashing(t, plan)
	at.sending = before
}

// crashing plays a job whose ledger goes away in the middle, and opens the ledger again.
func (n *night) crashing(t *testing.T, plan job.Plan) {
	j, err := n.engine.Start(plan)
	require.NoError(t, err)
	require.ErrorContains(t, j.Run(t.Context(), t.Context()), "the ledger")
	n.ledger, err = ledger.Open(n.dir, n.clock, ledger.Writer{})
	require.NoError(t, err)
	t.Cleanup(func() { _ = n.ledger.Close() })
	n.engine.Ledger = n.ledger
	time.Sleep(time.Hour) // whatever the device was doing is over
}

// state is how a job is.
func (n *night) state(t *testing.T, id string) job.State {
	s, err := job.Load(n.ledger, id)
	require.NoError(t, err)
	return s
}

// A job that is given up sends nothing more. What cannot be told well is stranded, and so is a
// member of a lockstep set that runs another version than the rest of it.
func TestGivenUp(t *testing.T) {
	hub := &acted{drains: time.Nanosecond, drops: 9}
	devices := troupe{"handset-1": {}, "hub-1": hub, "cam-11": {}}
	bubble(t, devices, func(t *testing.T, n *night) {
		o := order.Order{
			Devices: []order.Device{row("handset-1", "hub-1"), row("hub-1"), row("cam-11")},
			Rules: order.Rules{Parallel: 1,
				Lockstep: []order.Set{{Name: "handsets", Of: []string{"hub-1", "handset-1"}}}}}
		plan := job.Plan{Order: o, Devices: n.known}
		n.crash(t, plan, hub)
		require.Equal(t, "2.0", devices["handset-1"].version)
		require.NoError(t, n.engine.GiveUp(t.Context(), "j1", plan))
		s := n.state(t, "j1")
		assert.False(t, s.Ended.IsZero())
		assert.Equal(t, map[string]string{"handset-1": "stranded 2.0", "hub-1": "failed 1.0",
			"cam-11": "skipped "}, ends(s), "the set is in parts, and needs hands")
		assert.Contains(t, s.Devices[1].Reason, "given up while it was sending; it still runs 1.0")
		assert.Equal(t, []int{1, 0}, []int{devices["handset-1"].attempts, devices["cam-11"].attempts})
	})
	// One that cannot tell whether it holds an image is stranded.
	blind := &acted{drops: 9, blind: true}
	bubble(t, troupe{"cam-11": blind}, func(t *testing.T, n *night) {
		plan := job.Plan{Order: order.Order{Devices: []order.Device{row("cam-11")}}, Devices: n.known}
		n.crash(t, plan, blind)
		require.NoError(t, n.engine.GiveUp(t.Context(), "j1", plan))
		assert.Equal(t, "stranded 1.0", ends(n.state(t, "j1"))["cam-11"])
	})
}

// A job that only sends does so after a crash, too: nothing restarts before it is told to. A
// lockstep set is parked as a whole.
func TestStagedAfterACrash(t *testing.T) {
	gate := &acted{parks: true, drains: time.Nanosecond, drops: 3}
	devices := troupe{"gate-1": gate, "gate-2": {parks: true, drains: time.Nanosecond}}
	bubble(t, devices, func(t *testing.T, n *night) {
		plan := job.Plan{Order: order.Order{Stage: true,
			Devices: []order.Device{row("gate-1"), row("gate-2")},
			Rules: order.Rules{Parallel: 1,
				Lockstep: []order.Set{{Name: "pair", Of: []string{"gate-1", "gate-2"}}}}},
			Devices: n.known}
		n.crash(t, plan, gate)
		j, err := n.engine.Resume("j1", plan, time.Time{})
		require.NoError(t, err)
		require.NoError(t, j.Run(t.Context(), t.Context()))
		assert.Equal(t, map[string]string{"gate-1": "parked 1.0", "gate-2": "parked 1.0"},
			ends(n.state(t, "j1")))
		assert.Equal(t, "1.0", gate.version, "it was not restarted")
		plan.Order = n.state(t, "j1").Unfinished(func(string) bool { return true })
		s := n.run(t, plan.Order)
		assert.Equal(t, map[string]string{"gate-1": "done 2.0", "gate-2": "done 2.0"}, ends(s))
		assert.Equal(t, []int{4, 1}, []int{gate.attempts, devices["gate-2"].attempts},
			"nothing is sent again")
	})
}

// A clock that is put forward or back by an hour in the middle of a job, and again before it is
// resumed, changes neither how the devices end nor how long they took.
func TestTheClockJumps(t *testing.T) {
	for _, jump := range []time.Duration{time.Hour, -time.Hour} {
		cam := &acted{drops: 1}
		devices := troupe{"cam-11": {}, "cam-12": cam, "cam-21": {}}
		bubble(t, devices, func(t *testing.T, n *night) {
			devices["cam-11"].sending = func() { n.jumped += jump }
			o := order.Order{Rules: order.Rules{Parallel: 1},
				Devices: []order.Device{row("cam-11"), row("cam-12"), row("cam-21")}}
			plan := job.Plan{Order: o, Devices: n.known}
			n.crash(t, plan, cam)
			n.jumped -= 2 * jump
			j, err := n.engine.Resume("j1", plan, time.Time{})
			require.NoError(t, err)
			require.NoError(t, j.Run(t.Context(), t.Context()))
			s := n.state(t, "j1")
			assert.Equal(t, 3, s.Count(job.Done), ends(s))
			for _, d := range s.Devices {
				if d.Name == "cam-12" { // it shows the break; with a clock that jumps, what that makes of it
					assert.GreaterOrEqual(t, d.Took, 0.0)
					continue
				}
				assert.InDelta(t, 120, d.Took, 60, d.Name)
			}
			checked, _, err := n.ledger.Check()
			require.NoError(t, err)
			assert.Positive(t, checked)
		})
	}
}
