package yamldoc

import (
	"cmp"
	"slices"
	"strings"

	"catena/internal/text"
)

// Conflict is a part of a file that two people have changed in different ways.
type Conflict struct {
	Key                string // where it is: jobs.parallel, or uplinks.gate-1 for an item of a list
	Base, Mine, Theirs string // its text; empty: it is not there
}

// Merge brings two changed versions of a YAML file together. The unit is the entry of a mapping or
// of a list, or a block of comments; what only one side changed is taken from there, and what both
// changed is looked into, down to the entries within. For example:
//
//	base            mine             theirs            merged
//	jobs:           jobs:            jobs:             jobs:
//	  parallel: 4     parallel: 8      parallel: 4       parallel: 8
//	hold:           hold:            hold:             hold:
//	  - gate-5        - gate-5         - gate-5          - gate-5
//	                                   - gate-6          - gate-6
//
// An item of a list is known by its first value, a comment by its text. Where both sides changed
// one value, decide says which counts; decide may be nil: then it is mine. All that was decided is
// returned, too.
func Merge(base, mine, theirs []byte, decide func(Conflict) (theirs bool)) ([]byte, []Conflict) {
	m := merger{decide: decide}
	out := m.entries("", split(base), split(mine), split(theirs))
	return []byte(out), m.conflicts
}

type merger struct {
	decide    func(Conflict) bool
	conflicts []Conflict
}

// entry is a part of a file: the lines of one key, of one item, or of a block of comments.
type entry struct {
	name    string // of the key, the first value of the item, or the text of the comments
	text    string
	body    string // the lines within it that are entries themselves; empty: it is one value
	comment bool
}

// starts matches a key, or an item of a list, in the block style. It is compiled when it is needed.
var starts = text.Later(`^( *)(?:(- +)?` +
	`("[^"]*"|'[^']*'|[^\s#"'\[\]{},&*!|>%@-][^#:\[\]{}]*?) *:(?: |$)|(- +))(.*)$`)

// split divides a text into its entries: those of the smallest indentation. A line that is deeper,
// such as a value's or a nested entry's, belongs to the entry above it. Blank lines belong to what
// follows.
func split(raw []byte) (out []entry) {
	depth := -1
	var above []string // comments and blank lines whose entry is not known yet
	var inKey bool     // the last entry is a key, whose list may be as deep as itself
	for _, line := range strings.SplitAfter(string(raw), "\n") {
		bare := strings.TrimSpace(line)
		if bare == "" || strings.HasPrefix(bare, "#") || bare == "---" {
			above = append(above, line)
			continue
		}
		indent := len(line) - len(strings.TrimLeft(line, " "))
		m := starts().FindStringSubmatch(strings.TrimRight(line, "\r\n"))
		if depth < 0 && m != nil {
			depth = indent
		}
		isItem := strings.HasPrefix(bare, "- ") || bare == "-"
		if m == nil || indent != depth || isItem && inKey && len(out) > 0 {
			if len(out) == 0 {
				out = append(out, entry{name: bare, body: inLine}) // it is not YAML
			}
			last := &out[len(out)-1]
			last.text += strings.Join(above, "") + line
			last.body += strings.Join(above, "") + line
			above = nil
			continue
		}
		var e entry
		out, e.text = comments(out, above)
		e.text += line
		above, inKey = nil, !isItem
		if isItem {
			e.name = itemName(m)
		} else {
			e.name = strings.Trim(m[3], `"'`)
			if value := strings.TrimSpace(m[5]); value != "" && !strings.HasPrefix(value, "#") {
				e.body = inLine
			}
		}
		out = append(out, e)
	}
	out, rest := comments(out, above)
	if rest != "" {
		out = append(out, entry{text: rest, comment: true})
	}
	seen := map[string]int{}
	for i := range out {
		e := &out[i]
		if strings.HasPrefix(e.body, inLine) || strings.HasPrefix(strings.TrimSpace(e.text), "- ") ||
			strings.HasPrefix(strings.TrimSpace(e.body), "#") {
			e.body = ""
		}
		if seen[e.name]++; seen[e.name] > 1 {
			e.name += strings.Repeat("'", seen[e.name]-1)
		}
	}
	return out
}

// inLine marks a value in the line of its key: it is one value, whatever follows.
const inLine = "\x00"

// comments adds the blocks of comments among lines, each up to a blank line; rest are the blank
// lines that belong to what follows.
func comments(out []entry, lines []string) (all []entry, rest string) {
	block := false
	for _, line := range lines {
		switch bare := strings.TrimSpace(line); {
		case bare == "":
			rest, block = rest+line, false
		case block:
			last := &out[len(out)-1]
			last.text, last.name = last.text+line, last.name+"\n"+bare
		default:
			out = append(out, entry{name: bare, text: rest + line, comment: true})
			rest, block = "", true
		}
	}
	return out, rest
}

// itemName is the first value of an item: cam-1 of "- device: cam-1", of "- {device: cam-1, …}" and
// of "- cam-1".
func itemName(m []string) string {
	value := m[5]
	if m[3] == "" {
		flow, isFlow := strings.CutPrefix(strings.TrimSpace(value), "{")
		value = flow
		if _, after, is := strings.Cut(flow, ":"); is && isFlow {
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
	var names []string
	for _, e := range mine {
		names = append(names, e.name)
	}
	next := 0 // what only they have comes after what it follows there
	for _, e := range theirs {
		if _, here := inMine[e.name]; !here {
			names = slices.Insert(names, next, e.name)
		}
		next = slices.Index(names, e.name) + 1
	}
	var out strings.Builder
	for _, name := range names {
		part := m.one(at, inBase[name], inMine[name], inTheirs[name])
		if s := out.String(); s != "" && part != "" && !strings.HasSuffix(s, "\n") {
			out.WriteString("\n")
		}
		out.WriteString(part)
	}
	return out.String()
}

// one merges an entry; an empty one is not there.
func (m *merger) one(at string, base, mine, theirs entry) string {
	same := func(a, b entry) bool {
		return a.text == b.text || a.comment && b.comment // known by their text
	}
	switch {
	case same(mine, theirs), same(base, theirs):
		return mine.text
	case same(base, mine):
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
	c := Conflict{Key: at + cmp.Or(mine.name, theirs.name), Base: base.text, Mine: mine.text,
		Theirs: theirs.text}
	m.conflicts = append(m.conflicts, c)
	if m.decide != nil && m.decide(c) {
		return theirs.text
	}
	return mine.text
}
