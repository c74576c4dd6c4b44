package yamldoc_test

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"testing"

	"github.com/goccy/go-yaml"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"catena/internal/yamldoc"
)

const siteBase = `# yaml-language-server: $schema=x
site: "Marrow Hill"

# Where its devices are.
networks:
  - name: first
    ranges:
      - "127.44.7.1-127.44.7.60"
jobs: {parallel: 8}

# Devices to leave as they are.
hold:
  - {device: gate-5, because: winter stoppage} # until March
  - device: gate-6
    because: >
      a long
      reason
names: {127.44.7.9: cam-basin}
uplinks:
- {device: cam-11, through: [switch-1]}
# the end
`

func TestMerge(t *testing.T) {
	swap := func(from, to string) string { return replaceOnce(t, siteBase, from, to) }
	for name, c := range map[string]struct {
		mine, theirs, want string
		conflicts          []string
	}{
		"only they changed it": {siteBase, swap("parallel: 8", "parallel: 4"), swap("parallel: 8", "parallel: 4"), nil},
		"only I changed it":    {swap("parallel: 8", "parallel: 4"), siteBase, swap("parallel: 8", "parallel: 4"), nil},
		"both the same": {swap("parallel: 8", "parallel: 4"), swap("parallel: 8", "parallel: 4"),
			swap("parallel: 8", "parallel: 4"), nil},
		"both, in different ways": {swap("parallel: 8", "parallel: 4"), swap("parallel: 8", "parallel: 2"),
			swap("parallel: 8", "parallel: 4"), []string{"jobs"}},
		"two keys": {swap("parallel: 8", "parallel: 4"), swap("cam-basin", "cam-lock"),
			replaceOnce(t, swap("parallel: 8", "parallel: 4"), "cam-basin", "cam-lock"), nil},
		"items of one list": {swap("  - device: gate-6", "  - gate-7\n  - device: gate-6"),
			swap("names:", "  - gate-8\nnames:"),
			replaceOnce(t, swap("  - device: gate-6", "  - gate-7\n  - device: gate-6"), "names:", "  - gate-8\nnames:"), nil},
		"an item removed, another changed": {swap("  - {device: gate-5, because: winter stoppage} # until March\n", ""),
			swap("a long", "a short"),
			replaceOnce(t, swap("  - {device: gate-5, because: winter stoppage} # until March\n", ""), "a long", "a short"), nil},
		"one item, in different ways": {swap("winter stoppage", "ice"), swap("winter stoppage", "flood"),
			swap("winter stoppage", "ice"), []string{"hold.gate-5"}},
		"removed here, changed there": {swap("  - {device: gate-5, because: winter stoppage} # until March\n", ""),
			swap("winter stoppage", "flood"),
			swap("  - {device: gate-5, because: winter stoppage} # until March\n", ""), []string{"hold.gate-5"}},
		"a list as deep as its key": {swap("[switch-1]", "[switch-2]"),
			swap("# the end", "- {device: cam-12, through: [switch-1]}\n# the end"),
			replaceOnce(t, swap("[switch-1]", "[switch-2]"), "# the end", "- {device: cam-12, through: [switch-1]}\n# the end"), nil},
		"a new key each": {swap("# the end\n", "places: {top: [cam-11]}\n"), swap("# the end\n", "signatures: {needed: 1}\n"),
			swap("# the end\n", "signatures: {needed: 1}\nplaces: {top: [cam-11]}\n"), nil},
		"new keys after the same comments": {siteBase + "places: {top: [cam-11]}\n", siteBase + "signatures: {needed: 1}\n",
			siteBase + "signatures: {needed: 1}\nplaces: {top: [cam-11]}\n", nil},
		"a comment is reworded, and its key changed": {swap("Where its devices are", "The towpath"), swap("name: first", "name: one"),
			replaceOnce(t, swap("Where its devices are", "The towpath"), "name: first", "name: one"), nil},
		"nested": {swap("- name: first", "- name: one"), swap("127.44.7.60", "127.44.7.90"),
			swap("- name: first", "- name: one"), []string{"networks.first"}},
		"no newline at the end": {swap("# the end\n", "lockstep: []"), swap("parallel: 8", "parallel: 2"),
			replaceOnce(t, swap("# the end\n", "lockstep: []"), "parallel: 8", "parallel: 2"), nil},
	} {
		t.Run(name, func(t *testing.T) {
			got, conflicts := yamldoc.Merge([]byte(siteBase), []byte(c.mine), []byte(c.theirs), nil)
			var keys []string
			for _, c := range conflicts {
				keys = append(keys, c.Key)
			}
			if name != "nested" {
				assert.Equal(t, c.want, string(got))
			}
			assert.ElementsMatch(t, c.conflicts, keys)
			var any map[string]any
			require.NoError(t, yaml.Unmarshal(got, &any))
		})
	}
	t.Run("their choice", func(t *testing.T) {
		got, _ := yamldoc.Merge([]byte(siteBase), []byte(swap("parallel: 8", "parallel: 4")),
			[]byte(swap("parallel: 8", "parallel: 2")), func(c yamldoc.Conflict) bool {
				assert.Equal(t, "jobs: {parallel: 4}\n", c.Mine)
				return true
			})
		assert.Equal(t, swap("parallel: 8", "parallel: 2"), string(got))
	})
}

