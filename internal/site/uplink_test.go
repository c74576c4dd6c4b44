package site_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/device"
	"catena/internal/site"
)

// wired makes devices of lines like "switch: cam-1 cam-2; behind gate-2": what it sees
// at its ports, and what it says hangs behind it.
func wired(lines ...string) []device.Device {
	var out []device.Device
	for _, line := range lines {
		name, rest, _ := strings.Cut(line, ":")
		d := device.Device{Name: name,
			Reading: device.Reading{Identity: device.Identity{Serial: "S-" + name}}}
		sees, behind, _ := strings.Cut(rest, "; behind")
		for _, n := range strings.Fields(sees) {
			d.Neighbours = append(d.Neighbours, device.Neighbour{Port: "1", Name: n})
		}
		for _, n := range strings.Fields(behind) {
			d.Downstream = append(d.Downstream, "S-"+n)
		}
		out = append(out, d)
	}
	return out
}

// drawn writes the links as lines: through → reach, then chain, then the doubts.
func drawn(links []site.Link) string {
	var out []string
	for _, l := range links {
		text := l.Through + " → " + strings.Join(l.Reach, " ")
		if l.Chain {
			text += " chain"
		}
		for _, d := range l.Doubts {
			text += " ?" + strings.Fields(d)[0]
		}
		out = append(out, text)
	}
	return strings.Join(out, "\n")
}

func TestPropose(t *testing.T) {
	for name, c := range map[string]struct {
		wires  []string
		root   string
		want   string
		unseen string
	}{
		"a star": {[]string{"switch: cam-1 cam-2 cam-3", "cam-1:", "cam-2:",
			"cam-3:"}, "switch", "switch → cam-1 cam-2 cam-3", ""},
		"where we are is a guess": {[]string{"cam-1:", "switch: cam-1 cam-2", "cam-2:"}, "",
			"switch → cam-1 cam-2 ?the", ""},
		"seen from our end": {[]string{"a: b", "b: c d", "c:", "d:"}, "a", "a → b\nb → c d",
			""},
		"a chain": {[]string{"gate-1:; behind gate-2", "gate-2:; behind gate-3",
			"gate-3:"}, "", "gate-1 → gate-2 chain\ngate-2 → gate-3 chain", "gate-1"},
		"a chain on a switch": {[]string{"switch: gate-1 cam-1", "gate-1:; behind gate-2",
			"gate-2:; behind gate-3", "gate-3:", "cam-1:"}, "switch",
			"switch → cam-1 gate-1\ngate-1 → gate-2 chain\ngate-2 → gate-3 chain", ""},
		"a hub with one behind it is not a chain": {[]string{"hub:; behind set", "set:"}, "",
			"hub → set", "hub"},
		"a ring": {[]string{"a: b c", "b: c", "c:"}, "a",
			"a → b c ?b", ""},
		"two that say the other is behind": {[]string{"a:; behind b", "b:; behind a"}, "",
			"a → b", "a"},
		"one that no one sees": {[]string{"switch: cam-1", "cam-1:", "cam-2:"},
			"switch", "switch → cam-1", "cam-2"},
		"nothing is told": {[]string{"a:", "b:"}, "", "", "a b"},
		"itself":          {[]string{"a: a; behind a"}, "", "", "a"},
	} {
		t.Run(name, func(t *testing.T) {
			links, unseen := site.Propose(wired(c.wires...), c.root)
			assert.Equal(t, c.want, drawn(links))
			assert.Equal(t, c.unseen, strings.Join(unseen, " "))
		})
	}
}

// A switch tells the name that a device has of itself; what it is called here is found by that,
// too. A name that two have of themselves says nothing.
func TestProposeByOwnNames(t *testing.T) {
	devices := wired("switch: cam-11 cam-12 cam", "cam-one:", "cam-12:", "cam-3:", "cam-4:")
	for i, own := range []string{"", "cam-11", "cam-99", "cam", "cam"} {
		devices[i].Called = own
	}
	links, unseen := site.Propose(devices, "switch")
	assert.Equal(t, "switch → cam-12 cam-one", drawn(links))
	assert.Equal(t, "cam-3 cam-4", strings.Join(unseen, " "))
}

func TestWays(t *testing.T) {
	s, err := site.Parse("site.yaml", []byte(`site: X
uplinks:
  - {through: switch-basin, reach: [gate-1, "cam-*"], feeds: [cam-11]}
  - {through: gate-1, reach: [gate-2]}
  - {through: gate-2, reach: [gate-3]}
  - {through: switch-office, feeds: [laptop]}
  - {through: gateway, reach: [switch-office]}
`))
	require.NoError(t, err)
	var all []device.Device
	for _, name := range []string{"switch-basin", "gate-1", "gate-2", "gate-3", "cam-11", "cam-12",
		"switch-office", "gateway"} {
		all = append(all, device.Device{ID: name, Name: name})
	}
	w := s.Ways(all)
	assert.Equal(t, map[string][]string{
		"switch-basin":  {"switch-office"},
		"gate-1":        {"switch-basin", "switch-office"},
		"gate-2":        {"gate-1", "switch-basin", "switch-office"},
		"gate-3":        {"gate-1", "gate-2", "switch-basin", "switch-office"},
		"cam-11":        {"switch-basin", "switch-office"},
		"cam-12":        {"switch-basin", "switch-office"},
		"switch-office": {"gateway"},
	}, w.Through, "all but what it is reached through itself goes through what the laptop is "+
		"plugged into")
	assert.Equal(t, map[string][]string{"switch-basin": {"cam-11"}}, w.Feeds)
	assert.Empty(t, s.Unresolved(all, nil), "the laptop is not a device")
}

