package format_test

import (
	"bytes"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"hash/crc32"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/fxamacker/cbor/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/firmware/format"
)

var payload = bytes.Repeat([]byte("sluice "), 500)

// tool makes a file with the program that the trade makes it with.
func tool(t *testing.T, out string, files map[string]string, name string, args ...string) []byte {
	path, err := exec.LookPath(name)
	if err != nil {
		t.Skipf("%s is not installed", name)
	}
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "payload.bin"), payload, 0o600))
	for n, text := range files {
		require.NoError(t, os.WriteFile(filepath.Join(dir, n), []byte(text), 0o600))
	}
	cmd := exec.Command(path, args...)
	cmd.Dir = dir
	said, err := cmd.CombinedOutput()
	require.NoError(t, err, string(said))
	raw, err := os.ReadFile(filepath.Join(dir, out))
	require.NoError(t, err)
	return raw
}

const its = `/dts-v1/;
/ { description = "lock controller"; #address-cells = <1>;
  images { kernel { description = "k"; data = /incbin/("payload.bin"); type = "firmware"; arch = "arm"; compression = "none";
    hash-1 { algo = "sha256"; }; hash-2 { algo = "crc32"; }; }; };
  configurations { default = "c"; c { firmware = "kernel"; }; }; };
`

// makers make a sound file of each format.
var makers = map[string]struct {
	make func(t *testing.T) []byte
	want format.Facts
}{
	"uimage": {func(t *testing.T) []byte {
		return tool(t, "out", nil, "mkimage", "-A", "arm", "-T", "firmware", "-C", "none", "-n",
			"gate 2.08", "-d", "payload.bin", "out")
	}, format.Facts{Name: "gate 2.08"}},
	"fit": {func(t *testing.T) []byte {
		return tool(t, "out", map[string]string{"image.its": its}, "mkimage", "-f", "image.its",
			"out")
	}, format.Facts{Name: "lock controller"}},
	"usb-dfu": {func(t *testing.T) []byte {
		return tool(t, "payload.bin", nil, "dfu-suffix", "-v", "1209", "-p", "0001", "-d", "0210",
			"-a", "payload.bin")
	}, format.Facts{Version: "2.10", Name: "USB 1209:0001"}},
	"ihex": {func(t *testing.T) []byte {
		return tool(t, "out", nil, "objcopy", "-I", "binary", "-O", "ihex", "payload.bin", "out")
	}, format.Facts{}},
	"srec": {func(t *testing.T) []byte {
		return tool(t, "out", nil, "objcopy", "-I", "binary", "-O", "srec", "payload.bin", "out")
	}, format.Facts{Name: "out"}},
	"pldm": {func(*testing.T) []byte { return pldmPackage() }, format.Facts{Version: "2.5.1"}},
	"suit": {func(t *testing.T) []byte { return suitEnvelope(t) },
		format.Facts{Vendor: "Tollgarth", Model: "TG-200", Component: "mcu", Version: "K44"}},
}

// pldmPackage follows DSP0267 1.0.0, 7: no device records, one component.
func pldmPackage() []byte {
	var b bytes.Buffer
	le := func(v any) { _ = binary.Write(&b, binary.LittleEndian, v) }
	id, _ := hex.DecodeString("f018878ccb7d49439800a02f059aca02")
	b.Write(id)
	b.WriteByte(1)
	size := 16 + 1 + 2 + 13 + 2 + 1 + 1 + 5 + 1 + 2 + (12 + 4 + 4 + 1 + 1 + 3) + 4
	le(uint16(size))
	b.Write(make([]byte, 13))
	le(uint16(8))
	b.WriteByte(1)
	b.WriteByte(5)
	b.WriteString("2.5.1")
	b.WriteByte(0)
	le(uint16(1))
	b.Write(make([]byte, 12))
	le(uint32(size))
	le(uint32(len(payload)))
	b.WriteByte(1)
	b.WriteByte(3)
	b.WriteString("2.5")
	le(crc32.ChecksumIEEE(b.Bytes()))
	b.Write(payload)
	return b.Bytes()
}

func suitEnvelope(t *testing.T) []byte {
	// Keys in their canonical order: the manifest always stands before the text, which no
	// digest covers.
	mode, err := cbor.CanonicalEncOptions().EncMode()
	require.NoError(t, err)
	enc := func(v any) []byte {
		raw, err := mode.Marshal(v)
		require.NoError(t, err)
		return raw
	}
	component := [][]byte{[]byte("mcu")}
	manifest := enc(map[int]any{1: 1, 2: 7, 3: enc(map[int]any{2: []any{component}})})
	sum := sha256.Sum256(enc(manifest))
	texts := append([]byte{0xa1}, append(enc(component),
		enc(map[int]string{1: "Tollgarth", 2: "TG-200", 6: "K44"})...)...)
	text := enc(map[string]cbor.RawMessage{"en": texts})
	return append(enc(cbor.Tag{Number: 107,
		Content: map[int]any{2: enc([][]byte{enc([]any{-16, sum[:]})}), 3: manifest, 23: text}}),
		payload...)
}

func read(raw []byte) (format.Facts, bool, error) {
	return format.Read(bytes.NewReader(raw), int64(len(raw)))
}

func TestEveryFormat(t *testing.T) {
	for _, name := range format.Names {
		t.Run(name, func(t *testing.T) {
			raw := makers[name].make(t)
			facts, ok, err := read(raw)
			require.NoError(t, err)
			require.True(t, ok)
			want := makers[name].want
			want.Format = name
			assert.Equal(t, want, facts)
			assert.Contains(t, facts.String(), name)

			// One bit of what the file's own sums cover.
			at := map[string]int{"pldm": 30, "suit": bytes.Index(raw, []byte("mcu"))}[name]
			if at == 0 {
				at = len(raw) / 2
			}
			damaged := bytes.Clone(raw)
			damaged[at] ^= 1
			_, ok, err = read(damaged)
			assert.True(t, ok)
			assert.ErrorIs(t, err, format.ErrDamaged, "a flipped bit at %d", at)

			// Broken off: seen as damaged, or, where the end tells the format, not
			// recognised.
			_, ok, err = read(raw[:len(raw)/2])
			if name == "usb-dfu" {
				assert.False(t, ok)
			} else if name != "suit" { // what follows its envelope is not its own
				assert.ErrorIs(t, err, format.ErrDamaged)
			}
		})
	}
	for _, other := range [][]byte{nil, []byte("x"), payload, []byte(":not a record at all"),
		[]byte("S1 something else")} {
		_, ok, err := read(other)
		assert.NoError(t, err)
		assert.False(t, ok)
	}
}

func FuzzRead(f *testing.F) {
	f.Add(pldmPackage())
	f.Add([]byte(":0B0010006164647265737320676170A7\n:00000001FF\n"))
	f.Add([]byte("S00600004844521B\nS9030000FC\n"))
	f.Add([]byte("\xd8\x6b\xa2\x02\x41\x80\x03\x41\xa0"))
	f.Add(append([]byte("\xd0\x0d\xfe\xed\x00\x00\x00\x40\x00\x00\x00\x28\x00\x00\x00\x38"),
		make([]byte, 64)...))
	f.Fuzz(func(t *testing.T, raw []byte) {
		facts, ok, err := read(raw)
		if !ok && (err != nil || facts != format.Facts{}) {
			t.Errorf("not recognised, and yet %+v %v", facts, err)
		}
		_ = fmt.Sprint(facts)
	})
}
