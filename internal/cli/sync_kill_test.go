package cli_test

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Two laptops whose syncs are killed at random instants lose nothing: in the end both have the same
// entries, files and images, and whole ledgers.
func TestSyncKilledAtRandom(t *testing.T) {
	t.Parallel()
	work := t.TempDir()
	stick := filepath.Join(work, "stick")
	require.NoError(t, os.Mkdir(stick, 0o700))
	type laptop struct{ name, dir string }
	run := func(l laptop, args ...string) (string, error) {
		cmd := command(l.dir, args...)
		cmd.Env = append(cmd.Env, "XDG_DATA_HOME="+filepath.Join(work, l.name),
			"CATENA_SHELF="+filepath.Join(work, l.name, "shelf"))
		out, err := cmd.CombinedOutput()
		return string(out), err
	}
	must := func(l laptop, args ...string) string {
		out, err := run(l, args...)
		require.NoError(t, err, "%s %v: %s", l.name, args, out)
		return out
	}
	r := rand.New(rand.NewPCG(uint64(time.Now().UnixNano()), 1))
	killed := func(l laptop, args ...string) {
		cmd := command(l.dir, args...)
		cmd.Env = append(cmd.Env, "XDG_DATA_HOME="+filepath.Join(work, l.name),
			"CATENA_SHELF="+filepath.Join(work, l.name, "shelf"))
		require.NoError(t, cmd.Start())
		time.Sleep(time.Duration(r.IntN(60)) * time.Millisecond)
		_ = cmd.Process.Kill() // it may have ended
		_ = cmd.Wait()
	}
	anna, bea := laptop{"anna", filepath.Join(work, "annas")}, laptop{"bea", filepath.Join(work, "beas")}
	must(laptop{"anna", work}, "ledger", "writer", "anna")
	must(laptop{"bea", work}, "ledger", "writer", "bea")
	must(laptop{"anna", work}, "new", "Marrow Hill", "-C", "annas", "--range", "127.44.1.1")
	must(anna, "sync", stick)
	must(laptop{"bea", work}, "sync", stick, "--into", "beas", "--accept", "anna")
	must(anna, "sync", stick, "--accept", "bea")
	all := []laptop{anna, bea}
	for round := range 12 {
		l := all[round%2]
		family := fmt.Sprintf("family: f%d\nvendor: Wexcombe\nmodels: [M-%[1]d]\n# %s\n", round,
			bytes.Repeat([]byte("x"), 200_000))
		require.NoError(t, os.MkdirAll(filepath.Join(l.dir, "families"), 0o700))
		require.NoError(t, os.WriteFile(filepath.Join(l.dir, "families", fmt.Sprintf("f%d.yaml", round)),
			[]byte(family), 0o600))
		killed(l, "sync", stick)
		killed(all[r.IntN(2)], "sync", stick)
	}
	for range 2 {
		for _, l := range all {
			must(l, "sync", stick)
		}
	}
	assert.Contains(t, must(anna, "sync", stick), "Both have the same")
	for round := range 12 {
		name := filepath.Join("families", fmt.Sprintf("f%d.yaml", round))
		one, err := os.ReadFile(filepath.Join(anna.dir, name))
		require.NoError(t, err)
		two, err := os.ReadFile(filepath.Join(bea.dir, name))
		require.NoError(t, err)
		assert.True(t, bytes.Equal(one, two), name)
	}
	for _, l := range all {
		assert.Contains(t, must(l, "ledger", "check"), "The ledger is intact")
	}
}