func TestWindows(t *testing.T) {
	s, err := site.Parse("site.yaml", []byte(`site: X
timezone: Europe/Lisbon
windows:
  - {days: mon-fri, from: "22:00", to: "05:00"}
  - {days: "sat, sun", from: "05:00", to: "23:00"}
`))
	require.NoError(t, err)
	at := func(text string) time.Time {
		when, err := time.ParseInLocation("Mon 2006-01-02 15:04", text, s.Zone())
		require.NoError(t, err)
		return when
	}
	for now, want := range map[string][2]string{
		"Wed 2026-11-25 12:00": {"Wed 2026-11-25 22:00", "Thu 2026-11-26 05:00"},
		"Thu 2026-11-26 04:59": {"Wed 2026-11-25 22:00", "Thu 2026-11-26 05:00"},
		"Thu 2026-11-26 05:00": {"Thu 2026-11-26 22:00", "Fri 2026-11-27 05:00"},
		// one follows the other
		"Sat 2026-11-28 06:00": {"Fri 2026-11-27 22:00", "Sat 2026-11-28 23:00"},
		"Sun 2026-11-29 23:30": {"Mon 2026-11-30 22:00", "Tue 2026-12-01 05:00"},
		// summer time starts
		"Sun 2026-03-29 04:00": {"Sun 2026-03-29 05:00", "Sun 2026-03-29 23:00"},
	} {
		opens, closes, ok := s.Window(at(now))
		require.True(t, ok)
		assert.Equal(t, want[0], opens.Format("Mon 2006-01-02 15:04"), now)
		assert.Equal(t, want[1], closes.Format("Mon 2006-01-02 15:04"), now)
	}
	assert.Equal(t, 25*time.Hour, s.LongestWindow(at("Wed 2026-11-25 12:00")))
	_, _, ok := site.Site{}.Window(time.Now())
	assert.False(t, ok)
}

// A whole day ends at its midnight: the minute before it is not closed, and days are one window.
func TestAWholeDayHasItsLastMinute(t *testing.T) {
	s, err := site.Parse("site.yaml", []byte(`site: X
timezone: Europe/Lisbon
windows: [{days: sat-sun, from: "00:00", to: "24:00"}]
`))
	require.NoError(t, err)
	now := time.Date(2026, 11, 28, 23, 59, 30, 0, s.Zone())
	opens, closes, ok := s.Window(now)
	require.True(t, ok)
	assert.Equal(t, "Sat 00:00", opens.Format("Mon 15:04"))
	assert.Equal(t, "Mon 00:00", closes.Format("Mon 15:04"))
	assert.Equal(t, 48*time.Hour, s.LongestWindow(now))
}

func TestRulesAreRefused(t *testing.T) {
	for text, want := range map[string]string{
		"cover: [{name: view, keep: 0, of: [a]}]":                                 "keep: must be 1 or more",
		"cover: [{keep: 1, of: [a]}]":                                             "cover: name: is missing",
		"cover: [{name: view, keep: 1, of: [a]}, {name: view, keep: 1, of: [b]}]": "two sets have the name view",
		"limits: {per_model: {TG-200: 0}}":                                        "TG-200: must be 1 or more",
		"limits: {parallel: -1}":                                                  "-1 is not a number of devices",
		"stop_after: {share: 20}":                                                 `"20" is not a share`,
		"stop_after: {failures: -1}":                                              "failures: must be 1 or more",
		"windows: [{days: mon-fry, from: \"22:00\", to: \"05:00\"}]":              `"mon-fry" is not a day`,
		"windows: [{from: \"22:00\", to: \"25:00\"}]":                             `"25:00" is not a time of day`,
		"windows: [{from: \"22:00\", to: \"22:00\"}]":                             "from and to are both 22:00",
		"timezone: Marrow/Hill":                                                   `"Marrow/Hill" is not a zone`,
		"patience: {writing: -1m}":                                                "write for example 20m",
		"patience: {writing: soon}":                                               `"soon" is not a duration; write for example 20m`,
		"uplinks: [{through: a}]":                                                 "reach: or feeds:",
		"uplinks: [{through: a, feeds: [b]}, {through: b, reach: [a]}]":           "downstream of itself: a → b → a",
	} {
		_, err := site.Parse("site.yaml", []byte("site: X\n"+text+"\n"))
		assert.ErrorContains(t, err, want)
		assert.ErrorContains(t, err, "site.yaml:2:", text)
	}
}
