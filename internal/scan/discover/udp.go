package discover

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os"
	"slices"
	"sync"
	"time"

	"golang.org/x/net/ipv4"
	"golang.org/x/net/ipv6"
	"golang.org/x/sync/errgroup"

	"catena/internal/machine"
	"catena/internal/site"
)

// Bounds of every way of asking over UDP.
const (
	askTwice  = 2                      // datagrams get lost; each is sent so often …
	askApart  = 150 * time.Millisecond // … so far apart
	maxPacket = 32 << 10               // bytes of one answer that are looked at
	maxTalk   = 64                     // answers that one address may give to one way
	// datagrams to single addresses before a pause: switches drop longer bursts
	burst = 64
	pause = 2 * time.Millisecond
)

// way is one way of asking over UDP: what is sent where, how long the answers may take,
// and how they are read.
type way struct {
	name           string
	port           uint16     // where single addresses are asked; 0: only groups are
	group4, group6 netip.Addr // multicast groups, or the broadcast address; may be none
	groupPort      uint16     // of the groups
	// the group is each network's own broadcast address; answers come to hearsAt, where it is free
	broadcasts bool
	hearsAt    uint16
	toAll      [][]byte // what a group is asked; nil: messages
	toRelay    [][]byte // what a network's relays are asked
	// what one of these relays is asked next; nil: nothing
	fromRelay func(packet []byte, from netip.AddrPort) []byte
	wait      time.Duration // from the last datagram on
	messages  [][]byte
	own       func(netip.Addr) [][]byte // what one address alone is asked besides; may be nil
	// a reply goes to the group, where the answer came to a question to it
	replyAll bool
	// read reads one answer. reply may be sent back to who sent it.
	read func(packet []byte, from netip.AddrPort) (heard []Sighting, reply []byte)
}

// run asks on the adapters and address by address. An adapter that cannot multicast is
// no reason to stop.
//
// Who has more patience than usual with an address that takes connections has more with answers by
// datagram, too: up to three times the usual.
func (w way) run(ctx context.Context, s *Discoverer, n Network, take func(Sighting)) error {
	if s.Patience > UsualPatience {
		w.wait = time.Duration(float64(w.wait) * min(3, float64(s.Patience)/float64(UsualPatience)))
	}
	var group errgroup.Group
	for _, a := range n.adapters {
		for _, addr := range a.Addresses {
			if ctx.Err() == nil {
				group.Go(func() error {
					if err := w.all(ctx, a, addr, take); err != nil {
						s.Log.Info("cannot ask everybody", "way", w.name, "adapter", a.Name, "from",
							addr.Addr(), "err", err)
					}
					return nil
				})
			}
		}
	}
	if len(w.toRelay) > 0 && len(n.Relays) > 0 {
		relay := w
		relay.messages = w.toRelay
		relay.read = func(packet []byte, from netip.AddrPort) ([]Sighting, []byte) {
			if next := w.fromRelay(packet, from); next != nil && slices.Contains(n.Relays, from) {
				return nil, next
			}
			return w.read(packet, from)
		}
		group.Go(func() error {
			return relay.exchange(ctx, anyPort("udp4"), n.Relays, take)
		})
	}
	if each := w.each(n); len(each) > 0 {
		for _, network := range []string{"udp4", "udp6"} {
			var to []netip.AddrPort
			for _, a := range each {
				if a.Addr().Is4() == (network == "udp4") {
					to = append(to, a)
				}
			}
			if len(to) > 0 {
				group.Go(func() error {
					return w.exchange(ctx, anyPort(network), to, take)
				})
			}
		}
	}
	return group.Wait()
}

// anyPort opens a socket at any port of this machine.
func anyPort(network string) func() (*net.UDPConn, error) {
	return func() (*net.UDPConn, error) { return net.ListenUDP(network, nil) }
}

