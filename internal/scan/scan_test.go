package scan

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/device"
	"catena/internal/site"
	"catena/internal/text"
)

func at(s string) netip.AddrPort { return netip.MustParseAddrPort(s) }

func sighting(heard, address, uuid, name string) Sighting {
	return Sighting{Via: heard, Address: at(address), Dialect: "onvif", Facts: device.Reading{Identity: device.Identity{UUID: uuid}, Called: name}}
}

func TestOneDeviceHeardTwiceIsOne(t *testing.T) {
	found := merge(dialects, []Sighting{
		sighting("http", "10.20.4.11:80", "", ""),
		sighting("ws-discovery", "10.20.4.11:80", "urn:uuid:1", "cam-11"),
		sighting("ws-discovery", "10.20.4.11:80", "urn:uuid:1", "cam-11"),
		sighting("ws-discovery", "10.20.4.12:80", "urn:uuid:2", "cam-12"),
		{Via: "http", Address: at("10.20.4.9:80"), Trouble: device.Because(device.NotRecognised, "")},
	})
	require.Len(t, found, 3)
	assert.Equal(t, "10.20.4.9:80", found[0].Address)
	assert.False(t, found[0].Known())
	assert.Equal(t, []string{"http", "ws-discovery"}, found[1].FoundVia)
	assert.Equal(t, "cam-11", found[1].Called)
}

func TestOneSerialOnOneHostIsOne(t *testing.T) {
	found := fold([]*found{
		{Device: device.Device{FoundVia: []string{"http"}, Endpoint: device.Endpoint{Address: "10.20.4.11:80"}, Reading: device.Reading{Identity: device.Identity{Vendor: "Wexcombe", Serial: "S-1"}}}},
		{Device: device.Device{FoundVia: []string{"http"}, Endpoint: device.Endpoint{Address: "10.20.4.11:8080"}, Reading: device.Reading{Identity: device.Identity{Vendor: "Wexcombe", Serial: "S-1"}}}},
		{Device: device.Device{Endpoint: device.Endpoint{Address: "10.20.4.12:80"}, Reading: device.Reading{Identity: device.Identity{Vendor: "Wexcombe", Serial: "S-1"}}}},
		{Device: device.Device{Endpoint: device.Endpoint{Address: "10.20.4.13:80"}}},
	})
	assert.Len(t, found, 3)
}

func settled(found, known []device.Device, ranges string) Result {
	var r Result
	var pointers []*device.Device
	for i := range found {
		found[i].Called, found[i].Name = found[i].Name, "" // what it calls itself
		pointers = append(pointers, &found[i])
	}
	first, _ := site.ParseRange(ranges)
	r.settle(&Scanner{}, pointers, known, []Network{{Ranges: []site.Range{first}, usual: []uint16{80}}})
	return r
}

func TestSettle(t *testing.T) {
	known := []device.Device{
		{ID: "d1", Name: "cam-11", Access: device.OK, Endpoint: device.Endpoint{Address: "10.20.4.11:80"}, Reading: device.Reading{Identity: device.Identity{Vendor: "Wexcombe", Serial: "S-1"}, Version: "3.1.0"}},
		{ID: "d2", Name: "cam-12", Access: device.OK, Endpoint: device.Endpoint{Address: "10.20.4.12:80"}, Reading: device.Reading{Identity: device.Identity{Vendor: "Wexcombe", Serial: "S-2"}, Version: "3.1.0"}},
		{ID: "d3", Name: "cam-13", Access: device.OK, Endpoint: device.Endpoint{Address: "10.20.9.13:80"}, Reading: device.Reading{Identity: device.Identity{Vendor: "Wexcombe", Serial: "S-3"}}},
	}
	r := settled([]device.Device{
		// The first has another version and has moved to another address.
		{Name: "cam-11", Access: device.OK, Endpoint: device.Endpoint{Address: "10.20.4.31:80"}, Reading: device.Reading{Identity: device.Identity{Vendor: "Wexcombe", Serial: "S-1"}, Version: "3.2.1"}},
		// A newcomer claims its name.
		{Name: "cam-11", Access: device.OK, Endpoint: device.Endpoint{Address: "10.20.4.40:80"}, Reading: device.Reading{Identity: device.Identity{Vendor: "Wexcombe", Serial: "S-9"}}},
		// Another device is where the second was.
		{Name: "cam-14", Access: device.OK, Endpoint: device.Endpoint{Address: "10.20.4.12:80"}, Reading: device.Reading{Identity: device.Identity{Vendor: "Wexcombe", Serial: "S-8"}}},
	}, known, "10.20.4.0/24")
	assert.ElementsMatch(t, []string{"cam-11~2", "cam-14"}, r.New)
	assert.Contains(t, r.Changed, Change{"cam-11", "version", "3.1.0", "3.2.1"})
	assert.Contains(t, r.Changed, Change{"cam-11", "address", "10.20.4.11:80", "10.20.4.31:80"})
	require.Len(t, r.Gone, 1, "the third was not looked for")
	assert.Equal(t, "cam-12", r.Gone[0].Name)
	assert.Empty(t, r.Warnings)
}

