package settings_test

import (
	"encoding/json"
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/settings"
)

// One case of each rule, in each format. What stands in the text around the settings stays.
func TestMerge(t *testing.T) {
	for _, c := range []struct {
		format                 settings.Format
		base, saved, now, want string
		renamed                map[string]string
		left, both             []string
	}{
		{format: settings.KeyValue,
			base: "a=1\nb=2\n", saved: "a=1\nb=7\nc=5\n", now: "# new\na = 9\nb: 2\nd=4\n",
			want: "# new\na = 9\nb: 7\nd=4\nc=5\n"},
		{format: settings.KeyValue, renamed: map[string]string{"start_level": "level.start"},
			saved: "start_level 1.10\npin 4470\n", now: "level.start 0.90\npin 0000\n",
			want: "level.start 1.10\npin 4470\n"},
		{format: settings.KeyValue, // and back again
			renamed: map[string]string{"start_level": "level.start"},
			saved:   "level.start 1.10\n", now: "start_level 0.90\n", want: "start_level 1.10\n"},
		{format: settings.KeyValue, base: "a=1\n", saved: "a=2\n", now: "a=3\n", want: "a=2\n",
			both: []string{"a"}},
		{format: settings.KeyValue, base: "a=1\nold=1\n", saved: "a=1\nold=2\n", now: "a=1\n",
			want: "a=1\n", left: []string{"old"}},
		{format: settings.INI, base: "[net]\nip = 1\n", saved: "[net]\nip = 2\ndns = 9\n[log]\nlevel " +
			"= 3\n",
			now:  "; net\n[net]\n; the address\nip =  1   \n\n[time]\nzone = 0\n",
			want: "; net\n[net]\n; the address\nip =  2\ndns = 9\n\n[time]\nzone = 0\n[log]\nlevel = 3\n"},
		{format: settings.JSON, base: `{"a":{"b":1},"l":[1]}`,
			saved: `{"a":{"b":2},"l":[1,2],"x.y":{"1":"é"}}`,
			now:   "{\n  \"l\": [1],\n  \"a\": {\"c\": 3, \"b\": 1}\n}",
			want:  "{\n  \"l\": [1,2],\n  \"a\": {\"c\": 3, \"b\": 2}\n,\"x.y\":{\"1\":\"é\"}}"},
		{format: settings.JSON, saved: `{"a":1,"b":"x"}`, now: `{"a":"one","b":"y"}`,
			want: `{"a":"one","b":"x"}`,
			left: []string{"a"}},
		{format: settings.XML, base: `<c><p name="a" v="1"/><p name="b" v="1"/></c>`,
			saved: `<c><p name="b" v="1"/><p name="a" v="7"/><t>x</t></c>`,
			now:   `<c><!-- two --><p name="a" v="1"/> <p name="b" v="3"/></c>`,
			want:  `<c><!-- two --><p name="a" v="7"/> <p name="b" v="3"/><t>x</t></c>`},
	} {
		var base []byte
		if c.base != "" {
			base = []byte(c.base)
		}
		m, err := settings.Merge(c.format, base, []byte(c.saved), []byte(c.now), c.renamed)
		require.NoError(t, err, c.saved)
		assert.Equal(t, c.want, string(m.Text))
		var left []string
		for _, l := range m.Unplaced {
			left = append(left, l.Path)
		}
		assert.Equal(t, c.left, left, c.saved)
		assert.Equal(t, c.both, m.Both, c.saved)
	}
	_, err := settings.Merge(settings.Opaque, nil, []byte("a"), []byte("b"), nil)
	assert.ErrorIs(t, err, settings.ErrOpaque)
	_, err = settings.Merge(settings.JSON, nil, []byte("[1]"), []byte("{}"), nil)
	assert.ErrorContains(t, err, "no object")
	_, err = settings.Merge(settings.XML, nil, []byte("<a>"), []byte("<a/>"), nil)
	assert.ErrorContains(t, err, "no XML")
}

