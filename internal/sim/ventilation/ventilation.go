// Package ventilation is the stand-in of Harrow & Dene ventilation controllers, which speak
// BACnet/IP (ASHRAE 135).
//
//	file,1                    the image that is received
//	file,2                    the settings, during a backup or a restore
//	analog-value,1            the speed of the fan, in percent
//	multi-state-value,1       1 idle, 2 checking (set by whoever has sent an image), 3 writing,
//	                          4 written, 5 failed
//	positive-integer-value,1  percent
//	characterstring-value,1   why it failed
package ventilation

import (
	"bytes"
	"encoding/binary"
	"sync"
	"time"

	"catena/internal/sim/standin"
)

const (
	mostAPDU   = 480 // bytes
	mostWindow = 4
	firstID    = 3000 // of the device objects
)

// New makes a controller.
func New(s *standin.StandIn, _ []standin.Device) error {
	if s.Factory == nil {
		s.Factory = map[string]string{"setpoint": "19.5", "night": "22:00-05:00", "damper": "auto"}
	}
	v := &controller{
		StandIn:  s,
		transfer: idle,
		coming:   map[byte]*incoming{},
		going:    map[byte]*outgoing{},
	}
	s.UDP = map[string]func([]byte) [][]byte{"bacnet": v.hear}
	return nil
}

// States of a transfer, and of a backup.
const (
	idle, checking, writing, written, failed = 1, 2, 3, 4, 5

	working, backingUp, restoring = 0, 3, 4
)

type controller struct {
	*standin.StandIn
	mine     sync.Mutex
	image    []byte
	config   []byte // that a restore has written
	transfer uint32
	why      string
	mode     uint32 // BACnetBackupState
	coming   map[byte]*incoming
	going    map[byte]*outgoing
}

// incoming is a request that comes in segments, outgoing an answer that goes so.
type (
	incoming struct {
		next   byte
		data   []byte
		got    int
		missed bool // that one is missing was told
	}
	outgoing struct {
		service byte
		data    []byte
		size    int
	}
)

// hear answers one datagram (Annex J, clause 6).
func (v *controller) hear(p []byte) [][]byte {
	if len(p) < 6 || p[0] != 0x81 || p[1] != 0x0a && p[1] != 0x0b ||
		int(binary.BigEndian.Uint16(p[2:])) != len(p) || p[4] != 1 || p[5]&0x80 != 0 {
		return nil
	}
	control, rest := p[5], p[6:]
	if control&0x20 != 0 { // for another network, unless it is for all
		if len(rest) < 4 || rest[0] != 0xff || rest[1] != 0xff {
			return nil
		}
		rest = rest[4+int(rest[2]):]
	}
	if len(rest) < 2 {
		return nil
	}
	v.mine.Lock()
	defer v.mine.Unlock()
	var out [][]byte
	for _, apdu := range v.apdu(rest) {
		out = append(out, datagram(apdu))
	}
	return out
}

func datagram(apdu []byte) []byte {
	b := []byte{0x81, 0x0a, 0, 0, 1, 0}
	binary.BigEndian.PutUint16(b[2:], uint16(6+len(apdu)))
	return append(b, apdu...)
}

// apdu answers one APDU (clause 5.4, 20.1). v.mine is held.
func (v *controller) apdu(b []byte) [][]byte {
	switch kind := b[0] >> 4; {
	case kind == 1 && b[1] == 8: // Who-Is
		return v.whoIs(b[2:])
	case kind == 0 && len(b) >= 4 && b[0]&8 == 0:
		return v.answer(b[2], b[3], b[4:], b)
	case kind == 0 && len(b) >= 6:
		return v.segment(b)
	case kind == 4 && len(b) >= 4 && b[0]&1 == 0:
		return v.proceed(b[1], b[2]+1, int(b[3]))
	case kind == 7:
		delete(v.going, b[1])
		delete(v.coming, b[1])
	}
	return nil
}

