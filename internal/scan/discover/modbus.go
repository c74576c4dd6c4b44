package discover

import (
	"bytes"
	"context"
	"encoding/binary"
	"io"
	"net"
	"net/netip"
	"strings"
	"time"

	"catena/internal/device"
)

// Modbus over TCP, read device identification: MODBUS Application Protocol V1.1b3, 6.21
// (function 43 / 14); MODBUS Messaging on TCP/IP V1.0b, 3.1.3 for the header.
const (
	modbusPort    = 502
	modbusHeader  = 7
	modbusMax     = 260 // bytes of a whole message
	modbusRounds  = 8   // answers that one identification may be split into
	modbusIdent   = 0x2b
	modbusReadDev = 0x0e
	modbusRegular = 0x02 // the basic objects, and the regular ones where there are any
)

// identifyModbus asks who answers at a Modbus port. Units are asked in the order in
// which gateways use them: 255 for themselves, then 1.
func identifyModbus(
	ctx context.Context, a netip.AddrPort, patience time.Duration,
) (device.Reading, bool) {
	for _, unit := range []byte{255, 1} {
		if facts, ok := modbusUnit(ctx, a, unit, patience); ok {
			return facts, true
		}
	}
	return device.Reading{}, false
}

func modbusUnit(ctx context.Context, a netip.AddrPort, unit byte,
	patience time.Duration) (device.Reading, bool) {
	d := net.Dialer{Timeout: patience}
	c, err := d.DialContext(ctx, "tcp", a.String())
	if err != nil {
		return device.Reading{}, false
	}
	defer func() { _ = c.Close() }()
	_ = c.SetDeadline(time.Now().Add(patience))
	objects := map[byte]string{}
	next := byte(0)
	for id := range uint16(modbusRounds) {
		if _, err := c.Write(modbusRequest(id, unit, next)); err != nil {
			return device.Reading{}, false
		}
		answer, err := modbusRead(c, id, unit)
		if err != nil {
			return device.Reading{}, false
		}
		more, after, ok := modbusObjects(answer, objects)
		if !ok {
			return device.Reading{}, false
		}
		if !more || after <= next {
			break
		}
		next = after
	}
	f := device.Reading{Identity: device.Identity{Vendor: objects[0], Model: objects[1]},
		Version: strings.TrimPrefix(objects[2], "V"), Says: objects[4]}
	if f.Model == "" {
		f.Model = objects[5]
	}
	return f.Clean(), f.Vendor != "" || f.Model != ""
}

func modbusRequest(id uint16, unit, object byte) []byte {
	var b bytes.Buffer
	_ = binary.Write(&b, binary.BigEndian, []uint16{id, 0, 5}) // a buffer takes everything
	b.Write([]byte{unit, modbusIdent, modbusReadDev, modbusRegular, object})
	return b.Bytes()
}

// modbusRead reads one message and returns what follows the function code.
func modbusRead(r io.Reader, id uint16, unit byte) ([]byte, error) {
	head := make([]byte, modbusHeader)
	if _, err := io.ReadFull(r, head); err != nil {
		return nil, err
	}
	be := binary.BigEndian
	length := int(be.Uint16(head[4:]))
	if be.Uint16(head) != id || be.Uint16(head[2:]) != 0 || head[6] != unit || length < 2 ||
		length > modbusMax-6 {
		return nil, device.Because(device.Malformed, "no Modbus")
	}
	body := make([]byte, length-1)
	if _, err := io.ReadFull(r, body); err != nil {
		return nil, err
	}
	if body[0] != modbusIdent {
		return nil, device.Because(device.Refusal, "it has no identification")
	}
	return body[1:], nil
}

// modbusObjects takes the objects of one answer: type, code, conformity, more follows,
// next object, count, and the objects themselves, each with its number and length.
func modbusObjects(p []byte, into map[byte]string) (more bool, next byte, ok bool) {
	if len(p) < 6 || p[0] != modbusReadDev {
		return false, 0, false
	}
	rest := p[6:]
	for range p[5] {
		if len(rest) < 2 || len(rest) < 2+int(rest[1]) {
			return false, 0, false
		}
		into[rest[0]] = string(rest[2 : 2+int(rest[1])])
		rest = rest[2+int(rest[1]):]
	}
	return p[3] == 0xff, p[4], true
}
