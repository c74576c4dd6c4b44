package yamldoc

import (
	"bytes"
	"regexp"
	"strings"
)

// Conflict is a part of a file that two people have changed in different ways.
type Conflict struct {
	Key                string // where it is: jobs.parallel, or uplinks.gate-1 for an item of a list
	Base, Mine, Theirs string // its text; empty: it is not there
}

// Merge brings two changed versions of a YAML file together. The unit is the entry of a mapping or
// of a list, with the comments above it; what only one side changed is taken from there, and what
// both changed is looked into, down to the entries within. For example:
//
//	base            mine             theirs            merged
//	jobs:           jobs:            jobs:             jobs:
//	  parallel: 4     parallel: 8      parallel: 4       parallel: 8
//	hold:           hold:            hold:             hold:
//	  - gate-5        - gate-5         - gate-5          - gate-5
//	                                   - gate-6          - gate-6
//
// An item of a list is known by its first value. Where both sides changed one value, decide says
// which counts; decide may be nil: then it is mine. All that was decided is returned, too.
func Merge(base, mine, theirs []byte, decide func(Conflict) (theirs bool)) ([]byte, []Conflict) {
	m := merger{decide: decide}
	out := m.entries("", split(base), split(mine), split(theirs))
	return []byte(out), m.conflicts
}

type merger struct {
	decide    func(Conflict) bool
	conflicts []Conflict
}

// entry is a part of a file: the lines of one key or of one item, with the comments above it.
type entry struct {
	name string // of the key, or the first value of the item; empty: what comes after the last one
	text string
	body string // the lines within it that are entries themselves; empty: it is one value
}

var (
	// a key, or an item of a list, in the block style
	starts = regexp.MustCompile(`^( *)(?:(- +)?("[^"]*"|'[^']*'|[^\s#"'\[\]{},&*!|>%@-][^#:\[\]{}]*?) *:(?: |$)|(- +))(.*)$`)
	within = regexp.MustCompile(`^( *)(?:- |-$|[^\s#])`)
)

// split divides a text into its entries: those of the smallest indentation. A line that is deeper,
// such as a value's or a nested entry's, belongs to the entry above it.
func split(text []byte) (out []entry) {
	lines := strings.SplitAfter(string(text), "\n")
	depth := -1
	var above []string // comments and blank lines that belong to what follows
	var inKey bool     // the last entry is a key, whose list may be as deep as itself
	for _, line := range lines {
		bare := strings.TrimSpace(line)
		if bare == "" || strings.HasPrefix(bare, "#") || bare == "---" {
			above = append(above, line)
			continue
		}
		indent := len(line) - len(strings.TrimLeft(line, " "))
		m := starts.FindStringSubmatch(strings.TrimRight(line, "\r\n"))
		if depth < 0 && m != nil {
			depth = indent
		}
		isItem := strings.HasPrefix(bare, "- ") || bare == "-"
		if m == nil || indent != depth || isItem && inKey && len(out) > 0 {
			if len(out) == 0 {
				out = append(out, entry{name: bare})
			}
			last := &out[len(out)-1]
			last.text += strings.Join(above, "") + line
			last.body += strings.Join(above, "") + line
			above = nil
			continue
		}
		e := entry{text: strings.Join(above, "") + line}
		above, inKey = nil, !isItem
		if isItem {
			e.name = itemName(m)
		} else {
			e.name = strings.Trim(m[3], `"'`)
			if value := strings.TrimSpace(m[5]); value != "" && !strings.HasPrefix(value, "#") {
				e.body = "\x00" // a value in its line: it is one, whatever follows
			}
		}
		out = append(out, e)
	}
	for i := range out {
		if strings.HasPrefix(out[i].body, "\x00") || strings.HasPrefix(strings.TrimSpace(out[i].text), "- ") ||
			!within.MatchString(out[i].body) {
			out[i].body = ""
		}
	}
	if rest := strings.Join(above, ""); rest != "" {
		out = append(out, entry{text: rest})
	}
	return out
}

// itemName is the first value of an item: cam-1 of "- device: cam-1", of "- {device: cam-1, …}" and
// of "- cam-1".
func itemName(m []string) string {
	value := m[5]
	if m[3] == "" {
		value = strings.TrimPrefix(strings.TrimSpace(value), "{")
		if _, after, is := strings.Cut(value, ":"); is && strings.HasPrefix(strings.TrimSpace(m[5]), "{") {
			value = after
		}
		value, _, _ = strings.Cut(value, ",")
	}
	value, _, _ = strings.Cut(value, " #")
	return strings.Trim(strings.TrimSpace(value), `"'{}[] `)
}

// head is an entry without what is within it.
func (e entry) head() string { return strings.TrimSuffix(e.text, e.body) }

func (m *merger) entries(at string, base, mine, theirs []entry) string {
	index := func(all []entry) map[string]entry {
		out := map[string]entry{}
		for _, e := range all {
			out[e.name] = e
		}
		return out
	}
	inBase, inMine, inTheirs := index(base), index(mine), index(theirs)
	var out strings.Builder
	write := func(text string) {
		if s := out.String(); s != "" && text != "" && !strings.HasSuffix(s, "\n") {
			out.WriteString("\n")
		}
		out.WriteString(text)
	}
	added := func() { // what only they have comes before the end
		for _, e := range theirs {
			if _, here := inMine[e.name]; !here && e.name != "" {
				write(m.one(at, inBase[e.name], entry{}, e))
			}
		}
	}
	for _, e := range mine {
		if e.name == "" {
			added()
		}
		write(m.one(at, inBase[e.name], e, inTheirs[e.name]))
	}
	if _, has := inMine[""]; !has {
		added()
		write(m.one(at, inBase[""], entry{}, inTheirs[""]))
	}
	return out.String()
}

// one merges an entry; an empty one is not there.
func (m *merger) one(at string, base, mine, theirs entry) string {
	switch {
	case mine.text == theirs.text, base.text == theirs.text:
		return mine.text
	case base.text == mine.text:
		return theirs.text
	case mine.body != "" && theirs.body != "" && (mine.head() == theirs.head() ||
		mine.head() == base.head() || theirs.head() == base.head()):
		head := mine.head()
		if head == base.head() {
			head = theirs.head()
		}
		return head + m.entries(at+mine.name+".", split([]byte(base.body)), split([]byte(mine.body)),
			split([]byte(theirs.body)))
	}
	name := mine.name
	if mine.text == "" {
		name = theirs.name
	}
	c := Conflict{Key: at + name, Base: base.text, Mine: mine.text, Theirs: theirs.text}
	if name == "" { // comments at the end of a file are kept, both
		if bytes.Contains([]byte(mine.text), []byte(theirs.text)) {
			return mine.text
		}
		return mine.text + theirs.text
	}
	m.conflicts = append(m.conflicts, c)
	if m.decide != nil && m.decide(c) {
		return theirs.text
	}
	return mine.text
}
