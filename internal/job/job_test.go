package job_test

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/device"
	"catena/internal/dialect"
	"catena/internal/dialect/onvif"
	"catena/internal/dialect/simtest"
	"catena/internal/firmware"
	"catena/internal/job"
	"catena/internal/ledger"
	"catena/internal/login"
	"catena/internal/match"
	"catena/internal/order"
	"catena/internal/record"
	"catena/internal/sim"
	"catena/internal/sim/standin"
)

const password = "quoin-and-sluice"

// bench is a simulated site, its ledger and an engine.
type bench struct {
	engine  *job.Engine
	ledger  *ledger.Ledger
	devices []device.Device
	matcher *match.Matcher
	opened  map[string]int // images by version
}

type memory struct{ *bytes.Reader }

func (memory) Close() error { return nil }

// start makes a site of these devices; every one is at 1.0, and images of 1.0 and
// 2.0 are there for each.
func start(t *testing.T, devices ...sim.Device) *bench {
	for i := range devices {
		d := &devices[i]
		if d.Name == "" {
			d.Name = fmt.Sprintf("device-%d", i+1)
		}
		d.Host, d.Serial, d.Version = i+1, fmt.Sprintf("S-%d", i+1), "1.0"
		if d.Kind == "" {
			d.Kind = "camera"
		}
		d.Model = map[string]string{"camera": "WX-40", "gate": "TG-200"}[d.Kind]
	}
	place, err := sim.Start(sim.Scenario{
		Login:   sim.Login{User: "keeper", Password: password},
		Pace:    sim.Pace{Write: 150 * time.Millisecond, Restart: 200 * time.Millisecond},
		Devices: devices,
	}, "", slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	t.Cleanup(place.Stop)
	l, err := ledger.Create(t.TempDir(), time.Now, ledger.Writer{})
	require.NoError(t, err)
	t.Cleanup(func() { _ = l.Close() })

	b := &bench{ledger: l, opened: map[string]int{}}
	content := map[string][]byte{}
	var images []firmware.Image
	for maker, model := range map[string]string{"Wexcombe": "WX-40", "Tollgarth": "TG-200"} {
		for _, v := range []string{"1.0", "1.5", "2.0"} {
			var buf bytes.Buffer
			require.NoError(t, standin.Image(&buf, maker, []string{model}, "", v, 400_000))
			digest := fmt.Sprintf("%x", sha256.Sum256(buf.Bytes()))
			content[digest] = buf.Bytes()
			images = append(images, firmware.Image{Size: int64(buf.Len()),
				Manifest: firmware.Manifest{Vendor: maker, Models: []string{model},
					Version: v, Component: firmware.Main, Advice: firmware.Recommended,
					SHA256: digest,
					File:   model + "_" + v}})
		}
	}
	b.matcher = match.New(match.Input{Images: images})
	b.engine = &job.Engine{
		Ledger: l, Now: time.Now,
		Dialects: dialect.NewRegistry(onvif.Dialect{}, simtest.Family("tollgarth-gates")),
		Contacts: job.ContactFunc(func(d device.Device) (dialect.At, login.Credential, bool) {
			return dialect.At{Endpoint: d.Endpoint},
				login.Credential{User: "keeper", Password: password}, true
		}),
		Site: &testSite{
			record: func(id string, d *device.Device) error { return record.Update(l, id, d) },
			open: func(i order.Image) (job.File, error) {
				b.opened[i.File[len(i.File)-3:]]++
				return memory{bytes.NewReader(content[i.SHA256])}, nil
			}},
		Patience: firmware.Patience{Grace: time.Second, Writing: time.Minute,
			Restarting: time.Minute, Proving: 2 * time.Second},
	}
	for _, d := range devices {
		if d.Faults.NeverReturns { // it is waited for in vain, however busy the machine is
			b.engine.Patience.Restarting = 1500 * time.Millisecond
		}
	}
	for _, in := range place.StandIns() {
		d := device.Device{Name: in.Name, Access: device.OK,
			Endpoint: device.Endpoint{Address: in.Address, Dialect: "onvif"},
			Reading: device.Reading{Identity: device.Identity{Vendor: "Wexcombe", Model: in.Model,
				Serial: "S-" + in.Name}, Version: "1.0"}}
		if in.Kind == "gate" {
			d.Vendor, d.Dialect = "Tollgarth", "tollgarth-gates"
		}
		d.Serial = devices[len(b.devices)].Serial
		require.NoError(t, record.Update(l, "", &d))
		b.devices = append(b.devices, d)
	}
	return b
}

func (b *bench) plan() job.Plan {
	p := job.Plan{Order: order.Order{Purpose: order.Forward, Rules: order.Rules{Parallel: 8}},
		Devices: map[string]job.Known{}}
	for _, row := range b.matcher.All(b.devices) {
		d := order.Device{ID: row.Device.ID, Name: row.Device.Name, Model: row.Device.Model,
			From: row.Device.Version}
		for _, h := range row.Path {
			d.Path = append(d.Path, hop(h))
		}
		p.Order.Devices = append(p.Order.Devices, d)
		p.Devices[d.ID] = job.Known{Device: row.Device}
	}
	return p
}

func hop(h match.Hop) order.Hop {
	image := func(i *firmware.Image) order.Image {
		return order.Image{File: i.File, SHA256: i.SHA256, Size: i.Size}
	}
	back := image(h.ForRollback)
	return order.Hop{Component: h.Image.Component, From: h.From, To: h.Image.Version,
		Image: image(h.Image), Back: &back}
}

// change changes a device of the plan as it is known.
func change(p *job.Plan, how func(*device.Device)) {
	id := p.Order.Devices[0].ID
	known := p.Devices[id]
	how(&known.Device)
	p.Devices[id] = known
}

func (b *bench) run(t *testing.T, plan job.Plan) job.State {
	j, err := b.engine.Start(plan)
	require.NoError(t, err)
	require.NoError(t, j.Run(t.Context(), t.Context()))
	state, err := job.Load(b.ledger, j.ID)
	require.NoError(t, err)
	assert.False(t, state.Alive)
	assert.False(t, state.Interrupted())
	count, _, err := b.ledger.Check()
	require.NoError(t, err)
	assert.Positive(t, count)
	return state
}

// steps are the steps that the ledger has of a device, in order; a step during the
// rollback has a < before it.
func (b *bench) steps(t *testing.T, id string) string {
	events, err := job.Events(b.ledger, "j1", 0, nil)
	require.NoError(t, err)
	var out []string
	for _, e := range events {
		if e.Device == id {
			s := string(e.Step)
			if e.Direction == job.Back {
				s = "<" + s
			}
			out = append(out, s)
		}
	}
	return strings.Join(out, " ")
}

const (
	forth = "checking sending writing restarting proving"
	back  = " <sending <writing <restarting <proving"
)

func TestEveryFaultHasItsEnd(t *testing.T) {
	for name, c := range map[string]struct {
		device sim.Device
		change func(*bench, *job.Plan)
		end    job.Step
		runs   string // what the device said last
		steps  string
		reason string
	}{
		"camera": {sim.Device{}, nil, job.Done, "2.0", forth + " done", ""},
		"camera with HTTP Digest": {sim.Device{Auth: "digest"}, nil, job.Done, "2.0",
			forth + " done", ""},
		"camera that must be asked": {sim.Device{Restarts: "asked"}, nil, job.Done, "2.0",
			forth + " done", ""},
		"gate": {sim.Device{Kind: "gate"}, nil, job.Done, "2.0",
			forth + " done", ""},
		"another password": {sim.Device{Faults: sim.Faults{OtherPassword: "mitre"}}, nil,
			job.Failed, job.NotRead, "checking failed",
			"refused the login"},
		"never answers": {sim.Device{Faults: sim.Faults{Silent: true}}, nil, job.Failed, job.NotRead,
			"checking failed", "does not answer"},
		"absent": {sim.Device{}, func(_ *bench,
			p *job.Plan) {
			change(p, func(d *device.Device) { d.Address = "127.0.0.1:1" })
		}, job.Failed, job.NotRead,
			"checking failed", "does not answer"},
		"connection cut": {sim.Device{Kind: "gate", Faults: sim.Faults{DropAfter: 150_000}}, nil,
			job.Failed, "1.0",
			// whether the cut shows before the last byte has left depends on the machine
			"checking sending writing failed|checking sending failed", ""},
		"keeps its version": {sim.Device{Faults: sim.Faults{KeepsVersion: true}}, nil, job.Returned,
			"1.0",
			// whether its short restart is seen depends on the machine; if not, it is sent what it ran
			forth + " <proving returned|" + forth + back + " returned", "it runs 1.0, not 2.0"},
		"sick": {sim.Device{Kind: "gate", Faults: sim.Faults{Sick: true}}, nil, job.Returned, "1.0",
			forth + back + " returned", "limit switch"},
		"sick camera": {sim.Device{Faults: sim.Faults{Sick: true}}, nil, job.Returned, "1.0",
			forth + back + " returned", "no longer offers"},
		"sick without a rollback": {sim.Device{Faults: sim.Faults{Sick: true}},
			func(_ *bench, p *job.Plan) { p.Order.Devices[0].Path[0].Back = nil },
			job.Stranded, "2.0", forth + " stranded", "cannot be rolled back"},
		"never comes back": {sim.Device{Faults: sim.Faults{NeverReturns: true}}, nil, job.Stranded,
			job.NotRead,
			"checking sending writing restarting stranded", "did not come back within 1.5s"},
		"slow link": {sim.Device{Faults: sim.Faults{Rate: 400_000}}, nil, job.Done, "2.0",
			forth + " done", ""},
		"another device": {sim.Device{},
			func(_ *bench, p *job.Plan) {
				change(p,
					func(d *device.Device) { d.Serial = "S-9" })
			}, job.Failed, "1.0",
			"checking failed", "another device is at its address: its serial number is S-1, not S-9"},
		"changed since": {sim.Device{},
			func(_ *bench, p *job.Plan) { p.Order.Devices[0].Path[0].From = "0.9" }, job.Failed, "1.0",
			"checking failed", "it runs 1.0, not 0.9"},
		"there already": {sim.Device{},
			func(b *bench, p *job.Plan) { p.Order.Devices[0].Path[0].To = "1.0" }, job.Skipped, "1.0",
			"checking skipped", "already runs 1.0"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			b := start(t, c.device)
			plan := b.plan()
			if c.change != nil {
				c.change(b, &plan)
			}
			d := b.run(t, plan).Devices[0]
			assert.Equal(t, c.end, d.Step, d.Reason)
			assert.Equal(t, c.runs, d.Version)
			assert.Contains(t, d.Reason, c.reason)
			assert.Contains(t, strings.Split(c.steps, "|"), b.steps(t, d.ID))
			assert.NotContains(t, d.Reason, password)
			if c.end == job.Done {
				devices, err := record.Devices(b.ledger)
				require.NoError(t, err)
				assert.Equal(t, "2.0", devices[0].Version)
			}
		})
	}
}

