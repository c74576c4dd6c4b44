package text_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"catena/internal/text"
)

func TestClean(t *testing.T) {
	for in, want := range map[string]string{
		"cam-11":                     "cam-11",
		"cam\x1b[2J\x1b]0;x\x07-11":  "cam[2J]0;x-11",
		"two\r\nlines\t and  spaces": "two lines and spaces",
		"a\u202eb\u200bc\u009bd":     "abcd",
		"\xff\xfecam":                "cam",
		"Schleuse Süd 门":             "Schleuse Süd 门",
	} {
		assert.Equal(t, want, text.Clean(in))
	}
	assert.LessOrEqual(t, len(text.Clean(strings.Repeat("门", 10000))), text.Max)
}

func TestInvisible(t *testing.T) {
	for _, r := range []rune{0x61c, 0xad, 0x180e, 0xe0041, 0x202e, 0x200b, 0x9b, 0x1b} {
		assert.Equal(t, "ab", text.Harmless("a"+string(r)+"b"), "U+%04X", r)
	}
}

func TestNearest(t *testing.T) {
	names := []string{"cam-11", "cam-12", "gate-1", "recorder-1"}
	for word, want := range map[string]string{"cam-1l": "cam-11", "gate1": "gate-1",
		"Recoder-1": "recorder-1",
		"pump":      "", "x": ""} {
		assert.Equal(t, want, text.Nearest(word, names), word)
	}
}

// A device's own name becomes one word that no shell, pattern or file takes for something else.
func TestName(t *testing.T) {
	for from, want := range map[string]string{
		"cam-11":                       "cam-11",
		"Chamber 2, north pier":        "Chamber-2-north-pier",
		"cam-9$(touch /tmp/x)":         "cam-9-touch-tmp-x",
		"`id`":                         "id",
		"a;b|c&d>e<f":                  "a-b-c-d-e-f",
		"*":                            "",
		"-rf":                          "rf",
		"~root":                        "root",
		"..":                           "",
		"../../etc/passwd":             "etc-passwd",
		"écluse №2":                    "écluse-2",
		"cam\x1b[2J-9":                 "cam-2J-9",
		"a!b{c,d}e(f)g#h=i\"j'k\\l\nm": "a-b-c-d-e-f-g-h-i-j-k-l-m",
		"cam-11~2":                     "cam-11~2",
	} {
		assert.Equal(t, want, text.Name(from), from)
		assert.Equal(t, from == want && from != "", text.IsName(from), from)
		assert.True(t, want == "" || text.IsName(want), want)
	}
}
