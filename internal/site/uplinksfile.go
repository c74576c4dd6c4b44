package site

import (
	"catena/internal/words"
	"fmt"
	"strings"
)

// UplinksFile returns links as site.yaml has them; what is not known is in comments. at is the
// device that this machine is plugged into; empty: it was not named.
func UplinksFile(links []Link, unseen []string, at string) string {
	if len(links) == 0 {
		return "# No device reports its neighbours or its children. If you know them, " +
			"write:\n# uplinks:\n#   - {through: switch-basin, reach: [cam-11, cam-12]}\n"
	}
	var b strings.Builder
	b.WriteString("# As the devices report their neighbours. Check it before you rely on " +
		"it.\nuplinks:\n")
	if at == "" {
		b.WriteString("  # Name the device that this machine is connected to with --at.\n")
	}
	for _, l := range links {
		for _, d := range l.Doubts {
			fmt.Fprintf(&b, "  # Not sure: %s.\n", d)
		}
		if l.Chain {
			fmt.Fprintf(&b,
				"  # A daisy chain: while %s restarts, its downstream devices are cut off; the "+
					"end of the chain goes first.\n", l.Through)
		}
		var reach []string
		for _, name := range l.Reach {
			reach = append(reach, yamlWord(name))
		}
		fmt.Fprintf(&b, "  - {through: %s, reach: [%s]}\n", yamlWord(l.Through), strings.Join(reach,
			", "))
	}
	if len(unseen) > 0 {
		b.WriteString(comment(fmt.Sprintf("The uplinks of these are unknown, no device reports "+
			"them: %s.", strings.Join(unseen, ", "))))
	}
	return b.String()
}

// comment writes a text as lines that YAML leaves out.
func comment(text string) string {
	const width = 100
	return words.Fill("# "+text, "# ", width) + "\n"
}

// yamlWord writes a name so that YAML reads it as that name.
func yamlWord(name string) string {
	plain := func(r rune) bool {
		return r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' ||
			strings.ContainsRune("-_.", r)
	}
	if strings.IndexFunc(name, func(r rune) bool { return !plain(r) }) < 0 &&
		strings.ContainsAny(name[:1], "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ") {
		return name
	}
	return "'" + strings.ReplaceAll(name, "'", "''") + "'"
}