// segment takes one segment of a request.
func (v *controller) segment(b []byte) [][]byte {
	invoke, number, service := b[2], b[3], b[5]
	in := v.coming[invoke]
	if number == 0 && in == nil {
		in = &incoming{}
		v.coming[invoke] = in
	}
	if in == nil {
		return [][]byte{{0x71, invoke, 2}} // not in this state
	}
	switch {
	case number == in.next:
	case number == in.next-1: // who sent it has not heard that it arrived
		return [][]byte{{0x41, invoke, number, mostWindow}}
	case number-in.next < 128 && !in.missed:
		in.missed = true
		return [][]byte{{0x43, invoke, in.next - 1, mostWindow}} // from the last one in order on
	default:
		return nil
	}
	in.data, in.next, in.got, in.missed = append(in.data, b[6:]...), in.next+1, in.got+1, false
	last := b[0]&4 == 0
	if !last && number != 0 && in.got < mostWindow {
		return nil
	}
	in.got = 0
	out := [][]byte{{0x41, invoke, number, mostWindow}}
	if last {
		delete(v.coming, invoke)
		out = append(out, v.answer(invoke, service, in.data, b)...)
	}
	return out
}

// answer carries a request out. head is its first bytes, which say what answers it takes.
func (v *controller) answer(invoke, service byte, data, head []byte) [][]byte {
	got, refused := v.serve(service, data)
	if refused != nil {
		return [][]byte{append([]byte{refused[0], invoke, refused[1]}, refused[2:]...)}
	}
	if got == nil {
		return [][]byte{{0x20, invoke, service}}
	}
	most := min(mostAPDU, []int{50, 128, 206, 480, 1024, 1476}[min(int(head[1]&15), 5)])
	if len(got)+3 <= most {
		return [][]byte{append([]byte{0x30, invoke, service}, got...)}
	}
	if head[0]&2 == 0 {
		return [][]byte{{0x71, invoke, 4}} // it takes no segments
	}
	v.going[invoke] = &outgoing{service, got, most - 5}
	return v.proceed(invoke, 0, 1)
}

// proceed sends as many segments of an answer as are taken at once.
func (v *controller) proceed(invoke, from byte, window int) (out [][]byte) {
	g := v.going[invoke]
	if g == nil {
		return nil
	}
	for i := int(from); i < int(from)+min(max(window, 1), mostWindow) && i*g.size < len(g.data); i++ {
		end, first := (i+1)*g.size, byte(0x3c)
		if end >= len(g.data) {
			end, first = len(g.data), 0x38
		}
		out = append(out, append([]byte{first, invoke, byte(i), mostWindow, g.service},
			g.data[i*g.size:end]...))
	}
	if len(out) == 0 {
		delete(v.going, invoke)
	}
	return out
}

// whoIs answers who asks for all devices, or for a range of them.
func (v *controller) whoIs(b []byte) [][]byte {
	id := uint32(firstID + v.Host)
	if low, rest, ok := contextTag(b, 0); ok {
		high, _, ok := contextTag(rest, 1)
		if !ok || uint(id) < number(low) || uint(id) > number(high) {
			return nil
		}
	}
	out := append([]byte{0x10, 0, 0xc4}, objectID(8, id)...)
	out = append(out, 0x22, mostAPDU>>8, mostAPDU&0xff, 0x91, 0) // segments both ways
	return [][]byte{append(out, 0x22, 0xfd, 0xe9)}               // vendor 65001
}

// Errors (clause 18), as type of PDU, service, class and code.
func fault(service, class, code byte) []byte {
	return []byte{0x50, service, 0x91, class, 0x91, code}
}

// serve carries out a service. refused is an Error, Reject or Abort without its invoke ID.
func (v *controller) serve(service byte, b []byte) (got, refused []byte) {
	switch service {
	case 12:
		return v.read(b)
	case 15:
		return nil, v.write(b)
	case 6:
		return v.readFile(b)
	case 7:
		return v.writeFile(b)
	case 20:
		return nil, v.reinitialize(b)
	}
	return nil, []byte{0x60, 9} // unrecognized service
}

