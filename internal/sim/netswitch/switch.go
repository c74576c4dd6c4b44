// Package netswitch is the stand-in of Osmere switches, which speak SNMP and fetch images by TFTP.
package netswitch

import (
	"bytes"
	"cmp"
	"fmt"
	"net"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/gosnmp/gosnmp"

	"catena/internal/sim/standin"
)

// SNMPPort is where agents listen that have an address of their own; the standard's port needs
// rights.
const SNMPPort = 1161

// New makes an Osmere switch: an SNMP agent, v1 and v2c (RFC 1157, RFC 3416), with
// the system group, the interfaces' addresses, the ENTITY-MIB (RFC 6933) and the LLDP-MIB
// (IEEE 802.1AB). Who does not know the community gets no answer.
func New(s *standin.StandIn, of []standin.Device) error {
	mac, err := net.ParseMAC(cmp.Or(s.MAC, fmt.Sprintf("02:00:5e:00:53:%02x", s.Host)))
	if err != nil {
		return err
	}
	if s.Community == "" {
		s.Community = "public"
	}
	o := &osmere{StandIn: s, idle: s.Idle, port: 69, state: fetchIdle}
	agent := func(packet []byte) [][]byte {
		return o.agent(packet, append(o.standard(mac, of), o.own()...))
	}
	s.UDP = map[string]func([]byte) [][]byte{"snmp": agent}
	return nil
}

// osmere is what an Osmere switch has besides the standard's objects: two slots, and an image that
// it fetches by TFTP into the idle one.
//
//	.8.1.0  the version that it runs      .8.2.0  the version in the other slot
//	.8.3.0  the server, an address        .8.4.0  its port         .8.5.0  the file
//	.8.6.0  set: 1 fetch, 2 start what was fetched, 3 switch back to the other slot
//	.8.7.0  1 idle, 2 fetching, 3 writing, 4 written, 5 failed
//	.8.8.0  percent                       .8.9.0  why it failed    .8.10.0  what is not well
type osmere struct {
	*standin.StandIn
	mine    sync.Mutex
	idle    string
	host    string
	port    int
	file    string
	state   int
	percent int
	why     string
}

// The enterprise number of documentation (RFC 5612), and the states of a fetch.
const (
	osmereArc = ".1.3.6.1.4.1.32473.8."

	fetchIdle, fetchFetching, fetchWriting, fetchWritten, fetchFailed = 1, 2, 3, 4, 5
)

func (o *osmere) own() []gosnmp.SnmpPDU {
	version, well := o.Running()
	fault := ""
	if !well {
		fault = "fan 1 stands still"
	}
	percent, next := o.Written()
	o.mine.Lock()
	defer o.mine.Unlock()
	state := o.state
	if next != "" && percent < 100 {
		state = fetchWriting
	}
	text := func(n, value string) gosnmp.SnmpPDU {
		return gosnmp.SnmpPDU{Name: osmereArc + n + ".0", Type: gosnmp.OctetString, Value: []byte(value)}
	}
	number := func(n string, value int) gosnmp.SnmpPDU {
		return gosnmp.SnmpPDU{Name: osmereArc + n + ".0", Type: gosnmp.Integer, Value: value}
	}
	return []gosnmp.SnmpPDU{text("1", version), text("2", o.idle),
		{Name: osmereArc + "3.0", Type: gosnmp.IPAddress, Value: cmp.Or(o.host, "0.0.0.0")},
		number("4", o.port), text("5", o.file), number("6", 0), number("7", state),
		number("8", max(percent, o.percent)), text("9", o.why), text("10", fault)}
}

// set takes the variables of a set request, all or none (RFC 3416, 4.2.5). It returns what is wrong
// with one, and its place from 1.
func (o *osmere) set(all []gosnmp.SnmpPDU) (gosnmp.SNMPError, int) {
	o.mine.Lock()
	defer o.mine.Unlock()
	host, port, file, do, place := o.host, o.port, o.file, 0, 1
	for i, v := range all {
		n, isNumber := v.Value.(int)
		raw, isText := v.Value.([]byte)
		address, isAddress := v.Value.(string)
		switch of := strings.TrimSuffix(strings.TrimPrefix(v.Name, osmereArc), ".0"); {
		case of == "3" && v.Type == gosnmp.IPAddress && isAddress:
			host = address
		case of == "4" && isNumber && n > 0 && n < 65536:
			port = n
		case of == "5" && isText && len(raw) <= 64:
			file = string(raw)
		case of == "6" && isNumber && n >= 1 && n <= 3:
			do, place = n, i+1
		case !strings.HasPrefix(v.Name, osmereArc):
			return gosnmp.NotWritable, i + 1
		default:
			return gosnmp.WrongValue, i + 1
		}
	}
	err := o.do(do)
	if err == gosnmp.NoError {
		o.host, o.port, o.file = host, port, file // a fetch that has just started waits for o.mine
	}
	return err, place
}

// do carries out what object 6 asks for. o.mine is held.
func (o *osmere) do(do int) gosnmp.SNMPError {
	switch {
	case do == 0:
	case o.state == fetchFetching:
		return gosnmp.ResourceUnavailable
	case do == 1:
		o.state, o.percent, o.why, o.idle = fetchFetching, 0, "", ""
		o.Go(o.fetch)
	case do == 2:
		if percent, next := o.Written(); next == "" || percent < 100 {
			return gosnmp.InconsistentValue
		}
		o.activate()
	case do == 3:
		if o.idle == "" {
			return gosnmp.InconsistentValue
		}
		o.WillStart(o.idle)
		o.activate()
	}
	return gosnmp.NoError
}

