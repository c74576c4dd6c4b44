package discover

import (
	"bytes"
	"context"
	"encoding/binary"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/device"
	"catena/internal/dialect"
	"catena/internal/dialect/onvif"
	"catena/internal/dialect/redfish"
	"catena/internal/dialect/simtest"
	"catena/internal/dialect/snmp"
	"catena/internal/site"
	"catena/internal/text"
)

func at(s string) netip.AddrPort { return netip.MustParseAddrPort(s) }

var host = netip.MustParseAddr("10.20.4.11")

// records packs an answer of records in the form of a zone file, RFC 1035, 5.1.
func records(t interface{ Fatal(...any) }, lines ...string) []byte {
	m := dns.Msg{MsgHdr: dns.MsgHdr{Response: true, Authoritative: true}}
	for _, line := range lines {
		r, err := dns.NewRR(line)
		if err != nil {
			t.Fatal(err)
		}
		m.Answer = append(m.Answer, r)
	}
	raw, err := m.Pack()
	if err != nil {
		t.Fatal(err)
	}
	return raw
}

// gateRecords tell of a service whose label has a dot and a space (RFC 6763, 4.1.1).
func gateRecords(t interface{ Fatal(...any) }) []byte {
	const name = `Gate\.\0321._http._tcp.local.`
	return records(
		t,
		"_http._tcp.local. 10 IN PTR "+name,
		name+" 10 IN SRV 0 0 8080 gate-1.local.",
		name+` 10 IN TXT "txtvers=1" "mac=02:00:5e:00:53:11" "x" "vendor=Tollgarth" "model=TG-200" "version=K41" "serial=TG2-0001"`,
		"gate-1.local. 10 IN A "+host.String(),
	)
}

func TestParseMDNS(t *testing.T) {
	from := netip.AddrPortFrom(host, 5353)
	got, ask := parseMDNS(gateRecords(t), from)
	require.Len(t, got, 1)
	assert.Nil(t, ask, "there is nothing left to ask")
	assert.Equal(t, netip.AddrPortFrom(host, 8080), got[0].Address)
	assert.True(t, got[0].Look)
	assert.Equal(t, device.Reading{
		Identity: device.Identity{MAC: "02:00:5e:00:53:11", Vendor: "Tollgarth", Model: "TG-200",
			Serial: "TG2-0001"},
		Version: "K41", Called: "gate-1", Says: "Gate. 1",
	}, got[0].Facts)

	got, _ = parseMDNS(records(t, `a._http._tcp.local. 10 IN SRV 0 0 80 a.local.`,
		`a._http._tcp.local. 10 IN TXT "version=1.0"`), from)
	require.Len(t, got, 1)
	assert.Empty(t, got[0].Facts.Version, "it may be the protocol's")

	// A service on someone else's host does not count for the one who tells of it.
	got, _ = parseMDNS(records(t, "a._http._tcp.local. 10 IN SRV 0 0 80 other.local.",
		"me.local. 10 IN A "+host.String()), from)
	assert.Empty(t, got)

	// What is not explained is asked for, in the very words.
	got, ask = parseMDNS(records(t, mdnsTypes+" 10 IN PTR _lock._tcp.local."), from)
	require.Len(t, got, 1)
	assert.Equal(t, uint16(0), got[0].Address.Port(),
		"it is there, no one knows where to talk to it")
	assert.Equal(t, "_lock._tcp.local.", asked(t, ask))
	_, ask = parseMDNS(records(t, `_lock._tcp.local. 10 IN PTR Lock\.\0321._lock._tcp.local.`),
		from)
	assert.Equal(t, `Lock\.\0321._lock._tcp.local.`,
		strings.ReplaceAll(asked(t, ask), `\ `, `\032`))

	for why, packet := range map[string][]byte{
		"a question": mdnsQuestions(dns.TypePTR, mdnsServices), "nothing": nil,
		"noise": []byte("\xff\xff\xff\xff"), "cut off": gateRecords(t)[:40],
	} {
		got, ask := parseMDNS(packet, from)
		assert.Empty(t, got, why)
		assert.Nil(t, ask, why)
	}
}

