package site_test

import (
	"net/netip"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/device"
	"catena/internal/site"
)

func TestParseRange(t *testing.T) {
	for text, want := range map[string]struct {
		first, last string
		count       int
	}{
		"10.20.4.7":             {"10.20.4.7", "10.20.4.7", 1},
		"10.20.4.1-10.20.4.60":  {"10.20.4.1", "10.20.4.60", 60},
		"10.20.4.250-10.20.5.4": {"10.20.4.250", "10.20.5.4", 11},
		"10.20.5.0/26":          {"10.20.5.1", "10.20.5.62", 62},
		"10.20.5.9/32":          {"10.20.5.9", "10.20.5.9", 1},
		"10.20.0.0/16":          {"10.20.0.1", "10.20.255.254", 65534},
		"fd00::10-fd00::1f":     {"fd00::10", "fd00::1f", 16},
	} {
		r, err := site.ParseRange(text)
		require.NoError(t, err, text)
		assert.Equal(t, want.first, r.First.String(), text)
		assert.Equal(t, want.last, r.Last.String(), text)
		assert.Equal(t, want.count, r.Count(), text)
	}
	r, err := site.ParseRange("10.20.4.7:8080")
	require.NoError(t, err)
	assert.True(t, r.Has(netip.MustParseAddrPort("10.20.4.7:8080")))
	assert.False(t, r.Has(netip.MustParseAddrPort("10.20.4.7:80")))

	for text, why := range map[string]string{
		"":                      "is not an address",
		"lock-keeper":           "is not an address range",
		"10.20.4.9-10.20.4.1":   "runs backwards",
		"10.20.4.1-fd00::1":     "is not an address range",
		"0.0.0.0/4":             "more than 16777216",
		"10.0.0.0-12.9.0.0":     "more than 16777216",
		"10.20.4.7:0":           "is not an address",
		"10.20.4.7:70000":       "is not an address",
		"10.20.4.1-10.20.4.300": "is not an address range",
	} {
		_, err := site.ParseRange(text)
		assert.ErrorContains(t, err, why, text)
	}
}

func TestParseSite(t *testing.T) {
	s, err := site.Parse("site.yaml", []byte(`site: Marrow Hill Locks
networks:
  - {name: towpath, adapter: lo, ranges: [10.20.4.1-10.20.4.60], except: [10.20.4.1], ports: [80, "snmp:1161", "modbus:5020"]}
hold:
  - {device: gate-5, because: not before the winter stoppage}
  - {device: "cam-2*", because: lent}
`))
	require.NoError(t, err)
	assert.Equal(t, []site.Port{{Number: 80}, {Way: "snmp", Number: 1161},
		{Way: "modbus", Number: 5020}}, s.Networks[0].PortList())
	hold, ok := s.Held(device.Device{Name: "GATE-5"})
	assert.True(t, ok)
	assert.Equal(t, "not before the winter stoppage", hold.Because)
	_, ok = s.Held(device.Device{Name: "cam-21"})
	assert.True(t, ok)
	_, ok = s.Held(device.Device{Name: "cam-11"})
	assert.False(t, ok)

	for text, want := range map[string]string{
		"site: X\nupliks: []\n":                                                              `site.yaml:2:1: unknown field "upliks"`,
		"site: X\nnetworks:\n  - ranges: [10.0.0.0/8]\n":                                     "wide: true",
		"site: X\nnetworks:\n  - ports: ['ftp:21']\n":                                        "is not a port",
		"site: X\nuplinks:\n  - {through: a}\n":                                              "site.yaml:3:",
		"site: X\nuplinks:\n  - {through: a, reach: ['[']}\n":                                "is not a name",
		"site: X\nuplinks:\n  - {through: a, reach: [b]}\n  - {through: b, reach: ['a*']}\n": "a is downstream of itself: a → b → a",
		"site: X\nnames: {10.20.4.1: 'a b'}\n":                                               "cannot be a name",
		"site: X\nnames: {10.20.4.1: 10.20.4.2}\n":                                           "is an address",
		"site: X\nnames: {10.20.4.1: a, 10.20.4.2: A}\n":                                     "are both called",
		"networks: []\n": "site.yaml: site: is missing",
		"site: X\nnetworks:\n  - ranges: [10.20.4]\n":   "site.yaml:3:14: ranges: ",
		"site: X\nhold:\n  - because: winter\n":         "site.yaml:3:",
		"site: X\nnetworks: [{ports: [70000]}]\n":       "site.yaml:2:",
		"site: X\n---\nsite: Y\n":                       "more than one document",
		strings.Repeat("#", 5<<20):                      "at most",
		"site: X\nnetworks:\n  - {except: [9.9.9.9-1]}": "site.yaml:3:",
	} {
		_, err := site.Parse("site.yaml", []byte(text))
		assert.ErrorContains(t, err, want)
	}
}