func TestIntermediateVersions(t *testing.T) {
	for name, c := range map[string]struct {
		device sim.Device
		from   string
		end    job.Step
		runs   string
		steps  string
	}{
		"both": {sim.Device{}, "1.0", job.Done, "2.0",
			forth + " sending writing restarting proving done"},
		"one lies behind": {sim.Device{}, "0.9", job.Done, "2.0", forth + " done"},
		"fails on a intermediate version": {sim.Device{Faults: sim.Faults{Sick: true}}, "1.0",
			job.Returned, "1.0", forth + back + " returned"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			b := start(t, c.device)
			plan := b.plan()
			row := &plan.Order.Devices[0]
			last, first := row.Path[0], hop(b.matcher.To(b.devices[0], firmware.Main, "1.5").Path[0])
			row.From = c.from
			first.From, last.From, last.Back = c.from, "1.5", &first.Image
			if c.from == "0.9" { // it runs the first intermediate version already
				first.To, first.Image = "1.0", *first.Back
			}
			row.Path = []order.Hop{first, last}
			d := b.run(t, plan).Devices[0]
			assert.Equal(t, c.end, d.Step, d.Reason)
			assert.Equal(t, c.runs, d.Version)
			assert.Equal(t, c.steps, b.steps(t, d.ID))
		})
	}
}

