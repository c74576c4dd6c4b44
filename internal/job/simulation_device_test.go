package job_test

import (
	"context"
	"fmt"
	"hash/fnv"
	"maps"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"catena/internal/device"
	"catena/internal/dialect"
	"catena/internal/login"
	"catena/internal/settings"
)

// spec is a device of a simulated night, and what it does wrong.
type spec struct {
	Name      string
	Up        int // its uplink, an index; -1: none
	Model     string
	Via       bool // its path has an intermediate version
	Slots     bool // it has two
	Modem     bool // it has a second component
	Parks     bool // it restarts only when it is asked to
	Blind     bool // it cannot be asked about the image that it holds
	Clears    bool // an image clears its settings
	Wipes     bool // so does every image, and nothing says so
	Needs     bool // it is not healthy without its settings
	Asks      bool // it needs an operator before the first byte
	Again     bool // it gets once more what it runs
	Uncounted bool // it does not report how often it has started
	Child     bool // it is reached only through its uplink, which lists it
	Returns   bool // there is an image to roll back to
	Write     time.Duration
	Down      time.Duration
	Fault     string
	Flaky     int    // one call in Flaky is lost; 0: none
	Part      string // the only component that the interlock forbids; empty: all
	Locked    int    // minutes for which an interlock forbids its update
	AwayFrom  int    // minutes until it goes away for ten minutes; 0: it does not
}

// Faults of devices. Each strikes with a new image, never with the previous one.
var simulatedFaults = []string{"rejects", "hangs", "stays", "sick", "other", "late", "twice",
	"drops", "never", "fails late"}

// box is a simulated device: what it really is, whatever anyone reports. It implements a session.
type box struct {
	dialect.NoCarry
	dialect.NoChildren
	spec
	site *simulatedSite

	mu         sync.Mutex
	version    map[string]string // by component
	idle       string            // the version in its other slot
	held       string            // the version that it has whole and has not started
	part       string            // the component of held
	writing    time.Time         // it writes until then
	upAt       time.Time
	sick       bool
	serial     string
	config     string
	starts     int64
	receiving  atomic.Bool
	asked      atomic.Int64 // calls that were started
	calls      int
	dropped    int
	tries      int           // transfers that were started
	transfers  []transferred // complete ones
	violations []string
}

// transferred is an image that a device took whole.
type transferred struct {
	job, component, version, from, held string
	at                                  time.Time
}

func (b *box) violate(format string, args ...any) {
	b.violations = append(b.violations, b.Name+": "+fmt.Sprintf(format, args...))
}

// settle lets what has happened since happen: a written image is started by a device that restarts
// automatically.
func (b *box) settle() {
	if b.held != "" && !b.Parks && !time.Now().Before(b.writing) {
		b.restart(b.writing)
	}
}

// restart starts what the device holds.
func (b *box) restart(at time.Time) {
	if at.Before(b.writing) {
		b.violate("restarted while it was writing %s", b.held)
	}
	for _, d := range b.site.devices {
		if d.below(b) && d.receiving.Load() {
			b.violate("restarted during a transfer to %s", d.Name)
		}
		if d.below(b) && at.Before(d.writing) && d.newestJob() == b.newestJob() {
			b.violate("restarted while %s, which is reached through it, was writing", d.Name)
		}
	}
	b.starts++
	b.upAt = at.Add(b.Down)
	if b.held == "" {
		return
	}
	was, now := b.version[b.part], b.held
	b.held = ""
	if b.part == "main" {
		b.idle = was
	}
	forward := now > was || b.Again && b.tries == 1
	if (b.Clears || b.Wipes) && b.part == "main" {
		b.config = "level=0"
	}
	switch {
	case !forward:
		b.sick = false
	case b.Fault == "stays":
		now = was
	case b.Fault == "sick":
		b.sick = true
	case b.Fault == "other":
		b.serial = "X-" + b.Name
	case b.Fault == "late":
		b.upAt = at.Add(9 * time.Minute)
	case b.Fault == "never":
		b.upAt = at.Add(10000 * time.Hour)
	case b.Fault == "twice":
		b.upAt = at.Add(b.Down + 2*time.Minute)
		b.starts++
	}
	b.version[b.part] = now
}

// unwell reports whether the device has a fault. The caller holds its lock.
func (b *box) unwell() bool { return b.sick || b.Needs && b.config != asSet }

// asSet are the settings of every device.
const asSet = "level=7"

// newestJob is the job that sent the device its newest image; empty: none.
func (b *box) newestJob() string {
	if len(b.transfers) == 0 {
		return ""
	}
	return b.transfers[len(b.transfers)-1].job
}

// below reports whether a device is downstream of another one.
func (b *box) below(other *box) bool {
	for up := b.Up; up >= 0; up = b.site.devices[up].Up {
		if b.site.devices[up] == other {
			return true
		}
	}
	return false
}

