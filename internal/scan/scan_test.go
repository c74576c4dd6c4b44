package scan

import (
	"log/slog"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/device"
	"catena/internal/dialect"
	"catena/internal/dialect/bacnet"
	"catena/internal/dialect/onvif"
	"catena/internal/dialect/redfish"
	"catena/internal/dialect/simtest"
	"catena/internal/dialect/snmp"
	"catena/internal/login"
	"catena/internal/scan/discover"
	"catena/internal/site"
)

func at(s string) netip.AddrPort { return netip.MustParseAddrPort(s) }

func sighting(heard, address, uuid, name string) discover.Sighting {
	return discover.Sighting{Via: heard, Address: at(address), Dialect: "onvif",
		Facts: device.Reading{Identity: device.Identity{UUID: uuid}, Called: name}}
}

func TestOneDeviceHeardTwiceIsOne(t *testing.T) {
	found := merge(dialects, []discover.Sighting{
		sighting("http", "10.20.4.11:80", "", ""),
		sighting("ws-discovery", "10.20.4.11:80", "urn:uuid:1", "cam-11"),
		sighting("ws-discovery", "10.20.4.11:80", "urn:uuid:1", "cam-11"),
		sighting("ws-discovery", "10.20.4.12:80", "urn:uuid:2", "cam-12"),
		{Via: "http", Address: at("10.20.4.9:80"),
			Trouble: device.Because(device.NotRecognised, "")},
	})
	require.Len(t, found, 3)
	assert.Equal(t, "10.20.4.9:80", found[0].Address)
	assert.False(t, found[0].Known())
	assert.Equal(t, []string{"http", "ws-discovery"}, found[1].FoundVia)
	assert.Equal(t, "cam-11", found[1].Called)
}

func TestOneSerialOnOneHostIsOne(t *testing.T) {
	found := fold([]*found{
		{Device: device.Device{FoundVia: []string{"http"},
			Endpoint: device.Endpoint{Address: "10.20.4.11:80"},
			Reading: device.Reading{Identity: device.Identity{Vendor: "Wexcombe",
				Serial: "S-1"}}}},
		{Device: device.Device{FoundVia: []string{"http"},
			Endpoint: device.Endpoint{Address: "10.20.4.11:8080"},
			Reading: device.Reading{Identity: device.Identity{Vendor: "Wexcombe",
				Serial: "S-1"}}}},
		{Device: device.Device{Endpoint: device.Endpoint{Address: "10.20.4.12:80"},
			Reading: device.Reading{Identity: device.Identity{Vendor: "Wexcombe", Serial: "S-1"}}}},
		{Device: device.Device{Endpoint: device.Endpoint{Address: "10.20.4.13:80"}}},
	})
	assert.Len(t, found, 3)
}

func settled(found, known []device.Device, ranges string) Result {
	var r Result
	var pointers []*device.Device
	for i := range found {
		found[i].Called, found[i].Name = found[i].Name, "" // its own name
		pointers = append(pointers, &found[i])
	}
	first, _ := site.ParseRange(ranges)
	r.settle(&Scanner{keys: newKeyring(nil)}, pointers, known,
		[]discover.Network{{Ranges: []site.Range{first}, Ports: []site.Port{{Number: 80}}}})
	return r
}

