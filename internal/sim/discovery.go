package sim

import (
	"encoding/xml"
	"fmt"
	"html"
	"net"
	"slices"
	"strings"
)

// WS-Discovery as ONVIF uses it (Core, 7.3): the 2005/04 namespace, SOAP 1.2 over
// UDP, port 3702.
const (
	discoveryPort  = 3702
	discoveryGroup = "239.255.255.250"
	probeAction    = "http://schemas.xmlsoap.org/ws/2005/04/discovery/Probe"
	cameraType     = "NetworkVideoTransmitter"
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

// hearProbes answers what comes in on conn for every camera given, each from its
// own socket.
func hearProbes(conn net.PacketConn, cameras []*camera, own map[*camera]net.PacketConn) {
	buf := make([]byte, 64<<10)
	for {
		n, to, err := conn.ReadFrom(buf)
		if err != nil {
			return
		}
		var p probe
		if xml.Unmarshal(buf[:n], &p) != nil || p.Body.Probe == nil || p.MessageID == "" || strings.TrimSpace(p.Action) != probeAction {
			continue
		}
		wanted := strings.Fields(p.Body.Probe.Types)
		if len(wanted) > 0 && !slices.ContainsFunc(wanted, func(t string) bool { return strings.HasSuffix(t, ":"+cameraType) }) {
			continue
		}
		for _, c := range cameras {
			if c.isUp() && !c.Faults.Silent {
				_, _ = own[c].WriteTo([]byte(c.probeMatch(p.MessageID)), to)
			}
		}
	}
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
		c.uuid, html.EscapeString(relatesTo), c.uuid, cameraType, html.EscapeString(strings.Join(c.scopeList(), " ")), c.addr, servicePath)
}
