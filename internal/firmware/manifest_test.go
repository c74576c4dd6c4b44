package firmware_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/firmware"
)

const digest = "9f2c4e0d9f2c4e0d9f2c4e0d9f2c4e0d9f2c4e0d9f2c4e0d9f2c4e0d9f2c4e0d"

const manifest = `manifest: 1
vendor: Wexcombe
models: [WX-40, WX-41]
hardware: ">= B"
version: 3.2.1
file: wx40_3.2.1.bin
sha256: ` + digest + `
needs: ">= 2.0"
`

func TestParseManifestFillsDefaults(t *testing.T) {
	c, err := firmware.ParseManifest("wx40.yaml", []byte(manifest))
	require.NoError(t, err)
	assert.Equal(t, "3.2.1", c.Version)
	assert.Equal(t, firmware.Main, c.Component)
	assert.Equal(t, firmware.NoAdvice, c.Advice)
}

func TestParseManifestNamesThePlace(t *testing.T) {
	for name, c := range map[string]struct{ old, with, want string }{
		"unknown key":    {"vendor:", "vender:", `wx40.yaml:2:1: unknown field "vender"`},
		"wrong kind":     {"[WX-40, WX-41]", "7", "wx40.yaml:3:9: "},
		"bad digest":     {digest, "9f2c", "wx40.yaml:7:9: sha256: must be 64"},
		"bad constraint": {`">= 2.0"`, `">="`, "wx40.yaml:8:8: needs: "},
		"other format":   {"manifest: 1", "manifest: 2", "wx40.yaml:1:11: manifest: must be 1"},
		"bad advice": {"needs:", "advice: fine\nneeds:",
			"wx40.yaml:8:9: advice: \"fine\" is not one of"},
		"bad settings": {"needs:", "settings: gone\nneeds:",
			"wx40.yaml:8:11: settings: \"gone\" is not one of kept"},
		"model twice": {"WX-41", "wx-40", "wx40.yaml:3:17: models: wx-40 is listed twice"},
		"no version": {"version: 3.2.1\n", "",
			"wx40.yaml: version: a version must not be empty"},
		"not YAML": {"vendor: Wexcombe", "vendor: [", "wx40.yaml:"},
	} {
		t.Run(name, func(t *testing.T) {
			_, err := firmware.ParseManifest("wx40.yaml",
				[]byte(strings.Replace(manifest, c.old, c.with, 1)))
			assert.ErrorContains(t, err, c.want)
		})
	}
	_, err := firmware.ParseManifest("wx40.yaml", nil)
	assert.ErrorContains(t, err, "wx40.yaml: is empty")
}

func TestFits(t *testing.T) {
	c, err := firmware.ParseManifest("wx40.yaml", []byte(manifest))
	require.NoError(t, err)
	image := firmware.Image{Manifest: c}
	assert.True(t, image.Fits("wexcombe", "wx-41", "C"))
	assert.False(t, image.Fits("Wexcombe", "WX-20", "C"), "another model")
	assert.False(t, image.Fits("Osmere", "WX-40", "C"), "another maker")
	assert.False(t, image.Fits("Wexcombe", "WX-40", "A"), "older hardware")
	assert.False(t, image.Fits("Wexcombe", "WX-40", ""), "hardware not known")
}

func FuzzParseManifest(f *testing.F) {
	f.Add([]byte(manifest))
	f.Add([]byte("manifest: 1\nmodels: [\"\"]\nneeds: '>='\n"))
	f.Fuzz(func(t *testing.T, raw []byte) {
		c, err := firmware.ParseManifest("manifest.yaml", raw)
		if err == nil && (len(c.SHA256) != 64 || c.Component == "" || len(c.Models) == 0) {
			t.Errorf("a manifest that is not complete: %+v", c)
		}
	})
}