func asked(t *testing.T, packet []byte) string {
	var m dns.Msg
	require.NoError(t, m.Unpack(packet))
	require.Len(t, m.Question, 1)
	return m.Question[0].Name
}

func FuzzParseMDNS(f *testing.F) {
	f.Add(gateRecords(f))
	f.Add(gateRecords(f)[:60])
	from := netip.AddrPortFrom(host, 5353)
	f.Fuzz(func(t *testing.T, packet []byte) {
		got, ask := parseMDNS(packet, from)
		checkSightings(t, got)
		if len(ask) > 8<<10 {
			t.Errorf("a question of %d bytes", len(ask))
		}
	})
}

// checkSightings wants what holds of every sighting: it is of the host that spoke, and
// its texts can be shown.
func checkSightings(t *testing.T, got []Sighting) {
	for _, s := range got {
		if s.Address.Addr() != host {
			t.Errorf("an address on another host: %v", s.Address)
		}
		f := s.Facts
		for _, said := range []string{f.Called, f.Says, f.UUID} {
			if said != text.Clean(said) {
				t.Errorf("a text that is not clean: %q", said)
			}
		}
	}
}

const search = "HTTP/1.1 200 OK\r\nST: upnp:rootdevice\r\nUSN: uuid:AB::upnp:rootdevice\r\n" +
	"SERVER: hub/1\r\nLOCATION: http://10.20.4.11:8080/description.xml\r\n\r\n"

func TestParseSSDP(t *testing.T) {
	from := netip.AddrPortFrom(host, 1900)
	got, _ := parseSSDP([]byte(search), from)
	require.Len(t, got, 1)
	assert.Equal(t, netip.AddrPortFrom(host, 8080), got[0].Address)
	assert.Equal(t, "urn:uuid:ab", got[0].Facts.UUID)
	assert.Equal(t, "/description.xml", got[0].Path)
	assert.NotNil(t, got[0].more)

	got, _ = parseSSDP([]byte(strings.ReplaceAll(search, "10.20.4.11:8080", "10.20.4.99")), from)
	require.Len(t, got, 1, "it is there")
	assert.Equal(t, uint16(0), got[0].Address.Port(), "but it cannot send us to someone else")

	got, _ = parseSSDP([]byte("HTTP/1.1 200 OK\r\nST: "+redfishType+
		"\r\nUSN: uuid:1\r\nAL: <https://10.20.4.11/redfish/v1/>\r\n\r\n"), from)
	require.Len(t, got, 1)
	assert.Equal(t, netip.AddrPortFrom(host, 443), got[0].Address)
	assert.True(t, got[0].TLS && got[0].Look)

	for _, packet := range []string{"", "NOTIFY * HTTP/1.1\r\n\r\n", "HTTP/1.1 404 no\r\n\r\n",
		"HTTP/1.1 200 OK\r\nx", "HTTP/1.1",
		strings.Replace(search, "hub/1", "hub\x1b[2J", 1)} {
		got, _ := parseSSDP([]byte(packet), from)
		assert.Empty(t, got, packet)
	}
}

func FuzzParseSSDP(f *testing.F) {
	f.Add([]byte(search))
	f.Add([]byte("HTTP/1.0 200\r\nLOCATION: https://[fe80::1]/\r\nUSN: \x00\r\n\r\n"))
	f.Fuzz(func(t *testing.T, packet []byte) {
		got, _ := parseSSDP(packet, netip.AddrPortFrom(host, 1900))
		checkSightings(t, got)
	})
}

func FuzzSNMP(f *testing.F) {
	for _, p := range snmp.Probes() {
		f.Add(p)
	}
	f.Fuzz(func(t *testing.T, packet []byte) {
		if facts, _, ok := snmp.Understand(packet); ok &&
			(facts.Called != text.Clean(facts.Called) || facts.Says != text.Clean(facts.Says)) {
			t.Errorf("texts that are not clean: %+v", facts)
		}
	})
}