func TestSettle(t *testing.T) {
	known := []device.Device{
		{ID: "d1", Name: "cam-11", Access: device.OK,
			Endpoint: device.Endpoint{Address: "10.20.4.11:80"},
			Reading: device.Reading{Identity: device.Identity{Vendor: "Wexcombe", Serial: "S-1"},
				Version: "3.1.0"}},
		{ID: "d2", Name: "cam-12", Access: device.OK,
			Endpoint: device.Endpoint{Address: "10.20.4.12:80"},
			Reading: device.Reading{Identity: device.Identity{Vendor: "Wexcombe", Serial: "S-2"},
				Version: "3.1.0"}},
		{ID: "d3", Name: "cam-13", Access: device.OK,
			Endpoint: device.Endpoint{Address: "10.20.9.13:80"},
			Reading:  device.Reading{Identity: device.Identity{Vendor: "Wexcombe", Serial: "S-3"}}},
	}
	r := settled([]device.Device{
		// The first has another version and has moved to another address.
		{Name: "cam-11", Access: device.OK, Endpoint: device.Endpoint{Address: "10.20.4.31:80"},
			Reading: device.Reading{Identity: device.Identity{Vendor: "Wexcombe", Serial: "S-1"},
				Version: "3.2.1"}},
		// A newcomer claims its name.
		{Name: "cam-11", Access: device.OK, Endpoint: device.Endpoint{Address: "10.20.4.40:80"},
			Reading: device.Reading{Identity: device.Identity{Vendor: "Wexcombe", Serial: "S-9"}}},
		// Another device is where the second was.
		{Name: "cam-14", Access: device.OK, Endpoint: device.Endpoint{Address: "10.20.4.12:80"},
			Reading: device.Reading{Identity: device.Identity{Vendor: "Wexcombe", Serial: "S-8"}}},
	}, known, "10.20.4.0/24")
	assert.ElementsMatch(t, []string{"cam-11~2", "cam-14"}, r.New)
	assert.Contains(t, r.Changed, Change{"cam-11", "version", "3.1.0", "3.2.1"})
	assert.Contains(t, r.Changed, Change{"cam-11", "address", "10.20.4.11:80", "10.20.4.31:80"})
	require.Len(t, r.Gone, 1, "the third was not looked for")
	assert.Equal(t, "cam-12", r.Gone[0].Name)
	assert.Empty(t, r.Warnings)
}

func TestWhatIsNotSaidIsRemembered(t *testing.T) {
	known := []device.Device{{ID: "d1", Name: "cam-11", Access: device.OK,
		Endpoint: device.Endpoint{Address: "10.20.4.11:80"},
		Reading: device.Reading{Identity: device.Identity{Serial: "S-1", UUID: "u"},
			Version: "3.1.0"}}}
	r := settled([]device.Device{{Access: device.LoginRefused,
		Endpoint: device.Endpoint{Address: "10.20.4.11:80"},
		Reading:  device.Reading{Identity: device.Identity{UUID: "u"}}}}, known, "10.20.4.0/24")
	require.Len(t, r.Devices, 1)
	assert.Equal(t, "S-1", r.Devices[0].Serial)
	assert.Equal(t, "3.1.0", r.Devices[0].Version)
	assert.Equal(t, []Change{{"cam-11", "access", "ok", "login-refused"}}, r.Changed)
}

func TestTwoThatClaimOneSerial(t *testing.T) {
	r := settled([]device.Device{
		{Name: "cam-11", Access: device.OK, Endpoint: device.Endpoint{Address: "10.20.4.11:80"},
			Reading: device.Reading{Identity: device.Identity{Serial: "S-1"}}},
		{Name: "cam-12", Access: device.OK, Endpoint: device.Endpoint{Address: "10.20.4.12:80"},
			Reading: device.Reading{Identity: device.Identity{Serial: "S-1"}}},
	}, nil, "10.20.4.0/24")
	assert.Len(t, r.Devices, 2, "both are shown")
	assert.Equal(t, []string{"cam-11 and cam-12 both report serial number S-1"}, r.Warnings)
}

var dialects = dialect.NewRegistry(onvif.Dialect{}, simtest.Family("tollgarth-gates"),
	redfish.Dialect{},
	snmp.Dialect{}, bacnet.Dialect{})