func TestWhatIsNotSaidIsRemembered(t *testing.T) {
	known := []device.Device{{ID: "d1", Name: "cam-11", Access: device.OK, Endpoint: device.Endpoint{Address: "10.20.4.11:80"}, Reading: device.Reading{Identity: device.Identity{Serial: "S-1", UUID: "u"}, Version: "3.1.0"}}}
	r := settled([]device.Device{{Access: device.LoginRefused, Endpoint: device.Endpoint{Address: "10.20.4.11:80"}, Reading: device.Reading{Identity: device.Identity{UUID: "u"}}}}, known, "10.20.4.0/24")
	require.Len(t, r.Devices, 1)
	assert.Equal(t, "S-1", r.Devices[0].Serial)
	assert.Equal(t, "3.1.0", r.Devices[0].Version)
	assert.Equal(t, []Change{{"cam-11", "access", "ok", "login-refused"}}, r.Changed)
}

func TestTwoThatClaimOneSerial(t *testing.T) {
	r := settled([]device.Device{
		{Name: "cam-11", Access: device.OK, Endpoint: device.Endpoint{Address: "10.20.4.11:80"}, Reading: device.Reading{Identity: device.Identity{Serial: "S-1"}}},
		{Name: "cam-12", Access: device.OK, Endpoint: device.Endpoint{Address: "10.20.4.12:80"}, Reading: device.Reading{Identity: device.Identity{Serial: "S-1"}}},
	}, nil, "10.20.4.0/24")
	assert.Len(t, r.Devices, 2, "both are shown")
	assert.Equal(t, []string{"cam-11 and cam-12 both say they are serial number S-1"}, r.Warnings)
}

const id = "urn:uuid:ask"

func match(relates, xaddrs, scopes string) []byte {
	return fmt.Appendf(nil, `<e:Envelope xmlns:e="http://www.w3.org/2003/05/soap-envelope" xmlns:a="a" xmlns:d="d"><e:Header><a:RelatesTo>%s</a:RelatesTo></e:Header>
<e:Body><d:ProbeMatches><d:ProbeMatch><a:EndpointReference><a:Address>urn:uuid:1</a:Address></a:EndpointReference><d:Scopes>%s</d:Scopes><d:XAddrs>%s</d:XAddrs>
</d:ProbeMatch></d:ProbeMatches></e:Body></e:Envelope>`, relates, scopes, xaddrs)
}

func TestParseMatches(t *testing.T) {
	from := netip.MustParseAddr("10.20.4.11")
	got, _ := parseMatches(match(id, "http://[fe80::1]/x http://10.20.4.11:8080/onvif/device_service", "onvif://www.onvif.org/name/cam%2011"), []string{id}, from)
	require.Len(t, got, 1)
	assert.Equal(t, at("10.20.4.11:8080"), got[0].Address)
	assert.Equal(t, "/onvif/device_service", got[0].Path)
	assert.Equal(t, "cam 11", got[0].Facts.Called)

	for why, packet := range map[string][]byte{
		"answers somebody else": match("urn:uuid:other", "http://10.20.4.11/x", ""),
		"points elsewhere":      match(id, "http://10.20.4.99/x http://upstream/x", ""),
		"another scheme":        match(id, "file:///etc/passwd", ""),
		"not XML":               []byte("\x00\x01"),
		"cut off":               match(id, "http://10.20.4.11/x", "")[:200],
		"nested":                []byte(strings.Repeat("<a>", 100_000)),
	} {
		got, _ := parseMatches(packet, []string{id}, from)
		assert.Empty(t, got, why)
	}
}

func FuzzParseMatches(f *testing.F) {
	f.Add(match(id, "http://10.20.4.11/x", "onvif://www.onvif.org/name/%zz"))
	f.Add([]byte("<Envelope><Header><RelatesTo>" + id))
	from := netip.MustParseAddr("10.20.4.11")
	f.Fuzz(func(t *testing.T, packet []byte) {
		got, _ := parseMatches(packet, []string{id}, from)
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
	n := Network{Ranges: []site.Range{r}, Except: []site.Range{except}, Ports: []site.Port{{Number: 80}, {Number: 8080}, {Way: "snmp", Number: 1161}}}
	assert.Equal(t, []netip.AddrPort{at("10.20.4.1:80"), at("10.20.4.1:8080"), at("10.20.4.3:80"), at("10.20.4.3:8080")}, slices.Collect(n.each))
}
