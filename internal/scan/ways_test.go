package scan

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
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/net/dns/dnsmessage"

	"catena/internal/device"
	"catena/internal/dialect"
	"catena/internal/dialect/httpjson"
	"catena/internal/dialect/onvif"
	"catena/internal/dialect/redfish"
	"catena/internal/dialect/snmp"
	"catena/internal/login"
	"catena/internal/site"
	"catena/internal/text"
)

var host = netip.MustParseAddr("10.20.4.11")

func records(t interface{ Fatal(...any) }, build func(name func(string) dnsmessage.Name, add func(of string, body dnsmessage.ResourceBody))) []byte {
	m := dnsmessage.Message{Header: dnsmessage.Header{Response: true}}
	kinds := func(b dnsmessage.ResourceBody) dnsmessage.Type {
		switch b.(type) {
		case *dnsmessage.PTRResource:
			return dnsmessage.TypePTR
		case *dnsmessage.SRVResource:
			return dnsmessage.TypeSRV
		case *dnsmessage.TXTResource:
			return dnsmessage.TypeTXT
		}
		return dnsmessage.TypeA
	}
	build(dnsmessage.MustNewName, func(of string, body dnsmessage.ResourceBody) {
		m.Answers = append(m.Answers, dnsmessage.Resource{Header: dnsmessage.ResourceHeader{Name: dnsmessage.MustNewName(of), Type: kinds(body), Class: dnsmessage.ClassINET}, Body: body})
	})
	raw, err := m.Pack()
	if err != nil {
		t.Fatal(err)
	}
	return raw
}

func gateRecords(t interface{ Fatal(...any) }) []byte {
	return records(t, func(name func(string) dnsmessage.Name, add func(string, dnsmessage.ResourceBody)) {
		add("_http._tcp.local.", &dnsmessage.PTRResource{PTR: name("Gate. 1._http._tcp.local.")})
		add("Gate. 1._http._tcp.local.", &dnsmessage.SRVResource{Port: 8080, Target: name("gate-1.local.")})
		add("Gate. 1._http._tcp.local.", &dnsmessage.TXTResource{TXT: []string{"txtvers=1", "mac=02:00:5e:00:53:11", "x"}})
		add("gate-1.local.", &dnsmessage.AResource{A: host.As4()})
	})
}