func newScanner(patience time.Duration) *Scanner {
	s := &Scanner{Dialects: dialects, Patience: patience,
		Logins: func(device.Device) []login.Credential { return nil },
		Log:    slog.New(slog.DiscardHandler)}
	s.keys = newKeyring(nil)
	return s
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
	found := join(merge(dialects, []discover.Sighting{
		{Via: "ssh", Address: at("10.20.4.11:22"),
			Trouble: device.Because(device.NotRecognised, "it speaks SSH"),
			Facts:   device.Reading{Says: "SSH-2.0-x"}},
		{Via: "snmp", Address: at("10.20.4.11:161"), Dialect: "snmp", Version: snmp.V2c,
			Facts: device.Reading{Called: "host"}},
		{Via: "http", Address: at("10.20.4.11:80"), Dialect: "onvif", Path: "/p",
			Facts: device.Reading{Identity: device.Identity{Model: "WX-40"}}},
		{Via: "mdns", Address: netip.AddrPortFrom(netip.MustParseAddr("10.20.4.11"), 0)},
		{Via: "ws-discovery", Address: at("[fe80::1]:80"), Dialect: "onvif", Path: "/p",
			Facts: device.Reading{Identity: device.Identity{UUID: "u"}}},
		{Via: "ws-discovery", Address: at("10.20.4.11:80"), Dialect: "onvif", Path: "/p",
			Facts: device.Reading{Identity: device.Identity{UUID: "u"}}},
	}), func(a, b netip.Addr) bool { return false })
	require.Len(t, found, 1, "one host, and its link-local address by its UUID")
	assert.Len(t, found[0].talks, 2, "the link-local address brings no way to talk")
	assert.Equal(t, []string{"http", "mdns", "snmp", "ssh", "ws-discovery"}, found[0].FoundVia)
	assert.Equal(t, "onvif", found[0].talks[0].Dialect)
	assert.Equal(t, "SSH-2.0-x", found[0].Says)

	// Anybody can say a UUID: at another address it is another device, unless both show one
	// key over IPv4 and IPv6.
	two := []discover.Sighting{
		{Via: "ws-discovery", Address: at("10.20.4.11:80"), Dialect: "onvif",
			Facts: device.Reading{Identity: device.Identity{UUID: "u"}}},
		{Via: "ws-discovery", Address: at("10.20.4.66:80"), Dialect: "onvif",
			Facts: device.Reading{Identity: device.Identity{UUID: "u"}}},
		{Via: "ws-discovery", Address: at("[2001:db8::11]:80"), Dialect: "onvif",
			Facts: device.Reading{Identity: device.Identity{UUID: "u"}}},
	}
	keyed := func(same bool) func(a, b netip.Addr) bool {
		return func(a, b netip.Addr) bool { return same }
	}
	assert.Len(t, join(merge(dialects, two), keyed(false)), 3)
	assert.Len(t, join(merge(dialects, two), keyed(true)), 2)

	// A host with two of a kind is a door to several: only one port is one device.
	found = merge(dialects, []discover.Sighting{
		{Via: "http", Address: at("10.20.4.1:8001"), Dialect: "onvif"},
		{Via: "http", Address: at("10.20.4.1:8002"), Dialect: "onvif"},
		{Via: "snmp", Address: at("10.20.4.1:161"), Dialect: "snmp"},
		{Via: "mdns", Address: netip.AddrPortFrom(netip.MustParseAddr("10.20.4.1"), 0)},
	})
	assert.Len(t, found, 3)
}

