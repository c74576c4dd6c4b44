// Package sim holds stand-ins: simulated devices that speak the real protocols on
// loopback addresses, and the sites they make up.
//
// A stand-in checks what it receives as a real device would, and truly restarts:
// its listener goes away and comes back, and only then does it tell the new
// version. Its faults are switches in the scenario file. The package shares only
// the reading of YAML with the rest of the program, so that a mistake in a dialect
// is not mirrored here.
package sim

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

// standIn is what all kinds of simulated devices have in common: an address, a
// listener that can go away, a version, and faults.
type standIn struct {
	Device
	pace  Pace
	login Login
	log   *slog.Logger
	addr  string // host:port

	handler http.Handler   // nil: it does not speak HTTP
	tls     *tls.Config    // nil: without
	conn    func(net.Conn) // speaks something else over TCP
	also    []door         // at other ports besides
	rekey   func()         // gives it another host key; nil: it has none
	move    func(host int) // takes it to another address of the site
	met     int            // connections that were made to it
	// udp answers a datagram, by service.
	udp map[string]func(packet []byte) [][]byte

	mu        sync.Mutex
	version   string // what it runs
	original  string // what it ran at first
	next      string // what it will run after the next restart; empty: the same
	nextPart  string // the part that next is for; empty: the device itself
	parts     map[string]string
	writing   time.Time
	up        bool
	since     time.Time // when it came up
	multicast time.Time // when it answered a group last
	server    io.Closer
	stopped   bool
	below     []*standIn        // reached through it, also by way of others
	leads     []*standIn        // those that it is reached through
	open      map[net.Conn]bool // connections
	receiving int               // images that are coming in
	counts    Counts
	settings  map[string]string // nil: as it came, and was set in the scenario
	deeds     []string          // what was done to it, in order
	doors     []net.Listener
	units     *units // its children; nil: it has none
	work      sync.WaitGroup
}

// start brings the stand-in up for the first time.
func (s *standIn) start() error {
	if s.handler == nil && s.conn == nil && s.Kind != "silent" { // it answers over UDP only
		s.up, s.since = true, time.Now()
		return nil
	}
	l, err := net.Listen("tcp", s.addr)
	if err != nil {
		return err
	}
	s.addr = l.Addr().String()
	s.serve(l)
	for _, d := range s.also {
		host, _, _ := net.SplitHostPort(s.addr)
		if host == OneAddress {
			continue // there its port would be no one's
		}
		l, err := net.Listen("tcp", net.JoinHostPort(host, strconv.Itoa(d.port)))
		if err != nil {
			return err
		}
		s.doors = append(s.doors, l)
		s.work.Go(func() { accept(l, d.conn) })
	}
	return nil
}

// door is another port that a stand-in listens at.
type door struct {
	port int
	conn func(net.Conn)
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

func (s *standIn) serve(l net.Listener) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.stopped {
		_ = l.Close()
		return
	}
	if s.Faults.NewKey && !s.since.IsZero() {
		if certificate, err := selfSigned(s.Name); err == nil && s.tls != nil {
			s.tls = &tls.Config{Certificates: []tls.Certificate{certificate}}
		}
		if s.rekey != nil {
			s.rekey()
		}
	}
	s.up, s.since = true, time.Now()
	if s.conn != nil {
		s.server = l
		s.work.Go(func() { accept(&link{Listener: l, of: s}, s.conn) })
		return
	}
	server := &http.Server{
		Handler: s.paced(s.handler), ReadHeaderTimeout: 10 * time.Second,
		ErrorLog: slog.NewLogLogger(s.log.Handler(), slog.LevelDebug),
	}
	s.server = server
	var wire net.Listener = &link{Listener: l, of: s}
	if s.tls != nil {
		wire = tls.NewListener(wire, s.tls)
	}
	s.work.Go(func() { _ = server.Serve(wire) })
}

