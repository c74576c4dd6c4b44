package format

import (
	"bytes"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"hash/crc32"
	"io"
	"strings"

	"github.com/fxamacker/cbor/v2"
)

// PLDM firmware update packages: DSP0267, 7. All numbers are little-endian.
var pldmIdentifiers = []string{ // of revisions 1 to 3 (1.0 to 1.2)
	"f018878ccb7d49439800a02f059aca02", "1244d2648d7d4718a030fc8a56587d5a",
	"3119ce2fe80a4a99af6d46f8b121f6bf",
}

func pldmRevision(head []byte) int {
	for i, id := range pldmIdentifiers {
		if hex.EncodeToString(head[:16]) == id {
			return i + 1
		}
	}
	return 0
}

// cursor reads a header; once it is over its end, everything is zero.
type cursor struct {
	b    []byte
	over bool
}

func (c *cursor) take(n int) []byte {
	if n < 0 || n > len(c.b) {
		c.over, c.b = true, nil
		return make([]byte, max(0, min(n, 1<<16)))
	}
	out := c.b[:n]
	c.b = c.b[n:]
	return out
}

func (c *cursor) u8() int  { return int(c.take(1)[0]) }
func (c *cursor) u16() int { return int(binary.LittleEndian.Uint16(c.take(2))) }

func pldm(r io.ReaderAt, size int64) (Facts, error) {
	var facts Facts
	start := make([]byte, 19)
	if _, err := r.ReadAt(start, 0); err != nil {
		return facts, err
	}
	revision, n := pldmRevision(start), int64(binary.LittleEndian.Uint16(start[17:]))
	if n < 40 || n > size {
		return facts, damaged("its header is truncated")
	}
	header := make([]byte, n)
	if _, err := r.ReadAt(header, 0); err != nil && err != io.EOF {
		return facts, err
	}
	body := header[:n-4]
	if crc32.ChecksumIEEE(body) != binary.LittleEndian.Uint32(header[n-4:]) {
		return facts, damaged("the header's CRC-32 does not match")
	}
	c := &cursor{b: body[19:]}
	c.take(13) // release date and time
	c.u16()    // bits of the component bitmap
	c.u8()     // type of the version string
	facts.Version = plainText(c.take(c.u8()))
	lists := 1 // of device records; from 1.1 a second one, of downstream devices
	if revision > 1 {
		lists = 2
	}
	for range lists {
		for range c.u8() {
			if n := c.u16(); n >= 2 { // the length has itself in it
				c.take(n - 2)
			}
		}
	}
	components := c.u16()
	for i := range components {
		c.take(12) // classification, identifier, stamp, options, activation
		offset, length := binary.LittleEndian.Uint32(c.take(4)), binary.LittleEndian.Uint32(
			c.take(4))
		c.u8()
		version := plainText(c.take(c.u8()))
		if revision > 2 {
			c.take(int(binary.LittleEndian.Uint32(c.take(4)) & 0xffff)) // opaque data
		}
		if c.over {
			break
		}
		if int64(offset)+int64(length) > size {
			return facts, damaged("its component %d is truncated", i)
		}
		if components == 1 && facts.Version == "" {
			facts.Version = version
		}
	}
	if c.over {
		return facts, damaged("its header is truncated")
	}
	return facts, nil
}

// SUIT (draft-ietf-suit-manifest): a CBOR map under tag 107, with an authentication
// wrapper (2) and the manifest (3), each a byte string.
type suitEnvelope struct {
	Wrapper  []byte `cbor:"2,keyasint"`
	Manifest []byte `cbor:"3,keyasint"`
	Text     []byte `cbor:"23,keyasint"`
}

type suitManifest struct {
	Version  int             `cbor:"1,keyasint"`
	Sequence uint64          `cbor:"2,keyasint"`
	Common   []byte          `cbor:"3,keyasint"`
	Text     cbor.RawMessage `cbor:"23,keyasint"`
}

type suitCommon struct {
	Components [][][]byte `cbor:"2,keyasint"`
}

