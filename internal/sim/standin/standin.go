// Package standin is what all kinds of simulated devices have in common. A StandIn has an address,
// a listener that truly goes away and comes back when it restarts, a version that changes only
// then, settings, devices behind it, and the faults that its scenario switches on. A kind of device
// is a separate package, which gives a StandIn its protocol: it sets Handler, Conn or UDP, and
// calls Take when it has received an image, and Restart. It never looks at what Catena expects.
package standin

import (
	"crypto/tls"
	"io"
	"log/slog"
	"maps"
	"net"
	"net/http"
	"slices"
	"strconv"
	"sync"
	"time"
)

// StandIn is what all kinds of simulated devices have in common: an address, a
// listener that can go away, a version, and faults.
type StandIn struct {
	Device
	Pace  Pace
	Login Login
	Log   *slog.Logger
	Addr  string // host:port

	Handler http.Handler      // nil: it does not speak HTTP
	Secure  *tls.Config       // nil: without
	Conn    func(net.Conn)    // speaks something else over TCP
	Also    []Door            // at other ports besides
	Factory map[string]string // the settings that it has out of its box
	// Starts is how often it restarts until it runs an image, the first time when it is asked to and
	// then automatically; 0: once.
	Starts int
	Rekey  func()         // gives it another host key; nil: it has none
	Move   func(host int) // takes it to another address of the site
	met    int            // connections that were made to it
	// UDP answers a datagram, by service.
	UDP map[string]func(packet []byte) [][]byte

	mu        sync.Mutex
	version   string            // its current version
	original  string            // its first version
	stage     int               // how many of Starts are done
	next      string            // the version after the next restart; empty: unchanged
	nextPart  string            // the part that next is for; empty: the device itself
	parts     map[string]string // versions of its parts
	writing   time.Time
	up        bool
	since     time.Time // when it came up
	multicast time.Time // when it answered a group last
	server    io.Closer
	stopped   bool
	below     []*StandIn        // reached through it, also by way of others
	leads     []*StandIn        // those that it is reached through
	open      map[net.Conn]bool // connections
	receiving int               // images that are coming in
	counts    Counts
	password  string            // that someone has set; empty: the one of the scenario
	mute      bool              // it answers no more
	settings  map[string]string // nil: as it came, and was set in the scenario
	deeds     []string          // the actions on it, in order
	doors     []net.Listener
	units     *Units // its children; nil: it has none
	work      sync.WaitGroup
}

// New returns a stand-in that has not started, and is of no kind yet.
func New(d Device, pace Pace, login Login, log *slog.Logger) *StandIn {
	s := &StandIn{Device: d, Pace: pace, Login: login, Log: log, version: d.Version,
		original: d.Version, parts: maps.Clone(d.Parts)}
	if d.Faults.OtherPassword != "" {
		s.Login.Password = d.Faults.OtherPassword
	}
	return s
}

// Password is that of its login now.
func (s *StandIn) Password() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.password != "" {
		return s.password
	}
	return s.Login.Password
}

// LoginNow is its login with the password that it has now.
func (s *StandIn) LoginNow() Login {
	l := s.Login
	l.Password = s.Password()
	return l
}

// SetPassword changes it, until the stand-in ends. With the fault forgets_password it says so, and
// keeps the old one.
func (s *StandIn) SetPassword(fresh string) {
	s.Did("password")
	if s.Faults.ForgetsPassword {
		return
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.password, s.mute = fresh, s.Faults.MutePassword
}

// muted tells whether it answers no more.
func (s *StandIn) muted() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.mute
}

// Go runs a part of the stand-in's work. Stop waits for it.
func (s *StandIn) Go(work func()) { s.work.Go(work) }

// Connect tells the stand-in which others are reached through it, and through which it is reached.
func (s *StandIn) Connect(below, leads []*StandIn) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.below, s.leads = below, leads
}