func TestWideRanges(t *testing.T) {
	for text, want := range map[string]struct {
		count        int
		wide, sweeps bool
	}{
		"10.20.0.0/16":  {65534, false, true},
		"10.0.0.0/8":    {1<<24 - 2, true, true},
		"fd00:20::/112": {1 << 16, false, true},
		// one can listen there, not try each
		"fe80::/10":           {site.MaxWide + 1, false, false},
		"fe80::1%eth0":        {1, false, true},
		"10.20.4.7:8080":      {1, false, true},
		"10.20.4.1-10.20.5.1": {257, false, true},
	} {
		r, err := site.ParseRange(text)
		require.NoError(t, err, text)
		assert.Equal(t, want.count, r.Count(), text)
		assert.Equal(t, want.wide, r.Wide(), text)
		assert.Equal(t, want.sweeps, r.Sweeps(), text)
	}
	r, err := site.ParseRange("fe80::/10")
	require.NoError(t, err)
	assert.True(t, r.Has(netip.MustParseAddrPort("[fe80::5%eth0]:80")))
	assert.False(t, r.Has(netip.MustParseAddrPort("10.20.4.7:80")))
	r, err = site.ParseRange("10.20.4.1-10.20.4.3")
	require.NoError(t, err)
	assert.Equal(t, []netip.Addr{netip.MustParseAddr("10.20.4.1"), netip.MustParseAddr("10.20.4.2"),
		netip.MustParseAddr("10.20.4.3")}, slices.Collect(r.All))
	assert.True(t, r.Overlaps(netip.MustParsePrefix("10.20.4.0/24")))
	assert.False(t, r.Overlaps(netip.MustParsePrefix("10.20.5.0/24")))
}

func TestParsePort(t *testing.T) {
	p, err := site.ParsePort("snmp:1161")
	require.NoError(t, err)
	assert.Equal(t, site.Port{Way: "snmp", Number: 1161}, p)
	for _, text := range []string{"", "0", "70000", "ftp:21", "snmp:", ":80"} {
		_, err := site.ParsePort(text)
		assert.ErrorContains(t, err, "is not a port", text)
	}
}

func TestNames(t *testing.T) {
	s, err := site.Parse("site.yaml",
		[]byte("site: X\nnames: {10.20.4.11: cam-basin, TG2-00101: gate-low, '02:00:5e:00:53:01': "+
			"switch}\n"))
	require.NoError(t, err)
	for want, d := range map[string]device.Device{
		"cam-basin": {Endpoint: device.Endpoint{Address: "10.20.4.11:8080"}},
		"gate-low": {Endpoint: device.Endpoint{Address: "10.20.4.9:80"},
			Reading: device.Reading{Identity: device.Identity{Serial: "tg2-00101"}}},
		"switch": {Endpoint: device.Endpoint{Address: "10.20.4.2:161"},
			Reading: device.Reading{Identity: device.Identity{MAC: "02:00:5E:00:53:01"}}},
	} {
		name, ok := s.NameOf(d)
		assert.True(t, ok)
		assert.Equal(t, want, name)
	}
	_, ok := s.NameOf(device.Device{Endpoint: device.Endpoint{Address: "10.20.4.12:80"}})
	assert.False(t, ok)
}

func TestBadSets(t *testing.T) {
	for text, want := range map[string]string{
		"site: X\nlockstep: [{name: a, of: [x]}]":        "at least two devices",
		"site: X\nlockstep: [{name: a, of: [x, \"[\"]}]": "is not a name",
		"site: X\ngroups: {a: [\"[\"]}":                  "is not a name",
		"site: X\ntargets: [{model: A, version: 1}]":     "unknown field",
	} {
		_, err := site.Parse("site.yaml", []byte(text))
		assert.ErrorContains(t, err, want, text)
	}
}

func TestBadTargets(t *testing.T) {
	for text, want := range map[string]string{
		"targets: [{model: A, version: 1}, {model: a, version: 2}]": "targets.yaml:1:35: targets: " +
			"model a has the target 1 above and 2 here",
		"targets: [{group: attic, version: 1}]":        "there is no group attic",
		"targets: [{version: 1}]":                      "needs a device, a group, a model or a kind",
		"targets: [{device: x, model: y, version: 1}]": "has no group, no model and no kind",
		"targets: [{model: A, version: \">=\"}]":       "write for example",
		"targets: [{device: x, version: hold}]":        "add it to hold: in site.yaml",
	} {
		targets, err := site.ParseTargets("targets.yaml", []byte(text))
		if err == nil {
			var s site.Site
			err = s.Join("targets.yaml", targets)
		}
		assert.ErrorContains(t, err, want, text)
	}
}