// read is ReadProperty (15.5).
func (v *controller) read(b []byte) (got, refused []byte) {
	of, rest, ok := contextTag(b, 0)
	id, rest, ok2 := contextTag(rest, 1)
	if !ok || !ok2 || len(of) != 4 {
		return nil, []byte{0x60, 4}
	}
	kind, instance := binary.BigEndian.Uint32(of)>>22, binary.BigEndian.Uint32(of)&0x3fffff
	property := number(id)
	if kind == 8 && instance == 0x3fffff {
		instance = uint32(firstID + v.Host)
	}
	value := v.property(kind, instance, property)
	if value == nil {
		code := byte(32)
		if v.property(kind, instance, 75) == nil {
			return nil, fault(12, 1, 31)
		}
		return nil, fault(12, 2, code)
	}
	if _, _, indexed := contextTag(rest, 2); indexed {
		return nil, fault(12, 2, 50) // no property here is asked for by its elements
	}
	got = append([]byte{0x0c}, objectID(kind, instance)...)
	got = append(append(got, 0x18|byte(len(id))), id...)
	got = append(got, 0x3e)
	return append(append(got, value...), 0x3f), nil
}

// property is the encoded value of a property; nil: there is none.
func (v *controller) property(kind, instance uint32, property uint) []byte {
	version, well := v.Running()
	names := map[uint32]string{2: "fan speed", 19: "transfer", 48: "progress", 40: "message"}
	switch {
	case kind == 8 && instance == uint32(firstID+v.Host):
		return v.deviceProperty(property, version, well)
	case kind == 10 && (instance == 1 || instance == 2):
		switch property {
		case 75:
			return append([]byte{0xc4}, objectID(kind, instance)...)
		case 77:
			return text(map[uint32]string{1: "firmware", 2: "configuration"}[instance])
		case 41:
			return []byte{0x91, 1} // stream access
		case 42:
			return unsigned(uint32(len(v.file(instance))))
		}
	case names[kind] != "" && instance == 1:
		switch property {
		case 75:
			return append([]byte{0xc4}, objectID(kind, instance)...)
		case 77:
			return text(names[kind])
		case 85:
			return v.present(kind)
		}
	}
	return nil
}

func (v *controller) deviceProperty(property uint, version string, well bool) []byte {
	texts := map[uint]string{121: "Harrow & Dene", 70: v.Model, 77: v.Name, 372: v.Serial, 44: version,
		12: "1.4", 28: "ventilation of " + v.Name}
	numbers := map[uint]uint32{62: mostAPDU, 98: 1, 139: 22, 167: 64, 120: 65001, 155: 1}
	status := byte(0)
	if !well {
		status = 4
	}
	enumerated := map[uint]byte{107: 0, 112: status, 338: byte(v.mode)}
	now := time.Now().UTC().Add(v.ClockOff)
	switch property {
	case 203: // time-of-device-restart, as a date and a time
		up := v.CameUp().UTC().Add(v.ClockOff)
		return []byte{0x2e, 0xa4, byte(up.Year() - 1900), byte(up.Month()), byte(up.Day()), 0xff, 0xb4,
			byte(up.Hour()), byte(up.Minute()), byte(up.Second()), byte(up.Nanosecond() / 10_000_000), 0x2f}
	case 75:
		return append([]byte{0xc4}, objectID(8, uint32(firstID+v.Host))...)
	case 76: // object-list
		var all []byte
		for _, o := range [][2]uint32{{8, uint32(firstID + v.Host)}, {10, 1}, {10, 2}, {2, 1}, {19, 1},
			{48, 1}, {40, 1}} {
			all = append(append(all, 0xc4), objectID(o[0], o[1])...)
		}
		return all
	case 154:
		return append([]byte{0xc4}, objectID(10, 2)...)
	case 56:
		return []byte{0xa4, byte(now.Year() - 1900), byte(now.Month()), byte(now.Day()), 0xff}
	case 57:
		return []byte{0xb4, byte(now.Hour()), byte(now.Minute()), byte(now.Second()), 0}
	case 119:
		return []byte{0x31, 0}
	case 24:
		return []byte{0x10}
	}
	if t, is := texts[property]; is {
		return text(t)
	}
	if n, is := numbers[property]; is {
		return unsigned(n)
	}
	if n, is := enumerated[property]; is {
		return []byte{0x91, n}
	}
	return nil
}