// Seen is a stand-in's observations.
type Seen struct {
	Log []string `json:"log,omitempty"` // the actions on it: lamps, relays, logins
	Counts
	Children *ChildCounts `json:"children,omitempty"`
}

// Seen returns the observations so far.
func (s *StandIn) Seen() Seen {
	s.mu.Lock()
	defer s.mu.Unlock()
	return Seen{slices.Clone(s.deeds), s.counts, s.units.counts()}
}

// Start brings the stand-in up for the first time.
func (s *StandIn) Start() error {
	if s.Handler == nil && s.Conn == nil && s.Kind != "silent" { // it answers over UDP only
		s.up, s.since = true, time.Now()
		return nil
	}
	l, err := net.Listen("tcp", s.Addr)
	if err != nil {
		return err
	}
	s.Addr = l.Addr().String()
	s.serve(l)
	for _, d := range s.Also {
		host, _, _ := net.SplitHostPort(s.Addr)
		if host == OneAddress {
			continue // there its port would be no one's
		}
		l, err := net.Listen("tcp", net.JoinHostPort(host, strconv.Itoa(d.Port)))
		if err != nil {
			return err
		}
		s.doors = append(s.doors, l)
		s.Go(func() { accept(l, d.Serve) })
	}
	return nil
}

// OneAddress is the place where every stand-in has its own port.
const OneAddress = "127.0.0.1"

// Door is another port that a stand-in listens at.
type Door struct {
	Port  int
	Serve func(net.Conn) // serves one connection
}

// accept serves connections until the listener is closed.
func accept(l net.Listener, serve func(net.Conn)) {
	var open sync.WaitGroup
	defer open.Wait()
	for {
		c, err := l.Accept()
		if err != nil {
			return
		}
		open.Go(func() {
			defer func() { _ = c.Close() }()
			_ = c.SetDeadline(time.Now().Add(doorOpen))
			serve(c)
		})
	}
}

// doorOpen is how long one connection may last that is not HTTP.
const doorOpen = 10 * time.Second

func (s *StandIn) serve(l net.Listener) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.stopped {
		_ = l.Close()
		return
	}
	if s.Faults.NewKey && !s.since.IsZero() {
		if certificate, err := SelfSigned(s.Name); err == nil && s.Secure != nil {
			s.Secure = &tls.Config{Certificates: []tls.Certificate{certificate}}
		}
		if s.Rekey != nil {
			s.Rekey()
		}
	}
	s.up, s.since = true, time.Now()
	if s.Conn != nil {
		s.server = l
		s.Go(func() { accept(&link{Listener: l, of: s}, s.Conn) })
		return
	}
	server := &http.Server{
		Handler: s.paced(s.Handler), ReadHeaderTimeout: 10 * time.Second,
		ErrorLog: slog.NewLogLogger(s.Log.Handler(), slog.LevelDebug),
	}
	s.server = server
	var wire net.Listener = &link{Listener: l, of: s}
	if s.Secure != nil {
		wire = tls.NewListener(wire, s.Secure)
	}
	s.Go(func() { _ = server.Serve(wire) })
}

// paced keeps the stand-in silent where it should be, and slow where it should be.
func (s *StandIn) paced(h http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if s.Faults.Silent || s.Kind == "silent" || s.muted() {
			<-r.Context().Done()
			return
		}
		if s.Pace.Answer > 0 {
			select {
			case <-time.After(s.Pace.Answer):
			case <-r.Context().Done():
			}
		}
		h.ServeHTTP(w, r)
	})
}

// Take accepts an image of that version; it is written from now on.
func (s *StandIn) Take(part, version string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.writing, s.next, s.nextPart = time.Now(), version, part
	s.counts.Writes++
	s.Log.Info("took an image", "device", s.Name, "version", version)
}

// WillStart has the next restart lead to another version, which is in the other slot.
func (s *StandIn) WillStart(version string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.next, s.writing = version, time.Now().Add(-s.Pace.Write) // it was written long ago
}

