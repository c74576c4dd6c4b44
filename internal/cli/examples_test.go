package cli_test

import (
	"os"
	"path/filepath"
	"regexp"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/office"
	"catena/internal/rollout"
	"catena/internal/station"
)

// The examples of the files of an office, a station and a rollout are read as they stand in the
// manual.
func TestTheExamplesOfAnOffice(t *testing.T) {
	page, err := os.ReadFile(filepath.Join("..", "..", "docs", "files.md"))
	require.NoError(t, err)
	example := func(name string) []byte {
		found := regexp.MustCompile("(?s)\n`" + name + "`.*?```yaml\n(.*?)```").FindSubmatch(page)
		require.NotNil(t, found, name)
		return found[1]
	}
	dir := filepath.Join(t.TempDir(), "office")
	require.NoError(t, office.Init(dir, "x", "127.0.0.1"))
	require.NoError(t, os.WriteFile(filepath.Join(dir, office.File), example(office.File), 0o600))
	o, err := office.Open(dir)
	require.NoError(t, err)
	assert.Equal(t, "Canal Works", o.Settings.Office)

	require.NoError(t, os.WriteFile(filepath.Join(dir, station.File), example(station.File), 0o600))
	s, err := station.Read(dir)
	require.NoError(t, err)
	assert.Equal(t, 1, s.Need)
	assert.Len(t, s.Keys, 1)

	require.NoError(t, os.Mkdir(filepath.Join(dir, "rollouts"), 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "rollouts", "winter.yaml"),
		example("rollouts/NAME.yaml"), 0o600))
	r, err := rollout.Read(dir, "winter")
	require.NoError(t, err)
	assert.Equal(t, 3, r.Devices())
	assert.Equal(t, "cam-11 is dark", r.Held)
}
