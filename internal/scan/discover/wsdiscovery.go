package discover

import (
	"context"
	"encoding/xml"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"strings"
	"sync"
	"time"

	"github.com/google/uuid"

	"catena/internal/device"
	"catena/internal/dialect/onvif"
	"catena/internal/text"
	"catena/internal/wire"
)

// WS-Discovery, SOAP 1.2 over UDP: OASIS 1.1, and the namespace of 2005/04 that ONVIF
// (Core, 7.3) and DPWS 2006 use.
const (
	wsdPort = 3702
	wsd2005 = "http://schemas.xmlsoap.org/ws/2005/04/discovery"
	wsd11   = "http://docs.oasis-open.org/ws-dd/ns/discovery/2009/01"
	// A device waits up to 500 ms before it answers (APP_MAX_DELAY, 2005/04, 2.4 and
	// 1.1, 3.1.3), so that not all answer at once.
	wsdWait = 900 * time.Millisecond
)

// wsDiscovery asks for all devices, and by their types for cameras and for what follows
// the device profile (DPWS 2006): some answer only to that.
func (s *Discoverer) wsDiscovery() way {
	// Each question has its own number: a device answers one number once.
	asked := &numbers{given: map[string]bool{}}
	const cameras = `<d:Types xmlns:dn="http://www.onvif.org/ver10/network/wsdl">dn:NetworkVideoTransmitter</d:Types>`
	const profile = `<d:Types xmlns:wsdp="http://schemas.xmlsoap.org/ws/2006/02/devprof">wsdp:Device</d:Types>`
	return way{
		// a Resolve goes to all: 2005/04, 6.1
		name: "ws-discovery", port: wsdPort, wait: wsdWait, replyAll: true,
		group4: netip.MustParseAddr("239.255.255.250"), group6: netip.MustParseAddr("ff02::c"),
		groupPort: wsdPort,
		messages: [][]byte{wsdMessage(wsd2005, asked.next(), "Probe", cameras),
			wsdMessage(wsd2005, asked.next(), "Probe", ""),
			wsdMessage(wsd2005, asked.next(), "Probe", profile),
			wsdMessage(wsd11, asked.next(), "Probe", "")},
		read: func(packet []byte, from netip.AddrPort) ([]Sighting, []byte) {
			return parseMatches(packet, asked, from.Addr())
		},
	}
}

// numbers are the MessageIDs of the questions that were asked.
type numbers struct {
	mu    sync.Mutex
	given map[string]bool
}

func (n *numbers) next() string {
	n.mu.Lock()
	defer n.mu.Unlock()
	id := "urn:uuid:" + uuid.NewString()
	n.given[id] = true
	return id
}

func (n *numbers) has(id string) bool {
	n.mu.Lock()
	defer n.mu.Unlock()
	return n.given[id]
}

// wsdMessage writes a Probe or a Resolve of either version.
func wsdMessage(ns, id, action, what string) []byte {
	addressing, to := "http://schemas.xmlsoap.org/ws/2004/08/addressing",
		"urn:schemas-xmlsoap-org:ws:2005:04:discovery"
	if ns == wsd11 {
		addressing, to = "http://www.w3.org/2005/08/addressing",
			"urn:docs-oasis-open-org:ws-dd:ns:discovery:2009:01"
	}
	return []byte(`<?xml version="1.0" encoding="UTF-8"?><s:Envelope xmlns:s="http://www.w3.org/2003/05/soap-envelope"` +
		` xmlns:a="` + addressing + `" xmlns:d="` + ns + `"><s:Header><a:MessageID>` + id +
		`</a:MessageID>` +
		`<a:To>` + to + `</a:To><a:Action>` + ns + `/` + action + `</a:Action></s:Header>` +
		`<s:Body><d:` + action + `>` + what + `</d:` + action + `></s:Body></s:Envelope>`)
}

// wsdMatch is one device in an answer.
type wsdMatch struct {
	Endpoint string `xml:"EndpointReference>Address"`
	Types    string `xml:"Types"`
	Scopes   string `xml:"Scopes"`
	XAddrs   string `xml:"XAddrs"`
}

// matches is a ProbeMatches (2005/04, 5.3; 1.1, 5.3) or a ResolveMatches message.
type matches struct {
	XMLName   xml.Name   `xml:"Envelope"`
	RelatesTo string     `xml:"Header>RelatesTo"`
	Action    string     `xml:"Header>Action"`
	Matches   []wsdMatch `xml:"Body>ProbeMatches>ProbeMatch"`
	Resolved  []wsdMatch `xml:"Body>ResolveMatches>ResolveMatch"`
}

// maxMatches is how many devices one answer may name. A proxy names several; the
// rest is someone's joke.
const maxMatches = 256