// all asks everybody on one adapter, from one of its addresses.
func (w way) all(ctx context.Context, a Adapter, on netip.Prefix, take func(Sighting)) error {
	group, from := w.group4, on.Addr()
	if w.broadcasts && from.Is4() {
		group = broadcastOf(on)
	}
	if from.Is6() {
		if !from.IsLinkLocalUnicast() {
			return nil // one IPv6 address of an adapter is enough, and it always has this
		}
		group = w.group6
	}
	if !group.IsValid() {
		return nil
	}
	to := []netip.AddrPort{netip.AddrPortFrom(group.WithZone(zoneOf(group, a)), w.groupPort)}
	if w.toAll != nil {
		w.messages = w.toAll
	}
	return w.exchange(ctx, func() (*net.UDPConn, error) {
		if w.hearsAt != 0 {
			listen := net.ListenConfig{Control: machine.Reuse}
			conn, err := listen.ListenPacket(ctx, "udp4", fmt.Sprintf(":%d", w.hearsAt))
			if err == nil {
				return conn.(*net.UDPConn), nil
			}
		}
		return groupSocket(a, from, group)
	}, to, take)
}

// broadcastOf is the broadcast address of a network of IPv4.
func broadcastOf(p netip.Prefix) netip.Addr {
	b := p.Addr().As4()
	host := uint32(1)<<(32-p.Bits()) - 1
	binary.BigEndian.PutUint32(b[:], binary.BigEndian.Uint32(b[:])|host)
	return netip.AddrFrom4(b)
}

// groupSocket opens a socket that sends to a group, or a broadcast, on one adapter.
func groupSocket(a Adapter, from, group netip.Addr) (*net.UDPConn, error) {
	adapter, err := net.InterfaceByName(a.Name)
	if err != nil {
		return nil, err
	}
	conn, err := net.ListenUDP("udp",
		net.UDPAddrFromAddrPort(netip.AddrPortFrom(from.WithZone(zoneOf(from, a)), 0)))
	if err != nil {
		return nil, err
	}
	switch {
	case from.Is4() && group.IsMulticast():
		p := ipv4.NewPacketConn(conn)
		err = errors.Join(p.SetMulticastInterface(adapter), p.SetMulticastTTL(1),
			p.SetMulticastLoopback(true))
	case from.Is6():
		p := ipv6.NewPacketConn(conn)
		err = errors.Join(p.SetMulticastInterface(adapter), p.SetMulticastHopLimit(1),
			p.SetMulticastLoopback(true))
	}
	if err != nil {
		_ = conn.Close()
		return nil, err
	}
	return conn, nil
}

// zoneOf is the adapter's name for an address that means something only on a link.
func zoneOf(a netip.Addr, adapter Adapter) string {
	if a.Is6() && (a.IsLinkLocalUnicast() || a.IsLinkLocalMulticast()) {
		return adapter.Name
	}
	return ""
}

// each are the single addresses to ask.
func (w way) each(n Network) []netip.AddrPort {
	if w.port == 0 {
		return nil
	}
	usual := n.portsFor(w.name)
	if len(usual) == 0 {
		usual = []uint16{w.port}
	}
	var out []netip.AddrPort
	seen := map[netip.AddrPort]bool{}
	for _, r := range n.Ranges {
		ports := usual
		if r.Port != 0 && askedAt(w.name) {
			ports = []uint16{r.Port}
		}
		if !r.Sweeps() {
			continue
		}
		r.Port = 0
		for a := range r.All {
			for _, p := range ports {
				if ap := netip.AddrPortFrom(n.zoned(a), p); !seen[ap] && !site.Has(n.Except, ap) {
					seen[ap] = true
					out = append(out, ap)
				}
			}
		}
	}
	return out
}

// askedAt tells whether an address host:port means that port for this way too. Discovery
// has ports of its own on every host.
func askedAt(name string) bool {
	for _, p := range protocols {
		if p.name == name {
			return p.port
		}
	}
	return false
}

// exchange sends the questions and takes the answers until the waiting time is over.
// open opens a socket to do so. Datagrams to addresses where no one is stay in the
// socket's buffer for as long as the system looks for them, which is seconds: when one
// is full, the next socket continues.
func (w way) exchange(ctx context.Context, open func() (*net.UDPConn, error), to []netip.AddrPort,
	take func(Sighting)) error {
	s := &sockets{way: w, open: open, to: to, take: take}
	defer s.close()
	if err := s.next(); err != nil {
		return err
	}
	stop := context.AfterFunc(ctx, s.hangUp)
	defer stop()
	sent := 0
	for i := range askTwice {
		if i > 0 {
			time.Sleep(askApart)
		}
		for _, a := range to {
			messages := w.messages
			if w.own != nil {
				messages = append(slices.Clip(messages), w.own(a.Addr())...)
			}
			for _, m := range messages {
				s.send(m, a)
				if sent++; sent%burst == 0 {
					time.Sleep(pause)
				}
			}
			if ctx.Err() != nil {
				break
			}
		}
	}
	s.endIn(w.wait)
	s.hearing.Wait()
	return ctx.Err()
}