// identity is an answer to ListIdentity with this model.
func identity(model string) []byte {
	le := binary.LittleEndian
	item := make([]byte, 33)
	le.PutUint16(item[18:], 65001)
	item[24], item[25] = 2, 7
	le.PutUint32(item[28:], 0x0a0b0c0d)
	item[32] = byte(len(model))
	item = append(append(item, model...), 3)
	p := make([]byte, enipHeader+6)
	le.PutUint16(p, enipIdentity)
	le.PutUint16(p[2:], uint16(6+len(item)))
	copy(p[12:], enipContext[:])
	le.PutUint16(p[24:], 1)
	le.PutUint16(p[26:], enipItem)
	le.PutUint16(p[28:], uint16(len(item)))
	return append(p, item...)
}

func TestParseIdentity(t *testing.T) {
	f, ok := parseIdentity(identity("HD-IO4\x1b[2J"))
	require.True(t, ok)
	assert.Equal(t, "HD-IO4[2J", f.Model)
	assert.Equal(t, "2.7", f.Version)
	assert.Equal(t, "0A0B0C0D", f.Serial)
	assert.Equal(t, "vendor 65001", f.Vendor)
	whole := identity("HD-IO4")
	for n := range len(whole) - 1 {
		_, ok := parseIdentity(whole[:n])
		assert.False(t, ok, "cut off at %d", n)
	}
	other := bytes.Clone(whole)
	other[13]++
	_, ok = parseIdentity(other)
	assert.False(t, ok, "an answer to someone else")
}

func FuzzParseIdentity(f *testing.F) {
	f.Add(identity("HD-IO4"))
	f.Fuzz(func(t *testing.T, packet []byte) {
		if facts, ok := parseIdentity(packet); ok && facts.Model != text.Clean(facts.Model) {
			t.Errorf("a model that is not clean: %q", facts.Model)
		}
	})
}

func FuzzModbusObjects(f *testing.F) {
	f.Add([]byte{0x0e, 1, 1, 0, 0, 2, 0, 1, 'H', 1, 2, '7', '4'})
	f.Fuzz(func(t *testing.T, packet []byte) {
		into := map[byte]string{}
		if _, _, ok := modbusObjects(packet, into); !ok {
			return
		}
		total := 0
		for _, text := range into {
			total += len(text)
		}
		if total > len(packet) {
			t.Errorf("%d bytes of text out of %d", total, len(packet))
		}
	})
}

func TestDeep(t *testing.T) {
	assert.False(t, deep([]byte(`<?xml version="1.0"?><!-- x --><a><b/><c>t</c></a>`)))
	assert.True(t, deep([]byte(strings.Repeat("<a>", 100_000))))
	assert.False(t, deep([]byte(strings.Repeat("<a></a>", 1000))))
	assert.False(t, deep([]byte("<a")))
}

func TestChooseAdapters(t *testing.T) {
	all := []Adapter{
		{Name: "lo", Up: true, Loopback: true, Multicast: true, Addresses: prefixes("127.0.0.1/8")},
		{Name: "eth0", Up: true, Multicast: true,
			Addresses: prefixes("10.20.4.250/24", "fe80::1/64")},
		{Name: "eth1", Multicast: true, Addresses: prefixes("10.20.5.250/24")},
		{Name: "eth2", Up: true, Multicast: true},
	}
	for want, c := range map[string]string{"eth0": "eth0", "10.20.4.250": "eth0", "lo": "lo",
		"127.0.0.9": "lo"} {
		got, err := Choose(all, want)
		require.NoError(t, err, want)
		assert.Equal(t, c, got[0].Name)
	}
	for want, text := range map[string]string{"eth9": "this machine has lo, eth0, eth1, eth2",
		"eth1": "is down", "eth2": "has no address"} {
		_, err := Choose(all, want)
		assert.ErrorContains(t, err, text)
	}
	got, err := Choose(all, "")
	require.NoError(t, err)
	assert.Len(t, got, 2, "all that are up, without loopback")

	n := Network{Ranges: ranges(t, "10.20.4.0/26")}
	got, err = n.choose(all)
	require.NoError(t, err)
	require.Len(t, got, 1)
	assert.Equal(t, "eth0", got[0].Name)
	assert.Empty(t, n.astray(all))
	n = Network{Ranges: ranges(t, "10.99.0.1-10.99.0.9")}
	got, err = n.choose(all)
	require.NoError(t, err)
	assert.Empty(t, got, "nothing is sent to networks that were not named")
	require.Len(t, n.astray(all), 1)
	assert.Contains(t, n.astray(all)[0],
		"10.99.0.1-10.99.0.9 is in no network of this machine (it is in eth0 10.20.4.250/24, eth1 "+
			"10.20.5.250/24)")
}

