package scripted

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"catena/internal/family"
	"catena/internal/text"
)

// Seen is one exchange, for a person who tries a family. Secrets are blanked in it.
type Seen struct {
	Step   *family.Step
	Sent   []string // a line each
	Status int
	Got    []string
	Err    error
}

// maxSeen bounds what is shown of an answer.
const maxSeen = 2000

func (s *session) seen(step *family.Step, f family.Filled, a family.Answer, err error) Seen {
	blank := s.blanks()
	out := Seen{Step: step, Status: a.Status, Err: err}
	add := func(to *[]string, line string) { *to = append(*to, blank.Replace(text.Clean(line))) }
	switch {
	case f.Target != "":
		add(&out.Sent, f.Method+" "+f.Target)
		for _, name := range slices.Sorted(maps.Keys(f.Header)) {
			add(&out.Sent, name+": "+f.Header.Get(name))
		}
		if len(f.Body) > 0 {
			add(&out.Sent, string(f.Body[:min(len(f.Body), maxSeen)]))
		}
	case f.Command != "":
		add(&out.Sent, f.Command)
	}
	if f.Image {
		add(&out.Sent, "(the image)")
	}
	for _, name := range slices.Sorted(maps.Keys(a.Objects)) {
		add(&out.Got, fmt.Sprintf("%s: %v", name, a.Objects[name]))
	}
	for line := range strings.SplitSeq(string(a.Body[:min(len(a.Body), maxSeen)]), "\n") {
		if strings.TrimSpace(line) != "" {
			add(&out.Got, line)
		}
	}
	return out
}

// blanks puts names in the place of secrets: what the login is, what its steps take, and what the
// family marks. Equal secrets get equal names.
func (s *session) blanks() *strings.Replacer {
	var pairs []string
	add := func(name, secret string) {
		if len(secret) > 3 { // a shorter one would blank half of every answer
			pairs = append(pairs, secret, "‹"+name+"›")
		}
	}
	add("login.password", s.as.Password)
	for _, name := range append(family.Names(s.program.Login), family.Secrets(s.program)...) {
		value, _ := s.v[name].(string)
		add(name, value)
	}
	return strings.NewReplacer(pairs...)
}
