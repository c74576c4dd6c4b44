package discover

import (
	"context"
	"net"
	"net/netip"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/device"
	"catena/internal/site"
)

// A later answer may say more, and counts; the same once again does not. A further question
// goes out although the time for the first ones is long over.
func TestHearing(t *testing.T) {
	ours, err := net.ListenUDP("udp4", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)})
	require.NoError(t, err)
	defer func() { _ = ours.Close() }()
	theirs, err := net.DialUDP("udp4", nil, ours.LocalAddr().(*net.UDPAddr))
	require.NoError(t, err)
	defer func() { _ = theirs.Close() }()
	_ = ours.SetWriteDeadline(time.Now().Add(-time.Second)) // that of the questions
	w := way{wait: time.Minute, read: func(packet []byte, from netip.AddrPort) ([]Sighting, []byte) {
		return []Sighting{{Via: "test", Address: from,
			Facts: device.Reading{Identity: device.Identity{Model: string(packet)}}}}, []byte("which?")
	}}
	heard := make(chan string, 10)
	var group sync.WaitGroup
	group.Go(func() {
		w.hear(ours, nil, func(s Sighting) { heard <- s.Facts.Model }, func(*net.UDPConn) {})
	})
	for _, say := range []string{"", "", "WX-40", "WX-40", "end"} {
		_, err := theirs.Write([]byte(say))
		require.NoError(t, err)
		buf := make([]byte, 100)
		_ = theirs.SetReadDeadline(time.Now().Add(time.Minute))
		n, err := theirs.Read(buf)
		require.NoError(t, err, "the further question")
		assert.Equal(t, "which?", string(buf[:n]))
	}
	_ = ours.Close()
	group.Wait()
	close(heard)
	var all []string
	for s := range heard {
		all = append(all, s)
	}
	assert.Equal(t, []string{"", "WX-40", "end"}, all)
}

// Each Resolve has its own number: a device answers one number once.
func TestEachQuestionHasItsNumber(t *testing.T) {
	asked := &numbers{given: map[string]bool{}}
	id := asked.next()
	packet := []byte(
		`<s:Envelope xmlns:s="http://www.w3.org/2003/05/soap-envelope" xmlns:a="http://schemas.xmlsoap.org/ws/2004/08/addressing"
 xmlns:d="` + wsd2005 + `"><s:Header><a:RelatesTo>` + id + `</a:RelatesTo></s:Header><s:Body><d:ProbeMatches><d:ProbeMatch>
<a:EndpointReference><a:Address>urn:uuid:1</a:Address></a:EndpointReference></d:ProbeMatch></d:ProbeMatches></s:Body></s:Envelope>`,
	)
	number := func() string {
		_, resolve := parseMatches(packet, asked, host)
		_, rest, found := strings.Cut(string(resolve), "<a:MessageID>")
		require.True(t, found)
		n, _, _ := strings.Cut(rest, "<")
		return n
	}
	first, second := number(), number()
	assert.NotEqual(t, first, second)
	assert.NotEqual(t, id, first)
	assert.True(t, asked.has(first) && asked.has(second), "the answers to both count")
}

// However many announce an address to look at, no one keeps the reader of a socket waiting.
func TestLooksDoNotBlock(t *testing.T) {
	s := &Discoverer{Patience: time.Minute}
	h := &hearing{discoverer: s, looked: map[netip.AddrPort]bool{}, outside: map[netip.Addr]Sighting{},
		looksAt: map[netip.Addr]int{}, turns: make(chan struct{}, lookLanes)}
	free := make(chan struct{})
	taken := make(chan struct{})
	go func() {
		for i := range 4 * lookLanes {
			a := netip.AddrPortFrom(netip.AddrFrom4([4]byte{10, 20, byte(i / 250), byte(i % 250)}), 80)
			h.take(t.Context(), Sighting{Via: "test", Address: a,
				more: func(context.Context, Sighting) device.Reading { <-free; return device.Reading{} }})
		}
		close(taken)
	}()
	select {
	case <-taken:
	case <-time.After(time.Minute):
		t.Error("a look that lasts keeps others from being heard")
	}
	close(free)
	_ = h.looks.Wait()
}

// Link-local addresses mean something only with the adapter that they are reached through.
func TestLinkLocalRangesHaveAZone(t *testing.T) {
	r, err := site.ParseRange("fe80::1-fe80::2")
	require.NoError(t, err)
	n := Network{Ranges: []site.Range{r}, Ports: []site.Port{{Number: 80}},
		adapters: []Adapter{{Name: "eth7"}}}
	var all []string
	for a := range n.each {
		all = append(all, a.String())
	}
	assert.Equal(t, []string{"[fe80::1%eth7]:80", "[fe80::2%eth7]:80"}, all)
	w := way{port: 161}
	for _, a := range w.each(n) {
		assert.Equal(t, "eth7", a.Addr().Zone())
	}
}

// An SSH server that is slow to greet, at a port that is not its usual one, is not taken for one of
// the web.
func TestASlowGreeting(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer func() { _ = l.Close() }()
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer func() { _ = c.Close() }()
				time.Sleep(2 * greetWithin)
				_, _ = c.Write([]byte("SSH-2.0-slow\r\n"))
				_, _ = c.Read(make([]byte, 4096))
			}()
		}
	}()
	s := &Discoverer{Patience: 20 * time.Second}
	at := l.Addr().(*net.TCPAddr).AddrPort()
	sight, ok := s.look(t.Context(), Network{}, at, false)
	assert.True(t, ok)
	assert.Equal(t, "ssh", sight.Via)
	assert.Equal(t, "SSH-2.0-slow", sight.Facts.Says)
}
