package settings_test

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/settings"
)

func TestParse(t *testing.T) {
	for _, c := range []struct {
		format settings.Format
		text   string
		want   settings.Values
	}{
		{settings.JSON, `{"net":{"dns":["10.20.4.1","10.20.4.2"],"mtu":1500.0},"a.b":null,"on":true}`,
			settings.Values{"net.dns[0]": `"10.20.4.1"`, "net.dns[1]": `"10.20.4.2"`, "net.mtu": "1500.0",
				`"a.b"`: "null", "on": "true"}},
		{settings.INI, "; levels\n[pump]\nstart = 1.10\n\n[net]\nname=a = b\nempty=\n",
			settings.Values{"pump.start": "1.10", "net.name": "a = b", "net.empty": ""}},
		{settings.KeyValue, "# comment\r\nstart: 1.10\r\nname  lock house\nurl=http://x\n",
			settings.Values{"start": "1.10", "name": "lock house", "url": "http://x"}},
	} {
		got, err := settings.Parse(c.format, []byte(c.text))
		require.NoError(t, err, c.text)
		assert.Equal(t, c.want, got)
	}
	for _, c := range []struct {
		format     settings.Format
		text, want string
	}{
		{settings.JSON, `{"a":1}}`, "there is text after it"}, {settings.JSON, `{`, "no JSON"},
		{settings.JSON, strings.Repeat("[", 100) + strings.Repeat("]", 100), "levels"},
		{settings.INI, "[a]\nx=1\nx=2\n", "line 3: \"x\" is listed twice"}, {settings.INI, "word\n",
			"line 1 has no value"},
		{settings.Opaque, "x", "their format is the maker's own"},
	} {
		_, err := settings.Parse(c.format, []byte(c.text))
		assert.ErrorContains(t, err, c.want, c.text)
	}
}

func TestDiff(t *testing.T) {
	was := []byte("level = 1.10\npin = 4470\nold = 1\nsame = x\n")
	now := []byte("same = x\nlevel = 0.80\npin = 0000\nnew = 2\n")
	got, err := settings.Diff(settings.KeyValue, was, now)
	require.NoError(t, err)
	assert.Equal(t, []settings.Change{{"level", "1.10", "0.80", settings.Changed}, {"new", "", "2",
		settings.Added},
		{"old", "1", "", settings.Gone}, {"pin", "‹secret›", "‹secret›", settings.Changed}}, got)
	lost, err := settings.Lost(settings.KeyValue, was, now)
	require.NoError(t, err)
	assert.Len(t, lost, 3)
	text, err := settings.Blanked(settings.KeyValue, was)
	require.NoError(t, err)
	assert.NotContains(t, text, "4470")
}

// What means the same has the same digest, in whatever order it stands; what was set otherwise has
// not.
func TestDigest(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	for range 200 {
		var lines []string
		for i := range 1 + r.IntN(20) {
			lines = append(lines, fmt.Sprintf("k%d = %d", i, r.IntN(5)))
		}
		one := []byte(strings.Join(lines, "\n"))
		r.Shuffle(len(lines), func(i, j int) { lines[i], lines[j] = lines[j], lines[i] })
		other := []byte("# as it was\n" + strings.Join(lines, "\n\n"))
		assert.Equal(t, settings.Digest(settings.KeyValue, one), settings.Digest(settings.KeyValue,
			other))
		diff, err := settings.Diff(settings.KeyValue, one, other)
		require.NoError(t, err)
		assert.Empty(t, diff)
		lines[0] += "0"
		assert.NotEqual(t, settings.Digest(settings.KeyValue, one),
			settings.Digest(settings.KeyValue, []byte(strings.Join(lines, "\n"))))
	}
}

func FuzzParse(f *testing.F) {
	f.Add("json", `{"a":[1,{"b":"c"}]}`)
	f.Add("ini", "[a]\nb = c\n")
	f.Add("key-value", "a: b")
	f.Fuzz(func(t *testing.T, format, text string) {
		v, err := settings.Parse(settings.Format(format), []byte(text))
		if err != nil {
			return
		}
		d, err := settings.Diff(settings.Format(format), []byte(text), []byte(text))
		if err != nil || len(d) > 0 || v == nil {
			t.Errorf("%q differs from itself: %v %v", text, d, err)
		}
	})
}
