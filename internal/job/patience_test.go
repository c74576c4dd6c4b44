package job_test

import (
	"bytes"
	"context"
	"crypto/sha256"
	"fmt"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/device"
	"catena/internal/dialect"
	"catena/internal/firmware"
	"catena/internal/job"
	"catena/internal/ledger"
	"catena/internal/login"
	"catena/internal/order"
	"catena/internal/settings"
)

// acted is a device of a test: a Dialect, its Session and its Update in one. It follows the
// clock, which a test bubble advances automatically: an hour costs nothing.
type acted struct {
	dialect.NoCarry
	dialect.NoChildren
	mu       sync.Mutex
	version  string
	sent     string    // the version that it was sent and has not started yet
	until    time.Time // it is away until then
	writing  time.Time // it writes until then
	attempts int       // how often it was sent something
	logins   int       // how often it was logged in to
	is       string    // its serial number
	changed  error     // what a probe meets, such as another certificate

	writes, down time.Duration // how long each takes
	announces    time.Duration // as how long it says it will be away
	stays        bool          // it starts only what it is asked to
	back         func(a *acted)
	drops        int           // how many transfers break off half-way
	refuses      bool          // it refuses every login
	asksToWait   time.Duration // before an upload
	giveUp       time.Duration // of the order
	drains       time.Duration // after a broken transfer it takes what is on the wire for so long
	drained      time.Time
	sending      func() // at the start of a transfer
	settles      time.Duration
	parks        bool      // it restarts only when it is asked to
	blind        bool      // it cannot tell whether it holds an image
	restarts     int       // how often it restarts automatically; 0: once
	sickFrom     time.Time // it is not healthy from then on
	slots        bool      // it has two
	idle         string    // what the other one holds
	switches     int       // how often it was told to switch
	forbidden    time.Time // an interlock forbids to update it until then
	closes       bool      // it takes no image: the interlock has come between
	switching    func()    // at the start of a switch
	counts       bool      // it tells how often it has started
	starts       int64
	balks        bool   // it says 100 %, and refuses the image at the restart
	restored     int    // how often it was given settings back
	deaf         bool   // it takes none back
	config       string // its settings; empty: it does not tell them
	needs        bool   // without its settings it is not healthy
	unattended   bool   // an operator should do something after the image, and does not
	armed        bool   // it waits for that as if it were writing
}

func (a *acted) About() dialect.About {
	return dialect.About{Name: "acted", Rank: 1, Transport: "tcp"}
}

func (a *acted) Probe(context.Context, dialect.At) (device.Reading, error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.settle()
	if time.Now().Before(a.until) {
		return device.Reading{}, device.Because(device.NoAnswer, "")
	}
	if a.changed != nil {
		return device.Reading{}, a.changed
	}
	return device.Reading{Identity: device.Identity{Serial: a.is, Model: "TG-200"}}, nil
}

// settle starts what was sent, once it is written.
func (a *acted) settle() {
	if a.sent == "" || a.stays || a.parks || time.Now().Before(a.writing) {
		return
	}
	a.restart()
}

func (a *acted) restart() {
	if a.sent != "" {
		a.idle, a.version, a.sent = a.version, a.sent, ""
	}
	a.starts++
	a.until = a.writing.Add(a.down)
	if a.stays || a.parks {
		a.until = time.Now().Add(a.down)
	}
	if a.back != nil {
		a.back(a)
	}
}

func (a *acted) Open(dialect.At, login.Credential) dialect.Session { return a }

