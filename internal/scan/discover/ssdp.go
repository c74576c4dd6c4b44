package discover

import (
	"bufio"
	"bytes"
	"context"
	"encoding/xml"
	"net/http"
	"net/netip"
	"strings"
	"time"

	"catena/internal/device"
	"catena/internal/text"
	"catena/internal/wire"
)

// SSDP: UPnP Device Architecture 1.1, section 1. A Redfish service answers to a type of
// its own (DSP0266, 10.2).
const (
	ssdpPort = 1900
	// A device waits up to MX seconds before it answers (1.3.2); 1 is the least.
	ssdpWait    = 1100 * time.Millisecond
	redfishType = "urn:dmtf-org:service:redfish-rest:1"
)

func (s *Discoverer) ssdp() way {
	w := way{name: "ssdp", port: ssdpPort, wait: ssdpWait,
		group4: netip.MustParseAddr("239.255.255.250"), group6: netip.MustParseAddr("ff02::c"),
		groupPort: ssdpPort, read: parseSSDP}
	for _, target := range []string{"upnp:rootdevice", redfishType} {
		w.messages = append(w.messages,
			[]byte("M-SEARCH * HTTP/1.1\r\nHOST: 239.255.255.250:1900\r\nMAN: \"ssdp:discover\"\r\nMX: "+
				"1\r\nST: "+target+"\r\n\r\n"))
	}
	return w
}

// parseSSDP reads an answer, which is an HTTP response in a datagram (1.3.3). What it
// points to must be on the host that it came from.
func parseSSDP(packet []byte, from netip.AddrPort) ([]Sighting, []byte) {
	if !bytes.HasPrefix(packet, []byte("HTTP/1.")) {
		return nil, nil
	}
	resp, err := http.ReadResponse(bufio.NewReader(bytes.NewReader(packet)), nil)
	if err != nil || resp.StatusCode != http.StatusOK {
		return nil, nil
	}
	_ = resp.Body.Close()
	id, _, _ := strings.Cut(resp.Header.Get("USN"), "::")
	if strings.HasPrefix(id, "uuid:") {
		id = "urn:" + strings.ToLower(id)
	}
	sight := Sighting{Via: "ssdp", Address: netip.AddrPortFrom(from.Addr(), 0),
		Facts: device.Reading{Identity: device.Identity{UUID: text.Clean(id)},
			Says: text.Clean(resp.Header.Get("SERVER"))}}
	where := resp.Header.Get("LOCATION")
	if al := resp.Header.Get("AL"); al != "" && resp.Header.Get("ST") == redfishType {
		where = strings.Trim(al, "<> ")
	}
	u, address, ok := ownURL(where, from.Addr())
	if !ok {
		return []Sighting{sight}, nil
	}
	sight.Address, sight.TLS, sight.Look, sight.Path = address, u.Scheme == "https", true, cleanPath(u)
	if resp.Header.Get("ST") == redfishType {
		sight.Path = ""
	} else {
		sight.more = upnpDescription
	}
	return []Sighting{sight}, nil
}

// upnpDescription asks a device for its description (UPnP DA 1.1, 2.3), which is open to
// all.
func upnpDescription(ctx context.Context, s Sighting) device.Reading {
	at := s.Endpoint()
	r, err := http.NewRequest(http.MethodGet, at.URL(s.Path), nil)
	if err != nil {
		return device.Reading{}
	}
	a, err := wire.NewHTTP(nil).Ask(ctx, r)
	if err != nil || a.Status != http.StatusOK || deep(a.Body) {
		return device.Reading{}
	}
	var d struct {
		XMLName xml.Name `xml:"root"`
		Device  struct {
			Name   string `xml:"friendlyName"`
			Maker  string `xml:"manufacturer"`
			Model  string `xml:"modelName"`
			Serial string `xml:"serialNumber"`
		} `xml:"device"`
	}
	if xml.Unmarshal(a.Body, &d) != nil {
		return device.Reading{}
	}
	return device.Reading{Identity: device.Identity{Vendor: d.Device.Maker, Model: d.Device.Model,
		Serial: d.Device.Serial}, Called: d.Device.Name}.Clean()
}
