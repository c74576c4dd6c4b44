package camera

import (
	"encoding/xml"
	"fmt"
	"html"
	"net/url"
	"slices"
	"strings"

	"github.com/google/uuid"
)

// WS-Discovery as ONVIF uses it (Core, 7.3): the 2005/04 namespace, SOAP 1.2 over UDP.
const (
	wsdNS       = "http://schemas.xmlsoap.org/ws/2005/04/discovery"
	cameraType  = "NetworkVideoTransmitter"
	cameraSpace = "http://www.onvif.org/ver10/network/wsdl"
	deviceType  = "Device" // which every one is, too
	deviceSpace = "http://www.onvif.org/ver10/device/wsdl"
)

type probe struct {
	XMLName   xml.Name `xml:"http://www.w3.org/2003/05/soap-envelope Envelope"`
	Action    string   `xml:"Header>Action"`
	MessageID string   `xml:"Header>MessageID"`
	Body      struct {
		Probe *struct {
			Types  string `xml:"Types"`
			Scopes struct {
				MatchBy string `xml:"MatchBy,attr"`
				List    string `xml:",chardata"`
			} `xml:"Scopes"`
		} `xml:"http://schemas.xmlsoap.org/ws/2005/04/discovery Probe"`
		Resolve *struct {
			Address string `xml:"EndpointReference>Address"`
		} `xml:"http://schemas.xmlsoap.org/ws/2005/04/discovery Resolve"`
	} `xml:"http://www.w3.org/2003/05/soap-envelope Body"`
}

// hearProbe answers a Probe that the camera matches (5.1, 5.3), and a Resolve of its
// endpoint (6.1, 6.3).
func (c *camera) hearProbe(packet []byte) [][]byte {
	var p probe
	if xml.Unmarshal(packet, &p) != nil || p.MessageID == "" {
		return nil
	}
	action := strings.TrimSpace(p.Action)
	switch {
	case action == wsdNS+"/Probe" && p.Body.Probe != nil:
		if c.hasTypes(packet, p.Body.Probe.Types) &&
			c.inScopes(p.Body.Probe.Scopes.List, p.Body.Probe.Scopes.MatchBy) {
			return [][]byte{c.match(p.MessageID, "Probe")}
		}
	case action == wsdNS+"/Resolve" && p.Body.Resolve != nil:
		if strings.TrimSpace(p.Body.Resolve.Address) == c.uuid {
			return [][]byte{c.match(p.MessageID, "Resolve")}
		}
	}
	return nil
}

// hasTypes tells whether the camera is of all types asked for: qualified names, whose
// prefixes mean what the packet says.
func (c *camera) hasTypes(packet []byte, types string) bool {
	spaces := map[string]string{}
	d := xml.NewDecoder(strings.NewReader(string(packet)))
	for {
		t, err := d.RawToken()
		if err != nil {
			break
		}
		if start, ok := t.(xml.StartElement); ok {
			for _, a := range start.Attr {
				if a.Name.Space == "xmlns" {
					spaces[a.Name.Local] = a.Value
				}
			}
		}
	}
	for name := range strings.FieldsSeq(types) {
		prefix, local, _ := strings.Cut(name, ":")
		if (local != cameraType || spaces[prefix] != cameraSpace) &&
			(local != deviceType || spaces[prefix] != deviceSpace) {
			return false
		}
	}
	return true
}

// inScopes tells whether the camera has all scopes asked for: by default those that start
// with the same segments (5.1, rfc2396), or the same text (strcmp0).
func (c *camera) inScopes(asked, by string) bool {
	for want := range strings.FieldsSeq(asked) {
		has := slices.ContainsFunc(c.scopeList(), func(have string) bool {
			switch by {
			case "", wsdNS + "/rfc2396":
				a, errA := url.Parse(want)
				b, errB := url.Parse(have)
				return errA == nil && errB == nil && strings.EqualFold(a.Scheme, b.Scheme) &&
					strings.EqualFold(a.Host, b.Host) &&
					strings.HasPrefix(strings.Trim(b.EscapedPath(), "/")+"/",
						strings.TrimPrefix(strings.Trim(a.EscapedPath(), "/")+"/", "/"))
			case wsdNS + "/strcmp0":
				return want == have
			}
			return false
		})
		if !has {
			return false
		}
	}
	return true
}

// match writes a ProbeMatches or a ResolveMatches message.
func (c *camera) match(relatesTo, what string) []byte {
	c.mu.Lock()
	c.messages++
	number := c.messages
	c.mu.Unlock()
	return []byte(fmt.Sprintf(
		`<?xml version="1.0" encoding="UTF-8"?><env:Envelope xmlns:env="http://www.w3.org/2003/05/soap-envelope"
 xmlns:wsa="http://schemas.xmlsoap.org/ws/2004/08/addressing" xmlns:d="`+wsdNS+`"
 xmlns:dn="`+cameraSpace+`" xmlns:tds="`+deviceSpace+`"><env:Header><wsa:MessageID>urn:uuid:%s</wsa:MessageID><wsa:RelatesTo>%s</wsa:RelatesTo>
<wsa:To>http://schemas.xmlsoap.org/ws/2004/08/addressing/role/anonymous</wsa:To>
<wsa:Action>`+wsdNS+`/%[3]sMatches</wsa:Action><d:AppSequence InstanceId="%[4]d" MessageNumber="%[5]d"/></env:Header>
<env:Body><d:%[3]sMatches><d:%[3]sMatch><wsa:EndpointReference><wsa:Address>%[6]s</wsa:Address></wsa:EndpointReference>
<d:Types>dn:`+cameraType+` tds:`+deviceType+`</d:Types><d:Scopes>%[7]s</d:Scopes><d:XAddrs>http://%[8]s`+servicePath+`</d:XAddrs><d:MetadataVersion>1</d:MetadataVersion>
</d:%[3]sMatch></d:%[3]sMatches></env:Body></env:Envelope>`,
		uuid.NewString(), html.EscapeString(relatesTo), what, c.CameUp().Unix(), number, c.uuid,
		html.EscapeString(strings.Join(c.scopeList(), " ")), c.Addr))
}