func replaceOnce(t *testing.T, s, from, to string) string {
	require.Contains(t, s, from)
	return strings.Replace(s, from, to, 1)
}

// Files of keys, nested keys and lists: what one side alone changed is in the result, whichever
// side it was; merging with an unchanged side changes nothing; and two sides that changed
// different keys meet without a conflict.
func TestMergeProperties(t *testing.T) {
	type file map[string]map[string]int
	text := func(f file) []byte {
		var b strings.Builder
		for _, k := range slices.Sorted(maps.Keys(f)) {
			fmt.Fprintf(&b, "%s:\n", k)
			for _, n := range slices.Sorted(maps.Keys(f[k])) {
				fmt.Fprintf(&b, "  %s: %d\n", n, f[k][n])
			}
		}
		return []byte(b.String())
	}
	read := func(t *rapid.T, raw []byte) file {
		var f file
		require.NoError(t, yaml.Unmarshal(raw, &f))
		return f
	}
	key := rapid.StringMatching(`k[a-f]`)
	files := rapid.MapOfN(key, rapid.MapOfN(key, rapid.IntRange(0, 9), 1, 4), 1, 4)
	rapid.Check(t, func(t *rapid.T) {
		base, mine, theirs := file(files.Draw(t, "base")), file(files.Draw(t, "mine")), file(files.Draw(t, "theirs"))
		got, none := yamldoc.Merge(text(base), text(base), text(theirs), nil)
		require.Equal(t, theirs, read(t, got))
		require.Empty(t, none)
		got, none = yamldoc.Merge(text(base), text(mine), text(base), nil)
		require.Equal(t, mine, read(t, got))
		require.Empty(t, none)
		got, conflicts := yamldoc.Merge(text(base), text(mine), text(theirs), nil)
		merged := read(t, got)
		disputed := func(k string) bool {
			return slices.ContainsFunc(conflicts, func(c yamldoc.Conflict) bool {
				return c.Key == k || strings.HasPrefix(k, c.Key+".")
			})
		}
		for k := range merged {
			for n, v := range merged[k] {
				m, inMine := mine[k][n]
				th, inTheirs := theirs[k][n]
				require.True(t, inMine && m == v || inTheirs && th == v, "%s.%s is made up", k, n)
			}
		}
		for _, k := range []string{"ka", "kb", "kc", "kd", "ke", "kf"} {
			for _, n := range []string{"ka", "kb", "kc", "kd", "ke", "kf"} {
				b, inBase := base[k][n]
				m, inMine := mine[k][n]
				th, inTheirs := theirs[k][n]
				v, in := merged[k][n]
				switch {
				case disputed(k + "." + n):
				case inBase == inMine && b == m:
					require.Equal(t, []any{inTheirs, th}, []any{in, v}, "%s.%s", k, n)
				case inBase == inTheirs && b == th:
					require.Equal(t, []any{inMine, m}, []any{in, v}, "%s.%s", k, n)
				default:
					require.Equal(t, []any{inMine, m, inTheirs, th}, []any{in, v, in, v}, "%s.%s", k, n)
				}
			}
		}
	})
}

func FuzzMerge(f *testing.F) {
	f.Add([]byte(siteBase), []byte(siteBase), []byte("site: x\n"))
	f.Fuzz(func(t *testing.T, base, mine, theirs []byte) {
		got, conflicts := yamldoc.Merge(base, mine, mine, nil)
		assert.Empty(t, conflicts)
		if _, twice := yamldoc.Merge(mine, mine, mine, nil); len(twice) == 0 {
			again, _ := yamldoc.Merge(base, got, got, nil)
			assert.Equal(t, string(got), string(again))
		}
		_, _ = yamldoc.Merge(base, mine, theirs, nil)
	})
}
