package site

import (
	"fmt"
	"strconv"
	"strings"
)

// NewFile returns the text of a new site file, with what may be written into it as comments.
func NewFile(name, adapter string, ranges, ports []string) string {
	var b strings.Builder
	fmt.Fprintf(&b, "site: %s\n\n# Where its devices are. What answers from outside the ranges is "+
		"skipped.\n", strconv.Quote(name))
	if adapter == "" && len(ranges) == 0 && len(ports) == 0 {
		b.WriteString("# networks:\n#   - {name: towpath, adapter: eth0, ranges: " +
			"[10.20.4.1-10.20.4.60, 10.20.5.0/26], except: [10.20.4.1]}\n")
	} else {
		fmt.Fprintf(&b, "networks:\n  - name: first\n")
		if adapter != "" {
			fmt.Fprintf(&b, "    adapter: %s\n", strconv.Quote(adapter))
		}
		if len(ranges) > 0 {
			b.WriteString("    ranges:\n")
			for _, r := range ranges {
				fmt.Fprintf(&b, "      - %s\n", strconv.Quote(r))
			}
		}
		if len(ports) > 0 {
			var quoted []string
			for _, p := range ports {
				quoted = append(quoted, strconv.Quote(p))
			}
			fmt.Fprintf(&b, "    ports: [%s]\n", strings.Join(quoted, ", "))
		}
	}
	b.WriteString("\n# Devices to leave as they are.\n# hold:\n#   - {device: gate-5, because: not " +
		"before the winter stoppage}\n" +
		"\n# What devices are called here, by address or serial number.\n# names: {10.20.4.17: " +
		"cam-basin}\n" +
		"\n# What is reached through what: catena scan --uplinks proposes it.\n# uplinks:\n#   - " +
		"{through: switch-basin, reach: [cam-11, cam-12]}\n" +
		"\n# Devices of which some stay in service, and how many are worked on at the same time.\n# " +
		"cover: [{name: chamber 1 view, keep: 1, of: [cam-11, cam-12]}]\n# limits: {parallel: 8, " +
		"per_model: {TG-200: 1}, per_uplink: 4}\n# stop_after: {failures: 3}\n" +
		"\n# When work may be done; the days name the opening.\n# windows: [{days: mon-fri, from: " +
		"\"22:00\", to: \"05:00\"}]\n# timezone: Europe/Lisbon\n")
	return b.String()
}
