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

// identification gives one object at a time, so that who asks must ask again.
func (d *drive) identification(code, from byte) []byte {
	version, _ := d.Running()
	objects := []string{"Harrow & Dene", d.Model, version}
	if code < 1 || code > 2 || int(from) >= len(objects) {
		return []byte{0xab, 2} // illegal data address
	}
	more, next := byte(0xff), from+1
	if int(next) == len(objects) {
		more, next = 0, 0
	}
	text := objects[from]
	return append([]byte{0x2b, 0x0e, code, 0x01, more, next, 1, from, byte(len(text))}, text...)
}