const (
	maxSockets = 64 // of one exchange
	// a datagram that cannot leave for so long finds its socket full
	fullAfter = 20 * time.Millisecond
)

// sockets are those of one exchange; the last one sends, all hear.
type sockets struct {
	way     way
	open    func() (*net.UDPConn, error)
	to      []netip.AddrPort
	take    func(Sighting)
	hearing sync.WaitGroup

	mu  sync.Mutex
	all []*net.UDPConn
	end time.Time // when the waiting is over; zero: it has not started
}

// next opens another socket and hears on it.
func (s *sockets) next() error {
	conn, err := s.open()
	if err != nil {
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.all = append(s.all, conn)
	s.hearing.Go(func() { s.way.hear(conn, s.to, s.take, s.longer) })
	return nil
}

// send sends one datagram. A refused one only says that no one is there; one for which
// there is no room at all is lost, as any may be.
func (s *sockets) send(m []byte, to netip.AddrPort) {
	for {
		s.mu.Lock()
		conn, n := s.all[len(s.all)-1], len(s.all)
		s.mu.Unlock()
		_ = conn.SetWriteDeadline(time.Now().Add(fullAfter))
		_, err := conn.WriteToUDPAddrPort(m, to)
		if !errors.Is(err, os.ErrDeadlineExceeded) || n >= maxSockets || s.next() != nil {
			return
		}
	}
}

func (s *sockets) endIn(wait time.Duration) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.end = time.Now().Add(wait)
	for _, c := range s.all {
		_ = c.SetReadDeadline(time.Now().Add(wait))
	}
}

// longer gives the answer to a further question its waiting time too, but in all no more
// than twice the usual.
func (s *sockets) longer(conn *net.UDPConn) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.end.IsZero() {
		return
	}
	until, last := time.Now().Add(s.way.wait), s.end.Add(s.way.wait)
	if until.After(last) {
		until = last
	}
	if until.After(s.end) {
		_ = conn.SetReadDeadline(until)
	}
}

func (s *sockets) hangUp() { s.endIn(0) }

func (s *sockets) close() {
	s.hangUp()
	s.hearing.Wait()
	for _, c := range s.all {
		_ = c.Close()
	}
}

// hear takes answers until the socket's deadline: from one address no more than one
// answers with, in all no more than a site can hold.
func (w way) hear(conn *net.UDPConn, asked []netip.AddrPort, take func(Sighting),
	longer func(*net.UDPConn)) {
	buf := make([]byte, maxPacket)
	answers := map[netip.Addr]int{}
	seen := map[string]bool{} // the complete answers: a later one may contain more
	for {
		n, from, err := conn.ReadFromUDPAddrPort(buf)
		var timeout net.Error
		if errors.As(err, &timeout) && timeout.Timeout() || errors.Is(err, net.ErrClosed) {
			return
		}
		from = netip.AddrPortFrom(from.Addr().Unmap(), from.Port())
		if err != nil || answers[from.Addr()] >= maxTalk || len(answers) >= maxSightings {
			continue
		}
		answers[from.Addr()]++
		heard, reply := w.read(buf[:n], from)
		if reply != nil {
			to := from
			if w.replyAll && len(asked) == 1 && asked[0].Addr().IsMulticast() {
				to = asked[0]
			}
			// that of the questions is long over
			_ = conn.SetWriteDeadline(time.Now().Add(fullAfter))
			_, _ = conn.WriteToUDPAddrPort(reply, to)
			longer(conn)
		}
		for _, sight := range heard {
			key := fmt.Sprintf("%s %s %s %+v", sight.Address, sight.Path, sight.Dialect,
				sight.Facts)
			if !seen[key] && len(seen) < maxSightings {
				seen[key] = true
				take(sight)
			}
		}
	}
}