// paced keeps the stand-in silent where it should be, and slow where it should be.
func (s *standIn) paced(h http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if s.Faults.Silent || s.Kind == "silent" {
			<-r.Context().Done()
			return
		}
		if s.pace.Answer > 0 {
			select {
			case <-time.After(s.pace.Answer):
			case <-r.Context().Done():
			}
		}
		h.ServeHTTP(w, r)
	})
}

// take accepts an image of that version; it is written from now on.
func (s *standIn) take(part, version string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.writing, s.next, s.nextPart = time.Now(), version, part
	s.counts.Writes++
	s.log.Info("took an image", "device", s.Name, "version", version)
}

// written tells how far the writing of an image is, in percent, and whether one
// waits for the restart.
func (s *standIn) written() (percent int, next string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.next == "" {
		return 0, ""
	}
	if s.pace.Write <= 0 {
		return 100, s.next
	}
	return min(100, int(100*time.Since(s.writing)/s.pace.Write)), s.next
}

// partVersions tells the versions of the parts.
func (s *standIn) partVersions() map[string]string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return maps.Clone(s.parts)
}

// running tells the version and whether the device is well.
func (s *standIn) running() (version string, well bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	other := s.version != s.original
	return s.version, !(other && s.Faults.Sick) && time.Since(s.since) >= s.pace.Settle
}

// restart goes away after a moment, in which the answer can leave, and comes back.
func (s *standIn) restart(after time.Duration) {
	s.work.Go(func() {
		time.Sleep(after + 50*time.Millisecond)
		s.mu.Lock()
		if s.stopped || !s.up {
			s.mu.Unlock()
			return
		}
		s.up = false
		server := s.server
		if s.next != "" && time.Since(s.writing) < s.pace.Write {
			s.counts.Interrupted++
		}
		other, before := s.next != "" && s.next != s.original, s.version
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
		s.next = ""
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
		s.log.Info("restarts", "device", s.Name)
		if other && s.Faults.NeverReturns {
			return
		}
		time.Sleep(s.pace.Restart)
		if server == nil { // it answers over UDP only
			s.mu.Lock()
			s.up, s.since = !s.stopped, time.Now()
			s.mu.Unlock()
			return
		}
		l, err := net.Listen("tcp", s.addr)
		if err != nil {
			s.log.Error("cannot come back", "device", s.Name, "err", err)
			return
		}
		s.serve(l)
	})
}

func (s *standIn) isUp() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.up && !s.stopped
}

// stop ends the stand-in for good.
func (s *standIn) stop() {
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

// Counts are what a stand-in saw of what a wrong order does.
type Counts struct {
	Writes      int `json:"writes"`      // images that it took whole
	Interrupted int `json:"interrupted"` // restarts in the middle of a write
	Overlaps    int `json:"overlaps"`    // its restarts while one behind it took or wrote an image
	// sessions that were started: gates, controllers, hubs, drives and their kin
	Logins int `json:"logins"`
}

// loggedIn counts a session.
func (s *standIn) loggedIn() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.counts.Logins++
}

// cutOff breaks the connections of all that is reached through a stand-in that goes away.
func (s *standIn) cutOff() {
	overlap := false
	s.mu.Lock()
	below := s.below
	s.mu.Unlock()
	for _, in := range below {
		in.mu.Lock()
		overlap = overlap || in.receiving > 0 || in.next != "" &&
			time.Since(in.writing) < in.pace.Write
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
func (s *standIn) reached() bool {
	s.mu.Lock()
	leads := s.leads
	s.mu.Unlock()
	return !slices.ContainsFunc(leads, func(in *standIn) bool { return !in.isUp() })
}

// receives counts an image that comes in, until the returned function is called.
func (s *standIn) receives() (end func()) {
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
	of *standIn
}

// flaps tells whether a connection that was just made is one that is cut off.
func (s *standIn) flaps() bool {
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
	of     *standIn
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
