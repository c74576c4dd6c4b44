package site_test

import (
	"strings"
	"testing"

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
			d.Behind = append(d.Behind, "S-"+n)
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
			"switch → cam-1 cam-2 ?where", ""},
		"seen from our end": {[]string{"a: b", "b: c d", "c:", "d:"}, "a", "a → b\nb → c d",
			""},
		"a chain": {[]string{"gate-1:; behind gate-2", "gate-2:; behind gate-3",
			"gate-3:"}, "", "gate-1 → gate-2 chain\ngate-2 → gate-3 chain", "gate-1"},
		"a chain on a switch": {[]string{"switch: gate-1 cam-1", "gate-1:; behind gate-2",
			"gate-2:; behind gate-3", "gate-3:", "cam-1:"}, "switch",
			"switch → cam-1 gate-1\ngate-1 → gate-2 chain\ngate-2 → gate-3 chain", ""},
		"a hub with one behind it is no chain": {[]string{"hub:; behind set", "set:"}, "",
			"hub → set", "hub"},
		"a ring": {[]string{"a: b c", "b: c", "c:"}, "a",
			"a → b c ?b", ""},
		"two that say the other is behind": {[]string{"a:; behind b", "b:; behind a"}, "",
			"a → b", "a"},
		"one that nobody sees": {[]string{"switch: cam-1", "cam-1:", "cam-2:"},
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

func TestBehind(t *testing.T) {
	s, err := site.Parse("site.yaml", []byte(`site: X
uplinks:
  - {through: switch-basin, reach: [gate-1, "cam-*"]}
  - {through: gate-1, reach: [gate-2]}
  - {through: gate-2, reach: [gate-3]}
`))
	require.NoError(t, err)
	var all []device.Device
	for _, name := range []string{"switch-basin", "gate-1", "gate-2", "gate-3", "cam-11", "recorder-1"} {
		all = append(all, device.Device{ID: name, Name: name})
	}
	for name, want := range map[string][]string{
		"switch-basin": {"gate-1", "cam-11", "gate-2", "gate-3"},
		"gate-1":       {"gate-2", "gate-3"}, "gate-3": nil, "recorder-1": nil,
	} {
		var got []string
		for _, d := range s.Behind(device.Device{ID: name, Name: name}, all) {
			got = append(got, d.Name)
		}
		assert.Equal(t, want, got, name)
	}
}