const (
	maxSUIT   = 1 << 20 // bytes of an envelope that are read
	suitSHA   = -16     // COSE's SHA-256
	cborLimit = 1000    // elements of an array or a map
)

func suit(r io.ReaderAt, size int64) (Facts, error) {
	var facts Facts
	raw := make([]byte, min(size, maxSUIT))
	if _, err := r.ReadAt(raw, 0); err != nil && err != io.EOF {
		return facts, err
	}
	mode, err := cbor.DecOptions{MaxNestedLevels: 16, MaxArrayElements: cborLimit,
		MaxMapPairs: cborLimit}.DecMode()
	if err != nil {
		return facts, err
	}
	var tag cbor.RawTag
	if _, err := mode.UnmarshalFirst(raw, &tag); err != nil || tag.Number != 107 {
		return facts, damaged("its CBOR cannot be read")
	}
	var e suitEnvelope
	if err := mode.Unmarshal(tag.Content, &e); err != nil || len(e.Manifest) == 0 {
		return facts, damaged("it has no manifest")
	}
	var m suitManifest
	var common suitCommon
	if mode.Unmarshal(e.Manifest, &m) != nil || mode.Unmarshal(m.Common, &common) != nil {
		return facts, damaged("its manifest cannot be read")
	}
	facts.Version = fmt.Sprint(m.Sequence)
	if len(common.Components) == 1 {
		var parts []string
		for _, p := range common.Components[0] {
			parts = append(parts, printable(p))
		}
		facts.Component = strings.Join(parts, "/")
	}
	suitText(mode, e.Text, &facts)
	return facts, suitDigest(mode, e)
}

// suitText takes the texts of a component: vendor (1), model (2), version (6). The
// keys of the map that holds them are component identifiers, which are arrays.
func suitText(mode cbor.DecMode, raw []byte, facts *Facts) {
	var byLanguage map[string]cbor.RawMessage
	if len(raw) == 0 || mode.Unmarshal(raw, &byLanguage) != nil {
		return
	}
	for _, texts := range byLanguage {
		if len(texts) == 0 || texts[0]>>5 != 5 || texts[0]&0x1f >= 24 {
			continue // no map, or one larger than any real one
		}
		rest := []byte(texts[1:])
		for range texts[0] & 0x1f {
			var key, value cbor.RawMessage
			var err error
			rest, err = mode.UnmarshalFirst(rest, &key)
			if err != nil {
				return
			}
			rest, err = mode.UnmarshalFirst(rest, &value)
			if err != nil {
				return
			}
			var t struct {
				Vendor  string `cbor:"1,keyasint"`
				Model   string `cbor:"2,keyasint"`
				Version string `cbor:"6,keyasint"`
			}
			if key[0]>>5 != 4 || mode.Unmarshal(value, &t) != nil {
				continue
			}
			facts.Vendor, facts.Model = t.Vendor, t.Model
			if t.Version != "" {
				facts.Version = t.Version
			}
		}
	}
}

// suitDigest checks the manifest against the digest in the wrapper, which is taken
// over the manifest as a byte string, its head included.
func suitDigest(mode cbor.DecMode, e suitEnvelope) error {
	var wrapper [][]byte
	var d struct {
		_         struct{} `cbor:",toarray"`
		Algorithm int
		Value     []byte
	}
	if mode.Unmarshal(e.Wrapper, &wrapper) != nil || len(wrapper) == 0 ||
		mode.Unmarshal(wrapper[0], &d) != nil {
		return damaged("it has no digest of its manifest")
	}
	wrapped, err := cbor.Marshal(e.Manifest)
	if err != nil {
		return err
	}
	sum := sha256.Sum256(wrapped)
	if d.Algorithm == suitSHA && !bytes.Equal(sum[:], d.Value) {
		return damaged("the manifest's SHA-256 does not match")
	}
	return nil
}

func printable(b []byte) string {
	for _, c := range b {
		if c < 0x20 || c > 0x7e {
			return hex.EncodeToString(b)
		}
	}
	return string(b)
}
