package site

import (
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"catena/internal/device"
)

// Sketch is what a scan proposes for a site file besides its uplinks, in YAML: the networks of
// devices, where the file names none; a group for each model of which there are several; and a name
// for each serial number, so that the devices are known again wherever they move. A person reads
// and changes it.
func Sketch(devices []device.Device, networks bool) string {
	var b strings.Builder
	if networks {
		found := map[netip.Prefix]bool{}
		for _, d := range devices {
			if at, err := netip.ParseAddr(d.Host()); err == nil && at.Is4() && d.Through == "" {
				p, _ := at.Prefix(sketchBits) // it is one of 32
				found[p] = true
			}
		}
		if len(found) > 0 {
			ranges := slices.SortedFunc(maps.Keys(found),
				func(a, b netip.Prefix) int { return a.Addr().Compare(b.Addr()) })
			b.WriteString("networks:\n  - name: first\n    ranges:\n")
			for _, p := range ranges {
				fmt.Fprintf(&b, "      - %s\n", p)
			}
			b.WriteString("\n")
		}
	}
	models := map[string][]string{}
	names := map[string]string{}
	for _, d := range devices {
		if d.Model != "" {
			models[d.Model] = append(models[d.Model], d.Name)
		}
		if d.Serial != "" && CheckName(d.Name) == nil {
			names[d.Serial] = d.Name
		}
	}
	maps.DeleteFunc(models, func(_ string, of []string) bool { return len(of) < 2 })
	if len(models) > 0 {
		b.WriteString("groups:\n")
		for _, model := range slices.Sorted(maps.Keys(models)) {
			fmt.Fprintf(&b, "  %s: [%s]\n", strconv.Quote(strings.ToLower(model)),
				quotedList(models[model]))
		}
		b.WriteString("\n")
	}
	if len(names) > 0 {
		b.WriteString("names:\n")
		for _, serial := range slices.SortedFunc(maps.Keys(names),
			func(a, b string) int { return strings.Compare(names[a], names[b]) }) {
			fmt.Fprintf(&b, "  %s: %s\n", strconv.Quote(serial), strconv.Quote(names[serial]))
		}
		b.WriteString("\n")
	}
	return b.String()
}

// sketchBits is how large a network is that a device's address lets one guess.
const sketchBits = 24

func quotedList(words []string) string {
	var out []string
	for _, w := range words {
		out = append(out, strconv.Quote(w))
	}
	return strings.Join(out, ", ")
}
