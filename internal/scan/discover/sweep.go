package discover

import (
	"bufio"
	"context"
	"errors"
	"net"
	"net/http"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"
	"golang.org/x/sync/errgroup"

	"catena/internal/device"
	"catena/internal/dialect"
	"catena/internal/site"
	"catena/internal/text"
	"catena/internal/wire"
)

const (
	// sweepLanes is how many addresses are tried at the same time. Most of them do not
	// exist and cost the whole patience; a switch's address table takes this many.
	sweepLanes = 512
	// A server that speaks first, as SSH does, does so at once.
	greetWithin = 250 * time.Millisecond
	maxBanner   = 255 // bytes: RFC 4253, 4.2
)

// sweep tries to connect to every address of the network's ranges and asks those
// that take the connection who they are. An address that does not is not an error.
func (s *Discoverer) sweep(ctx context.Context, n Network, h *hearing) error {
	total := n.countPorts()
	var group errgroup.Group
	group.SetLimit(sweepLanes)
	var mu sync.Mutex
	done := 0
	for a := range n.each {
		if ctx.Err() != nil {
			break
		}
		group.Go(func() error {
			if s.Opens(ctx, a) && h.first(a) {
				h.look(ctx, a, a.Port() == 443 || a.Port() == 8443)
			}
			mu.Lock()
			defer mu.Unlock()
			done++
			if done%64 == 0 || done == total {
				s.progress(done, total, "ports tried")
			}
			return nil
		})
	}
	_ = group.Wait() // nothing in it fails
	return ctx.Err()
}

// TCPPorts are the ports to try in a range.
func (n Network) TCPPorts(r site.Range) []uint16 {
	if r.Port != 0 {
		return []uint16{r.Port}
	}
	out := append(n.portsFor(""), n.portsFor("modbus")...)
	if len(out) == 0 {
		return n.usual
	}
	return out
}

// each yields every address and port of the ranges, without the exceptions.
func (n Network) each(yield func(netip.AddrPort) bool) {
	for _, r := range n.Ranges {
		if !r.Sweeps() {
			continue
		}
		ports := n.TCPPorts(r)
		for a := range r.All {
			for _, p := range ports {
				if ap := netip.AddrPortFrom(n.zoned(a), p); !site.Has(n.Except, ap) && !yield(ap) {
					return
				}
			}
		}
	}
}

// zoned is an address with the adapter that it is reached through, where it means something
// only on a link.
func (n Network) zoned(a netip.Addr) netip.Addr {
	if a.Is6() && a.IsLinkLocalUnicast() && a.Zone() == "" && len(n.adapters) == 1 {
		return a.WithZone(n.adapters[0].Name)
	}
	return a
}

func (n Network) countPorts() int {
	total := 0
	for _, r := range n.Ranges {
		if r.Sweeps() {
			total += r.Count() * len(n.TCPPorts(r))
		}
	}
	return total
}

// Opens tells whether an address takes a connection. Where this machine itself could not
// ask, Starved says so from then on.
func (s *Discoverer) Opens(ctx context.Context, a netip.AddrPort) bool {
	d := net.Dialer{Timeout: s.Patience, KeepAlive: -1}
	c, err := d.DialContext(ctx, "tcp", a.String())
	if err != nil {
		if wire.OwnFault(err) {
			s.starved.CompareAndSwap(nil, &err)
		}
		return false
	}
	_ = c.Close()
	return true
}

// look finds out what answers at an open port: SSH where it greets with that, Modbus
// where the port is one of its, and otherwise HTTP, with TLS or without.
func (s *Discoverer) look(ctx context.Context, n Network, a netip.AddrPort,
	tlsFirst bool) (Sighting, bool) {
	if a.Port() == modbusPort || slices.Contains(n.portsFor("modbus"), a.Port()) {
		if facts, ok := identifyModbus(ctx, a, s.Patience); ok {
			return Sighting{Via: "modbus", Address: a, ReadOnly: true, Facts: facts}, true
		}
	}
	switch a.Port() {
	case 80, 443, 8080, 8443:
	default:
		wait := greetWithin
		if a.Port() == 22 {
			wait = s.Patience
		}
		if sight, ok := s.greets(ctx, a, wait); ok {
			return sight, true
		}
	}
	sight, silent, ok := s.recognise(ctx, a, tlsFirst)
	if !ok && !silent {
		if other, _, ok := s.recognise(ctx, a, !tlsFirst); ok {
			return other, true
		}
		// it answered with something else: with its greeting, if it was only slow to give it
		if greets, ok := s.greets(ctx, a, s.Patience); ok {
			return greets, true
		}
	}
	if !ok && !s.Opens(ctx, a) {
		return sight, false // it was open for a moment only
	}
	return sight, true
}

// greets finds out whether an SSH server greets within some time.
func (s *Discoverer) greets(ctx context.Context, a netip.AddrPort, wait time.Duration) (Sighting,
	bool) {
	banner := s.greeting(ctx, a, wait)
	if !strings.HasPrefix(banner, "SSH-") {
		return Sighting{}, false
	}
	sight := s.ssh(ctx, a, banner)
	s.claimSSH(ctx, &sight)
	return sight, true
}