func prefixes(texts ...string) (out []netip.Prefix) {
	for _, t := range texts {
		out = append(out, netip.MustParsePrefix(t))
	}
	return out
}

func ranges(t *testing.T, texts ...string) (out []site.Range) {
	for _, text := range texts {
		r, err := site.ParseRange(text)
		require.NoError(t, err)
		out = append(out, r)
	}
	return out
}

var dialects = dialect.NewRegistry(onvif.Dialect{}, simtest.Family("tollgarth-gates"),
	redfish.Dialect{},
	snmp.Dialect{})

func newDiscoverer(patience time.Duration) *Discoverer {
	return &Discoverer{Dialects: dialects, Patience: patience, Log: slog.New(slog.DiscardHandler)}
}

// Bad neighbours: each ends within the patience, and in a sentence.
func TestBadNeighbours(t *testing.T) {
	raw := func(serve func(net.Conn)) string {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		require.NoError(t, err)
		t.Cleanup(func() { _ = l.Close() })
		go func() {
			for {
				c, err := l.Accept()
				if err != nil {
					return
				}
				go func() { defer func() { _ = c.Close() }(); serve(c) }()
			}
		}()
		return l.Addr().String()
	}
	web := func(h http.HandlerFunc) string {
		s := httptest.NewServer(h)
		t.Cleanup(s.Close)
		return s.Listener.Addr().String()
	}
	filled := bytes.Repeat([]byte("x"), 64<<10)
	flood := func(c net.Conn) {
		for {
			if _, err := c.Write(filled); err != nil {
				return
			}
		}
	}
	var elsewhere atomic.Int64
	other := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) {
		elsewhere.Add(1)
	}))
	t.Cleanup(func() { // once all of them have ended
		other.Close()
		assert.Zero(t, elsewhere.Load(), "no one was followed to another host")
	})
	for name, c := range map[string]struct {
		address string
		says    string
	}{
		"an answer that never ends": {web(func(w http.ResponseWriter, r *http.Request) {
			for r.Context().Err() == nil {
				if _, err := w.Write(filled); err != nil {
					return
				}
			}
		}), ""},
		"bytes without HTTP": {raw(flood), ""},
		"one byte a second": {raw(func(c net.Conn) {
			for i := 0; ; i++ {
				if _, err := c.Write(
					[]byte("HTTP/1.1 200 OK\r\nContent-Length: 99\r\n\r\nslowly slowly slowly")[i%50 : i%50+1]); err != nil {
					return
				}
				time.Sleep(time.Second)
			}
		}), "accepts connections, but sends no answer"},
		"headers without end": {raw(func(c net.Conn) {
			_, _ = io.WriteString(c, "HTTP/1.1 200 OK\r\n")
			for {
				if _, err := fmt.Fprintf(c, "X-Filler: %s\r\n", filled[:1000]); err != nil {
					return
				}
			}
		}), ""},
		"entities": {web(func(w http.ResponseWriter, _ *http.Request) {
			_, _ = io.WriteString(w,
				`<!DOCTYPE x [<!ENTITY a "aaaaaaaaaa"><!ENTITY b "&a;&a;&a;&a;&a;&a;&a;&a;">]><Envelope><Body>&b;&b;</Body></Envelope>`)
		}), "answers, but is not recognised"},
		"nested a hundred thousand times": {web(func(w http.ResponseWriter, _ *http.Request) {
			_, _ = io.WriteString(w, strings.Repeat("<a>", 80_000))
		}), "answers, but is not recognised"},
		"a redirect to another host": {web(func(w http.ResponseWriter,
			r *http.Request) {
			http.Redirect(w, r, other.URL, http.StatusFound)
		}), "answers, but is not recognised"},
		"a redirect in a circle": {web(func(w http.ResponseWriter,
			r *http.Request) {
			http.Redirect(w, r, r.URL.Path, http.StatusFound)
		}), "answers, but is not recognised"},
		"terminal codes in its name": {web(func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Server", "x\x1b[2Jy")
			_, _ = io.WriteString(w, "<title>a\nb\x1b]0;evil\x07</title>")
		}), "answers, but is not recognised"},
		"it hangs up": {raw(func(net.Conn) {}), "answers, but is not recognised"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			s := newDiscoverer(1500 * time.Millisecond)
			began := time.Now()
			sight, ok := s.look(t.Context(), Network{}, at(c.address), false)
			assert.True(t, ok)
			assert.Empty(t, sight.Dialect)
			assert.NotEmpty(t, sight.Trouble.Error())
			if c.says != "" {
				assert.Equal(t, c.says, sight.Trouble.Error())
			}
			assert.Equal(t, text.Clean(sight.Facts.Says), sight.Facts.Says)
			assert.Less(t, time.Since(began), 20*time.Second, "it ended") // far beyond its bounds
		})
	}
}

