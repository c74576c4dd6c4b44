package order_test

import (
	"crypto/sha256"
	"encoding/hex"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/order"
)

func whole() order.Order {
	image := func(v string) order.Image {
		return order.Image{File: "tg200-" + v + ".img", SHA256: strings.Repeat("ab", 32),
			Size: 40000}
	}
	back := image("K42")
	return order.Order{Format: order.FileFormat, Name: "night-1", Note: "before: the frost",
		Site:    "Marrow Hill Locks",
		Purpose: order.Forward, Made: begin, GiveUp: 30 * time.Minute,
		Devices: []order.Device{{Name: "gate-2", ID: "d2", Model: "TG-200", Serial: "TG2-00102",
			From: "K42",
			Path: []order.Hop{{Component: "main", From: "K42", To: "K44", Image: image("K44"),
				Back: &back}},
			Takes: 3*time.Minute + 20*time.Second, Returns: 3 * time.Minute, Because: "history",
			Through: []string{"d1"}}},
		Rules: order.Rules{Parallel: 8, PerModel: map[string]int{"TG-200": 1}, Pilot: true,
			Cover:     []order.Cover{{Name: "chamber 1 view", Keep: 1, Of: []string{"d2", "d1"}}},
			StopAfter: order.StopAfter{Failures: 3, Share: 0.2}},
		Cautions: []order.Caution{{Name: "gate-blocked", Text: "TG-200 K44: it stands",
			Devices: []string{"gate-2"}}},
		Names:   map[string]string{"d1": "gate-1"},
		Station: &order.Errand{Until: time.Date(2026, 12, 8, 0, 0, 0, 0, time.UTC)}}
}

func TestFile(t *testing.T) {
	o := whole()
	raw, err := o.File()
	require.NoError(t, err)
	t.Log("\n" + string(raw))
	back, err := order.Parse("night-1.yaml", raw)
	require.NoError(t, err)
	sum := sha256.Sum256(raw)
	assert.Equal(t, hex.EncodeToString(sum[:]), back.Digest)
	back.Digest = ""
	assert.Equal(t, o, back, "what is written reads back as the same")
	assert.Contains(t, string(raw), "through: [d1 gate-1]")
	assert.Contains(t, string(raw), "takes: 3m20s")

	for from, c := range map[string]struct{ to, want string }{
		"order: 1":       {"order: 2", ":3:8: order: must be 1"},
		"name: night-1":  {"name: ../night", "cannot be an order's name"},
		"give_up: 30m0s": {"give_up: -30m", "give_up: write for example 30m"},
		"id: d2":         {"id: \"\"", "requires device: its name, and id:"},
		"to: K44":        {"to: \"\"", "requires from: and to:"},
		"size: 40000":    {"size: 0", "size: must be"},
		"pilot: true":    {"pilots: true", "unknown field"},
		"keep: 1":        {"keep: 0", "keep: of 1 or more"},
		"TG-200: 1":      {"TG-200: 0", "per_model: TG-200: must be 1 or more"},
		"purpose: flash": {"purpose: burn", "purpose: must be flash or rollback"},
		"share: 0.2":     {"share: 20", "share: must be from 0 to 1"},
		"ababab":         {"xyabab", "is not 64 hexadecimal digits"},
	} {
		require.Contains(t, string(raw), from)
		_, err := order.Parse("night-1.yaml", []byte(strings.Replace(string(raw), from, c.to, 1)))
		require.Error(t, err, from)
		assert.ErrorContains(t, err, c.want)
		assert.Regexp(t, `^night-1\.yaml:\d+:\d+: `, err.Error(), "with its place")
	}
}

func FuzzParse(f *testing.F) {
	raw, err := whole().File()
	require.NoError(f, err)
	f.Add(raw)
	f.Fuzz(func(t *testing.T, data []byte) {
		o, err := order.Parse("x", data)
		if err != nil {
			return
		}
		_, _ = order.Forecast(o, begin) // ends, whatever the file says
	})
}