// present is the value of one of the points.
func (v *controller) present(kind uint32) []byte {
	state, percent := v.state()
	switch kind {
	case 19:
		return unsigned(state)
	case 48:
		return unsigned(uint32(percent))
	case 40:
		return text(v.why)
	}
	return []byte{0x44, 0, 0, 0, 0} // the fan stands still
}

// state is how far a transfer is.
func (v *controller) state() (state uint32, percent int) {
	phase, percent, _ := v.Phase()
	switch phase {
	case "writing":
		return writing, percent
	case "ready":
		return written, 100
	}
	return v.transfer, percent
}

func (v *controller) file(instance uint32) []byte {
	if instance == 1 {
		return v.image
	}
	if v.mode == restoring {
		return v.config
	}
	return v.ConfigText()
}

// write is WriteProperty (15.9).
func (v *controller) write(b []byte) (refused []byte) {
	of, rest, ok := contextTag(b, 0)
	id, rest, ok2 := contextTag(rest, 1)
	if !ok || !ok2 || len(of) != 4 || len(rest) < 3 || rest[0] != 0x3e {
		return []byte{0x60, 4}
	}
	kind, instance := binary.BigEndian.Uint32(of)>>22, binary.BigEndian.Uint32(of)&0x3fffff
	value, tag := rest[1:], rest[1]
	state, _ := v.state()
	switch property := number(id); {
	case kind == 10 && instance == 1 && property == 42 && tag == 0x21 && value[1] == 0:
		if state == checking || state == writing {
			return fault(15, 0, 2)
		}
		v.image, v.transfer, v.why = nil, idle, ""
		return nil
	case kind == 10 && instance == 2 && property == 42 && v.mode == restoring:
		v.config = nil
		return nil
	case kind == 19 && instance == 1 && property == 85 && tag == 0x21 && value[1] == checking:
		v.check()
		return nil
	case v.property(kind, instance, 75) == nil && kind != 8:
		return fault(15, 1, 31)
	}
	return fault(15, 2, 40)
}

// check reads the image that has come, all of it, before it believes any of it.
func (v *controller) check() {
	version, err := standin.Receive(bytes.NewReader(v.image), "Harrow & Dene", v.Model, "", nil)
	if err != nil {
		v.transfer, v.why = failed, err.Error()
		return
	}
	v.transfer, v.why = idle, ""
	v.Take("", version)
}

// readFile is AtomicReadFile in stream access (14.1).
func (v *controller) readFile(b []byte) (got, refused []byte) {
	if len(b) < 6 || b[0] != 0xc4 || b[5] != 0x0e {
		return nil, []byte{0x60, 4}
	}
	id := binary.BigEndian.Uint32(b[1:])
	at, rest, ok := applicationTag(b[6:], 3)
	count, _, ok2 := applicationTag(rest, 2)
	switch {
	case !ok || !ok2:
		return nil, fault(6, 5, 10)
	case id != 10<<22|1 && id != 10<<22|2:
		return nil, fault(6, 1, 31)
	case id == 10<<22|2 && v.mode != backingUp:
		return nil, fault(6, 5, 5) // only during a backup
	}
	all, from := v.file(id&0x3fffff), int(number(at))
	if from > len(all) {
		return nil, fault(6, 5, 11)
	}
	end := min(from+int(number(count)), len(all))
	got = []byte{0x10, 0x0e}
	if end == len(all) {
		got[0] = 0x11
	}
	got = append(append(got, 0x30|byte(len(at))), at...)
	got = append(octets(got, all[from:end]), 0x0f)
	return got, nil
}

