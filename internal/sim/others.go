package sim

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"io"
	"net"
)

// modbusPort is where drives answer Modbus; the standard's port needs rights.
const modbusPort = 5020

// modbus answers requests until the other side has enough. Anything but the device
// identification is an exception: illegal function (MODBUS Application Protocol, 7).
func (s *standIn) modbus(c net.Conn) {
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
			answer = s.identification(body[2], body[3])
		}
		binary.BigEndian.PutUint16(head[4:], uint16(len(answer)+1))
		if _, err := c.Write(append(head, answer...)); err != nil {
			return
		}
	}
}

// identification gives one object at a time, so that who asks must ask again.
func (s *standIn) identification(code, from byte) []byte {
	version, _ := s.running()
	objects := []string{"Harrow & Dene", s.Model, version}
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

func (s *standIn) hubID() string { return fmt.Sprintf("00000000-0000-4000-8000-%012d", s.Host) }

// newIO makes a Harrow & Dene input/output module that answers EtherNet/IP's
// ListIdentity (CIP Networks Library, volume 2, 2-4.2).
func newIO(s *standIn, _ Scenario) error {
	s.udp = map[string]func([]byte) [][]byte{"ethernet-ip": func(p []byte) [][]byte {
		le := binary.LittleEndian
		if len(p) < 24 || le.Uint16(p) != 0x63 || le.Uint16(p[2:]) != 0 {
			return nil
		}
		version, _ := s.running()
		var major, minor byte
		_, _ = fmt.Sscanf(version, "%d.%d", &major, &minor)
		var item bytes.Buffer
		put := func(v any) { _ = binary.Write(&item, le, v) } // a buffer takes everything
		put(uint16(1))
		put([16]byte{0, 2, 0xaf, 0x12}) // the address, in network order; who asks knows it
		put([]uint16{65001, 12, 4})     // vendor, device type, product code
		put([]byte{major, minor})
		put(uint16(0x60))
		var serial uint32
		_, _ = fmt.Sscanf(s.Serial, "%X", &serial)
		put(serial)
		put(append([]byte{byte(len(s.Model))}, s.Model...))
		put(byte(3))
		out := bytes.NewBuffer(nil)
		head := func(v any) { _ = binary.Write(out, le, v) }
		head([]uint16{0x63, uint16(item.Len() + 6)})
		head([]uint32{0, 0})
		head(p[12:20])
		head(uint32(0))
		head([]uint16{1, 0x0c, uint16(item.Len())})
		out.Write(item.Bytes())
		return [][]byte{out.Bytes()}
	}}
	return nil
}

// did notes what was done to the stand-in, for who watches.
func (s *standIn) did(what string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.deeds = append(s.deeds, what)
	s.log.Info(what, "device", s.Name)
}
