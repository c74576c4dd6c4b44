package firmware_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/firmware"
)

const digest = "9f2c4e0d9f2c4e0d9f2c4e0d9f2c4e0d9f2c4e0d9f2c4e0d9f2c4e0d9f2c4e0d"

const card = `card: 1
vendor: Wexcombe
models: [WX-40, WX-41]
hardware: ">= B"
version: 3.2.1
file: wx40_3.2.1.bin
sha256: ` + digest + `
needs: ">= 2.0"
`

func TestParseCardFillsDefaults(t *testing.T) {
	c, err := firmware.ParseCard("wx40.yaml", []byte(card))
	require.NoError(t, err)
	assert.Equal(t, "3.2.1", c.Version)
	assert.Equal(t, firmware.Main, c.Component)
	assert.Equal(t, firmware.Recommended, c.Status)
}

func TestParseCardNamesThePlace(t *testing.T) {
	for name, c := range map[string]struct{ old, with, want string }{
		"unknown key":    {"vendor:", "vender:", `wx40.yaml:2:1: unknown field "vender"`},
		"wrong kind":     {"[WX-40, WX-41]", "7", "wx40.yaml:3:9: "},
		"bad digest":     {digest, "9f2c", "wx40.yaml:7:9: sha256: must be 64"},
		"bad constraint": {`">= 2.0"`, `">="`, "wx40.yaml:8:8: needs: "},
		"other format":   {"card: 1", "card: 2", "wx40.yaml:1:7: card: must be 1"},
		"bad status":     {"needs:", "status: fine\nneeds:", "wx40.yaml:8:9: status: \"fine\" is none of"},
		"model twice":    {"WX-41", "wx-40", "wx40.yaml:3:17: models: wx-40 stands here twice"},
		"no version":     {"version: 3.2.1\n", "", "wx40.yaml: version: a version must not be empty"},
		"not YAML":       {"vendor: Wexcombe", "vendor: [", "wx40.yaml:"},
	} {
		t.Run(name, func(t *testing.T) {
			_, err := firmware.ParseCard("wx40.yaml", []byte(strings.Replace(card, c.old, c.with, 1)))
			assert.ErrorContains(t, err, c.want)
		})
	}
	_, err := firmware.ParseCard("wx40.yaml", nil)
	assert.ErrorContains(t, err, "wx40.yaml: is empty")
}

func TestFits(t *testing.T) {
	c, err := firmware.ParseCard("wx40.yaml", []byte(card))
	require.NoError(t, err)
	image := firmware.Image{Card: c}
	assert.True(t, image.Fits("wexcombe", "wx-41", "C"))
	assert.False(t, image.Fits("Wexcombe", "WX-20", "C"), "another model")
	assert.False(t, image.Fits("Osmere", "WX-40", "C"), "another maker")
	assert.False(t, image.Fits("Wexcombe", "WX-40", "A"), "older hardware")
	assert.False(t, image.Fits("Wexcombe", "WX-40", ""), "hardware not known")
}

func FuzzParseCard(f *testing.F) {
	f.Add([]byte(card))
	f.Add([]byte("card: 1\nmodels: [\"\"]\nneeds: '>='\n"))
	f.Fuzz(func(t *testing.T, raw []byte) {
		c, err := firmware.ParseCard("card.yaml", raw)
		if err == nil && (len(c.SHA256) != 64 || c.Component == "" || len(c.Models) == 0) {
			t.Errorf("a card that is not complete: %+v", c)
		}
	})
}
