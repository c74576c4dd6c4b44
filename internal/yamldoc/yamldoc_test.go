package yamldoc_test

import (
	"errors"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/yamldoc"
)

type doc struct {
	Name  string            `yaml:"name"`
	List  []string          `yaml:"list"`
	Inner []struct{ A int } `yaml:"inner"`
	Map   map[string][]int  `yaml:"map"`
}

func TestDecode(t *testing.T) {
	var d doc
	parsed, err := yamldoc.Decode("f.yaml", []byte("name: x\ninner:\n  - {a: 1}\n  - {a: 2}\n"), &d)
	require.NoError(t, err)
	assert.EqualError(t, parsed.Errorf("$.inner[1].a", "must be %d", 1), "f.yaml:4:9: must be 1")
	assert.EqualError(t, parsed.Errorf("$.nothing", "is missing"), "f.yaml: is missing")
	for text, want := range map[string]string{
		"":                           "f.yaml: is empty",
		"# only a comment\n":         "f.yaml: is empty",
		"nme: x":                     `f.yaml:1:1: unknown field "nme"`,
		"name: [":                    "f.yaml:1:7:",
		"name: x\nname: y":           "f.yaml:2:1:",
		"list: &a [*a]":              "f.yaml:1:7: anchors (&) and aliases (*) are not read",
		"list: [cam-1*, x]\nname: *": "f.yaml:2:7: anchors",
		"name: {a: b}":               "f.yaml:1:",
		"inner: [{a: x}]":            "f.yaml:1:",
		"a: 1\n---\nb: 2":            "f.yaml: contains more than one document",
		strings.Repeat("[", 10_000):  "f.yaml:",
	} {
		_, err := yamldoc.Decode("f.yaml", []byte(text), &doc{})
		assert.ErrorContains(t, err, want, "%.40q", text)
	}
}

func FuzzDecode(f *testing.F) {
	f.Add([]byte("name: x\nlist: [a, b]\ninner: [{a: 1}]\nmap: {k: [1]}\n"))
	f.Add([]byte("list: &a\n  - *a\n"))
	f.Add([]byte("name: |\n  x\n? y\n: - z\n"))
	f.Fuzz(func(t *testing.T, raw []byte) {
		var d doc
		parsed, err := yamldoc.Decode("f.yaml", raw, &d)
		var ours *yamldoc.Error
		if err != nil && !errors.As(err, &ours) {
			t.Errorf("an error of another kind: %v", err)
		}
		if err == nil {
			_ = parsed.Errorf("$.inner[0].a", "x")
		}
	})
}

func TestByteOrderMark(t *testing.T) {
	var into struct{ Site string }
	_, err := yamldoc.Decode("site.yaml", []byte("\ufeffsite: Marrow Hill\n"), &into)
	require.NoError(t, err)
	assert.Equal(t, "Marrow Hill", into.Site)
}