// greeting is the text that a server sends first; empty: none.
func (s *Discoverer) greeting(ctx context.Context, a netip.AddrPort, wait time.Duration) string {
	d := net.Dialer{Timeout: s.Patience}
	c, err := d.DialContext(ctx, "tcp", a.String())
	if err != nil {
		return ""
	}
	defer func() { _ = c.Close() }()
	_ = c.SetDeadline(time.Now().Add(wait))
	// what came, also when it is too long or cut off
	line, _ := bufio.NewReaderSize(c, maxBanner).ReadSlice('\n')
	return text.Clean(string(line))
}

// ssh meets an SSH server as far as its host key. No one logs in.
func (s *Discoverer) ssh(ctx context.Context, a netip.AddrPort, banner string) Sighting {
	sight := Sighting{Via: "ssh", Address: a, Facts: device.Reading{Says: banner},
		Trouble: device.Because(device.NotRecognised, "it speaks SSH")}
	d := net.Dialer{Timeout: s.Patience}
	c, err := d.DialContext(ctx, "tcp", a.String())
	if err != nil {
		return sight
	}
	defer func() { _ = c.Close() }()
	_ = c.SetDeadline(time.Now().Add(s.Patience))
	enough := errors.New("enough")
	// it ends with enough, before any login
	_, _, _, _ = ssh.NewClientConn(c, a.String(), &ssh.ClientConfig{
		User: "nobody",
		// Always in this order, so that a server with several keys shows the same one.
		HostKeyAlgorithms: []string{ssh.KeyAlgoED25519, ssh.KeyAlgoECDSA256, ssh.KeyAlgoECDSA384,
			ssh.KeyAlgoECDSA521,
			ssh.KeyAlgoRSASHA512, ssh.KeyAlgoRSASHA256, ssh.KeyAlgoRSA},
		HostKeyCallback: func(_ string, _ net.Addr, key ssh.PublicKey) error {
			s.met(a, device.KeySSH, ssh.FingerprintSHA256(key))
			return enough
		},
	})
	return sight
}

// claimSSH asks the dialects over SSH whether one of them knows the device; none of them logs in.
func (s *Discoverer) claimSSH(ctx context.Context, sight *Sighting) {
	ctx, cancel := context.WithTimeout(ctx, s.Patience)
	defer cancel()
	for _, d := range s.Dialects.Speaking("ssh") {
		facts, err := d.Probe(ctx, dialect.At{Endpoint: sight.Endpoint()})
		if err == nil {
			sight.Dialect, sight.Facts, sight.Trouble = d.About().Name, facts.Over(sight.Facts), nil
			return
		}
	}
}

// probesAtOnce is how many connections one device is asked to take at once: small ones take few,
// and a site may have dozens of families.
const probesAtOnce = 6

// recognise asks in every dialect over HTTP; the first in their order that knows the
// device has it. silent: no answer was complete in time.
func (s *Discoverer) recognise(ctx context.Context, a netip.AddrPort, tls bool) (sight Sighting,
	silent, ok bool) {
	ctx, cancel := context.WithTimeout(ctx, s.Patience)
	defer cancel()
	sight = Sighting{Via: "http", Address: a, TLS: tls,
		Trouble: device.Because(device.NotRecognised, "")}
	if tls {
		sight.Via = "https"
	}
	at := dialect.At{Endpoint: sight.Endpoint(), Trust: func(kind, fingerprint string) error {
		s.met(a, kind, fingerprint)
		return nil
	}}
	dialects := s.Dialects.Over("tcp").Speaking("http")
	facts, errs := make([]device.Reading, len(dialects)), make([]error, len(dialects))
	var group sync.WaitGroup
	room := make(chan struct{}, probesAtOnce)
	for i, d := range dialects {
		group.Go(func() {
			room <- struct{}{}
			defer func() { <-room }()
			facts[i], errs[i] = d.Probe(ctx, at)
		})
	}
	var page wire.Answer
	var pageErr error
	group.Go(func() {
		var r *http.Request
		r, pageErr = http.NewRequest(http.MethodGet, at.URL("/"), nil)
		if pageErr == nil {
			page, pageErr = wire.NewHTTP(at.Trust).Ask(ctx, r)
		}
	})
	group.Wait()
	for i, d := range dialects {
		if errs[i] == nil {
			sight.Dialect, sight.Facts, sight.Trouble = d.About().Name, facts[i], nil
			return sight, false, true
		}
	}
	if pageErr == nil && (page.Status != http.StatusBadRequest || tls) {
		sight.Facts.Says = text.Clean(strings.TrimSpace(page.Header.Get("Server") + " " +
			title(page.Body)))
		return sight, false, true
	}
	// A connection notices the end of the time before the context does.
	if ctx.Err() != nil || wire.TooLate(pageErr) {
		sight.Trouble, sight.Silent = device.Because(device.Mute, ""), true
		return sight, true, false
	}
	return sight, false, false
}

// title is the title of a page, as far as one is there.
func title(page []byte) string {
	lower := strings.ToLower(string(page[:min(len(page), 16<<10)]))
	_, rest, ok := strings.Cut(lower, "<title>")
	end := strings.Index(rest, "</title>")
	if !ok || end < 0 {
		return ""
	}
	at := len(lower) - len(rest)
	if at+end > len(page) { // lower case can be longer
		return ""
	}
	return string(page[at : at+end])
}
