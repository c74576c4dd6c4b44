package family_test

import (
	"bytes"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/family"
	"catena/internal/firmware"
	"catena/internal/firmware/format"
)

const cameras = `family: wexcombe-cameras
vendor: Wexcombe
models: [WX-20, WX-40]
images:
  - file: '^(?P<model>wx\d+)_(?P<version>[\d.]+)\.bin$'
  - at: {offset: 4, text: WXFW}
    content: 'model=(?P<model>\S+) rev=(?P<version>\S+)'
`

const gates = `family: tollgarth
vendor: Tollgarth
models: [TG-200]
versions: {order: listed, list: [Amber, Cedar, Birch]}
images:
  - file: '\.img$'
    content: 'release (?P<version>\w+)'
    component: main
`

func set(t *testing.T, texts ...string) family.Set {
	var all []family.Family
	for _, text := range texts {
		f, err := family.Parse("family.yaml", []byte(text))
		require.NoError(t, err)
		all = append(all, f)
	}
	s, err := family.NewSet(all)
	require.NoError(t, err)
	return s
}

func TestManifest(t *testing.T) {
	s := set(t, cameras, gates)
	for _, c := range []struct{ name, head, models, version string }{
		{"a/b/wx40_3.2.1.bin", "", "WX-40", "3.2.1"},
		{"download.bin", "\x00\x00\x00\x00WXFW model=wx-20 rev=2.11 \n", "WX-20", "2.11"},
		{"wx40_3.2.1.bin", "\x00\x00\x00\x00WXFW model=WX-40 rev=3.2.1 \n", "WX-40", "3.2.1"},
		{"x.img", "release Cedar", "TG-200", "Cedar"},
	} {
		manifest, err := s.Manifest(family.Sample{Name: c.name, Head: []byte(c.head)})
		require.NoError(t, err, c.name)
		assert.Equal(t, c.models, strings.Join(manifest.Models, " "))
		assert.Equal(t, c.version, manifest.Version)
		assert.Equal(t, "main", manifest.Component)
	}
	for _, c := range []struct{ name, head, why string }{
		{"notes.pdf", "", "no family recognises it"},
		{"wx90_1.0.bin", "", "has no model wx90"},
		{"wx40_3.2.1.bin", "\x00\x00\x00\x00WXFW model=WX-40 rev=9 \n", "two rules disagree"},
		{"x.img", "", "no family"},
		{"short", "\x00", "no family"},
	} {
		_, err := s.Manifest(family.Sample{Name: c.name, Head: []byte(c.head)})
		assert.ErrorContains(t, err, c.why, c.name)
	}
}

func TestFormatGivesTheVersion(t *testing.T) {
	s := set(t, "family: drives\nvendor: Harrow & Dene\nmodels: [HD-7]\nimages: [{format: usb-dfu}]\n")
	manifest, err := s.Manifest(family.Sample{Name: "x.dfu",
		Facts: format.Facts{Format: "usb-dfu", Version: "2.10"}})
	require.NoError(t, err)
	assert.Equal(t, "2.10", manifest.Version)
	_, err = s.Manifest(family.Sample{Name: "x.dfu",
		Facts: format.Facts{Format: "ihex", Version: "2.10"}})
	assert.ErrorContains(t, err, "no family")
	_, err = s.Manifest(family.Sample{Name: "x.dfu", Facts: format.Facts{Format: "usb-dfu"}})
	assert.ErrorContains(t, err, "must not be empty")
}

func TestOrder(t *testing.T) {
	s := set(t, cameras, gates)
	assert.Equal(t, -1, s.Order("tollgarth", "tg-200").Compare("Cedar", "Birch"))
	assert.Equal(t, 1, s.Order("Wexcombe", "WX-40").Compare("Cedar", "Birch"), "natural")
}

