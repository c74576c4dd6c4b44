package sim

import (
	"encoding/xml"
	"fmt"
	"html"
	"slices"
	"strings"
)

// WS-Discovery as ONVIF uses it (Core, 7.3): the 2005/04 namespace, SOAP 1.2 over UDP.
const (
	probeAction = "http://schemas.xmlsoap.org/ws/2005/04/discovery/Probe"
	cameraType  = "NetworkVideoTransmitter"
)

type probe struct {
	XMLName   xml.Name `xml:"http://www.w3.org/2003/05/soap-envelope Envelope"`
	Action    string   `xml:"Header>Action"`
	MessageID string   `xml:"Header>MessageID"`
	Body      struct {
		Probe *struct {
			Types string `xml:"Types"`
		} `xml:"http://schemas.xmlsoap.org/ws/2005/04/discovery Probe"`
	} `xml:"http://www.w3.org/2003/05/soap-envelope Body"`
}

// hearProbe answers a probe for cameras, or for anything.
func (c *camera) hearProbe(packet []byte) [][]byte {
	var p probe
	if xml.Unmarshal(packet, &p) != nil || p.Body.Probe == nil || p.MessageID == "" ||
		strings.TrimSpace(p.Action) != probeAction {
		return nil
	}
	wanted := strings.Fields(p.Body.Probe.Types)
	if len(wanted) > 0 && !slices.ContainsFunc(wanted,
		func(t string) bool { return strings.HasSuffix(t, ":"+cameraType) }) {
		return nil
	}
	return [][]byte{[]byte(c.probeMatch(p.MessageID))}
}

func (c *camera) probeMatch(relatesTo string) string {
	return fmt.Sprintf(`<?xml version="1.0" encoding="UTF-8"?><env:Envelope xmlns:env="http://www.w3.org/2003/05/soap-envelope"
 xmlns:wsa="http://schemas.xmlsoap.org/ws/2004/08/addressing" xmlns:d="http://schemas.xmlsoap.org/ws/2005/04/discovery"
 xmlns:dn="http://www.onvif.org/ver10/network/wsdl"><env:Header><wsa:MessageID>%s</wsa:MessageID><wsa:RelatesTo>%s</wsa:RelatesTo>
<wsa:To>http://schemas.xmlsoap.org/ws/2004/08/addressing/role/anonymous</wsa:To>
<wsa:Action>http://schemas.xmlsoap.org/ws/2005/04/discovery/ProbeMatches</wsa:Action></env:Header>
<env:Body><d:ProbeMatches><d:ProbeMatch><wsa:EndpointReference><wsa:Address>%s</wsa:Address></wsa:EndpointReference>
<d:Types>dn:%s</d:Types><d:Scopes>%s</d:Scopes><d:XAddrs>http://%s%s</d:XAddrs><d:MetadataVersion>1</d:MetadataVersion>
</d:ProbeMatch></d:ProbeMatches></env:Body></env:Envelope>`,
		c.uuid, html.EscapeString(relatesTo), c.uuid, cameraType,
		html.EscapeString(strings.Join(c.scopeList(), " ")), c.addr, servicePath)
}
