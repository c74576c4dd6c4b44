package rollout_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/order"
	"catena/internal/rollout"
)

func sites(n int) (out []rollout.Site) {
	for i := range n {
		out = append(out, rollout.Site{Name: fmt.Sprintf("Site %d", i+1), ID: fmt.Sprintf("s%d", i+1),
			Devices: 10})
	}
	return out
}

func TestWaves(t *testing.T) {
	for text, want := range map[string]string{
		"1,10%,rest":  "1 2 17",
		"rest":        "20",
		"50%,50%":     "10 10",
		" 1 , rest":   "1 19",
		"30,rest":     "20",
		"1%,1%,rest":  "1 1 18",
		"19,1,5,rest": "19 1",
	} {
		waves, err := rollout.Waves(text, sites(20))
		require.NoError(t, err, text)
		var sizes []string
		for _, w := range waves {
			sizes = append(sizes, fmt.Sprint(len(w)))
		}
		assert.Equal(t, want, strings.Join(sizes, " "), text)
	}
	for _, text := range []string{"", "0", "-1,rest", "rest,1", "110%", "0%", "NaN%", "1,2", "x"} {
		_, err := rollout.Waves(text, sites(20))
		assert.ErrorAs(t, err, new(*rollout.WaveError), text)
	}
}

// A wave is released when all sites of the one before are over, and what has failed is under the
// limit; nothing is where a person has stopped it.
func TestDecide(t *testing.T) {
	r := rollout.Rollout{StopAfter: order.StopAfter{Share: 0.05}}
	var err error
	r.Waves, err = rollout.Waves("1,2,rest", sites(4))
	require.NoError(t, err)
	now := time.Date(2026, 11, 30, 12, 0, 0, 0, time.UTC)
	decide := func(steps string, failed ...int) rollout.Decision {
		var all []rollout.Progress
		for i, step := range strings.Fields(steps) {
			p := rollout.Progress{Site: sites(4)[i], Step: rollout.Step(step)}
			if i < len(failed) {
				p.Failed = failed[i]
			}
			if step == "unknown" {
				p.Step, p.Unknown = rollout.Waiting, true
			}
			all = append(all, p)
		}
		d, err := r.Decide(all, now)
		require.NoError(t, err)
		return d
	}
	ids := func(d rollout.Decision) string {
		var out []string
		for _, s := range d.Release {
			out = append(out, s.ID)
		}
		return strings.Join(out, " ")
	}
	assert.Equal(t, "s1", ids(decide("waiting waiting waiting waiting")))
	for _, open := range []string{"released", "running", "soaking", "unknown"} {
		assert.Empty(t, ids(decide(open+" waiting waiting waiting")), open)
	}
	assert.Equal(t, "s2 s3", ids(decide("over waiting waiting waiting")))
	assert.Equal(t, "s3", ids(decide("over running waiting waiting")))
	assert.Equal(t, "s2", ids(decide("over waiting unknown waiting")))
	assert.Empty(t, ids(decide("over over soaking waiting")))
	assert.Equal(t, "s4", ids(decide("over over over waiting")))
	assert.True(t, decide("over over over over").Over)

	within := decide("over waiting waiting waiting", 2) // 2 of 40 are 5 %
	assert.Equal(t, "s2 s3", ids(within))
	beyond := decide("over waiting running waiting", 3)
	assert.Empty(t, ids(beyond))
	assert.Equal(t, "3 of 40 devices failed, its limit is reached", beyond.Halted)
	assert.False(t, beyond.Over, "one still runs")
	assert.True(t, decide("over waiting over waiting", 3).Over)
	r.StopAfter = order.StopAfter{Failures: 1}
	assert.NotEmpty(t, decide("over waiting waiting waiting", 1).Halted)
	r.StopAfter, r.Held = order.StopAfter{}, "frost"
	held := decide("over waiting waiting waiting", 9)
	assert.Equal(t, "frost", held.Halted)
	assert.Empty(t, held.Release)
}

// A rollout's file may have been changed by anyone.
func TestAFileThatIsWrong(t *testing.T) {
	dir := t.TempDir()
	good := rollout.Rollout{Format: 1, Name: "winter", Soak: time.Hour, Valid: time.Hour,
		Waves: [][]rollout.Site{sites(2)}}
	require.NoError(t, rollout.Create(dir, good))
	require.ErrorIs(t, rollout.Create(dir, good), rollout.ErrThere)
	back, err := rollout.Read(dir, "winter")
	require.NoError(t, err)
	assert.Equal(t, good, back)
	require.NoError(t, rollout.Change(dir, "winter", func(r *rollout.Rollout) { r.Held = "frost" }))
	names, err := rollout.Names(dir)
	require.NoError(t, err)
	assert.Equal(t, []string{"winter"}, names)
	_, err = rollout.Read(dir, "../winter")
	require.ErrorAs(t, err, new(*rollout.UnknownError))
	file := filepath.Join(dir, rollout.Folder, "winter.yaml")
	raw, err := os.ReadFile(file)
	require.NoError(t, err)
	for was, is := range map[string]string{"rollout: 1": "rollout: 2", "name: winter": "name: summer",
		"id: s2": "id: s1", "valid: 1h0m0s": "valid: -1h", "waves:": "wave:"} {
		require.Contains(t, string(raw), was)
		require.NoError(t, os.WriteFile(file, []byte(strings.Replace(string(raw), was, is, 1)), 0o600))
		_, err := rollout.Read(dir, "winter")
		assert.Error(t, err, is)
	}
}