// Ten thousand forged answers: what is kept is bounded, and the real device is heard.
func TestKeepIsBounded(t *testing.T) {
	h := &hearing{discoverer: newDiscoverer(time.Second), looked: map[netip.AddrPort]bool{},
		outside: map[netip.Addr]Sighting{}, looksAt: map[netip.Addr]int{}}
	for i := range 2 * maxLooks {
		assert.Equal(t, i < maxLooks, h.room(host))
	}
	a := host
	for range 2 * maxSightings {
		a = a.Next()
		h.keep(Sighting{Via: "ssdp", Address: netip.AddrPortFrom(a, 80)})
	}
	assert.Len(t, h.sightings, maxSightings)
}

const id = "urn:uuid:ask"

func match(relates, xaddrs, scopes string) []byte {
	return fmt.Appendf(
		nil,
		`<e:Envelope xmlns:e="http://www.w3.org/2003/05/soap-envelope" xmlns:a="a" xmlns:d="d"><e:Header><a:RelatesTo>%s</a:RelatesTo></e:Header>
<e:Body><d:ProbeMatches><d:ProbeMatch><a:EndpointReference><a:Address>urn:uuid:1</a:Address></a:EndpointReference><d:Scopes>%s</d:Scopes><d:XAddrs>%s</d:XAddrs>
</d:ProbeMatch></d:ProbeMatches></e:Body></e:Envelope>`,
		relates,
		scopes,
		xaddrs,
	)
}

func TestParseMatches(t *testing.T) {
	from := netip.MustParseAddr("10.20.4.11")
	got, _ := parseMatches(match(id,
		"http://[fe80::1]/x http://10.20.4.11:8080/onvif/device_service",
		"onvif://www.onvif.org/name/cam%2011"), &numbers{given: map[string]bool{id: true}}, from)
	require.Len(t, got, 1)
	assert.Equal(t, at("10.20.4.11:8080"), got[0].Address)
	assert.Equal(t, "/onvif/device_service", got[0].Path)
	assert.Equal(t, "cam 11", got[0].Facts.Called)

	for why, packet := range map[string][]byte{
		"answers someone else": match("urn:uuid:other", "http://10.20.4.11/x", ""),
		"points elsewhere":     match(id, "http://10.20.4.99/x http://upstream/x", ""),
		"another scheme":       match(id, "file:///etc/passwd", ""),
		"not XML":              []byte("\x00\x01"),
		"cut off":              match(id, "http://10.20.4.11/x", "")[:200],
		"nested":               []byte(strings.Repeat("<a>", 100_000)),
	} {
		got, _ := parseMatches(packet, &numbers{given: map[string]bool{id: true}}, from)
		assert.Empty(t, got, why)
	}
}