func TestOneFailureStopsNoOther(t *testing.T) {
	b := start(t, sim.Device{}, sim.Device{Faults: sim.Faults{OtherPassword: "mitre"}},
		sim.Device{Kind: "gate"},
		sim.Device{Faults: sim.Faults{DropAfter: 100_000}}, sim.Device{Kind: "gate"},
		sim.Device{Auth: "digest"})
	plan := b.plan()
	plan.Order.Rules.Parallel = 3
	state := b.run(t, plan)
	assert.Equal(t, 4, state.Count(job.Done))
	assert.Equal(t, 2, state.Count(job.Failed))
	assert.Equal(t, map[string]int{"1.0": 2, "2.0": 2}, b.opened,
		"each image is opened and hashed once")
}

func TestParallelIsKept(t *testing.T) {
	b := start(t, sim.Device{}, sim.Device{}, sim.Device{}, sim.Device{})
	plan := b.plan()
	plan.Order.Rules.Parallel = 1
	b.run(t, plan)
	events, err := job.Events(b.ledger, "j1", 0, nil)
	require.NoError(t, err)
	atWork := ""
	for _, e := range events {
		if atWork == "" {
			atWork = e.Device
		}
		assert.Equal(t, atWork, e.Device, "one device at a time")
		if e.Step.End() {
			atWork = ""
		}
	}
}

