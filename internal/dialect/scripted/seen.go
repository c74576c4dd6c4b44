package scripted

import (
	"bytes"
	"encoding/json"
	"encoding/xml"
	"fmt"
	"maps"
	"net/url"
	"slices"
	"strings"

	"catena/internal/family"
	"catena/internal/text"
)

// Seen is one exchange, for a person who tries a family. Secrets are blanked in it.
type Seen struct {
	Stage  string // recognise, login, inside
	Step   *family.Step
	Sent   []string // a line each
	Status int
	Got    []string
	Took   []string // name: value
	Err    error
	Unsent bool   // it was only filled in
	When   string // the condition under which such a step is sent; empty: always
}

// maxSeen bounds the shown part of an answer.
const maxSeen = 2000

// show shows an exchange to who watches.
func (s *session) show(step *family.Step, f family.Filled, a family.Answer, err error) {
	if s.watch == nil {
		return
	}
	blank := s.blanks(f.Hidden...)
	if f.Shown != nil {
		f = *f.Shown
	}
	out := Seen{Stage: [...]string{"recognise", "login", "inside"}[s.stage], Step: step,
		Status: a.Status, Err: err}
	add := func(to *[]string, line string) { // the names of secrets are for readers: never encoded
		*to = append(*to, text.Clean(plainly.Replace(blank.Replace(line))))
	}
	switch {
	case f.Target != "":
		add(&out.Sent, f.Method+" "+f.Target)
		for _, name := range slices.Sorted(maps.Keys(f.Header)) {
			add(&out.Sent, name+": "+f.Header.Get(name))
		}
		if len(f.Body) > 0 {
			add(&out.Sent, string(f.Body))
		}
	case f.Command != "":
		add(&out.Sent, f.Command)
	}
	for _, line := range objects(step, f) {
		add(&out.Sent, line)
	}
	if f.Image {
		add(&out.Sent, "(the image)")
	}
	for _, name := range slices.Sorted(maps.Keys(a.Objects)) {
		add(&out.Got, fmt.Sprintf("%s: %v", name, a.Objects[name]))
	}
	body := blank.Replace(string(a.Body)) // secrets are blanked first, then the text is cut
	for line := range strings.SplitSeq(body[:min(len(body), maxSeen)], "\n") {
		if strings.TrimSpace(line) != "" {
			add(&out.Got, line)
		}
	}
	if err == nil {
		for _, name := range family.Names([]*family.Step{step}) {
			if value, is := s.v[name]; is {
				add(&out.Took, fmt.Sprintf("%s: %v", name, value))
			}
		}
	}
	s.watch(out)
}

// objects are those of SNMP that a step reads or sets, a line each.
func objects(step *family.Step, f family.Filled) (lines []string) {
	for i, o := range step.Objects {
		if o.Name == "" && i < len(f.Objects) {
			lines = append(lines, fmt.Sprintf("%s = %s %s", o.OID, o.Type, f.Objects[i]))
		} else {
			lines = append(lines, o.OID)
		}
	}
	return lines
}

// blanks puts names in the place of secrets, also where they stand encoded: what the login is,
// what its steps take, and what the family marks. Equal secrets get equal names.
func (s *session) blanks(derived ...string) *strings.Replacer {
	secrets := s.secrets()
	var pairs []string
	for _, name := range slices.Sorted(maps.Keys(secrets)) {
		for _, encode := range encodings {
			pairs = append(pairs, encode(secrets[name]), encode(placeholder(name)))
		}
	}
	for _, hidden := range derived {
		if len(hidden) > 3 {
			pairs = append(pairs, hidden, placeholder("derived"))
		}
	}
	return strings.NewReplacer(pairs...)
}

func placeholder(name string) string { return "‹" + name + "›" }

// secrets are the session's by name. A short one is left: it would blank half of every answer.
func (s *session) secrets() map[string]string {
	out := map[string]string{}
	add := func(name, secret string) {
		if len(secret) > 3 {
			out[name] = secret
		}
	}
	for _, p := range s.places {
		for name, value := range p.values {
			if p.as.User != s.as.User {
				name = "other." + name
			}
			add("login."+name, value)
		}
	}
	for name, value := range loginValues(s.as) {
		add("login."+name, value)
	}
	if s.part != nil { // what a child was lent is its parent's
		if h, err := s.hub(); err == nil {
			maps.Copy(out, h.parent.secrets())
		}
	}
	if try, _ := s.v["try"].(string); s.replayed == nil {
		add("try", try) // it is not a secret, and another one each time
	}
	if o, is := s.v["offer"].(family.OfferValues); is && s.replayed == nil {
		add("offer.url", o.URL)
		add("offer.host", o.Host)
		add("offer.port", fmt.Sprint(o.Port))
	}
	for _, name := range s.program.SecretNames() {
		value, _ := s.v[name].(string)
		add(name, value)
	}
	return out
}

// encodings are the forms of a value in a request.
var encodings = []func(string) string{
	func(s string) string { return s },
	url.QueryEscape,
	url.PathEscape,
	func(s string) string {
		raw, _ := json.Marshal(s) // a string can be
		return strings.Trim(string(raw), `"`)
	},
	func(s string) string {
		var b bytes.Buffer
		_ = xml.EscapeText(&b, []byte(s)) // a buffer takes everything
		return b.String()
	},
}