func TestParseMDNS(t *testing.T) {
	from := netip.AddrPortFrom(host, 5353)
	got, ask := parseMDNS(gateRecords(t), from)
	require.Len(t, got, 1)
	assert.Nil(t, ask, "there is nothing left to ask")
	assert.Equal(t, netip.AddrPortFrom(host, 8080), got[0].Address)
	assert.True(t, got[0].Look)
	assert.Equal(t, device.Reading{Identity: device.Identity{MAC: "02:00:5e:00:53:11"}, Called: "gate-1", Says: "Gate. 1"}, got[0].Facts)

	// A service on somebody else's host does not count for the one who tells of it.
	got, _ = parseMDNS(records(t, func(name func(string) dnsmessage.Name, add func(string, dnsmessage.ResourceBody)) {
		add("a._http._tcp.local.", &dnsmessage.SRVResource{Port: 80, Target: name("other.local.")})
		add("me.local.", &dnsmessage.AResource{A: host.As4()})
	}), from)
	assert.Empty(t, got)

	// What is not explained is asked for.
	got, ask = parseMDNS(records(t, func(name func(string) dnsmessage.Name, add func(string, dnsmessage.ResourceBody)) {
		add(mdnsTypes, &dnsmessage.PTRResource{PTR: name("_lock._tcp.local.")})
	}), from)
	require.Len(t, got, 1)
	assert.Equal(t, uint16(0), got[0].Address.Port(), "it is there, nobody knows where to talk to it")
	var question dnsmessage.Message
	require.NoError(t, question.Unpack(ask))
	assert.Equal(t, "_lock._tcp.local.", question.Questions[0].Name.String())

	for why, packet := range map[string][]byte{"a question": mdnsQuestions(dnsmessage.TypePTR, mdnsServices), "nothing": nil, "noise": []byte("\xff\xff\xff\xff"), "cut off": gateRecords(t)[:40]} {
		got, ask := parseMDNS(packet, from)
		assert.Empty(t, got, why)
		assert.Nil(t, ask, why)
	}
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

const search = "HTTP/1.1 200 OK\r\nST: upnp:rootdevice\r\nUSN: uuid:AB::upnp:rootdevice\r\nSERVER: hub/1\r\nLOCATION: http://10.20.4.11:8080/description.xml\r\n\r\n"

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
	assert.Equal(t, uint16(0), got[0].Address.Port(), "but it cannot send us to somebody else")

	got, _ = parseSSDP([]byte("HTTP/1.1 200 OK\r\nST: "+redfishType+"\r\nUSN: uuid:1\r\nAL: <https://10.20.4.11/redfish/v1/>\r\n\r\n"), from)
	require.Len(t, got, 1)
	assert.Equal(t, netip.AddrPortFrom(host, 443), got[0].Address)
	assert.True(t, got[0].TLS && got[0].Look)

	for _, packet := range []string{"", "NOTIFY * HTTP/1.1\r\n\r\n", "HTTP/1.1 404 no\r\n\r\n", "HTTP/1.1 200 OK\r\nx", "HTTP/1.1",
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
		if facts, _, ok := snmp.Understand(packet); ok && (facts.Called != text.Clean(facts.Called) || facts.Says != text.Clean(facts.Says)) {
			t.Errorf("texts that are not clean: %q", facts)
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
	assert.False(t, ok, "an answer to somebody else")
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
		{Name: "eth0", Up: true, Multicast: true, Addresses: prefixes("10.20.4.250/24", "fe80::1/64")},
		{Name: "eth1", Multicast: true, Addresses: prefixes("10.20.5.250/24")},
		{Name: "eth2", Up: true, Multicast: true},
	}
	for want, c := range map[string]string{"eth0": "eth0", "10.20.4.250": "eth0", "lo": "lo", "127.0.0.9": "lo"} {
		got, err := Choose(all, want)
		require.NoError(t, err, want)
		assert.Equal(t, c, got[0].Name)
	}
	for want, text := range map[string]string{"eth9": "this machine has lo, eth0, eth1, eth2", "eth1": "is down", "eth2": "has no address"} {
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
	assert.Contains(t, n.astray(all)[0], "10.99.0.1-10.99.0.9 is in no network of this machine (it is in eth0 10.20.4.250/24, eth1 10.20.5.250/24)")
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

func TestMergeByHost(t *testing.T) {
	found := merge(dialects, []Sighting{
		{Via: "ssh", Address: at("10.20.4.11:22"), Trouble: device.Because(device.NotRecognised, "it speaks SSH"), Facts: device.Reading{Says: "SSH-2.0-x"}},
		{Via: "snmp", Address: at("10.20.4.11:161"), Dialect: "snmp", Version: snmp.V2c, Facts: device.Reading{Called: "host"}},
		{Via: "http", Address: at("10.20.4.11:80"), Dialect: "onvif", Path: "/p", Facts: device.Reading{Identity: device.Identity{Model: "WX-40"}}},
		{Via: "mdns", Address: netip.AddrPortFrom(netip.MustParseAddr("10.20.4.11"), 0)},
		{Via: "ws-discovery", Address: at("[fe80::1]:80"), Dialect: "onvif", Path: "/p", Facts: device.Reading{Identity: device.Identity{UUID: "u"}}},
		{Via: "ws-discovery", Address: at("10.20.4.11:80"), Dialect: "onvif", Path: "/p", Facts: device.Reading{Identity: device.Identity{UUID: "u"}}},
	})
	require.Len(t, found, 1, "one host, and its address of the other kind by its UUID")
	assert.Equal(t, []string{"http", "mdns", "snmp", "ssh", "ws-discovery"}, found[0].FoundVia)
	assert.Equal(t, "onvif", found[0].talks[0].Dialect)
	assert.Equal(t, "SSH-2.0-x", found[0].Says)

	// A host with two of a kind is a door to several: only one port is one device.
	found = merge(dialects, []Sighting{
		{Via: "http", Address: at("10.20.4.1:8001"), Dialect: "onvif"},
		{Via: "http", Address: at("10.20.4.1:8002"), Dialect: "onvif"},
		{Via: "snmp", Address: at("10.20.4.1:161"), Dialect: "snmp"},
		{Via: "mdns", Address: netip.AddrPortFrom(netip.MustParseAddr("10.20.4.1"), 0)},
	})
	assert.Len(t, found, 3)
}

func TestHardwareAddresses(t *testing.T) {
	a, b, c := netip.MustParseAddr("10.20.4.1"), netip.MustParseAddr("10.20.4.2"), netip.MustParseAddr("10.20.4.3")
	found := merge(dialects, []Sighting{{Via: "http", Address: netip.AddrPortFrom(a, 80)}, {Via: "http", Address: netip.AddrPortFrom(b, 80)}, {Via: "http", Address: netip.AddrPortFrom(c, 80)}})
	addMACs(found, map[netip.Addr]string{a: "02:00:5e:00:53:01", b: "02:00:5e:00:53:02", c: "02:00:5e:00:53:02"})
	assert.Equal(t, "02:00:5e:00:53:01", found[0].MAC)
	assert.Empty(t, found[1].MAC, "one address for two is a router's, not theirs")
	// It finds a device again that moved and tells no serial number.
	old, ok := same(device.Device{Endpoint: device.Endpoint{Address: "10.20.4.9:80"}, Reading: device.Reading{Identity: device.Identity{MAC: "02:00:5e:00:53:01"}}}, []device.Device{{ID: "d1", Endpoint: device.Endpoint{Address: "10.20.4.1:80"}, Reading: device.Reading{Identity: device.Identity{MAC: "02:00:5e:00:53:01"}}}}, nil)
	assert.True(t, ok)
	assert.Equal(t, "d1", old.ID)
	_, ok = same(device.Device{Endpoint: device.Endpoint{Address: "10.20.4.1:80"}, Reading: device.Reading{Identity: device.Identity{MAC: "02:00:5e:00:53:07"}}}, []device.Device{{ID: "d1", Endpoint: device.Endpoint{Address: "10.20.4.1:80"}, Reading: device.Reading{Identity: device.Identity{MAC: "02:00:5e:00:53:01"}}}}, nil)
	assert.False(t, ok, "another hardware address at the same address is another device")
}

func TestKeyring(t *testing.T) {
	k := newKeyring([]Key{{Address: "10.20.4.11:443", Kind: device.KeyTLS, Fingerprint: "SHA256:a"}})
	assert.NoError(t, k.check("10.20.4.11:443", device.KeyTLS, "SHA256:a"))
	assert.NoError(t, k.check("10.20.4.11:22", device.KeySSH, "SHA256:s"))
	assert.NoError(t, k.check("10.20.4.11:22", device.KeySSH, "SHA256:s"), "the first contact is remembered")
	assert.NoError(t, k.changed(netip.MustParseAddr("10.20.4.11")))
	err := k.check("10.20.4.11:443", device.KeyTLS, "SHA256:b\x1b[2J")
	require.ErrorIs(t, err, device.ErrIdentityChanged)
	assert.EqualError(t, err, "its TLS certificate changed: was SHA256:a, now SHA256:b[2J")
	assert.ErrorIs(t, k.changed(netip.MustParseAddr("10.20.4.11")), device.ErrIdentityChanged, "for all ports of the host")
	assert.Equal(t, []Key{{Address: "10.20.4.11:22", Kind: device.KeySSH, Fingerprint: "SHA256:s"}}, k.fresh)
	assert.Len(t, k.refused, 1)
}

var dialects = dialect.NewRegistry(onvif.Dialect{}, httpjson.Dialect{}, redfish.Dialect{}, snmp.Dialect{})

func newScanner(patience time.Duration) *Scanner {
	s := &Scanner{Dialects: dialects, Patience: patience,
		Logins: func(device.Device) []login.Credential { return nil }, Log: slog.New(slog.DiscardHandler)}
	s.keys = newKeyring(nil)
	return s
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
	other := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { elsewhere.Add(1) }))
	t.Cleanup(func() { // once all of them have ended
		other.Close()
		assert.Zero(t, elsewhere.Load(), "nobody was followed to another host")
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
				if _, err := c.Write([]byte("HTTP/1.1 200 OK\r\nContent-Length: 99\r\n\r\nslowly slowly slowly")[i%50 : i%50+1]); err != nil {
					return
				}
				time.Sleep(time.Second)
			}
		}), "takes connections and answers nothing"},
		"headers without end": {raw(func(c net.Conn) {
			_, _ = io.WriteString(c, "HTTP/1.1 200 OK\r\n")
			for {
				if _, err := fmt.Fprintf(c, "X-Filler: %s\r\n", filled[:1000]); err != nil {
					return
				}
			}
		}), ""},
		"entities": {web(func(w http.ResponseWriter, _ *http.Request) {
			_, _ = io.WriteString(w, `<!DOCTYPE x [<!ENTITY a "aaaaaaaaaa"><!ENTITY b "&a;&a;&a;&a;&a;&a;&a;&a;">]><Envelope><Body>&b;&b;</Body></Envelope>`)
		}), "answers, but Catena does not know how to read it"},
		"nested a hundred thousand times": {web(func(w http.ResponseWriter, _ *http.Request) {
			_, _ = io.WriteString(w, strings.Repeat("<a>", 80_000))
		}), "answers, but Catena does not know how to read it"},
		"a redirect to another host": {web(func(w http.ResponseWriter, r *http.Request) { http.Redirect(w, r, other.URL, http.StatusFound) }), "answers, but Catena does not know how to read it"},
		"a redirect in a circle":     {web(func(w http.ResponseWriter, r *http.Request) { http.Redirect(w, r, r.URL.Path, http.StatusFound) }), "answers, but Catena does not know how to read it"},
		"terminal codes in its name": {web(func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Server", "x\x1b[2Jy")
			_, _ = io.WriteString(w, "<title>a\nb\x1b]0;evil\x07</title>")
		}), "answers, but Catena does not know how to read it"},
		"it hangs up": {raw(func(net.Conn) {}), "answers, but Catena does not know how to read it"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			s := newScanner(1500 * time.Millisecond)
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
			_, _ = device.WriteTo([]byte(strings.Replace(search, "uuid:AB", fmt.Sprintf("uuid:%d", i), 1)), to)
		}
	}()
	to := netip.MustParseAddrPort(device.LocalAddr().String())
	open := func() (*net.UDPConn, error) { return net.ListenUDP("udp4", nil) }
	n := 0
	w := way{name: "ssdp", wait: 300 * time.Millisecond, messages: [][]byte{[]byte("x")}, read: parseSSDP}
	require.NoError(t, w.exchange(context.Background(), open, []netip.AddrPort{to}, func(Sighting) { n++ }))
	assert.LessOrEqual(t, n, maxTalk, "one address gives so many answers and no more")
	assert.Positive(t, n)
}

func TestKeepIsBounded(t *testing.T) {
	h := &hearing{scanner: newScanner(time.Second), looked: map[netip.AddrPort]bool{}, outside: map[netip.Addr]bool{}, looksAt: map[netip.Addr]int{}}
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
