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