// up reports whether the device, and all that leads to it, can be reached. The caller holds its
// lock.
func (b *box) up() bool {
	b.settle()
	now := time.Now()
	if now.Before(b.upAt) {
		return false
	}
	if b.AwayFrom > 0 {
		since := now.Sub(b.site.begin) - time.Duration(b.AwayFrom)*time.Minute
		if since >= 0 && since < 10*time.Minute {
			return false
		}
	}
	for up := b.Up; up >= 0; up = b.site.devices[up].Up {
		u := b.site.devices[up]
		u.mu.Lock()
		u.settle()
		down := now.Before(u.upAt)
		u.mu.Unlock()
		if down {
			return false
		}
	}
	return true
}

// latency is how long the next call takes on its way. No two calls of a night take equally long, so
// that what happens at the same instant does not depend on which goroutine runs first, and a seed
// plays the same night again.
func (b *box) latency() time.Duration {
	h := fnv.New32a()
	_, _ = fmt.Fprint(h, b.site.seed, b.Name, b.asked.Add(1))
	return time.Duration(h.Sum32()%9_999_991) * time.Nanosecond
}

// lost reports whether this call is one of those that get lost on the way. It depends on nothing
// but the seed, the device and the number of the call.
func (b *box) lost() bool {
	b.calls++
	if b.Flaky == 0 {
		return false
	}
	h := fnv.New32a()
	_, _ = fmt.Fprint(h, b.site.seed, b.Name, b.calls)
	return int(h.Sum32()%uint32(b.Flaky)) == 0
}

// simulatedSession is a session of one process with a device. When the process is dead, nothing of
// it reaches the device any more.
type simulatedSession struct {
	*box
	process *process
	at      dialect.At
}

// process is a running Catena.
type process struct {
	mu   sync.Mutex
	dead bool
	job  string
}

func (p *process) kill() {
	p.mu.Lock()
	p.dead = true
	p.mu.Unlock()
}

func (p *process) died() bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.dead
}

// killed ends whatever a dead process still tries.
var killed = device.IdentityChangedError(device.KeySerial, "the process", "was killed")

// call starts a call: it takes the device's lock, or returns why the device is not reached.
func (s *simulatedSession) call() error {
	if s.process.died() {
		return killed
	}
	s.site.crashBefore(s.process, s.Name)
	if s.process.died() {
		return killed
	}
	time.Sleep(s.latency())
	if s.process.died() {
		return killed
	}
	s.mu.Lock()
	if !s.up() || s.lost() {
		s.mu.Unlock()
		return device.Because(device.NoAnswer, "")
	}
	return nil
}

// done ends a call that had an effect: the answer may get lost, and the process may die before it
// learns of it.
func (s *simulatedSession) done() error {
	lost := s.lost()
	s.mu.Unlock()
	s.site.crashBefore(s.process, s.Name)
	if s.process.died() {
		return killed
	}
	if lost {
		return device.Because(device.NoAnswer, "")
	}
	return nil
}

func (s *simulatedSession) reading() device.Reading {
	r := device.Reading{Identity: device.Identity{Serial: s.serial, Model: s.Model},
		Version: s.version["main"],
		Boot:    &device.Boot{Count: 1 + s.starts}}
	if s.Modem {
		r.Components = map[string]string{"modem": s.version["modem"]}
	}
	if s.Uncounted {
		r.Boot = nil
	}
	if s.Slots {
		r.Idle = map[string]string{"main": s.idle}
		if s.held != "" && s.part == "main" { // it was written over what was there
			r.Idle["main"] = s.held
		}
	}
	return r
}

func (s *simulatedSession) Read(context.Context) (device.Reading, error) {
	if err := s.call(); err != nil {
		return device.Reading{}, err
	}
	defer s.mu.Unlock()
	return s.reading(), nil
}

func (s *simulatedSession) Healthy(context.Context, device.Reading) error {
	if err := s.call(); err != nil {
		return err
	}
	defer s.mu.Unlock()
	if s.unwell() {
		return device.Because(device.Refusal, "it reports a fault")
	}
	return nil
}

func (s *simulatedSession) Update(component string) (dialect.Update, error) {
	return &simulatedUpdate{simulatedSession: s, component: component}, nil
}
func (s *simulatedSession) Locate() (dialect.Locator, error)  { return nil, device.ErrUnsupported }
func (s *simulatedSession) Network() (dialect.Network, error) { return nil, device.ErrUnsupported }
func (s *simulatedSession) Close(context.Context) error       { return nil }

func (s *simulatedSession) Settings() (dialect.Settings, error) { return s, nil }
func (s *simulatedSession) Format() settings.Format             { return settings.KeyValue }
func (s *simulatedSession) Steady() bool                        { return true }
func (s *simulatedSession) Renamed() map[string]string          { return nil }
func (s *simulatedSession) Save(context.Context) ([]byte, error) {
	if err := s.call(); err != nil {
		return nil, err
	}
	defer s.mu.Unlock()
	return []byte(s.config), nil
}

func (s *simulatedSession) Restore(_ context.Context, saved []byte) error {
	if err := s.call(); err != nil {
		return err
	}
	s.config = string(saved)
	return s.done()
}

type simulatedUpdate struct {
	*simulatedSession
	component string
}