// activate restarts into the other slot; what ran stays in this one.
func (o *osmere) activate() {
	version, _ := o.Running()
	o.idle, o.state, o.percent = version, fetchIdle, 0
	if o.Faults.KeepsVersion { // it falls back automatically
		_, o.idle = o.Written()
	}
	o.Restart(0)
}

// fetch fetches the image and writes it into the idle slot.
func (o *osmere) fetch() {
	o.mine.Lock()
	server, file := net.JoinHostPort(o.host, strconv.Itoa(o.port)), o.file
	o.mine.Unlock()
	ended := o.Receives()
	defer ended()
	host, _, _ := net.SplitHostPort(o.Addr)
	raw, err := standin.FetchTFTP(host, server, file, 64<<20, func(percent int) {
		o.mine.Lock()
		o.percent = percent / 2
		o.mine.Unlock()
	})
	version := ""
	if err == nil {
		version, err = standin.Receive(bytes.NewReader(raw), "Osmere", o.Model, "", nil)
	}
	o.mine.Lock()
	defer o.mine.Unlock()
	if err != nil {
		o.state, o.why = fetchFailed, err.Error()
		return
	}
	o.Take("", version)
	o.state = fetchWritten
}

// standard returns the objects of the standards that the agent has.
func (o *osmere) standard(mac net.HardwareAddr, of []standin.Device) []gosnmp.SnmpPDU {
	s := o.StandIn
	version, _ := s.Running()
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
			Value: uint32(time.Since(s.CameUp()).Milliseconds() / 10)})
	text(".1.3.6.1.2.1.1.5.0", s.Name)
	text(".1.3.6.1.2.1.2.2.1.6.1", string(mac))
	const entity = ".1.3.6.1.2.1.47.1.1.1.1."
	number(entity+"5.1", 3) // chassis
	for column, value := range map[string]string{"7.1": s.Name, "8.1": s.Hardware, "9.1": version,
		"11.1": s.Serial, "12.1": "Osmere", "13.1": s.Model} {
		text(entity+column, value)
	}
	const local, remote = ".1.0.8802.1.1.2.1.3.", ".1.0.8802.1.1.2.1.4.1.1."
	number(local+"1.0", 4) // a MAC address
	text(local+"2.0", string(mac))
	for i, name := range s.Sees {
		port := strconv.Itoa(i + 1)
		text(local+"7.1.4."+port, "port "+port)
		index := ".0." + port + ".1"
		for _, d := range of {
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
func answerTo(in *gosnmp.SnmpPacket, objects []gosnmp.SnmpPDU,
	set func([]gosnmp.SnmpPDU) (gosnmp.SNMPError, int)) *gosnmp.SnmpPacket {
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
	case gosnmp.GetBulkRequest: // RFC 3416, 4.2.3
		once := min(max(int(in.NonRepeaters), 0), len(in.Variables))
		for _, v := range in.Variables[:once] {
			answer.Variables = append(answer.Variables, next(v.Name))
		}
		rest := slices.Clone(in.Variables[once:])
		for range min(int(in.MaxRepetitions), 24) {
			for i := range rest {
				rest[i] = next(rest[i].Name)
			}
			answer.Variables = append(answer.Variables, rest...)
		}
	case gosnmp.SetRequest:
		err, place := set(in.Variables)
		answer.Variables, answer.Error = in.Variables, err
		if in.Version == gosnmp.Version1 {
			answer.Error = errorOfVersion1(err)
		}
		if err != gosnmp.NoError {
			answer.ErrorIndex = uint8(place)
		}
	default:
		answer.Error, answer.Variables = gosnmp.GenErr, in.Variables
	}
	return answer
}

// errorOfVersion1 returns the error of the first version that stands for one of the second:
// RFC 3584, 4.4.
func errorOfVersion1(err gosnmp.SNMPError) gosnmp.SNMPError {
	switch err {
	case gosnmp.NoError:
		return err
	case gosnmp.WrongValue, gosnmp.InconsistentValue:
		return gosnmp.BadValue
	case gosnmp.NoAccess, gosnmp.NotWritable:
		return gosnmp.NoSuchName
	}
	return gosnmp.GenErr
}

// agent answers one packet.
func (o *osmere) agent(packet []byte, objects []gosnmp.SnmpPDU) (out [][]byte) {
	defer func() {
		if recover() != nil { // the decoder falls over on some packets that are none
			out = nil
		}
	}()
	decoder := &gosnmp.GoSNMP{SecurityParameters: &gosnmp.UsmSecurityParameters{}}
	in, err := decoder.SnmpDecodePacket(packet)
	writes := in.Community == o.Login.Password // the community that may change something
	if err != nil || in.Version == gosnmp.Version3 || in.Community != o.Community && !writes {
		return nil
	}
	set := o.set
	if !writes || o.Faults.ReadsOnly {
		set = func([]gosnmp.SnmpPDU) (gosnmp.SNMPError, int) { return gosnmp.NoAccess, 1 }
	}
	slices.SortFunc(objects, func(a, b gosnmp.SnmpPDU) int {
		return slices.Compare(numbers(a.Name), numbers(b.Name))
	})
	answer := answerTo(in, objects, set)
	raw, err := answer.MarshalMsg()
	if err != nil {
		o.Log.Error("cannot answer", "device", o.Name, "err", err)
		return nil
	}
	return [][]byte{raw}
}