func TestStoppedJobFinishesWhatItBegan(t *testing.T) {
	b := start(t, sim.Device{Faults: sim.Faults{Rate: 800_000}}, sim.Device{}, sim.Device{})
	plan := b.plan()
	plan.Order.Rules.Parallel = 1
	j, err := b.engine.Start(plan)
	require.NoError(t, err)
	going, stop := context.WithCancel(t.Context())
	patience, letGo := context.WithCancel(t.Context())
	ended := make(chan error, 1)
	go func() { ended <- j.Run(going, patience) }()
	require.Eventually(t, func() bool {
		s, err := job.Load(b.ledger, j.ID)
		return err == nil && s.Devices[0].Step == job.Sending && s.Devices[0].Percent() > 10
	}, 10*time.Second, 10*time.Millisecond)
	stop()
	letGo()
	require.NoError(t, <-ended)
	state, err := job.Load(b.ledger, j.ID)
	require.NoError(t, err)
	assert.Equal(t, job.Done, state.Devices[0].Step, "a write is never interrupted")
	assert.Equal(t, job.Skipped, state.Devices[1].Step)
	assert.Equal(t, job.Skipped, state.Devices[2].Step)
}

func TestTwoJobsNeverWorkOnOneDevice(t *testing.T) {
	b := start(t, sim.Device{Faults: sim.Faults{Rate: 400_000}}, sim.Device{})
	plan := b.plan()
	first := plan
	first.Order.Devices = plan.Order.Devices[:1]
	j1, err := b.engine.Start(first)
	require.NoError(t, err)
	_, err = b.engine.Start(plan)
	var busy *job.BusyError
	require.ErrorAs(t, err, &busy)
	assert.Equal(t, job.BusyError{Device: b.devices[0].Name, Job: "j1"}, *busy,
		"refused before anything is touched")
	require.NoError(t, j1.Run(t.Context(), t.Context()))
	j2, err := b.engine.Start(plan)
	require.NoError(t, err, "once the first is over")
	require.NoError(t, j2.Run(t.Context(), t.Context()))
	two, err := job.Load(b.ledger, j2.ID)
	require.NoError(t, err)
	assert.Equal(t, job.Skipped, two.Devices[0].Step)
	assert.Equal(t, job.Done, two.Devices[1].Step)
}

// Whoever continues after a crash finds in the ledger, for every effect, an entry before
// it and one after it, with all that it takes to continue.
func TestEveryEffectIsWrittenDownTwice(t *testing.T) {
	b := start(t, sim.Device{Faults: sim.Faults{Sick: true}})
	plan := b.plan()
	b.run(t, plan)
	entries, err := b.ledger.Entries(ledger.Filter{Job: "j1", Device: b.devices[0].ID})
	require.NoError(t, err)
	var effects []job.Effect
	begun := job.Effect{}
	for _, e := range entries {
		var effect job.Effect
		switch e.Kind {
		case job.StepStarted:
			require.NoError(t, json.Unmarshal(e.Body, &begun))
		case job.Over:
			require.NoError(t, json.Unmarshal(e.Body, &effect))
			assert.Equal(t, begun.Step, effect.Step, "no effect between the two entries of another")
			assert.Equal(t, begun.SHA256, effect.SHA256)
			effects = append(effects, effect)
		}
	}
	require.Len(t, effects, 9, "a check, and four steps forth and back")
	assert.Equal(t, "1.0", effects[0].Baseline.Version)
	assert.NotEmpty(t, effects[0].Baseline.Services, "what it offered while it was healthy")
	hop := plan.Order.Devices[0].Path[0]
	for i, effect := range effects[1:] {
		digest, way := hop.Image.SHA256, job.Forward
		if i >= 4 {
			digest, way = hop.Back.SHA256, job.Back
		}
		assert.Equal(t, []any{digest, way, 0, firmware.Main},
			[]any{effect.SHA256, effect.Direction, effect.Hop, effect.Component})
	}
	assert.Positive(t, effects[1].Down, "the camera announced how long it would be away")
	assert.Equal(t, job.Unhealthy, effects[4].Cause.Why)
}

