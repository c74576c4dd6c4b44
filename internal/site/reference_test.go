package site_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/device"
	"catena/internal/site"
)

const hill = `site: Marrow Hill Locks
groups: {chamber-1: [cam-11, "cam-1*"]} # cam-11 is the one at the gate
hold:
  - {device: gate-5, because: not before the winter stoppage}
  - {device: 'cam-11', because: "cam-11 is lent out"}
uplinks:
  - {through: switch-basin, reach: [cam-11, gate-1]}
names: {10.20.4.17: cam-17}
`

func TestNobody(t *testing.T) {
	s, err := site.Parse("site.yaml", []byte(hill))
	require.NoError(t, err)
	var known []device.Device
	for _, name := range []string{"cam-11", "gate-1", "gate-15", "switch-basin"} {
		known = append(known, device.Device{Name: name})
	}
	nobody := s.Unresolved(known, nil)
	require.Len(t, nobody, 1)
	assert.Equal(t, `hold: no device has the name "gate-5", did you mean gate-1?`, nobody[0].String())
	assert.True(t, s.Refers(known[0]))
	assert.False(t, s.Refers(known[2]))
}

func TestRenameFollows(t *testing.T) {
	renamed := site.Rename([]byte(hill), "cam-11", "cam: north")
	assert.Equal(t, `site: Marrow Hill Locks
groups: {chamber-1: ["cam: north", "cam-1*"]} # cam-11 is the one at the gate
hold:
  - {device: gate-5, because: not before the winter stoppage}
  - {device: "cam: north", because: "cam-11 is lent out"}
uplinks:
  - {through: switch-basin, reach: ["cam: north", gate-1]}
names: {10.20.4.17: cam-17}
`, string(renamed))
	_, err := site.Parse("site.yaml", renamed)
	assert.NoError(t, err)
}

// In places devices are keys: those follow, too, however they are written.
func TestRenameFollowsInPlaces(t *testing.T) {
	for text, want := range map[string]string{
		"site: x\nplaces: {cam-11: cam-11 pier, \"cam-1*\": quay}\nnames: {cam-11: b}\n":       "site: x\nplaces: {\"pier\": cam-11 pier, \"cam-1*\": quay}\nnames: {cam-11: b}\n",
		"site: x\nplaces:\n  cam-11: pier\n  gate-1: lock\nlimits: {per_model: {cam-11: 1}}\n": "site: x\nplaces:\n  \"pier\": pier\n  gate-1: lock\nlimits: {per_model: {cam-11: 1}}\n",
	} {
		got := site.Rename([]byte(text), "cam-11", "pier")
		assert.Equal(t, want, string(got))
		_, err := site.Parse("site.yaml", got)
		assert.NoError(t, err)
	}
}

func TestAHoldSaysWhy(t *testing.T) {
	_, err := site.Parse("site.yaml", []byte("site: x\nhold:\n  - {device: gate-5}\n"))
	assert.ErrorContains(t, err, "site.yaml:3:5: hold: because: is missing")
}

// A device that calls itself like another one's ID or address is not meant by it.
func TestAnIDComesFirst(t *testing.T) {
	known := []device.Device{
		{ID: "d1", Name: "cam-11", Endpoint: device.Endpoint{Address: "10.20.4.11:80"}},
		{ID: "d2", Name: "d1", Endpoint: device.Endpoint{Address: "10.20.4.66:80"}},
		{ID: "d3", Name: "10.20.4.11", Endpoint: device.Endpoint{Address: "10.20.4.67:80"}},
	}
	for _, word := range []string{"d1", "10.20.4.11", "10.20.4.11:80"} {
		meant := site.Meant(known, word)
		require.Len(t, meant, 1, word)
		assert.Equal(t, "d1", meant[0].ID, word)
	}
}
