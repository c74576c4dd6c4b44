package snmp

import (
	"context"
	"fmt"
	"net"
	"net/netip"
	"time"

	"github.com/gosnmp/gosnmp"

	"catena/internal/dialect"
	"catena/internal/site"
)

// requestID marks our questions, so that an answer to somebody else's is not taken.
const requestID = 0x0ca7e4a

// Probes are the questions that find an agent, in all versions: the system group with
// the usual community, and those given, in v2c and v1, and for v3 the one that every
// agent answers with its engine's number, without a login (RFC 3414, 4).
func Probes(communities ...string) [][]byte {
	var out [][]byte
	add := func(p gosnmp.SnmpPacket) {
		p.PDUType, p.RequestID, p.MsgID = gosnmp.GetRequest, requestID, requestID
		if raw, err := p.MarshalMsg(); err == nil {
			out = append(out, raw)
		}
	}
	for _, c := range append([]string{Community}, communities...) {
		for _, v := range []gosnmp.SnmpVersion{gosnmp.Version2c, gosnmp.Version1} {
			add(gosnmp.SnmpPacket{Version: v, Community: c,
				Variables: []gosnmp.SnmpPDU{{Name: sysDescr, Type: gosnmp.Null}, {Name: sysName, Type: gosnmp.Null}}})
		}
	}
	add(gosnmp.SnmpPacket{Version: gosnmp.Version3, MsgMaxSize: 65507, MsgFlags: gosnmp.Reportable, SecurityModel: gosnmp.UserSecurityModel,
		SecurityParameters: &gosnmp.UsmSecurityParameters{}})
	return out
}

// Understand reads an answer to a probe. Path says in which version it came.
func Understand(packet []byte) (facts dialect.Facts, ok bool) {
	defer func() { // the decoder falls over on some packets that are none
		if r := recover(); r != nil {
			facts, ok = dialect.Facts{}, false
		}
	}()
	if len(packet) < 8 || packet[0] != 0x30 {
		return facts, false
	}
	decoder := &gosnmp.GoSNMP{Version: gosnmp.Version2c, SecurityParameters: &gosnmp.UsmSecurityParameters{}}
	p, err := decoder.SnmpDecodePacket(packet)
	if err != nil || p == nil {
		return facts, false
	}
	switch {
	case p.Version == gosnmp.Version3:
		u, isUSM := p.SecurityParameters.(*gosnmp.UsmSecurityParameters)
		if !isUSM || p.MsgID != requestID || p.PDUType != gosnmp.Report || u.AuthoritativeEngineID == "" {
			return facts, false
		}
		facts.Path, facts.MAC = V3, engineMAC(u.AuthoritativeEngineID)
	case p.PDUType != gosnmp.GetResponse || p.RequestID != requestID:
		return facts, false
	default:
		facts.Path = map[gosnmp.SnmpVersion]string{gosnmp.Version1: V1, gosnmp.Version2c: V2c}[p.Version]
		if p.Community != Community {
			facts.Path += withLogin
		}
		facts.Says, facts.Name = text(p.Variables, 0), text(p.Variables, 1)
	}
	return facts.Clean(), true
}

// engineMAC takes the hardware address out of an engine's number, where it is of that
// form: RFC 3411, section 5, SnmpEngineID.
func engineMAC(id string) string {
	if len(id) != 11 || id[0]&0x80 == 0 || id[4] != 3 {
		return ""
	}
	return fmt.Sprintf("%02x:%02x:%02x:%02x:%02x:%02x", id[5], id[6], id[7], id[8], id[9], id[10])
}

// withLogin follows the version in a Path where the agent wants another community than
// the usual one.
const withLogin = " with a login"

// Open tells whether an agent that answered so can be read without a login.
func Open(path string) bool { return path == V1 || path == V2c }

// Better tells whether one version is to be preferred to another for reading.
func Better(a, b string) bool {
	rank := map[string]int{V2c: 5, V2c + withLogin: 4, V1: 3, V1 + withLogin: 2, V3: 1} // v3 without a login tells nothing
	return rank[a] > rank[b]
}

// ask probes one address and waits for the best answer.
func ask(ctx context.Context, a netip.AddrPort) (best dialect.Facts, ok bool) {
	var d net.Dialer
	c, err := d.DialContext(ctx, "udp", a.String())
	if err != nil {
		return best, false
	}
	defer func() { _ = c.Close() }()
	stop := context.AfterFunc(ctx, func() { _ = c.Close() })
	defer stop()
	for _, p := range Probes() {
		if _, err := c.Write(p); err != nil {
			return best, false
		}
	}
	_ = c.SetReadDeadline(time.Now().Add(answerIn))
	buf := make([]byte, 16<<10)
	for range 16 { // an agent gives three answers
		n, err := c.Read(buf)
		if err != nil {
			return best, ok
		}
		if f, fine := Understand(buf[:n]); fine && (!ok || Better(f.Path, best.Path)) {
			best, ok = merged(f, best), true
			_ = c.SetReadDeadline(time.Now().Add(100 * time.Millisecond)) // the others follow at once
		}
	}
	return best, ok
}

// merged keeps what the lesser answer knew besides.
func merged(f, other dialect.Facts) dialect.Facts {
	var d site.Device
	other.Into(&d)
	if f.MAC == "" {
		f.MAC = d.MAC
	}
	return f
}