func TestNothingIsSentThatCannotBeWrittenDown(t *testing.T) {
	b := start(t, sim.Device{})
	j, err := b.engine.Start(b.plan())
	require.NoError(t, err)
	require.NoError(t, b.ledger.Close()) // as a full disk would
	assert.ErrorContains(t, j.Run(t.Context(), t.Context()), "the ledger")
	d := b.devices[0]
	f, err := onvif.Dialect{}.Open(dialect.At{Endpoint: d.Endpoint},
		login.Credential{User: "keeper", Password: password}).Read(t.Context())
	require.NoError(t, err)
	assert.Equal(t, "1.0", f.Version)
}

func TestADamagedImageStartsNoJob(t *testing.T) {
	b := start(t, sim.Device{})
	damaged := errors.New("the image on the shelf is damaged")
	b.engine.Site.(*testSite).open = func(order.Image) (job.File, error) { return nil, damaged }
	_, err := b.engine.Start(b.plan())
	assert.ErrorIs(t, err, damaged)
	jobs, err := job.Jobs(b.ledger, 0)
	require.NoError(t, err)
	assert.Empty(t, jobs)
	_, err = b.engine.Start(job.Plan{})
	assert.ErrorIs(t, err, job.ErrNothing)
}

func TestHistory(t *testing.T) {
	b := start(t, sim.Device{}, sim.Device{Faults: sim.Faults{KeepsVersion: true}})
	b.run(t, b.plan())
	h, err := job.ReadHistory(b.ledger)
	require.NoError(t, err)
	earlier := func(i int, of string) string {
		v, err := h.Earlier(b.devices[i].ID, firmware.Main, of)
		require.NoError(t, err)
		return v
	}
	assert.Equal(t, "1.0", earlier(0, ""))
	assert.Equal(t, "1.0", earlier(0, "j1"))
	assert.Empty(t, earlier(0, "j2"), "that job did not change it")
	assert.Empty(t, earlier(1, ""), "no job changed it")
	updated, err := h.Updated(b.devices[0].ID)
	require.NoError(t, err)
	assert.False(t, updated.IsZero())
	failed, _, err := h.LeftAlone(b.devices[1].ID, firmware.Main, "2.0")
	require.NoError(t, err)
	assert.Equal(t, "j1", failed)
	failed, _, err = h.LeftAlone(b.devices[0].ID, firmware.Main, "2.0")
	require.NoError(t, err)
	assert.Empty(t, failed)
}

// The clock is set an hour on, and an hour back, while devices are being updated and one is about
// to return. The sudden hour lets no one give up, and nothing be sent twice.
func TestAClockThatJumps(t *testing.T) {
	for name, by := range map[string]time.Duration{"on": time.Hour, "back": -time.Hour} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			b := start(t, sim.Device{}, sim.Device{Kind: "gate"},
				sim.Device{Faults: sim.Faults{Sick: true}})
			plan := b.plan()
			plan.Order.GiveUp = 10 * time.Minute
			jump := time.Now().Add(600 * time.Millisecond)
			b.engine.Now = func() time.Time {
				now := time.Now()
				if now.After(jump) {
					now = now.Round(0).Add(by) // as from a clock of which nothing else is known
				}
				return now
			}
			state := b.run(t, plan)
			assert.Equal(t, job.Done, state.Devices[0].Step, state.Devices[0].Reason)
			assert.Equal(t, job.Done, state.Devices[1].Step, state.Devices[1].Reason)
			assert.Equal(t, job.Returned, state.Devices[2].Step, state.Devices[2].Reason)
			assert.Equal(t, forth+back+" returned", b.steps(t, plan.Order.Devices[2].ID))
		})
	}
}
