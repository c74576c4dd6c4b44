package workspace_test

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/device"
	"catena/internal/order"
	"catena/internal/site"
	"catena/internal/workspace"
	"catena/internal/yamldoc/schematest"
)

// An independent validator finds that the schemas hold for the files of the documents, and for
// those that Catena writes, and finds the slip of a pen in each.
func TestTheSchemas(t *testing.T) {
	check := func(kind, text string) string {
		raw, err := workspace.FileSchema(kind)
		require.NoError(t, err)
		return schematest.Findings(t, raw, text)
	}
	doc, err := os.ReadFile("../../docs/files.md")
	require.NoError(t, err)
	block := func(begins string) string {
		for _, m := range regexp.MustCompile("(?s)```yaml\n(.*?)```").FindAllStringSubmatch(string(doc),
			-1) {
			if strings.HasPrefix(m[1], begins) {
				return m[1]
			}
		}
		t.Fatal("no block starts with " + begins)
		return ""
	}
	o := order.Order{Format: 1, Name: "night-1", Purpose: order.Forward,
		Made: time.Date(2026, 11, 28, 22, 0, 0, 0, time.UTC),
		Devices: []order.Device{{Name: "cam-11", ID: "d1", From: "3.1.0", Takes: 3 * time.Minute,
			Path: []order.Hop{{Component: "main", From: "3.1.0", To: "3.2.1",
				Image: order.Image{SHA256: strings.Repeat("0", 64), Size: 9}}}}}}
	written, err := o.File()
	require.NoError(t, err)
	for kind, text := range map[string]string{"site": block("site:"),
		"manifest": block("manifest:"), "order": string(written),
		"targets": "targets:\n  - {model: WX-40, version: 3.2.1, because: asked for}\n"} {
		assert.Empty(t, check(kind, text), kind)
		assert.Contains(t, check(kind, text+"\nnetworkz: 1\n"), "networkz", kind)
	}
	assert.Contains(t, check("site", "networks: []\n"), "'site' is a required property")
}

// A file that Catena writes names its schema; what is written there is kept up.
func TestForEditors(t *testing.T) {
	dir := t.TempDir()
	assert.Equal(t, "# yaml-language-server: $schema=../.catena/schemas/order.json\n",
		workspace.ForEditors(dir, "order", "../"))
	path := filepath.Join(dir, ".catena", "schemas", "order.json")
	require.NoError(t, os.WriteFile(path, []byte("of another Catena"), 0o600))
	workspace.ForEditors(dir, "order", "../")
	now, err := os.ReadFile(path)
	require.NoError(t, err)
	want, err := workspace.FileSchema("order")
	require.NoError(t, err)
	assert.Equal(t, string(want), string(now))
	assert.Empty(t, workspace.ForEditors(filepath.Join(path, "no-folder"), "order", ""),
		"a file is not refused because its schema is missing")
}

// What a scan proposes is YAML that a site file takes, whatever devices are called.
func TestSketch(t *testing.T) {
	var devices []device.Device
	for _, d := range [][4]string{{"cam-11", "WX-40", "WX4-1", "10.20.4.11:80"},
		{"cam-12", "WX-40", "WX4-2", "10.20.4.12:80"},
		{"gate: 1 #x", "TG-200", "007", "10.20.5.1:80"}, {`a"b`, "", "", "10.20.5.2:80"}} {
		devices = append(devices, device.Device{Name: d[0],
			Endpoint: device.Endpoint{Address: d[3]},
			Reading:  device.Reading{Identity: device.Identity{Model: d[1], Serial: d[2]}}})
	}
	text := site.Sketch(devices, true)
	s, err := site.Parse("site.yaml", []byte("site: Marrow Hill Locks\n"+text))
	require.NoError(t, err, text)
	assert.Equal(t, []string{"10.20.4.0/24", "10.20.5.0/24"}, s.Networks[0].Ranges)
	assert.Equal(t, map[string][]string{"wx-40": {"cam-11", "cam-12"}}, s.Groups)
	assert.Equal(t, map[string]string{"WX4-1": "cam-11", "WX4-2": "cam-12"}, s.Names)
	assert.Empty(t, site.Sketch(nil, true))
}