func TestParseNamesThePlace(t *testing.T) {
	for text, want := range map[string]string{
		strings.Replace(cameras, "vendor", "vender",
			1): `f.yaml:2:1: unknown key "vender"; did you mean vendor?`,
		strings.Replace(cameras, "(?P<version>[", "(?P<ver>[", 1):      "no version: add a group",
		strings.Replace(cameras, `wx\d+)`, `wx\d+`, 1):                 "f.yaml:5:",
		strings.Replace(cameras, "text: WXFW", "text: A, hex: zz", 1):  "at: hex",
		strings.Replace(cameras, "offset: 4", "offset: 99999999", 1):   "within the first MiB",
		strings.Replace(gates, "listed", "sorted", 1):                  "f.yaml:4:",
		strings.Replace(gates, "models: [TG-200]", "models: []", 1):    "models: must list",
		strings.Replace(gates, "family: tollgarth", "family: \"\"", 1): "family: is missing",
	} {
		_, err := family.Parse("f.yaml", []byte(text))
		assert.ErrorContains(t, err, want)
	}
	f, err := family.Parse("f.yaml", []byte(cameras))
	require.NoError(t, err)
	_, err = family.NewSet([]family.Family{f, f})
	assert.ErrorContains(t, err, "both claim the model WX-20")
}

func FuzzParse(f *testing.F) {
	f.Add(cameras, "wx40_3.2.1.bin", []byte("release x"))
	f.Add(gates, "x.img", []byte{})
	f.Fuzz(func(t *testing.T, text, name string, head []byte) {
		fam, err := family.Parse("f.yaml", []byte(text))
		if err != nil {
			return
		}
		s, err := family.NewSet([]family.Family{fam})
		if err != nil {
			return
		}
		if manifest, err := s.Manifest(family.Sample{Name: name, Head: head,
			Facts: format.Facts{Format: "ihex", Version: "1"}}); err == nil &&
			(manifest.Version == "" || len(manifest.Models) == 0) {
			t.Errorf("a manifest without version or models: %+v", manifest)
		}
	})
}

// An image that is recognised and cut off is damaged, not unknown.
func TestWhole(t *testing.T) {
	f, err := family.Parse("f.yaml", []byte(`
family: gates
vendor: Tollgarth
models: [TG-200]
images:
  - {file: '^(?P<model>tg200)-(?P<version>K\d+)\.img$', size: 8, ends: {text: END}}
`))
	require.NoError(t, err)
	s, err := family.NewSet([]family.Family{f})
	require.NoError(t, err)
	sample := func(content string) family.Sample {
		return family.Sample{Name: "tg200-K44.img", Size: int64(len(content)),
			Head: []byte(content), Tail: []byte(content)}
	}
	_, err = s.Manifest(family.Sample{})
	assert.NotErrorIs(t, err, format.ErrDamaged)
	m, err := s.Manifest(sample("12345END"))
	require.NoError(t, err)
	assert.Equal(t, "K44", m.Version)
	for _, content := range []string{"12345EN", "12345678", "123456END"} {
		_, err := s.Manifest(sample(content))
		assert.ErrorIs(t, err, format.ErrDamaged, content)
	}
}

// What a pattern costs is bounded: the more it costs, the less is searched.
func TestCostOfAPattern(t *testing.T) {
	f, err := family.Parse("f.yaml", []byte(`
family: slow
vendor: Wexcombe
models: [WX-40]
images:
  - {content: '(x+x+x+x+x+x+x+){50}y(?P<version>\d+)', model: WX-40}
`))
	require.NoError(t, err)
	s, err := family.NewSet([]family.Family{f})
	require.NoError(t, err)
	head := bytes.Repeat([]byte("x"), family.Head)
	began := time.Now()
	_, err = s.Manifest(family.Sample{Name: "a.bin", Head: head})
	assert.Error(t, err)
	t.Logf("the slowest pattern took %s", time.Since(began))
}

// A rule says what its images do to a device, as a manifest would.
func TestWhatImagesDo(t *testing.T) {
	f, err := family.Parse("f.yaml", []byte(head+
		"images:\n  - {file: '^tg200-(?P<version>K\\d+)\\.img$', settings: cleared, restarts: 2}\n"))
	require.NoError(t, err)
	set, err := family.NewSet([]family.Family{f})
	require.NoError(t, err)
	m, err := set.Manifest(family.Sample{Name: "tg200-K43.img"})
	require.NoError(t, err)
	assert.Equal(t, []any{firmware.Cleared, 2}, []any{m.Settings, m.Restarts})
	for rule, want := range map[string]string{
		"settings: wiped": `settings: "wiped" is not one of kept, cleared, converted`,
		"restarts: 11":    "restarts: is the number of restarts until a device runs it, 1 to 10",
	} {
		_, err := family.Parse("f.yaml", []byte(head+"images:\n  - {file: '(?P<version>K)', "+rule+"}\n"))
		assert.ErrorContains(t, err, want)
	}
}
