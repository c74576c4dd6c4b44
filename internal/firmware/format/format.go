// Package format reads firmware files of open formats that describe themselves:
// what they say of their component and version, and whether their own checksums
// hold. It reads through an io.ReaderAt that the caller brings, with bounded memory,
// and does no other I/O.
//
//	uimage    U-Boot legacy image: 64-byte header with CRC-32s
//	fit       U-Boot Flattened Image Tree: a devicetree blob (Devicetree Specification
//	          0.4, 5) with hash nodes
//	usb-dfu   suffix of the USB Device Firmware Upgrade specification 1.1, appendix B
//	ihex      Intel hexadecimal object file
//	srec      Motorola S-record
//	pldm      firmware update package of DMTF DSP0267, 1.0 to 1.2
//	suit      envelope with a manifest of IETF SUIT (CBOR)
package format

import (
	"bufio"
	"bytes"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"hash/crc32"
	"io"
	"strings"

	"catena/internal/text"
)

// ErrDamaged is returned for a file whose own checksum does not hold, or that breaks
// off.
var ErrDamaged = errors.New("the file is damaged")

// Facts are what a file says of itself, cleaned.
type Facts struct {
	Format    string
	Vendor    string
	Model     string
	Component string
	Version   string
	Name      string // a description
}

func (f Facts) String() string {
	parts := []string{"a file of format " + f.Format}
	for _, p := range [][2]string{{"vendor", f.Vendor}, {"model", f.Model},
		{"component", f.Component}, {"version", f.Version}} {
		if p[1] != "" {
			parts = append(parts, p[0]+" "+p[1])
		}
	}
	if f.Name != "" {
		parts = append(parts, fmt.Sprintf("%q", f.Name))
	}
	return strings.Join(parts, ", ")
}

// Names are the formats that Read knows.
var Names = []string{"uimage", "fit", "usb-dfu", "ihex", "srec", "pldm", "suit"}

// Read recognises a file and checks it. ok is false where no format is recognised.
// The error is ErrDamaged, with what does not hold, or that of r.
func Read(r io.ReaderAt, size int64) (facts Facts, ok bool, err error) {
	head := make([]byte, min(size, 64))
	if _, err := r.ReadAt(head, 0); err != nil && err != io.EOF {
		return Facts{}, false, err
	}
	for _, f := range []struct {
		name string
		is   func(head []byte) bool
		read func(r io.ReaderAt, size int64) (Facts, error)
	}{
		{"uimage", func(h []byte) bool {
			return len(h) >= 64 &&
				binary.BigEndian.Uint32(h) == 0x27051956
		}, uImage},
		{"fit", func(h []byte) bool {
			return len(h) >= 40 &&
				binary.BigEndian.Uint32(h) == 0xd00dfeed
		}, fit},
		{"pldm", func(h []byte) bool { return len(h) >= 36 && pldmRevision(h) > 0 }, pldm},
		{"suit", func(h []byte) bool { return len(h) > 4 && h[0] == 0xd8 && h[1] == 107 }, suit},
		{"ihex", isIntelHex, intelHex},
		{"srec", isSRecord, sRecord},
		{"usb-dfu", func([]byte) bool { return isDFU(r, size) }, dfu},
	} {
		if !f.is(head) {
			continue
		}
		facts, err = f.read(r, size)
		facts.Format = f.name
		for _, s := range []*string{&facts.Vendor, &facts.Model, &facts.Component, &facts.Version,
			&facts.Name} {
			*s = text.Clean(*s)
		}
		return facts, true, err
	}
	return Facts{}, false, nil
}

func damaged(format string, args ...any) error {
	return fmt.Errorf("%w: %s", ErrDamaged, fmt.Sprintf(format, args...))
}

// digest reads a part of the file into a hash.
func digest(h hash.Hash, r io.ReaderAt, from, n, size int64) ([]byte, error) {
	if from < 0 || n < 0 || from > size || n > size-from {
		return nil, damaged("it is truncated")
	}
	_, err := io.Copy(h, io.NewSectionReader(r, from, n))
	return h.Sum(nil), err
}

// text is a C string in a field of fixed length.
func plainText(field []byte) string {
	s, _, _ := bytes.Cut(field, []byte{0})
	return string(s)
}

