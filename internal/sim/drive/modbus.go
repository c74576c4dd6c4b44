package drive

import (
	"encoding/binary"
	"io"
	"net"
)

// ModbusPort is where drives answer Modbus; the standard's port needs rights.
const ModbusPort = 5020

// modbus answers requests until the other side has enough. Anything but the device
// identification is an exception: illegal function (MODBUS Application Protocol, 7).
func (d *drive) modbus(c net.Conn) {
	for {
		head := make([]byte, 7)
		if _, err := io.ReadFull(c, head); err != nil {
			return
		}
		length := int(binary.BigEndian.Uint16(head[4:]))
		if binary.BigEndian.Uint16(head[2:]) != 0 || length < 2 || length > 254 {
			return
		}
		body := make([]byte, length-1)
		if _, err := io.ReadFull(c, body); err != nil {
			return
		}
		answer := []byte{body[0] | 0x80, 1}
		if len(body) == 4 && body[0] == 0x2b && body[1] == 0x0e {
			answer = d.identification(body[2], body[3])
		}
		binary.BigEndian.PutUint16(head[4:], uint16(len(answer)+1))
		if _, err := c.Write(append(head, answer...)); err != nil {
			return
		}
	}
}

// Of Read Device Identification (MODBUS Application Protocol 1.1b3, 6.21).
const (
	accessStream   = 3 // the largest code of a stream
	accessOne      = 4
	conformity     = 0x81 // basic objects, in a stream or one alone
	illegalAddress = 2
	illegalValue   = 3
)

// identification answers a Read Device Identification. A stream gets one object at a time, so the
// other side must ask again.
func (d *drive) identification(code, from byte) []byte {
	version, _ := d.Running()
	objects := []string{"Harrow & Dene", d.Model, version}
	known := int(from) < len(objects)
	switch {
	case code < 1 || code > accessOne:
		return []byte{0xab, illegalValue}
	case code == accessOne && !known:
		return []byte{0xab, illegalAddress}
	case !known:
		from = 0 // a stream starts again
	}
	more, next := byte(0), byte(0)
	if code <= accessStream && int(from)+1 < len(objects) {
		more, next = 0xff, from+1
	}
	text := objects[from]
	return append([]byte{0x2b, 0x0e, code, conformity, more, next, 1, from, byte(len(text))}, text...)
}