func (u *simulatedUpdate) Traits() dialect.Traits {
	t := dialect.Traits{RestartsByItself: !u.Parks, Restarts: 1}
	if u.Fault == "twice" {
		t.Restarts = 2
	}
	return t
}

func (u *simulatedUpdate) Interlock(context.Context) error {
	if (u.Part == "" || u.Part == u.component) &&
		time.Since(u.site.begin) < time.Duration(u.Locked)*time.Minute {
		return device.Because(device.NotNow, "the valve is open")
	}
	return nil
}

func (u *simulatedUpdate) Ready(ctx context.Context, _ dialect.Image) error {
	if err := u.Interlock(ctx); err != nil {
		return err
	}
	if u.Asks && u.at.Ask != nil {
		return u.at.Ask(ctx, "turn the key", false)
	}
	return nil
}

func (u *simulatedUpdate) Transfer(_ context.Context, image dialect.Image, sent func(int64)) error {
	if err := u.call(); err != nil {
		return err
	}
	model, version, _ := strings.Cut(image.File, " ")
	switch {
	case model != u.Model+"/"+u.component:
		u.violate("was sent %s, an image of another model", image.File)
	case time.Now().Before(u.writing):
		u.violate("was sent %s while it was writing %s", version, u.held)
	case u.serial != "S-"+u.Name:
		u.violate("%s was sent to another device in its place", version)
	}
	u.receiving.Store(true)
	u.mu.Unlock()
	sent(image.Size / 2)
	time.Sleep(20 * time.Second)
	u.mu.Lock()
	u.receiving.Store(false)
	u.tries++
	forward := version > u.version[u.component] || u.Again && u.tries == 1
	if u.process.died() {
		u.mu.Unlock()
		return killed
	}
	if (forward || u.Again) && u.Fault == "drops" && u.dropped < 2 || !u.up() {
		u.dropped++
		u.mu.Unlock()
		return device.Because(device.NoAnswer, "it closed the connection")
	}
	if forward && u.Fault == "rejects" {
		u.mu.Unlock()
		return device.Because(device.Refusal, "error 17")
	}
	sent(image.Size)
	u.transfers = append(u.transfers, transferred{job: u.process.job, component: u.component,
		version: version,
		from:    u.version[u.component], held: u.held, at: time.Now()})
	u.held, u.part, u.writing = version, u.component, time.Now().Add(u.Write)
	if forward && u.Fault == "hangs" {
		u.writing = time.Now().Add(10000 * time.Hour)
	}
	return u.done()
}

func (u *simulatedUpdate) Progress(context.Context) (int, error) {
	if err := u.call(); err != nil {
		return 0, err
	}
	defer u.mu.Unlock()
	switch {
	case u.Blind:
		return 0, device.ErrUnsupported
	case u.held == "":
		return 0, device.Because(device.Refusal, "it holds no image")
	case time.Now().Before(u.writing):
		return 50, nil
	case u.Fault == "fails late" && (u.held > u.version[u.part] || u.Again && u.tries == 1):
		u.held = ""
		return 0, device.Because(device.Refusal, "the image is damaged")
	}
	return 100, nil
}

func (u *simulatedUpdate) Activate(context.Context) error {
	if err := u.call(); err != nil {
		return err
	}
	u.restart(time.Now())
	return u.done()
}

func (u *simulatedUpdate) Revert(context.Context) error {
	if err := u.call(); err != nil {
		return err
	}
	if u.held != "" {
		u.violate("switched its slot while it holds %s", u.held)
	}
	u.held, u.part = u.idle, "main"
	u.restart(time.Now())
	return u.done()
}

// simulatedDialect reaches the devices of a site for one process.
type simulatedDialect struct {
	site    *simulatedSite
	process *process
}

func (d simulatedDialect) About() dialect.About {
	return dialect.About{Name: "simulated", Rank: 1, Transport: "tcp"}
}

func (d simulatedDialect) Probe(_ context.Context, at dialect.At) (device.Reading, error) {
	s := &simulatedSession{box: d.site.named(at.Address), process: d.process}
	if err := s.call(); err != nil {
		return device.Reading{}, err
	}
	defer s.mu.Unlock()
	return device.Reading{Identity: device.Identity{Serial: s.serial, Model: s.Model}}, nil
}

func (d simulatedDialect) Open(at dialect.At, _ login.Credential) dialect.Session {
	b := d.site.named(at.Address)
	if b == nil {
		b = &box{site: d.site}
	}
	return &simulatedSession{box: b, process: d.process, at: at}
}

// truth is what a device really is at an instant.
type truth struct {
	version   map[string]string
	sick, up  bool
	busy      bool // it writes
	serial    string
	transfers int
	config    string
	idle      string
	held      string
}

func (b *box) truth() truth {
	b.mu.Lock()
	defer b.mu.Unlock()
	up := b.up()
	return truth{version: maps.Clone(b.version), sick: b.unwell(), up: up,
		busy: time.Now().Before(b.writing), serial: b.serial,
		transfers: len(b.transfers), config: b.config, idle: b.idle, held: b.held}
}