// Written tells how far the writing of an image is, in percent, and whether one
// waits for the restart.
func (s *StandIn) Written() (percent int, next string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.next == "" {
		return 0, ""
	}
	if s.Pace.Write <= 0 {
		return 100, s.next
	}
	return min(100, int(100*time.Since(s.writing)/s.Pace.Write)), s.next
}

// Phase is how far an image is: idle, writing, or ready for the restart that starts it.
func (s *StandIn) Phase() (phase string, percent int, next string) {
	percent, next = s.Written()
	switch {
	case next == "":
		return "idle", percent, next
	case percent < 100:
		return "writing", percent, next
	}
	return "ready", percent, next
}

// PartVersions tells the versions of the parts.
func (s *StandIn) PartVersions() map[string]string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return maps.Clone(s.parts)
}

// Running tells the version and whether the device is well.
func (s *StandIn) Running() (version string, well bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	other := s.version != s.original
	return s.version, !(other && s.Faults.Sick) && time.Since(s.since) >= s.Pace.Settle
}

// Restart goes away after a moment, in which the answer can leave, and comes back.
func (s *StandIn) Restart(after time.Duration) {
	s.Go(func() {
		time.Sleep(after + 50*time.Millisecond)
		s.mu.Lock()
		if s.stopped || !s.up {
			s.mu.Unlock()
			return
		}
		s.up = false
		server := s.server
		if s.next != "" && time.Since(s.writing) < s.Pace.Write {
			s.counts.Interrupted++
		}
		other := s.next != "" && s.next != s.original
		more := s.startNext()
		if s.units != nil {
			s.counts.Interrupted += s.units.forget()
		}
		s.mu.Unlock()
		if server != nil {
			_ = server.Close()
		}
		s.mu.Lock()
		for c := range s.open { // those that are not HTTP's, too
			_ = c.Close()
		}
		s.mu.Unlock()
		s.cutOff()
		s.Log.Info("restarts", "device", s.Name)
		if other && s.Faults.NeverReturns {
			return
		}
		time.Sleep(s.Pace.Restart)
		if server == nil { // it answers over UDP only
			s.mu.Lock()
			s.up, s.since = !s.stopped, time.Now()
			s.mu.Unlock()
			return
		}
		l, err := net.Listen("tcp", s.Addr)
		if err != nil {
			s.Log.Error("cannot come back", "device", s.Name, "err", err)
			return
		}
		s.serve(l)
		if more {
			time.Sleep(s.Pace.Restart / 2)
			s.Restart(0)
		}
	})
}

// startNext starts what was written. more: only a part of it this time. s.mu is held.
func (s *StandIn) startNext() (more bool) {
	if s.next != "" && s.stage+1 < s.Starts {
		s.stage++
		return true
	}
	before := s.version
	switch {
	case s.next == "" || s.Faults.KeepsVersion:
	case s.nextPart != "":
		s.parts[s.nextPart] = s.next
	default:
		s.version = s.next
	}
	if s.Clears && s.version != before {
		s.settings, s.Hours = s.defaults(), 0
	}
	s.next, s.stage = "", 0
	return false
}

// IsUp reports whether the stand-in takes connections.
func (s *StandIn) IsUp() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.up && !s.stopped
}

// Stop ends the stand-in for good.
func (s *StandIn) Stop() {
	s.mu.Lock()
	s.stopped, s.up = true, false
	server := s.server
	s.mu.Unlock()
	if server != nil {
		_ = server.Close()
	}
	for _, d := range s.doors {
		_ = d.Close()
	}
	s.work.Wait()
}

// Counts are a stand-in's counts of harm done by a wrong order.
type Counts struct {
	Writes      int `json:"writes"`      // images that it took whole
	Interrupted int `json:"interrupted"` // restarts in the middle of a write
	Overlaps    int `json:"overlaps"`    // its restarts while one behind it took or wrote an image
	// sessions that were started: gates, controllers, hubs, drives and their kin
	Logins int `json:"logins"`
	Full   int `json:"full"` // and those for which there was no seat
}