func TestHardwareAddresses(t *testing.T) {
	a, b, c := netip.MustParseAddr("10.20.4.1"), netip.MustParseAddr(
		"10.20.4.2"), netip.MustParseAddr("10.20.4.3")
	found := merge(dialects, []discover.Sighting{{Via: "http", Address: netip.AddrPortFrom(a, 80)},
		{Via: "http", Address: netip.AddrPortFrom(b, 80)},
		{Via: "http", Address: netip.AddrPortFrom(c, 80)}})
	addMACs(found, map[netip.Addr]string{a: "02:00:5e:00:53:01", b: "02:00:5e:00:53:02",
		c: "02:00:5e:00:53:02"})
	assert.Equal(t, "02:00:5e:00:53:01", found[0].MAC)
	assert.Empty(t, found[1].MAC, "one address for two is a router's, not theirs")
	// It finds a device again that moved and tells no serial number.
	known := []device.Device{{ID: "d1", Endpoint: device.Endpoint{Address: "10.20.4.1:80"},
		Reading: device.Reading{Identity: device.Identity{MAC: "02:00:5e:00:53:01"}}}}
	r := settled([]device.Device{{Endpoint: device.Endpoint{Address: "10.20.4.9:80"},
		Reading: device.Reading{Identity: device.Identity{MAC: "02:00:5e:00:53:01"}}}}, known,
		"10.20.4.0/24")
	require.Len(t, r.Devices, 1)
	assert.Equal(t, "d1", r.Devices[0].ID)
	assert.Equal(t, "10.20.4.1:80", r.Devices[0].Moved)
	r = settled([]device.Device{{Endpoint: device.Endpoint{Address: "10.20.4.1:80"},
		Reading: device.Reading{Identity: device.Identity{MAC: "02:00:5e:00:53:07"}}}}, known,
		"10.20.4.0/24")
	assert.Len(t, r.New, 1, "another MAC address at the same address is another device")
}

// Who claims to be a known device, and what it gets.
func TestClaims(t *testing.T) {
	at := func(address, serial, mac string) device.Device {
		return device.Device{Access: device.OK, Endpoint: device.Endpoint{Address: address},
			Reading: device.Reading{Identity: device.Identity{Vendor: "Wexcombe", Serial: serial,
				MAC: mac}}}
	}
	known := func(id, address, serial, mac string) device.Device {
		d := at(address, serial, mac)
		d.ID, d.Name = id, "cam-"+id
		return d
	}
	real, thief := at("10.20.4.11:80", "7", ""), at("10.20.4.3:80", "7", "")
	for name, c := range map[string]struct {
		known, found []device.Device
		ids, away    []string
	}{
		"the known address comes first": {[]device.Device{known("d1", "10.20.4.11:80", "7", "")},
			[]device.Device{thief, real}, []string{"", "d1"}, nil},
		"it has moved": {[]device.Device{known("d1", "10.20.4.11:80", "7", "")},
			[]device.Device{thief}, []string{"d1"}, nil},
		"of two newcomers it is neither": {[]device.Device{known("d1", "10.20.4.11:80", "7", "")},
			[]device.Device{thief, at("10.20.4.4:80", "7", "")}, []string{"", ""}, []string{"d1"}},
		"one that was not looked for has not moved": {[]device.Device{known("d1", "10.99.4.11:80",
			"7", "")},
			[]device.Device{thief}, []string{""}, nil},
		"a default serial number is no one's": {
			[]device.Device{known("d1", "10.20.4.11:80", "1", "02:00:5e:00:53:01")},
			[]device.Device{at("10.20.4.12:80", "1", "02:00:5e:00:53:02")}, []string{""},
			[]string{"d1"}},
	} {
		t.Run(name, func(t *testing.T) {
			r := settled(c.found, c.known, "10.20.4.0/24")
			var ids, away []string
			for _, d := range r.Devices {
				if d.Access == device.Away {
					away = append(away, d.ID)
					continue
				}
				ids = append(ids, d.ID)
			}
			assert.Equal(t, c.ids, ids, "all are visible")
			assert.Equal(t, c.away, away)
		})
	}
}

func TestKeyring(t *testing.T) {
	k := newKeyring([]Key{{Address: "10.20.4.11:443", Kind: device.KeyTLS,
		Fingerprint: "SHA256:a"}})
	assert.NoError(t, k.check("10.20.4.11:443", device.KeyTLS, "SHA256:a"))
	assert.NoError(t, k.check("10.20.4.11:22", device.KeySSH, "SHA256:s"))
	assert.NoError(t, k.check("10.20.4.11:22", device.KeySSH, "SHA256:s"),
		"the first contact is remembered")
	assert.NoError(t, k.changed(netip.MustParseAddr("10.20.4.11")))
	err := k.check("10.20.4.11:443", device.KeyTLS, "SHA256:b\x1b[2J")
	require.ErrorIs(t, err, device.ErrIdentityChanged)
	assert.EqualError(t, err, "its TLS certificate changed: was SHA256:a, now SHA256:b[2J")
	assert.ErrorIs(t, k.changed(netip.MustParseAddr("10.20.4.11")), device.ErrIdentityChanged,
		"for all ports of the host")
	assert.Equal(t, []Key{{Address: "10.20.4.11:22", Kind: device.KeySSH, Fingerprint: "SHA256:s"}},
		k.fresh)
	assert.Len(t, k.refused, 1)
}

