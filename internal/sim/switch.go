package sim

import (
	"cmp"
	"fmt"
	"net"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/gosnmp/gosnmp"
)

// newSwitch makes an Osmere switch: an SNMP agent, v1 and v2c (RFC 1157, RFC 3416), with
// the system group, the interfaces' addresses, the ENTITY-MIB (RFC 6933) and the LLDP-MIB
// (IEEE 802.1AB). Who does not know the community gets no answer.
func newSwitch(s *standIn, of Scenario) error {
	mac, err := net.ParseMAC(cmp.Or(s.MAC, fmt.Sprintf("02:00:5e:00:53:%02x", s.Host)))
	if err != nil {
		return err
	}
	if s.Community == "" {
		s.Community = "public"
	}
	agent := func(packet []byte) [][]byte { return s.agent(packet, s.objects(mac, of)) }
	s.udp = map[string]func([]byte) [][]byte{"snmp": agent}
	return nil
}

// objects is what the agent tells, in the order of the objects' numbers.
func (s *standIn) objects(mac net.HardwareAddr, of Scenario) []gosnmp.SnmpPDU {
	version, _ := s.running()
	var all []gosnmp.SnmpPDU
	text := func(oid, value string) {
		all = append(all, gosnmp.SnmpPDU{Name: oid, Type: gosnmp.OctetString, Value: []byte(value)})
	}
	number := func(oid string, value int) {
		all = append(all, gosnmp.SnmpPDU{Name: oid, Type: gosnmp.Integer, Value: value})
	}
	text(".1.3.6.1.2.1.1.1.0", "Osmere "+s.Model+" switch, firmware "+version)
	// sysObjectID: of an enterprise of documentation (RFC 5612); sysUpTime in 1/100 s.
	all = append(all, gosnmp.SnmpPDU{Name: ".1.3.6.1.2.1.1.2.0", Type: gosnmp.ObjectIdentifier,
		Value: ".1.3.6.1.4.1.32473.8"},
		gosnmp.SnmpPDU{Name: ".1.3.6.1.2.1.1.3.0", Type: gosnmp.TimeTicks,
			Value: uint32(time.Since(s.cameUp()).Milliseconds() / 10)})
	text(".1.3.6.1.2.1.1.5.0", s.Name)
	text(".1.3.6.1.2.1.2.2.1.6.1", string(mac))
	const entity = ".1.3.6.1.2.1.47.1.1.1.1."
	number(entity+"5.1", 3) // chassis
	for column, value := range map[string]string{"7.1": s.Name, "8.1": s.Hardware, "9.1": version,
		"11.1": s.Serial, "12.1": "Osmere", "13.1": s.Model} {
		text(entity+column, value)
	}
	const local, remote = ".1.0.8802.1.1.2.1.3.", ".1.0.8802.1.1.2.1.4.1.1."
	number(local+"1.0", 4) // a hardware address
	text(local+"2.0", string(mac))
	for i, name := range s.Sees {
		port := strconv.Itoa(i + 1)
		text(local+"7.1.4."+port, "port "+port)
		index := ".0." + port + ".1"
		for _, d := range of.Devices {
			if d.Name != name {
				continue
			}
			seen, err := net.ParseMAC(d.MAC)
			if err == nil {
				number(remote+"4"+index, 4)
				text(remote+"5"+index, string(seen))
			} else {
				number(remote+"4"+index, 7) // locally assigned
				text(remote+"5"+index, name)
			}
			text(remote+"9"+index, name)
		}
	}
	slices.SortFunc(all, func(a, b gosnmp.SnmpPDU) int {
		return slices.Compare(numbers(a.Name), numbers(b.Name))
	})
	return all
}

func numbers(oid string) []int {
	var out []int
	for part := range strings.SplitSeq(strings.Trim(oid, "."), ".") {
		n, _ := strconv.Atoi(part)
		out = append(out, n)
	}
	return out
}

// answerTo makes the answer to one request: RFC 1157, 4.1, and RFC 3416, 4.2.
func answerTo(in *gosnmp.SnmpPacket, objects []gosnmp.SnmpPDU) *gosnmp.SnmpPacket {
	answer := &gosnmp.SnmpPacket{Version: in.Version, Community: in.Community,
		PDUType: gosnmp.GetResponse, RequestID: in.RequestID}
	next := func(oid string) gosnmp.SnmpPDU {
		for _, o := range objects {
			if slices.Compare(numbers(o.Name), numbers(oid)) > 0 {
				return o
			}
		}
		return gosnmp.SnmpPDU{Name: oid, Type: gosnmp.EndOfMibView}
	}
	switch in.PDUType {
	case gosnmp.GetRequest:
		for i, v := range in.Variables {
			at := slices.IndexFunc(objects, func(o gosnmp.SnmpPDU) bool { return o.Name == v.Name })
			switch {
			case at >= 0:
				answer.Variables = append(answer.Variables, objects[at])
			case in.Version == gosnmp.Version1:
				answer.Error, answer.ErrorIndex, answer.Variables = gosnmp.NoSuchName, uint8(i+
					1), in.Variables
			default:
				answer.Variables = append(answer.Variables,
					gosnmp.SnmpPDU{Name: v.Name, Type: gosnmp.NoSuchObject})
			}
		}
	case gosnmp.GetNextRequest:
		for i, v := range in.Variables {
			if n := next(v.Name); n.Type == gosnmp.EndOfMibView && in.Version == gosnmp.Version1 {
				answer.Error, answer.ErrorIndex, answer.Variables = gosnmp.NoSuchName, uint8(i+
					1), in.Variables
			} else {
				answer.Variables = append(answer.Variables, n)
			}
		}
	case gosnmp.GetBulkRequest:
		for _, v := range in.Variables {
			oid := v.Name
			for range min(int(in.MaxRepetitions), 24) {
				n := next(oid)
				answer.Variables = append(answer.Variables, n)
				oid = n.Name
				if n.Type == gosnmp.EndOfMibView {
					break
				}
			}
		}
	default:
		answer.Error, answer.Variables = gosnmp.ReadOnly, in.Variables // nobody writes here
	}
	return answer
}

// agent answers one packet.
func (s *standIn) agent(packet []byte, objects []gosnmp.SnmpPDU) (out [][]byte) {
	defer func() {
		if recover() != nil { // the decoder falls over on some packets that are none
			out = nil
		}
	}()
	decoder := &gosnmp.GoSNMP{SecurityParameters: &gosnmp.UsmSecurityParameters{}}
	in, err := decoder.SnmpDecodePacket(packet)
	if err != nil || in.Version == gosnmp.Version3 || in.Community != s.Community {
		return nil
	}
	answer := answerTo(in, objects)
	raw, err := answer.MarshalMsg()
	if err != nil {
		s.log.Error("cannot answer", "device", s.Name, "err", err)
		return nil
	}
	return [][]byte{raw}
}
