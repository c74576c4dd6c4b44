// Package iomodule is the stand-in of Harrow & Dene input and output modules, which answer
// EtherNet/IP.
package iomodule

import (
	"bytes"
	"encoding/binary"
	"fmt"

	"catena/internal/sim/standin"
)

// New makes a Harrow & Dene input/output module that answers EtherNet/IP's
// ListIdentity (CIP Networks Library, volume 2, 2-4.2).
func New(s *standin.StandIn, _ []standin.Device) error {
	s.UDP = map[string]func([]byte) [][]byte{"ethernet-ip": func(p []byte) [][]byte {
		le := binary.LittleEndian
		if len(p) < 24 || le.Uint16(p) != 0x63 || le.Uint16(p[2:]) != 0 {
			return nil
		}
		version, _ := s.Running()
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