// A range that is too large to be asked address by address marks no one as away.
func TestARangeThatWasNotAskedMarksNobody(t *testing.T) {
	s := newScanner(time.Second)
	d := device.Device{Endpoint: device.Endpoint{Address: "[2001:db8::11]:80"},
		FoundVia: []string{"http"}}
	wide := []discover.Network{{Ranges: ranges(t, "2001:db8::/32"),
		Ports: []site.Port{{Number: 80}}}}
	assert.False(t, s.lookedAt(d, wide))
	assert.True(t, s.lookedAt(d, []discover.Network{{Ranges: ranges(t, "2001:db8::10-2001:db8::20"),
		Ports: []site.Port{{Number: 80}}}}))
}

// A device that the site's files mean keeps its name when it tells another one: its hold stays
// with it.
func TestAReferredDeviceKeepsItsName(t *testing.T) {
	known := []device.Device{{ID: "d1", Name: "gate-5",
		Endpoint: device.Endpoint{Address: "10.20.4.105:80"},
		Reading:  device.Reading{Called: "gate-5"}}}
	for refers, name := range map[bool]string{true: "gate-5", false: "gate-6"} {
		now := device.Device{Endpoint: known[0].Endpoint, Reading: device.Reading{Called: "gate-6"}}
		var r Result
		s := &Scanner{keys: newKeyring(nil), Refers: func(device.Device) bool { return refers }}
		r.settle(s, []*device.Device{&now}, known, nil)
		require.Len(t, r.Devices, 1)
		assert.Equal(t, name, r.Devices[0].Name)
	}
}

// A scan of an address at which a device is known tries the port at which it is known, too; ports
// that someone names are respected.
func TestKnownPorts(t *testing.T) {
	s := newScanner(time.Second)
	known := []device.Device{
		{ID: "d1", Endpoint: device.Endpoint{Address: "10.20.4.101:8099", Dialect: "onvif"}},
		{
			ID:       "d2",
			Endpoint: device.Endpoint{Address: "10.20.4.102:80", Dialect: "onvif"},
		}, // tried anyway
		{ID: "d3", Endpoint: device.Endpoint{Address: "10.20.4.103:1161", Dialect: "snmp"}},
		{ID: "d4", Endpoint: device.Endpoint{Address: "10.20.5.104:8099", Dialect: "onvif"}}, // elsewhere
		{
			ID:       "d5",
			Endpoint: device.Endpoint{Address: "10.20.4.105:8099"},
		}, // not recognised then
	}
	in := []discover.Network{{Ranges: ranges(t, "10.20.4.0/24")},
		{Ranges: ranges(t, "10.20.4.0/24"), Ports: []site.Port{{Number: 443}}},
		{Ranges: ranges(t, "10.20.4.101"), Ports: []site.Port{{Number: 443}}, Known: true}}
	out, added := s.knownPorts(in, known)
	assert.Equal(t, 3, added)
	assert.Equal(t, ranges(t, "10.20.4.101", "10.20.4.101:8099"), out[2].Ranges)
	assert.Equal(
		t,
		append(ranges(t, "10.20.4.0/24"), ranges(t, "10.20.4.101:8099", "10.20.4.105:8099")...),
		out[0].Ranges,
	)
	assert.Equal(t, in[1], out[1])
	assert.Len(t, in[0].Ranges, 1)
}