// parseMatches reads one answer. Only what answers our question counts, and of the
// addresses it names only those on the host that it came from: no one can send us
// with a password to someone else. A device that names no address is asked for it.
func parseMatches(packet []byte, asked *numbers, from netip.Addr) (out []Sighting, resolve []byte) {
	var m matches
	if deep(packet) || xml.Unmarshal(packet, &m) != nil ||
		!asked.has(strings.TrimSpace(m.RelatesTo)) {
		return nil, nil
	}
	all := append(m.Matches, m.Resolved...)
	for _, match := range all[:min(len(all), maxMatches)] {
		endpoint := text.Clean(strings.TrimSpace(match.Endpoint))
		named := false
		for x := range strings.FieldsSeq(match.XAddrs) {
			u, address, ok := ownURL(x, from)
			if !ok {
				continue
			}
			named = true
			name, model := onvif.Scopes(strings.Fields(match.Scopes))
			sight := Sighting{Via: "ws-discovery", Address: address, TLS: u.Scheme == "https",
				Path: cleanPath(u),
				Facts: device.Reading{Called: name,
					Identity: device.Identity{Model: model, UUID: endpoint}}}
			if strings.Contains(match.Types, "NetworkVideoTransmitter") || model != "" {
				sight.Dialect = onvif.Name
			} else {
				sight.more, sight.Look = wsdMetadata, true
			}
			out = append(out, sight)
			break
		}
		if !named && len(m.Resolved) == 0 && strings.TrimSpace(match.XAddrs) == "" &&
			strings.HasPrefix(endpoint, "urn:") && !strings.ContainsAny(endpoint, `<>&"'`) {
			ns := wsd2005
			if strings.Contains(m.Action, wsd11) {
				ns = wsd11
			}
			resolve = wsdMessage(ns, asked.next(), "Resolve",
				`<a:EndpointReference><a:Address>`+endpoint+`</a:Address></a:EndpointReference>`)
			out = append(out, Sighting{Via: "ws-discovery", Address: netip.AddrPortFrom(from, 0),
				Facts: device.Reading{Identity: device.Identity{UUID: endpoint}}})
		}
	}
	return out, resolve
}

// ownURL reads an address that a device gave for itself: HTTP, with or without TLS, on
// the host that it speaks from.
func ownURL(text string, from netip.Addr) (*url.URL, netip.AddrPort, bool) {
	u, err := url.Parse(strings.TrimSpace(text))
	if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.User != nil {
		return nil, netip.AddrPort{}, false
	}
	port := u.Port()
	if port == "" {
		port = map[string]string{"http": "80", "https": "443"}[u.Scheme]
	}
	address, err := netip.ParseAddrPort(net.JoinHostPort(u.Hostname(), port))
	if err != nil || address.Addr().Unmap().WithZone("") != from.WithZone("") {
		return nil, netip.AddrPort{}, false
	}
	return u, netip.AddrPortFrom(from, address.Port()), true
}

// cleanPath is the path that a device announced, where it is a plain one.
func cleanPath(u *url.URL) string {
	p := u.EscapedPath()
	if u.RawQuery != "" || len(p) > text.Max || !strings.HasPrefix(p, "/") {
		return ""
	}
	return p
}

// deep tells whether a packet nests elements deeper than any message of ours: the XML
// package would follow it all the way down.
func deep(packet []byte) bool {
	const most = 48
	depth := 0
	for i := 0; i+1 < len(packet); i++ {
		if packet[i] != '<' {
			continue
		}
		switch next := packet[i+1]; {
		case next == '/':
			depth--
		case next != '?' && next != '!':
			end := i + 1
			for end < len(packet) && packet[end] != '>' {
				end++
			}
			if packet[end-1] != '/' {
				depth++
			}
		}
		if depth > most {
			return true
		}
	}
	return false
}

// wsdMetadata asks a device for its description (DPWS 1.1, 5: WS-Transfer Get), which
// is open to all.
func wsdMetadata(ctx context.Context, s Sighting) device.Reading {
	path := s.Path
	if path == "" || s.Facts.UUID == "" || strings.ContainsAny(s.Facts.UUID, `<>&"'`) {
		return device.Reading{}
	}
	const get = "http://schemas.xmlsoap.org/ws/2004/09/transfer/Get"
	body := `<?xml version="1.0" encoding="UTF-8"?><s:Envelope xmlns:s="http://www.w3.org/2003/05/soap-envelope" xmlns:a="http://schemas.xmlsoap.org/ws/2004/08/addressing">` +
		`<s:Header><a:MessageID>urn:uuid:` + uuid.NewString() + `</a:MessageID><a:To>` + s.Facts.UUID +
		`</a:To>` +
		`<a:ReplyTo><a:Address>http://schemas.xmlsoap.org/ws/2004/08/addressing/role/anonymous</a:Address></a:ReplyTo>` +
		`<a:Action>` + get + `</a:Action></s:Header><s:Body/></s:Envelope>`
	at := s.Endpoint()
	r, err := http.NewRequest(http.MethodPost, at.URL(path), strings.NewReader(body))
	if err != nil {
		return device.Reading{}
	}
	r.Header.Set("Content-Type", "application/soap+xml; charset=utf-8")
	a, err := wire.NewHTTP(nil).Ask(ctx, r)
	if err != nil || a.Status != http.StatusOK || deep(a.Body) {
		return device.Reading{}
	}
	var m struct {
		XMLName  xml.Name `xml:"Envelope"`
		Sections []struct {
			Name     string `xml:"ThisDevice>FriendlyName"`
			Version  string `xml:"ThisDevice>FirmwareVersion"`
			Serial   string `xml:"ThisDevice>SerialNumber"`
			Maker    string `xml:"ThisModel>Manufacturer"`
			Model    string `xml:"ThisModel>ModelName"`
			Computer string `xml:"Relationship>Host>Computer"`
		} `xml:"Body>Metadata>MetadataSection"`
	}
	if xml.Unmarshal(a.Body, &m) != nil {
		return device.Reading{}
	}
	var f device.Reading
	for _, x := range m.Sections[:min(len(m.Sections), 16)] {
		for _, p := range []struct{ to, from *string }{{&f.Called, &x.Name},
			{&f.Version, &x.Version}, {&f.Serial, &x.Serial}, {&f.Vendor, &x.Maker}, {&f.Model,
				&x.Model}, {&f.Says, &x.Computer}} {
			if *p.to == "" {
				*p.to = *p.from
			}
		}
	}
	return f.Clean()
}
