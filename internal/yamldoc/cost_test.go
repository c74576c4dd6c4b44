package yamldoc_test

import (
	"runtime"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"catena/internal/yamldoc"
)

// What a hostile file costs stays within 100 MiB of memory, and it is refused with its place.
func TestCostOfHostileFiles(t *testing.T) {
	for what, text := range map[string]string{
		"deep mappings":  "a: " + strings.Repeat("{a: ", 5000),
		"deep sequences": "a: " + strings.Repeat("[", 20_000),
		"one long word":  `a: "` + strings.Repeat("x", 3_000_000) + `"`,
		"many keys":      strings.Repeat("- {a: 1, b: 2, c: 3}\n", 150_000),
		"many lines":     strings.Repeat("\n", 900_000) + "? : ? : [",
		"too large":      strings.Repeat("# x\n", 2_000_000),
		"anchors":        "a: &a [x]\nb: &b [*a, *a]\nc: [*b, *b]\n",
	} {
		t.Run(what, func(t *testing.T) {
			var before, after runtime.MemStats
			runtime.ReadMemStats(&before)
			var into struct{ A any }
			_, err := yamldoc.Decode("hostile.yaml", []byte(text), &into)
			runtime.ReadMemStats(&after)
			assert.Error(t, err)
			assert.Contains(t, err.Error(), "hostile.yaml")
			assert.Less(t, after.TotalAlloc-before.TotalAlloc, uint64(400<<20),
				"allocated in all; what is held at once is less")
		})
	}
}