// Where every setting is of another kind, or has gone, nothing is changed, and all of it is listed.
func TestNothingFits(t *testing.T) {
	now := `{"a":"x","b":[1],"c":{"d":true}}`
	m, err := settings.Merge(settings.JSON, nil, []byte(`{"a":1,"b":"y","c":7,"e":{"f":null}}`),
		[]byte(now), nil)
	require.NoError(t, err)
	assert.Equal(t, now, string(m.Text))
	assert.Empty(t, m.Set)
	why := map[string]string{}
	for _, l := range m.Unplaced {
		why[l.Path] = l.Why
	}
	assert.Equal(t, map[string]string{"a": "the new version has a text there, not a number",
		"b": "the new version has a list there, not a text", "c": "the new version has other " +
			"settings there",
		"e.f": "the new version has no such setting"}, why)
}

// keys are odd ones, too.
var keys = []string{"a", "b", "level", "x.y", "1", "-1", "a b", "ä", "k*", "p|q", "q?", "#h", "@t",
	`q"`, "{x}", "[0]", `b\s`, ":c", "!"}

// randomJSON is a tree of settings, and texts what its values may be.
func randomJSON(r *rand.Rand, depth int) map[string]any {
	out := map[string]any{}
	for range 1 + r.IntN(5) {
		key := keys[r.IntN(len(keys))]
		switch n := r.IntN(6); {
		case n == 0 && depth < 3:
			out[key] = randomJSON(r, depth+1)
		case n == 1:
			out[key] = []any{json.Number(fmt.Sprint(r.IntN(9))), "x"}
		case n == 2:
			out[key] = json.Number(fmt.Sprint(r.IntN(100)))
		case n == 3:
			out[key] = r.IntN(2) == 0
		default:
			out[key] = fmt.Sprintf("v%d\n\"é", r.IntN(100))
		}
	}
	return out
}

// changed is a tree in which some values are others, some are gone, and some are new.
func changed(r *rand.Rand, tree map[string]any, rate int) map[string]any {
	out := map[string]any{}
	for _, key := range slices.Sorted(maps.Keys(tree)) {
		switch value := tree[key].(type) {
		case map[string]any:
			out[key] = changed(r, value, rate)
		case string:
			out[key] = value
			if r.IntN(rate) == 0 {
				out[key] = fmt.Sprintf("w%d", r.IntN(100))
			}
		default:
			out[key] = value
		}
		if r.IntN(3*rate) == 0 {
			delete(out, key)
		}
	}
	if r.IntN(rate) == 0 {
		out[keys[r.IntN(len(keys))]+"+"] = fmt.Sprintf("n%d", r.IntN(100))
	}
	return out
}

// Over random trees in all formats: what a person set survives or is listed, nothing is invented,
// and a merge of the same is the same text.
func TestAMergeKeepsWhatAPersonSet(t *testing.T) {
	writers := map[settings.Format]func(map[string]any) []byte{
		settings.JSON: func(tree map[string]any) []byte {
			raw, err := json.MarshalIndent(tree, "", "  ")
			require.NoError(t, err)
			return raw
		},
		settings.KeyValue: func(tree map[string]any) []byte { return lines(tree, "") },
		settings.INI: func(tree map[string]any) []byte {
			return append(lines(tree, ""),
				lines(tree, "s")...)
		},
		settings.XML: func(tree map[string]any) []byte { return []byte(xmlOf("config", tree)) },
	}
	for n := range 4000 {
		r := rand.New(rand.NewPCG(11, uint64(n)))
		tree := randomJSON(r, 0)
		for _, f := range []settings.Format{settings.JSON, settings.KeyValue, settings.INI,
			settings.XML} {
			text := writers[f]
			base, saved, now := text(tree), text(changed(r, tree, 3)), text(changed(r, tree, 4))
			if n%4 == 0 {
				base = nil
			}
			same, err := settings.Merge(f, base, saved, saved, nil)
			require.NoError(t, err, "%s\n%s", f, saved)
			require.Equal(t, string(saved), string(same.Text), "merging what is there changes nothing")
			m, err := settings.Merge(f, base, saved, now, nil)
			require.NoError(t, err, "%s\nsaved %s\nnow %s", f, saved, now)
			all := [4]settings.Values{}
			for i, raw := range [][]byte{base, saved, now, m.Text} {
				if raw != nil {
					all[i], err = settings.Parse(f, raw)
					require.NoError(t, err, "%s\n%s", f, raw)
				}
			}
			was, theirs, came, got := all[0], all[1], all[2], all[3]
			listed := func(path string) bool {
				return slices.ContainsFunc(m.Unplaced, func(l settings.Unplaced) bool {
					return strings.HasPrefix(path,
						l.Path)
				})
			}
			for path, value := range theirs {
				if before, had := was[path]; had && before == value || listed(path) ||
					strings.Contains(path, "[") && f == settings.JSON {
					continue
				}
				require.Equal(t, value, got[path], "%s %s is lost\nbase %s\nsaved %s\nnow %s\ngot %s", f, path,
					base, saved, now, m.Text)
			}
			for path, value := range got {
				require.True(t, value == theirs[path] || value == came[path], "%s %s=%s is invented", f, path,
					value)
			}
			for path, empty := range came {
				_, stays := got[path]
				require.True(t, stays || slices.Contains(m.Removed, path) || strings.TrimSpace(empty) == "" ||
					f == settings.JSON && strings.Contains(path, "["),
					"%s %s of the new version is gone\nsaved %s\nnow %s\ngot %s", f, path, saved, now, m.Text)
			}
		}
	}
}

