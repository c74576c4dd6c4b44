package bacnet_test

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/bacnet"
)

func TestProperties(t *testing.T) {
	for written, want := range map[string]bacnet.Property{
		"device/firmware-revision":        {Of: bacnet.OwnDevice, ID: 44, Index: -1},
		"file,1/file-size":                {Of: bacnet.ObjectID{Type: 10, Instance: 1}, ID: 42, Index: -1},
		"130,7/512":                       {Of: bacnet.ObjectID{Type: 130, Instance: 7}, ID: 512, Index: -1},
		"analog-value,3/priority-array/8": {Of: bacnet.ObjectID{Type: 2, Instance: 3}, ID: 87, Index: 8},
		"device,3009/object-list/0":       {Of: bacnet.ObjectID{Type: 8, Instance: 3009}, ID: 76, Index: 0},
	} {
		got, err := bacnet.ParseProperty(written)
		require.NoError(t, err, written)
		assert.Equal(t, want, got)
		assert.Equal(t, written, got.String())
	}
	for written, why := range map[string]string{
		"":                        "is not a property",
		"device":                  "is not a property",
		"lock,1/85":               `"lock" is not a type of object`,
		"1024,1/85":               `"1024" is not a type of object`,
		"file/file-size":          "is not an object",
		"file,4194304/42":         "is not an object",
		"file,1/size":             `"size" is not a property`,
		"file,1/42/x":             "is not the place of an element",
		"analog-value,1/85/1/2":   "is not a property",
		"analog-value,-1/present": "is not an object",
	} {
		_, err := bacnet.ParseProperty(written)
		assert.ErrorContains(t, err, why, written)
	}
}

// What is written is read back as the same, by the code that reads what devices send.
func TestValues(t *testing.T) {
	for _, c := range [][2]string{{"null", ""}, {"boolean", "true"}, {"boolean", "false"}, {"unsigned", "0"},
		{"unsigned", "255"}, {"unsigned", "4294967295"}, {"signed", "-1"}, {"signed", "127"}, {"signed", "128"},
		{"signed", "-32769"}, {"real", "21.5"}, {"double", "-0.0625"}, {"octets", "00ff"}, {"text", "lock ✓"},
		{"enumerated", "5"}} {
		v, err := bacnet.ParseValue(c[0], c[1])
		require.NoError(t, err, c)
		got, rest, err := bacnet.ReadValue(bacnet.AppendValue(nil, v))
		require.NoError(t, err, c)
		assert.Empty(t, rest)
		assert.Equal(t, c[1], got.String(), c)
		assert.Equal(t, c[0], got.Type.String())
	}
	for _, c := range [][2]string{{"unsigned", "-1"}, {"boolean", "maybe"}, {"octets", "0"}, {"null", "0"},
		{"date", "2026-11-30"}} {
		_, err := bacnet.ParseValue(c[0], c[1])
		assert.Error(t, err, c)
	}
	// the standard's own examples (20.2 and Annex F)
	for raw, want := range map[string]string{"\x21\x48": "72", "\x31\x48": "72", "\x44\x42\x90\x00\x00": "72",
		"\x55\x08\x40\x52\x00\x00\x00\x00\x00\x00":     "72",
		"\x63\x12\x34\xff":                             "1234ff",
		"\x75\x19\x00This is a BACnet string!":         "This is a BACnet string!",
		"\x75\x0a\x00Fran\xc3\xa7ais":                  "Français",
		"\x75\x07\x04\x00L\x00\xe9\x00o":               "Léo",
		"\x73\x05\xe9\x21":                             "é!",
		"\x82\x03\xa8":                                 "10101",
		"\x91\x00":                                     "0",
		"\xa4\x5b\x01\x18\x04":                         "1991-01-24",
		"\xb4\x11\x23\x2d\x11":                         "17:35:45",
		"\xc4\x00\xc0\x00\x0f":                         "binary-input,15",
		"\xa4\xff\x01\x18\x04":                         "ff011804",
		"\x65\xfe\x01\x00" + string(make([]byte, 256)): string(zeros(512)),
	} {
		got, _, err := bacnet.ReadValue([]byte(raw))
		require.NoError(t, err, "%q", raw)
		assert.Equal(t, want, got.String())
	}
}

func zeros(n int) []byte {
	out := make([]byte, n)
	for i := range out {
		out[i] = '0'
	}
	return out
}

// Whatever arrives, reading it ends, and what is read is within its bounds.
func FuzzMessages(f *testing.F) {
	f.Add(bacnet.WhoIs(bacnet.ToAll))
	f.Add(bacnet.Register(60))
	for _, p := range bacnet.Probes() {
		f.Add(p)
	}
	f.Add(packet(0x10, 0, 0xc4, 2, 0, 0x0b, 0xc1, 0x22, 1, 0xe0, 0x91, 0, 0x22, 0xfd, 0xe9))
	f.Add(packet(0x30, 0xca, 12, 0x0c, 2, 0, 0, 1, 0x19, 75, 0x3e, 0xc4, 2, 0, 0x0b, 0xc1, 0x3f))
	from := netip.MustParseAddrPort("127.0.0.1:47808")
	f.Fuzz(func(t *testing.T, raw []byte) {
		if found, ok := bacnet.ReadAnswer(raw, from); ok {
			assert.LessOrEqual(t, found.Instance, uint32(bacnet.AnyInstance))
			assert.LessOrEqual(t, found.MaxAPDU, bacnet.MaxAPDU)
		}
		for rest := raw; len(rest) > 0; {
			v, after, err := bacnet.ReadValue(rest)
			if err != nil {
				break
			}
			assert.Less(t, len(after), len(rest))
			assert.LessOrEqual(t, len(v.Raw), 4*len(raw))
			rest = after
		}
		values, err := bacnet.ReadProperty(raw)
		assert.True(t, err != nil || len(values) <= 4096)
	})
}