// LoggedIn counts a session.
func (s *StandIn) LoggedIn() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.counts.Logins++
}

// NoSeat counts a login for which there was no seat.
func (s *StandIn) NoSeat() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.counts.Full++
}

// cutOff breaks the connections of all that is reached through a stand-in that goes away.
func (s *StandIn) cutOff() {
	overlap := false
	s.mu.Lock()
	below := s.below
	s.mu.Unlock()
	for _, in := range below {
		in.mu.Lock()
		overlap = overlap || in.receiving > 0 || in.next != "" &&
			time.Since(in.writing) < in.Pace.Write
		for c := range in.open {
			_ = c.Close()
		}
		in.mu.Unlock()
	}
	if overlap {
		s.mu.Lock()
		s.counts.Overlaps++
		s.mu.Unlock()
	}
}

// reached tells whether all that leads to a stand-in is up.
func (s *StandIn) reached() bool {
	s.mu.Lock()
	leads := s.leads
	s.mu.Unlock()
	return !slices.ContainsFunc(leads, func(in *StandIn) bool { return !in.IsUp() })
}

// Receives counts an image that comes in, until the returned function is called.
func (s *StandIn) Receives() (end func()) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.receiving++
	return func() {
		s.mu.Lock()
		defer s.mu.Unlock()
		s.receiving--
	}
}

// link is a listener whose connections have the device's faults.
type link struct {
	net.Listener
	of *StandIn
}

// flaps tells whether a connection that was just made is one that is cut off.
func (s *StandIn) flaps() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.met++
	return s.Faults.Flaps && s.met*2654435761>>16%6 == 0 // without a beat
}

func (l *link) Accept() (net.Conn, error) {
	c, err := l.Listener.Accept()
	for ; err == nil && !l.of.reached(); c, err = l.Listener.Accept() {
		_ = c.Close()
	}
	if err != nil {
		return nil, err
	}
	faults := l.of.Faults
	if l.of.flaps() {
		if t, ok := c.(*net.TCPConn); ok {
			_ = t.SetLinger(0)
		}
		_ = c.Close()
		return l.Accept()
	}
	if t, ok := c.(*net.TCPConn); ok && faults.Rate > 0 {
		_ = t.SetReadBuffer(16 << 10) // a slow link holds little
	}
	l.of.mu.Lock()
	defer l.of.mu.Unlock()
	if l.of.open == nil {
		l.of.open = map[net.Conn]bool{}
	}
	l.of.open[c] = true
	return &linkConn{Conn: c, of: l.of, faults: faults}, nil
}

type linkConn struct {
	net.Conn
	of     *StandIn
	faults Faults
	n      int64
}

func (c *linkConn) Close() error {
	c.of.mu.Lock()
	defer c.of.mu.Unlock()
	delete(c.of.open, c.Conn)
	return c.Conn.Close()
}

func (c *linkConn) Read(p []byte) (int, error) {
	if rate := c.faults.Rate; rate > 0 && int64(len(p)) > rate/20+1 {
		p = p[:rate/20+1]
	}
	n, err := c.Conn.Read(p)
	c.n += int64(n)
	if c.faults.DropAfter > 0 && c.n > c.faults.DropAfter {
		if t, ok := c.Conn.(*net.TCPConn); ok {
			_ = t.SetLinger(0)
		}
		_ = c.Close()
		return 0, net.ErrClosed
	}
	if c.faults.Rate > 0 {
		time.Sleep(time.Duration(n) * time.Second / time.Duration(c.faults.Rate))
	}
	return n, err
}

// CameUp is when the stand-in started last.
func (s *StandIn) CameUp() time.Time {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.since
}

// Did records an action on the stand-in, for observers.
func (s *StandIn) Did(what string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.deeds = append(s.deeds, what)
	s.Log.Info(what, "device", s.Name)
}
