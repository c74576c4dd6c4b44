package site

import (
	"fmt"
	"slices"
	"strings"

	"catena/internal/device"
	"catena/internal/firmware"
	"catena/internal/text"
	"catena/internal/yamldoc"
)

// Question is something that a person checks off by name before an update of some devices, or after
// it.
type Question struct {
	Name  string   `yaml:"name"`  // a short word, like that of a caution
	Of    []string `yaml:"of"`    // names of devices, with wildcards
	Group string   `yaml:"group"` // besides, all devices of this group
	Text  string   `yaml:"text"`  // the sentence that holds
}

// About reports whether the question is about a device.
func (s Site) About(q Question, d device.Device) bool {
	return slices.ContainsFunc(q.Of, d.Answers) || q.Group != "" &&
		slices.Contains(s.GroupsOf(d), q.Group)
}

func (s Site) checkQuestions(doc *yamldoc.Doc) error {
	for key, all := range map[string][]Question{"before": s.Before, "after": s.After} {
		seen := map[string]bool{}
		for i, q := range all {
			at := fmt.Sprintf("$.%s[%d]", key, i)
			_, known := s.Groups[q.Group]
			switch {
			case !firmware.IsCautionName(q.Name) || seen[q.Name]:
				return doc.Errorf(at, "%s: name: requires a short word of lower-case letters and -, that "+
					"no other one has: write for example horn-audible", key)
			case strings.TrimSpace(text.Clean(q.Text)) == "":
				return doc.Errorf(at, "%s: text: is missing: write for example The horn is audible.", key)
			case len(q.Of) == 0 && q.Group == "" || q.Group != "" && !known:
				return doc.Errorf(at, "%s: requires of: with names of devices, or a group: of groups:", key)
			}
			for j, pattern := range q.Of {
				if !isPattern(pattern) {
					return doc.Errorf(fmt.Sprintf("%s.of[%d]", at, j), "%s: %q is not a name", key, pattern)
				}
			}
			seen[q.Name] = true
		}
	}
	return nil
}
