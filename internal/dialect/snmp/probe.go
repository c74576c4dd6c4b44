package snmp

import (
	"context"
	"fmt"
	"net"
	"net/netip"
	"time"

	"github.com/gosnmp/gosnmp"

	"catena/internal/device"
)

// requestID marks our questions, so that an answer to someone else's is not taken.
const requestID = 0x0ca7e4a

// Probes are the questions that find an agent, in all versions: the system group with
// the usual community, and those given, in v2c and v1, and for v3 the one that every
// agent answers with its engine's number, without a login (RFC 3414, 4).
func Probes(communities ...string) [][]byte {
	return append(CommunityProbes(append([]string{Community}, communities...)...), discovery()...)
}

// discovery is the question of v3.
func discovery() [][]byte {
	return packed(gosnmp.SnmpPacket{Version: gosnmp.Version3, MsgMaxSize: 65507,
		MsgFlags:           gosnmp.Reportable,
		SecurityModel:      gosnmp.UserSecurityModel,
		SecurityParameters: &gosnmp.UsmSecurityParameters{}})
}

// probesOf are the questions to a known agent. One that was found by another community than the
// usual one does not answer to that, and may report it as an intrusion (RFC 3418,
// authenticationFailure): it is only asked what needs none.
func probesOf(at device.Endpoint) [][]byte {
	if at.ProtocolVersion != "" && !at.Open {
		return discovery()
	}
	return Probes()
}

// CommunityProbes are those with these communities alone, in v2c and v1.
func CommunityProbes(communities ...string) (out [][]byte) {
	for _, c := range communities {
		for _, v := range []gosnmp.SnmpVersion{gosnmp.Version2c, gosnmp.Version1} {
			out = append(out, packed(gosnmp.SnmpPacket{Version: v, Community: c,
				Variables: []gosnmp.SnmpPDU{{Name: sysDescr, Type: gosnmp.Null},
					{Name: sysName, Type: gosnmp.Null}}})...)
		}
	}
	return out
}

func packed(p gosnmp.SnmpPacket) [][]byte {
	p.PDUType, p.RequestID, p.MsgID = gosnmp.GetRequest, requestID, requestID
	raw, err := p.MarshalMsg()
	if err != nil {
		return nil
	}
	return [][]byte{raw}
}

// Understand reads an answer to a probe, and says in which version it came and whether
// the device can be read without a login.
func Understand(packet []byte) (facts device.Reading, at device.Endpoint, ok bool) {
	defer func() { // the decoder falls over on some packets that are none
		if r := recover(); r != nil {
			facts, ok = device.Reading{}, false
		}
	}()
	if len(packet) < 8 || packet[0] != 0x30 {
		return facts, at, false
	}
	at.Dialect = Name
	decoder := &gosnmp.GoSNMP{Version: gosnmp.Version2c,
		SecurityParameters: &gosnmp.UsmSecurityParameters{}}
	p, err := decoder.SnmpDecodePacket(packet)
	if err != nil || p == nil {
		return facts, at, false
	}
	switch {
	case p.Version == gosnmp.Version3:
		u, isUSM := p.SecurityParameters.(*gosnmp.UsmSecurityParameters)
		if !isUSM || p.MsgID != requestID || p.PDUType != gosnmp.Report ||
			u.AuthoritativeEngineID == "" {
			return facts, at, false
		}
		at.ProtocolVersion, facts.MAC = V3, engineMAC(u.AuthoritativeEngineID)
	case p.PDUType != gosnmp.GetResponse || p.RequestID != requestID:
		return facts, at, false
	default:
		at.ProtocolVersion = map[gosnmp.SnmpVersion]string{gosnmp.Version1: V1,
			gosnmp.Version2c: V2c}[p.Version]
		at.Open = p.Community == Community
		facts.Says, facts.Called = words(p.Variables, 0), words(p.Variables, 1)
	}
	return facts.Clean(), at, true
}

// engineMAC takes the MAC address out of an engine's number, where it is of that
// form: RFC 3411, section 5, SnmpEngineID.
func engineMAC(id string) string {
	if len(id) != 11 || id[0]&0x80 == 0 || id[4] != 3 {
		return ""
	}
	return fmt.Sprintf("%02x:%02x:%02x:%02x:%02x:%02x", id[5], id[6], id[7], id[8], id[9], id[10])
}

// Better tells whether one endpoint is to be preferred to another for reading: v2c, then
// v1, each first where no login is needed, then v3, which tells nothing without one.
func Better(a, b device.Endpoint) bool {
	rank := func(e device.Endpoint) int {
		r := map[string]int{V2c: 4, V1: 2, V3: 1}[e.ProtocolVersion]
		if e.Open {
			r++
		}
		return r
	}
	return rank(a) > rank(b)
}

// ask probes an agent at its address and waits for the best answer.
func ask(ctx context.Context, known device.Endpoint, a netip.AddrPort) (best device.Reading,
	at device.Endpoint, ok bool) {
	var d net.Dialer
	c, err := d.DialContext(ctx, "udp", a.String())
	if err != nil {
		return best, at, false
	}
	defer func() { _ = c.Close() }()
	stop := context.AfterFunc(ctx, func() { _ = c.Close() })
	defer stop()
	for _, p := range probesOf(known) {
		if _, err := c.Write(p); err != nil {
			return best, at, false
		}
	}
	_ = c.SetReadDeadline(time.Now().Add(answerIn))
	buf := make([]byte, 16<<10)
	for range 16 { // an agent gives three answers
		n, err := c.Read(buf)
		if err != nil {
			return best, at, ok
		}
		if f, by, fine := Understand(buf[:n]); fine && (!ok || Better(by, at)) {
			best, at, ok = f.Over(best), by, true
			// the others follow at once
			_ = c.SetReadDeadline(time.Now().Add(100 * time.Millisecond))
		}
	}
	return best, at, ok
}
