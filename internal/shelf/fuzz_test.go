package shelf

import (
	"bufio"
	"bytes"
	"reflect"
	"testing"

	"catena/internal/firmware"
)

// What is kept of a manifest reads back as the same, whatever its names are.
func FuzzReadBack(f *testing.F) {
	f.Add("Wexcombe", "a{b", "1.0", "x: [y]")
	f.Add("# Wexcombe", "'", "1", "\"\n")
	f.Fuzz(func(t *testing.T, vendor, model, version, caution string) {
		m := firmware.Manifest{Manifest: 1, Vendor: vendor, Models: []string{model},
			Version: version, File: "a.bin",
			SHA256:   "0000000000000000000000000000000000000000000000000000000000000000",
			Cautions: map[string]string{"caution": caution}}
		if _, message := m.Complete(); message != "" {
			return
		}
		raw, err := readBack(m)
		if err != nil {
			return // it is refused
		}
		back, err := firmware.ParseManifest("manifest", raw)
		if err != nil || !reflect.DeepEqual(back, m) {
			t.Errorf("%+v reads back as %+v: %v", m, back, err)
		}
	})
}

func FuzzDictionary(f *testing.F) {
	f.Add([]byte("\xfd7zXZ\x00\x00\x04\xe6\xd6\xb4\x46\x02\x00\x21\x01\x16\x00\x00\x00\x74\x2f\xe5\xa3"))
	f.Fuzz(func(t *testing.T, raw []byte) {
		n, ok := dictionary(bufio.NewReader(bytes.NewReader(raw)))
		if ok && n <= 0 {
			t.Errorf("a dictionary of %d bytes", n)
		}
	})
}