func (a *acted) Read(ctx context.Context) (device.Reading, error) {
	r, err := a.Probe(ctx, dialect.At{})
	if err != nil {
		return r, err
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	a.logins++
	if a.refuses {
		return device.Reading{}, device.ErrLoginRefused
	}
	r.Version = a.version
	if a.slots {
		r.Idle = map[string]string{firmware.Main: a.idle}
	}
	if a.counts {
		r.Boot = &device.Boot{Count: 1 + a.starts}
	}
	return r, nil
}

func (a *acted) Healthy(context.Context, device.Reading) error {
	a.mu.Lock()
	defer a.mu.Unlock()
	if !a.sickFrom.IsZero() && !time.Now().Before(a.sickFrom) {
		return device.Because(device.Refusal, "it reports a fault: motor current")
	}
	return nil
}
func (a *acted) Update(string) (dialect.Update, error) { return a, nil }
func (a *acted) Locate() (dialect.Locator, error)      { return nil, device.ErrUnsupported }
func (a *acted) Network() (dialect.Network, error)     { return nil, device.ErrUnsupported }
func (a *acted) Close(context.Context) error           { return nil }

func (a *acted) Settings() (dialect.Settings, error) {
	if a.config == "" {
		return nil, device.ErrUnsupported
	}
	return a, nil
}

func (a *acted) Save(context.Context) ([]byte, error) { return []byte(a.config), nil }
func (a *acted) Steady() bool                         { return true }
func (a *acted) Renamed() map[string]string           { return nil }

func (a *acted) Format() settings.Format { return settings.KeyValue }
func (a *acted) Restore(_ context.Context, saved []byte) error {
	a.restored++
	if a.deaf {
		return device.Because(device.Refusal, "there is no setting quiet")
	}
	a.config = string(saved)
	if a.needs {
		a.sickFrom = time.Time{}
	}
	return nil
}

func (a *acted) Revert(context.Context) error {
	if a.switching != nil {
		a.switching()
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	a.switches++
	a.sent, a.writing = a.idle, time.Now()
	a.restart()
	return nil
}

func (a *acted) Interlock(context.Context) error {
	a.mu.Lock()
	defer a.mu.Unlock()
	if time.Now().Before(a.forbidden) {
		return device.Because(device.NotNow, "the valve is open")
	}
	return nil
}

func (a *acted) Ready(ctx context.Context, _ dialect.Image) error {
	if err := a.Interlock(ctx); err != nil {
		return err
	}
	select {
	case <-time.After(a.asksToWait):
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

func (a *acted) Traits() dialect.Traits {
	return dialect.Traits{RestartsByItself: !a.parks, Down: a.announces, Settle: a.settles,
		Restarts: a.restarts}
}

func (a *acted) Transfer(_ context.Context, image dialect.Image, sent func(int64)) error {
	content := make([]byte, image.Size)
	if _, err := image.ReadAt(content, 0); err != nil {
		return err
	}
	if a.sending != nil {
		a.sending()
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	a.attempts++
	if a.closes {
		a.forbidden = time.Now().Add(time.Hour)
		return device.Because(device.Refusal, "error 17")
	}
	if a.unattended {
		return device.Because(device.NeedsPerson, "turn the key; no operator confirmed it")
	}
	if a.attempts <= a.drops {
		a.drained = time.Now().Add(a.drains)
		sent(image.Size / 2)
		return device.Because(device.NoAnswer, "it closed the connection")
	}
	sent(image.Size)
	a.sent, a.writing = string(content), time.Now().Add(a.writes)
	return nil
}

func (a *acted) Progress(context.Context) (int, error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.blind {
		return 0, device.ErrUnsupported
	}
	if a.armed {
		return 50, nil
	}
	if a.drains > 0 && a.sent == "" {
		if time.Now().Before(a.drained) {
			return 50, nil
		}
		return 0, device.Because(device.Refusal, "it holds no image")
	}
	if left := time.Until(a.writing); left > 0 {
		return int(100 * (a.writes - left) / a.writes), nil
	}
	return 100, nil
}

func (a *acted) Activate(context.Context) error {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.balks {
		a.balks = false
		return device.Because(device.Refusal, "the image is not valid")
	}
	a.restart()
	return nil
}

// play runs a job that takes the device from 1.0 to 2.0 with the patience for real devices,
// and returns how it ended and how long that took on the clock of the bubble.
func play(t *testing.T, a *acted) (d job.DeviceState, took time.Duration) {
	return playUntil(t, a, 0)
}

// playUntil is play, and a person who lets go after a while; 0: no one does.
func playUntil(t *testing.T, a *acted, letGo time.Duration) (d job.DeviceState,
	took time.Duration) {
	dir := t.TempDir()
	synctest.Test(t, func(t *testing.T) {
		l, err := ledger.Create(dir, time.Now, ledger.Writer{})
		require.NoError(t, err)
		defer func() { _ = l.Close() }()
		image := func(v string) order.Image {
			return order.Image{File: v, Size: int64(len(v)),
				SHA256: fmt.Sprintf("%x", sha256.Sum256([]byte(v)))}
		}
		old := image("1.0")
		engine := &job.Engine{Ledger: l, Dialects: dialect.NewRegistry(a), Now: time.Now,
			Contacts: job.ContactFunc(func(device.Device) (dialect.At, login.Credential, bool) {
				return dialect.At{}, login.Credential{}, true
			}),
			Site: &testSite{open: func(i order.Image) (job.File, error) {
				return memory{bytes.NewReader([]byte(i.File))}, nil
			}}}
		known := device.Device{ID: "d1", Name: "gate-1",
			Endpoint: device.Endpoint{Dialect: "acted"},
			Reading: device.Reading{Identity: device.Identity{Serial: "S-1", Model: "TG-200"},
				Version: "1.0"}}
		a.version, a.is = "1.0", "S-1"
		j, err := engine.Start(job.Plan{
			Order: order.Order{Purpose: order.Forward, GiveUp: a.giveUp, Devices: []order.Device{{
				ID: "d1", Name: "gate-1", From: "1.0", Path: []order.Hop{{
					Component: firmware.Main, From: "1.0", To: "2.0", Image: image("2.0"),
					Back: &old}}}}},
			Devices: map[string]job.Known{"d1": {Device: known}}})
		require.NoError(t, err)
		startedAt := time.Now()
		patience, cancel := context.WithCancel(t.Context())
		defer cancel()
		if letGo > 0 {
			defer time.AfterFunc(letGo, cancel).Stop()
		}
		require.NoError(t, j.Run(t.Context(), patience))
		took = time.Since(startedAt)
		state, err := job.Load(l, j.ID)
		require.NoError(t, err)
		d = state.Devices[0]
	})
	return d, took
}

func TestPatience(t *testing.T) {
	never := 1000 * time.Hour
	for name, c := range map[string]struct {
		device   *acted
		end      job.Step
		why      job.Why
		version  string
		from, to time.Duration // how long it may take
	}{
		"as announced": {&acted{writes: time.Minute, down: 2 * time.Minute,
			announces: 2 * time.Minute},
			job.Done, "", "2.0", 3 * time.Minute, 4 * time.Minute},
		"longer than announced": {&acted{writes: time.Minute, down: 9 * time.Minute,
			announces: time.Second},
			job.Done, "", "2.0", 10 * time.Minute, 11 * time.Minute},
		"it never comes back": {&acted{writes: time.Minute, down: never},
			job.Stranded, job.DidNotReturn, job.NotRead, 10 * time.Minute, 13 * time.Minute},
		"it restarts twice": {&acted{writes: time.Minute, down: time.Minute, restarts: 2,
			back: func(a *acted) { // up on the old version for half a minute, then away once more
				again := a.until.Add(30 * time.Second)
				a.version = "1.0"
				time.AfterFunc(time.Until(again), func() {
					a.mu.Lock()
					defer a.mu.Unlock()
					a.version, a.until = "2.0", time.Now().Add(5*time.Minute)
				})
			}},
			job.Done, "", "2.0", 7 * time.Minute, 8 * time.Minute},
		"it settles": {&acted{writes: time.Minute, down: time.Minute, settles: 10 * time.Minute},
			job.Done, "", "2.0", 12 * time.Minute, 13 * time.Minute},
		"it does not stay well": {&acted{writes: time.Minute, down: time.Minute,
			settles: 10 * time.Minute, back: func(a *acted) {
				a.sickFrom = time.Time{}
				if a.version == "2.0" {
					a.sickFrom = a.until.Add(5 * time.Minute)
				}
			}},
			job.Returned, job.NotSettled, "1.0", 9 * time.Minute, 20 * time.Minute},
		"it is given up": {&acted{writes: 2 * time.Minute, down: never, giveUp: 5 * time.Minute},
			job.Stranded, job.DidNotReturn, job.NotRead, 5 * time.Minute, 6 * time.Minute},
		"a write is waited for": {&acted{writes: 8 * time.Minute, down: 0, giveUp: 5 * time.Minute},
			job.Done, "", "2.0", 8 * time.Minute, 10 * time.Minute},
		"it never ends writing": {&acted{writes: never},
			job.Stranded, job.StillWriting, "1.0", time.Hour, 2 * time.Hour},
		"it restarts only when asked": {&acted{stays: true, writes: time.Minute, down: time.Minute},
			job.Done, "", "2.0", 5 * time.Minute, 6 * time.Minute},
		"it says 100 % and then fails": {&acted{parks: true, writes: time.Minute, balks: true},
			job.Returned, job.DeviceSaid, "1.0", 2 * time.Minute, 12 * time.Minute},
		"it comes back on the old version": {
			&acted{writes: time.Minute, down: time.Minute, back: func(a *acted) {
				a.version = "1.0"
			}},
			job.Returned, job.WrongVersion, "1.0", 3 * time.Minute, 12 * time.Minute},
	} {
		t.Run(name, func(t *testing.T) {
			d, took := play(t, c.device)
			assert.Equal(t, c.end, d.Step, d.Reason)
			assert.Equal(t, c.version, d.Version)
			if c.why != "" {
				require.NotNil(t, d.Cause)
				assert.Equal(t, c.why, d.Cause.Why, d.Reason)
			}
			assert.True(t, took >= c.from && took <= c.to, "it took %s: %s", took, d.Reason)
		})
	}
}

// While a device restarts, another one may take its address, or someone with another
// certificate: it gets neither a login nor an image.
func TestAnotherDeviceAfterTheRestart(t *testing.T) {
	for name, back := range map[string]func(a *acted){
		"another serial number": func(a *acted) { a.is = "S-2" },
		"another certificate": func(a *acted) {
			a.changed = device.IdentityChangedError(device.KeyTLS, "SHA256:a", "SHA256:b")
		},
	} {
		t.Run(name, func(t *testing.T) {
			a := &acted{writes: time.Minute, down: time.Minute}
			a.back = func(a *acted) { back(a); a.logins = 0 }
			d, took := play(t, a)
			assert.Equal(t, job.Stranded, d.Step, d.Reason)
			assert.True(t, d.Cause.IdentityChanged())
			assert.Equal(t, 1, a.attempts, "the earlier image was not sent to it")
			assert.Zero(t, a.logins, "nor a login")
			assert.Less(t, took, 5*time.Minute, "at once")
		})
	}
}

// A transfer that breaks off is tried again, as long as the device cannot have all of the
// image; a device that is only getting ready for one is abandoned at once.
func TestBrokenTransfers(t *testing.T) {
	a := &acted{writes: time.Minute, down: time.Minute, drops: 2}
	d, _ := play(t, a)
	assert.Equal(t, job.Done, d.Step, d.Reason)
	assert.Equal(t, 3, a.attempts)

	a = &acted{drops: 3}
	d, _ = play(t, a)
	assert.Equal(t, job.Failed, d.Step, d.Reason)
	assert.Contains(t, d.Reason, "while sending: it does not answer: it closed the connection; it "+
		"still runs 1.0")
	assert.Equal(t, 3, a.attempts)

	a = &acted{asksToWait: time.Hour}
	d, took := playUntil(t, a, time.Minute)
	assert.Equal(t, job.Skipped, d.Step)
	assert.Contains(t, d.Reason, "abandoned before the image was sent to it")
	assert.Zero(t, a.attempts)
	assert.Less(t, took, 2*time.Minute)
}

// A device that comes back and refuses the login, because its settings were cleared, is not
// asked again and again: it would lock up.
func TestARefusedLoginIsNotPolled(t *testing.T) {
	a := &acted{writes: time.Minute, down: time.Minute}
	a.back = func(a *acted) { a.refuses, a.logins = true, 0 }
	d, _ := play(t, a)
	assert.Contains(t, d.Reason, "refused the login")
	assert.LessOrEqual(t, a.logins, 3)
}