// lines writes the texts of a tree as keys and values, below a section.
func lines(tree map[string]any, in string) []byte {
	var b strings.Builder
	if in != "" {
		fmt.Fprintf(&b, "[%s]\n", in)
	}
	for _, key := range slices.Sorted(maps.Keys(tree)) {
		if s, is := tree[key].(string); is && !strings.ContainsAny(key, "#!;[{: ") {
			fmt.Fprintf(&b, "; about it\n%s = %q\n", key, s)
		}
	}
	return []byte(b.String())
}

func xmlOf(tag string, tree map[string]any) string {
	var b strings.Builder
	fmt.Fprintf(&b, "<%s>", tag)
	for _, key := range slices.Sorted(maps.Keys(tree)) {
		name := fmt.Sprintf("k%d", slices.Index(keys, strings.TrimSuffix(key, "+"))+100*strings.Count(key,
			"+"))
		switch value := tree[key].(type) {
		case map[string]any:
			b.WriteString(xmlOf(name, value))
		case string:
			fmt.Fprintf(&b, "<%s>%s</%s>", name, strings.ReplaceAll(value, "\n", ""), name)
		}
	}
	fmt.Fprintf(&b, "</%s>", tag)
	return b.String()
}

// What an operator had set, removed or put in two places comes out of a merge, or is listed.
func TestAMergeLosesNothingSilently(t *testing.T) {
	merge := func(f settings.Format, base, saved, now string,
		renamed map[string]string) settings.Merged {
		m, err := settings.Merge(f, []byte(base), []byte(saved), []byte(now), renamed)
		require.NoError(t, err)
		return m
	}
	m := merge(settings.JSON, `{"ntp":null,"a":1}`, `{"ntp":"10.0.0.1","a":1}`, `{"ntp":null,"a":1}`,
		nil)
	assert.JSONEq(t, `{"ntp":"10.0.0.1","a":1}`, string(m.Text), "a default of null has no type")

	m = merge(settings.JSON, `{"users":{"admin":"x","guest":"y"}}`, `{"users":{"admin":"x"}}`,
		`{"users":{"admin":"x","guest":"y"}}`, nil)
	assert.JSONEq(t, `{"users":{"admin":"x"}}`, string(m.Text), "what was removed stays removed")
	assert.Equal(t, []string{"users.guest"}, m.Removed)
	m = merge(settings.KeyValue, "snmp=public\nntp=a\n", "ntp=a\n", "snmp=public\nntp=a\n", nil)
	assert.Equal(t, "ntp=a\n", string(m.Text))
	m = merge(settings.KeyValue, "snmp=public\nntp=a\n", "ntp=a\n", "snmp=private\nntp=a\n", nil)
	assert.Equal(t, "snmp", m.Unplaced[0].Path, "the maker has changed it: an operator decides")

	m = merge(settings.KeyValue, "a=1\nb=1\n", "a=5\nb=7\n", "b=1\n", map[string]string{"a": "b"})
	assert.Len(t, m.Unplaced, 1, "one of the two is listed")

	m = merge(settings.INI, "[a]\r\nx = 1\r\n", "[a]\r\nx = 1\r\ny = 2\r\n", "[a]\r\nx = 1\r\n", nil)
	assert.Equal(t, "[a]\r\nx = 1\r\ny = 2\r\n", string(m.Text))
}
