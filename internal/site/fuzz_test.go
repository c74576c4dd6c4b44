package site_test

import (
	"testing"

	"catena/internal/site"
)

// A rename leaves a site file that can be read readable, and changes nothing else's name.
func FuzzRename(f *testing.F) {
	f.Add(hill, "cam-11", "cam: north")
	f.Add("site: X\ngroups: {a: ['x', \"x\", x]}\n", "x", "]")
	f.Fuzz(func(t *testing.T, text, from, to string) {
		if site.CheckName(to) != nil || from == "" {
			return
		}
		before, err := site.Parse("site.yaml", []byte(text))
		if err != nil {
			return
		}
		after, err := site.Parse("site.yaml", site.Rename([]byte(text), from, to))
		if err != nil {
			return // the caller parses it and keeps the old file
		}
		if len(before.Hold) != len(after.Hold) || len(before.Groups) > len(after.Groups) ||
			len(before.Uplinks) != len(after.Uplinks) {
			t.Errorf("%q to %q made another file of it:\n%s", from, to, text)
		}
	})
}