// writeFile is AtomicWriteFile in stream access (14.2).
func (v *controller) writeFile(b []byte) (got, refused []byte) {
	if len(b) < 6 || b[0] != 0xc4 || b[5] != 0x0e {
		return nil, []byte{0x60, 4}
	}
	id := binary.BigEndian.Uint32(b[1:])
	at, rest, ok := applicationTag(b[6:], 3)
	data, _, ok2 := applicationTag(rest, 6)
	to := &v.image
	switch state, _ := v.state(); {
	case !ok || !ok2:
		return nil, fault(7, 5, 10)
	case id == 10<<22|1 && (state == checking || state == writing):
		return nil, fault(7, 0, 2)
	case id == 10<<22|1:
	case id == 10<<22|2 && v.mode == restoring:
		to = &v.config
	default:
		return nil, fault(7, 5, 5)
	}
	from := int(number(at))
	if from > len(*to) || from+len(data) > standin.MaxUpload {
		return nil, fault(7, 5, 11)
	}
	rest = bytes.Clone((*to)[min(len(*to), from+len(data)):])
	*to = append(append((*to)[:from], data...), rest...)
	return append([]byte{byte(len(at)) | 8}, at...), nil
}

// reinitialize is ReinitializeDevice (16.4).
func (v *controller) reinitialize(b []byte) (refused []byte) {
	state, rest, ok := contextTag(b, 0)
	word, _, given := contextTag(rest, 1)
	if !ok || len(state) != 1 {
		return []byte{0x60, 4}
	}
	if !given || len(word) == 0 || string(word[1:]) != v.Password() || v.Faults.ReadsOnly {
		v.Did("refused login")
		return fault(20, 4, 26)
	}
	switch now := state[0]; {
	case now == 0 || now == 1:
		v.Restart(0)
		v.transfer = idle
	case now == 2 && v.mode == working:
		v.Did("backup")
		v.mode = backingUp
	case now == 4 && v.mode == working:
		v.mode, v.config = restoring, nil
	case now == 3 && v.mode == backingUp, now == 6 && v.mode == restoring:
		v.mode = working
	case now == 5 && v.mode == restoring:
		v.mode = working
		if v.SetConfig(v.config) != nil {
			return fault(20, 5, 46)
		}
	default:
		return fault(20, 0, 2)
	}
	return nil
}

// What follows reads and writes values (20.2).

func contextTag(b []byte, n byte) (data, rest []byte, ok bool) {
	if len(b) == 0 || b[0]>>4 != n || b[0]&8 == 0 {
		return nil, b, false
	}
	return tagged(b)
}

func applicationTag(b []byte, n byte) (data, rest []byte, ok bool) {
	if len(b) == 0 || b[0]>>4 != n || b[0]&8 != 0 {
		return nil, b, false
	}
	return tagged(b)
}

func tagged(b []byte) (data, rest []byte, ok bool) {
	length := int(b[0] & 7)
	b = b[1:]
	switch {
	case length > 5:
		return nil, b, false
	case length == 5 && len(b) > 2 && b[0] == 254:
		length, b = int(binary.BigEndian.Uint16(b[1:])), b[3:]
	case length == 5 && len(b) > 0 && b[0] < 254:
		length, b = int(b[0]), b[1:]
	case length == 5:
		return nil, b, false
	}
	if length > len(b) {
		return nil, b, false
	}
	return b[:length], b[length:], true
}

func number(data []byte) (n uint) {
	for _, b := range data {
		n = n<<8 | uint(b)
	}
	return n
}

func objectID(kind, instance uint32) []byte {
	return binary.BigEndian.AppendUint32(nil, kind<<22|instance)
}

func unsigned(n uint32) []byte {
	b := binary.BigEndian.AppendUint32(nil, n)
	for len(b) > 1 && b[0] == 0 {
		b = b[1:]
	}
	return append([]byte{0x20 | byte(len(b))}, b...)
}

func text(s string) []byte {
	b := []byte{0x75, byte(len(s) + 1), 0}
	if len(s) < 4 {
		b = []byte{0x70 | byte(len(s)+1), 0}
	}
	return append(b, s...)
}

func octets(b, data []byte) []byte {
	switch n := len(data); {
	case n < 5:
		b = append(b, 0x60|byte(n))
	case n < 254:
		b = append(b, 0x65, byte(n))
	default:
		b = append(b, 0x65, 254, byte(n>>8), byte(n))
	}
	return append(b, data...)
}