func FuzzParseMatches(f *testing.F) {
	f.Add(match(id, "http://10.20.4.11/x", "onvif://www.onvif.org/name/%zz"))
	f.Add([]byte("<Envelope><Header><RelatesTo>" + id))
	from := netip.MustParseAddr("10.20.4.11")
	f.Fuzz(func(t *testing.T, packet []byte) {
		got, _ := parseMatches(packet, &numbers{given: map[string]bool{id: true}}, from)
		for _, s := range got {
			if s.Address.Addr() != from {
				t.Errorf("an address on another host: %v", s.Address)
			}
			if s.Facts.Called != text.Clean(s.Facts.Called) {
				t.Errorf("a name that is not clean: %q", s.Facts.Called)
			}
		}
	})
}

func TestEachKeepsExceptions(t *testing.T) {
	r, err := site.ParseRange("10.20.4.1-10.20.4.3")
	require.NoError(t, err)
	except, err := site.ParseRange("10.20.4.2")
	require.NoError(t, err)
	n := Network{Ranges: []site.Range{r}, Except: []site.Range{except},
		Ports: []site.Port{{Number: 80}, {Number: 8080}, {Way: "snmp", Number: 1161}}}
	assert.Equal(t, []netip.AddrPort{at("10.20.4.1:80"), at("10.20.4.1:8080"), at("10.20.4.3:80"),
		at("10.20.4.3:8080")}, slices.Collect(n.each))
}
func TestAddresses(t *testing.T) {
	_, err := Addresses([]string{"10.0.0.0/8"}, nil, "", nil, false)
	var wide *WideError
	require.ErrorAs(t, err, &wide)
	assert.Equal(t, WideError{"10.0.0.0/8", 1<<24 - 2}, *wide)
	n, err := Addresses([]string{"10.0.0.0/8"}, []string{"10.1.0.0/16"}, "eth0",
		[]site.Port{{Number: 81}}, true)
	require.NoError(t, err)
	assert.True(t, n[0].Inside(at("10.2.0.1:80")))
	assert.False(t, n[0].Inside(at("10.1.0.1:80")))
	_, err = Addresses([]string{"10.2.0.1"}, []string{"nobody"}, "", nil, false)
	assert.Error(t, err)
	n, err = Narrow([]Network{{Ranges: ranges(t, "10.2.0.0/24"), Ports: []site.Port{{Number: 80}}}},
		[]string{"10.2.0.9"}, []site.Port{{Number: 81}})
	require.NoError(t, err)
	assert.False(t, n[0].Inside(at("10.2.0.9:80")))
	assert.Equal(t, []uint16{81}, n[0].TCPPorts(n[0].Ranges[0]))
	_, err = Narrow(nil, []string{"x"}, nil)
	assert.Error(t, err)
	_, err = newDiscoverer(time.Second).Run(t.Context(), []Network{{Adapter: "eth99"}})
	assert.ErrorContains(t, err, `there is no adapter "eth99"`)
}

func TestFlood(t *testing.T) {
	device, err := net.ListenPacket("udp4", "127.0.0.1:0")
	require.NoError(t, err)
	defer func() { _ = device.Close() }()
	go func() {
		buf := make([]byte, 2048)
		_, to, err := device.ReadFrom(buf)
		if err != nil {
			return
		}
		for i := range 10_000 {
			_, _ = device.WriteTo([]byte(strings.Replace(search, "uuid:AB",
				fmt.Sprintf("uuid:%d", i), 1)), to)
		}
	}()
	to := netip.MustParseAddrPort(device.LocalAddr().String())
	open := func() (*net.UDPConn, error) { return net.ListenUDP("udp4", nil) }
	n := 0
	w := way{name: "ssdp", wait: 300 * time.Millisecond, messages: [][]byte{[]byte("x")},
		read: parseSSDP}
	require.NoError(t, w.exchange(context.Background(), open, []netip.AddrPort{to}, func(Sighting) {
		n++
	}))
	assert.LessOrEqual(t, n, maxTalk, "one address gives a limited number of answers")
	assert.Positive(t, n)
}