func FuzzParse(f *testing.F) {
	f.Add([]byte("site: X\nnetworks: [{ranges: [10.20.4.0/24], except: [10.20.4.1]}]\ngroups: {a: " +
		"[\"cam-*\"]}\nhold: [{device: x}]\n"))
	f.Fuzz(func(t *testing.T, raw []byte) {
		s, err := site.Parse("site.yaml", raw)
		if err != nil {
			return
		}
		d := device.Device{Name: "cam-11",
			Reading: device.Reading{Identity: device.Identity{Model: "A"}}}
		s.Held(d)
		if targets, err := site.ParseTargets("targets.yaml", raw); err == nil &&
			s.Join("targets.yaml", targets) == nil {
			s.TargetFor(d, "main")
		}
	})
}

func FuzzParseRange(f *testing.F) {
	f.Add("10.20.4.1-10.20.4.60")
	f.Add("fd00::/120")
	f.Fuzz(func(t *testing.T, text string) {
		if r, err := site.ParseRange(text); err == nil &&
			(r.Count() > site.MaxWide && r.First.Is4() || r.Last.Less(r.First)) {
			t.Errorf("%q is a range of %d from %s to %s", text, r.Count(), r.First, r.Last)
		}
	})
}

// A value of the wrong type is reported in the words of the file, by its keys, and never in those
// of the program.
func TestTypeErrors(t *testing.T) {
	for text, says := range map[string]string{
		"limits: {parallel: many}":                 `site.yaml:2:20: limits: parallel: must be a whole number, not "many"`,
		"limits: {parallel: 99999999999999999999}": "limits: parallel: must be a smaller number",
		"limits: [1]":                            "limits: must be keys with values, such as {key: value}, not a list",
		"limits: {per_model: {TG-200: one}}":     `per_model: TG-200: must be a whole number, not "one"`,
		"limits:\n  per_model:\n    TG-200: one": `site.yaml:4:13: limits: per_model: TG-200: must be a whole`,
		"limits: {paralel: 2}":                   `unknown field "paralel"; did you mean parallel?`,
		"networkz: [a]":                          `unknown field "networkz"; did you mean networks?`,
		"cover: {name: x}":                       "cover: must be a list, such as [a, b], not keys with values",
		"cover: [view]":                          `cover: each item: must be keys with values, such as {key: value}, not "view"`,
		"cover:\n- name: view\n  keep: all":      `site.yaml:4:9: cover: keep: must be a whole number, not "all"`,
		"tell: [{bell: maybe}]":                  `tell: bell: must be true or false, not "maybe"`,
		"logo: [a]":                              "logo: must be a text, not a list",
		"engineer:\n  a: b":                      "engineer: must be a text, not keys with values",
		"groups: {a: b}":                         `groups: a: must be a list, such as [a, b], not "b"`,
		"site: Again":                            `"site" is listed twice, first in line 1`,
	} {
		_, err := site.Parse("site.yaml", []byte("site: Marrow Hill\n"+text+"\n"))
		require.ErrorContains(t, err, says, text)
		for _, foreign := range []string{"Go ", "struct", "unmarshal", "interface", "Site.", "mapping"} {
			assert.NotContains(t, err.Error(), foreign, text)
		}
	}
}

// A device that calls itself like one of the inventory is not named by it: it would get the logins of
// its groups.
func TestAClaimedNameIsNotTheInventorys(t *testing.T) {
	n, err := site.ParseInventory("inventory.yaml", []byte(
		"devices: {S1: {name: cam-11, serial: S1, groups: [pier]}}\n"))
	require.NoError(t, err)
	s := site.Site{Groups: map[string][]string{"towpath": {"cam-1*"}}}
	s.List(n)
	claims := device.Device{Name: "cam-11", Endpoint: device.Endpoint{Address: "10.20.4.66:80"}}
	_, is := s.NameOf(claims)
	assert.False(t, is)
	claims.Name = "" // as it is asked for logins then
	assert.Empty(t, s.GroupsOf(claims))
	own := device.Device{Reading: device.Reading{Identity: device.Identity{Serial: "S1"}}}
	name, is := s.NameOf(own)
	assert.True(t, is)
	assert.Equal(t, "cam-11", name)
	assert.Equal(t, []string{"pier"}, s.GroupsOf(own))
}