func uImage(r io.ReaderAt, size int64) (Facts, error) {
	h := make([]byte, 64)
	if _, err := r.ReadAt(h, 0); err != nil {
		return Facts{}, err
	}
	facts := Facts{Name: plainText(h[32:64])}
	want := binary.BigEndian.Uint32(h[4:])
	copy(h[4:8], make([]byte, 4))
	if crc32.ChecksumIEEE(h) != want {
		return facts, damaged("the header's CRC-32 does not match")
	}
	sum, err := digest(crc32.NewIEEE(), r, 64, int64(binary.BigEndian.Uint32(h[12:])), size)
	if err == nil && binary.BigEndian.Uint32(sum) != binary.BigEndian.Uint32(h[24:]) {
		err = damaged("the data's CRC-32 does not match")
	}
	return facts, err
}

const dfuSuffix = 16

func isDFU(r io.ReaderAt, size int64) bool {
	var s [dfuSuffix]byte
	if size < dfuSuffix {
		return false
	}
	_, err := r.ReadAt(s[:], size-dfuSuffix)
	return err == nil && string(s[8:11]) == "UFD" && s[11] >= dfuSuffix &&
		binary.LittleEndian.Uint16(s[6:]) == 0x0100
}

func dfu(r io.ReaderAt, size int64) (Facts, error) {
	var s [dfuSuffix]byte
	if _, err := r.ReadAt(s[:], size-dfuSuffix); err != nil {
		return Facts{}, err
	}
	facts := Facts{Name: fmt.Sprintf("USB %04x:%04x", binary.LittleEndian.Uint16(s[4:]),
		binary.LittleEndian.Uint16(s[2:]))}
	if v := binary.LittleEndian.Uint16(s[0:]); v != 0xffff { // not given
		facts.Version = fmt.Sprintf("%x.%02x", v>>8, v&0xff) // binary coded decimal
	}
	sum, err := digest(crc32.NewIEEE(), r, 0, size-4, size)
	// The suffix has the CRC without the final complement.
	if err == nil && ^binary.BigEndian.Uint32(sum) != binary.LittleEndian.Uint32(s[12:]) {
		err = damaged("the suffix's CRC-32 does not match")
	}
	return facts, err
}

// maxLine is the longest line of a hexadecimal file: 255 data bytes and the rest.
const maxLine = 600

// lines gives every line of a text file to f, without its end.
func lines(r io.ReaderAt, size int64, f func(n int, line string) error) error {
	s := bufio.NewScanner(io.NewSectionReader(r, 0, size))
	s.Buffer(make([]byte, 0, maxLine), maxLine)
	n := 0
	for s.Scan() {
		n++
		if line := strings.TrimSpace(s.Text()); line != "" {
			if err := f(n, line); err != nil {
				return err
			}
		}
	}
	if err := s.Err(); err != nil {
		return damaged("line %d is longer than any record", n+1)
	}
	return nil
}

func isIntelHex(h []byte) bool {
	return len(h) >= 11 && h[0] == ':' && hexDigits(h[1:11])
}

func isSRecord(h []byte) bool {
	return len(h) >= 10 && h[0] == 'S' && h[1] >= '0' && h[1] <= '9' && hexDigits(h[2:10])
}

func hexDigits(b []byte) bool {
	return strings.Trim(strings.ToUpper(string(b)), "0123456789ABCDEF") == ""
}

func intelHex(r io.ReaderAt, size int64) (Facts, error) {
	ended := false
	err := lines(r, size, func(n int, line string) error {
		raw, err := hex.DecodeString(strings.TrimPrefix(line, ":"))
		if err != nil || line[0] != ':' || len(raw) < 5 || int(raw[0]) != len(raw)-5 || ended {
			return damaged("line %d is not a record", n)
		}
		if sum(raw) != 0 {
			return damaged("the checksum of line %d does not match", n)
		}
		ended = raw[3] == 1
		return nil
	})
	if err == nil && !ended {
		err = damaged("it has no last record")
	}
	return Facts{}, err
}

func sRecord(r io.ReaderAt, size int64) (Facts, error) {
	var facts Facts
	ended := false
	err := lines(r, size, func(n int, line string) error {
		if len(line) < 4 || line[0] != 'S' || ended {
			return damaged("line %d is not a record", n)
		}
		raw, err := hex.DecodeString(line[2:])
		if err != nil || len(raw) < 3 || int(raw[0]) != len(raw)-1 {
			return damaged("line %d is not a record", n)
		}
		if sum(raw) != 0xff {
			return damaged("the checksum of line %d does not match", n)
		}
		switch line[1] {
		case '0':
			facts.Name = plainText(raw[3 : len(raw)-1])
		case '7', '8', '9':
			ended = true
		}
		return nil
	})
	if err == nil && !ended {
		err = damaged("it has no last record")
	}
	return facts, err
}

func sum(b []byte) (s byte) {
	for _, x := range b {
		s += x
	}
	return s
}
