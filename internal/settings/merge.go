package settings

import (
	"bytes"
	"encoding/json"
	"errors"
	"maps"
	"slices"
	"strings"

	"github.com/tidwall/sjson"
)

// Merged is what a merge has brought.
type Merged struct {
	Text     []byte     // to be given to the device
	Set      []string   // the paths in it that have another value than the new version came with
	Unplaced []Unplaced // what a person should look at: it is not in Text
	// paths whose default the maker has changed, too; the person's value is in Text
	Both []string
	// Removed are the paths that the new version came with and an operator had removed: not in Text.
	Removed []string
}

// Unplaced is a setting of the former version that the merge could not place.
type Unplaced struct {
	Path  string `json:"path"` // as it was
	Value string `json:"value"`
	Why   string `json:"why"`
}

// Merge brings what a person had set into the settings that another version of the firmware has
// come with. It writes on the text of now, whose order, comments and spaces stay.
//
//	base     what the earlier version came with; nil: that is not known
//	saved    what was set on it
//	now      what the device has after the update
//	renamed  settings that are called otherwise in the other version, by path; they count both ways,
//	         and for all that is below them
//
// A setting is the person's where saved has it otherwise than base. It goes to where it was, or
// under its other name; where now has no such setting, it is added if base had none either, and
// left out and listed if it had, since the new version has given it up. Where base is not known,
// every setting of saved is the person's, and those that now does not have are listed. A list of
// JSON is one value. So
//
//	base   a=1 b=2      saved  a=1 b=7 c=5      now  a=9 b=2 d=4      gives  a=9 b=7 d=4 c=5
//
// Opaque settings cannot be merged: ErrOpaque.
func Merge(f Format, base, saved, now []byte, renamed map[string]string) (m Merged, err error) {
	was, err := leaves(f, saved)
	if err != nil {
		return m, err
	}
	is, err := leaves(f, now)
	if err != nil {
		return m, err
	}
	var came map[string]leaf
	if base != nil {
		if came, err = leaves(f, base); err != nil {
			return m, err
		}
	}
	renamed = pathsOf(f, renamed)
	var edits []edit
	unplaced := func(path, why string) {
		m.Unplaced = append(m.Unplaced, Unplaced{path, was[path].value, why})
	}
	for _, path := range slices.Sorted(maps.Keys(was)) {
		value := was[path].value
		usual, had := came[path]
		if had && usual.value == value {
			continue
		}
		to := where(path, is, renamed)
		there, has := is[to]
		switch {
		case has && there.value == value:
			continue
		case has && f == JSON && kind(there.value) != "null" && kind(there.value) != kind(value):
			unplaced(path, "the new version has a "+kind(there.value)+" there, not a "+kind(value))
			continue
		case !has && shaped(f, to, was[path].at, is):
			unplaced(path, "the new version has other settings there")
			continue
		case !has && (had || base == nil):
			unplaced(path, "the new version has no such setting")
			continue
		case slices.Contains(m.Set, to):
			unplaced(path, "another setting goes to the same place: "+to)
			continue
		case has && had && there.value != usual.value:
			m.Both = append(m.Both, to)
		}
		e := edit{path: to, value: value, at: there.at}
		if !has {
			e.at, e.add = was[path].at, true
		}
		edits, m.Set = append(edits, e), append(m.Set, to)
	}
	m.Text = now
	gone := removed(f, was, is, came, renamed, &m)
	if len(gone) > 0 {
		m.Text, err = remove(f, m.Text, gone)
	}
	if err == nil && len(edits) > 0 {
		m.Text, err = write(f, m.Text, edits)
	}
	return m, err
}

// pathsOf returns renamed keys as the paths that they are in a format.
func pathsOf(f Format, renamed map[string]string) map[string]string {
	if f != KeyValue { // a key is a path there
		return renamed
	}
	plainly := map[string]string{}
	for from, to := range renamed {
		plainly[plain(from)] = plain(to)
	}
	return plainly
}

// removed finds what an operator had removed and the new version came with again. It is removed
// again where it has its default of before; else it is listed.
func removed(f Format, was, is, came map[string]leaf, renamed map[string]string,
	m *Merged) (gone []edit) {
	for _, path := range slices.Sorted(maps.Keys(came)) {
		if _, kept := was[path]; kept || shaped(f, path, came[path].at, was) {
			continue
		}
		to := where(path, is, renamed)
		there, has := is[to]
		switch {
		case !has || slices.Contains(m.Set, to):
		case f == XML || there.value != came[path].value:
			m.Unplaced = append(m.Unplaced, Unplaced{path, "", "it was removed, and the new version has " +
				"it again"})
		default:
			m.Removed = append(m.Removed, to)
			gone = append(gone, edit{path: to, at: there.at})
		}
	}
	return gone
}

// remove removes settings from a text.
func remove(f Format, text []byte, gone []edit) (out []byte, err error) {
	if f == JSON {
		out = slices.Clone(text)
		for _, e := range gone {
			if out, err = sjson.DeleteBytes(out, jsonPath(e.at)); err != nil {
				return nil, err
			}
		}
		return out, nil
	}
	drop := map[string]bool{}
	for _, e := range gone {
		drop[e.path] = true
	}
	in := ""
	var lines []string
	for line := range strings.Lines(string(text)) {
		trimmed := strings.TrimSpace(line)
		if m := section().FindStringSubmatch(trimmed); m != nil && f == INI {
			in = plain(strings.TrimSpace(m[1])) + "."
		}
		comment := trimmed == "" || strings.ContainsAny(trimmed[:1], "#;!")
		if !comment && drop[in+plain(strings.TrimSpace(trimmed[:max(strings.IndexAny(trimmed,
			separators[f]), 0)]))] {
			continue
		}
		lines = append(lines, line)
	}
	return []byte(strings.Join(lines, "")), nil
}

// jsonPath is a path of sjson.
func jsonPath(at []string) string {
	var keys []string
	for _, key := range at {
		keys = append(keys, jsonKey(key))
	}
	return strings.Join(keys, ".")
}

// shaped tells whether the new version has something where a setting would be added: a value on the
// way to it, or settings below it.
func shaped(f Format, path string, at []string, there map[string]leaf) bool {
	switch f {
	case JSON:
		for _, l := range there {
			n := min(len(at), len(l.at))
			if len(at) != len(l.at) && slices.Equal(at[:n], l.at[:n]) && !(len(l.at) == n &&
				l.value == "{}") {
				return true
			}
		}
	case XML:
		for other, l := range there {
			_, below := strings.CutPrefix(other, path+"/")
			_, above := strings.CutPrefix(path, other+"/")
			if below && !strings.Contains(other[len(path):], "/@") || above &&
				strings.TrimSpace(l.value) != "" && !strings.Contains(path[len(other):], "/@") {
				return true
			}
		}
		// its place says nothing there
		return strings.HasSuffix(strings.TrimRight(path, "0123456789]"), "[")
	}
	return false
}

// where is the path of a setting in the other version: under its other name, if that is there.
func where(path string, there map[string]leaf, renamed map[string]string) string {
	for from, to := range renamed {
		for _, way := range [][2]string{{from, to}, {to, from}} {
			rest, is := strings.CutPrefix(path, way[0])
			if !is || rest != "" && !strings.ContainsAny(rest[:1], ".[/") {
				continue
			}
			if _, has := there[way[1]+rest]; has {
				return way[1] + rest
			}
		}
	}
	return path
}

// leaf is a setting: its value as it is written, and the keys that lead to it.
type leaf struct {
	value string
	at    []string
}

// edit is a setting that gets a value.
type edit struct {
	path, value string
	at          []string
	add         bool // it is not there yet
}

// leaves are the settings that a merge moves as a whole.
func leaves(f Format, raw []byte) (map[string]leaf, error) {
	out := map[string]leaf{}
	switch f {
	case JSON:
		if _, err := parseJSON(raw); err != nil { // within bounds
			return nil, err
		}
		var tree any
		d := json.NewDecoder(bytes.NewReader(raw))
		d.UseNumber()
		if err := d.Decode(&tree); err != nil {
			return nil, err
		}
		if _, is := tree.(map[string]any); !is {
			return nil, errors.New("the settings are no object of JSON")
		}
		return out, jsonLeaves(out, "", nil, tree)
	case XML:
		doc, err := readXML(raw)
		if err != nil {
			return nil, err
		}
		for path, at := range doc.settings {
			out[path] = leaf{value: at.value()}
		}
		return out, nil
	}
	v, err := Parse(f, raw)
	for path, value := range v {
		out[path] = leaf{value: value}
	}
	return out, err
}

func jsonLeaves(out map[string]leaf, path string, at []string, tree any) error {
	object, is := tree.(map[string]any)
	if !is || len(object) == 0 && path != "" {
		raw, err := json.Marshal(tree)
		out[path] = leaf{string(raw), at}
		return err
	}
	for key, value := range object {
		err := jsonLeaves(out, strings.TrimPrefix(path+"."+plain(key), "."), append(slices.Clone(at),
			key), value)
		if err != nil {
			return err
		}
	}
	return nil
}

// kind is the type of a JSON value.
func kind(raw string) string {
	switch {
	case raw == "true" || raw == "false":
		return "boolean"
	case raw == "null":
		return "null"
	case strings.HasPrefix(raw, `"`):
		return "text"
	case strings.HasPrefix(raw, "["):
		return "list"
	case strings.HasPrefix(raw, "{"):
		return "object"
	}
	return "number"
}

// write writes settings into a text.
func write(f Format, text []byte, edits []edit) (out []byte, err error) {
	switch f {
	case JSON:
		out = slices.Clone(text)
		for _, e := range edits {
			if out, err = sjson.SetRawBytes(out, jsonPath(e.at), []byte(e.value)); err != nil {
				return nil, err
			}
		}
		return out, nil
	case XML:
		doc, err := readXML(text)
		if err != nil {
			return nil, err
		}
		for _, e := range edits {
			if err := doc.set(e.path, e.value); err != nil {
				return nil, err
			}
		}
		return doc.tree.WriteToBytes()
	}
	return writeLines(f, text, edits), nil
}

// jsonKey is a key in a path of sjson: what means something there is escaped, and digits are a key.
func jsonKey(key string) string {
	var b strings.Builder
	if key != "" && strings.Trim(key, "0123456789-") == "" {
		b.WriteByte(':')
	}
	for _, r := range key {
		if strings.ContainsRune(`.*?|#@!{}[]()=<>%\:"`, r) {
			b.WriteByte('\\')
		}
		b.WriteRune(r)
	}
	return b.String()
}

// writeLines writes settings of INI or key-value into the lines that they stand on; new ones go to
// the end of their section.
func writeLines(f Format, text []byte, edits []edit) []byte {
	set := map[string]string{}
	for _, e := range edits {
		set[e.path] = e.value
	}
	lines, cr := strings.Split(string(text), "\n"), ""
	if strings.Contains(string(text), "\r\n") {
		cr = "\r" // line endings stay as they are
	}
	ends, in := map[string]int{}, ""
	for n, line := range lines {
		trimmed := strings.TrimSpace(line)
		if trimmed == "" || strings.ContainsAny(trimmed[:1], "#;!") {
			continue
		}
		if m := section().FindStringSubmatch(trimmed); m != nil && f == INI {
			in = plain(strings.TrimSpace(m[1])) + "."
			ends[in] = n
			continue
		}
		ends[in] = n
		at := strings.IndexAny(trimmed, separators[f])
		value, edited := set[in+plain(strings.TrimSpace(trimmed[:max(at, 0)]))]
		if !edited {
			continue
		}
		start := strings.Index(line, trimmed) + at
		rest := line[start:]
		between := rest[:len(rest)-len(strings.TrimLeft(rest, " \t"))]
		if after := strings.TrimLeft(rest, " \t"); after != "" && strings.ContainsAny(after[:1], "=:") {
			between = rest[:len(rest)-len(strings.TrimLeft(after[1:], " \t"))]
		}
		end := ""
		if strings.HasSuffix(line, "\r") {
			end = "\r"
		}
		lines[n] = line[:start] + strings.TrimSuffix(between, "\r") + value + end
	}
	for _, e := range edits {
		if e.add {
			lines = addLine(f, lines, e, ends, cr, !strings.Contains(string(text), "="))
		}
	}
	return []byte(strings.Join(lines, "\n"))
}

// addLine adds a setting at the end of its section. ends are the last lines of the sections;
// spaced: the file separates keys and values by spaces.
func addLine(f Format, lines []string, e edit, ends map[string]int, cr string,
	spaced bool) []string {
	sect, key := cutKey(e.path, f)
	line := key + map[Format]string{INI: " = ", KeyValue: "="}[f] + e.value
	if f == KeyValue && spaced {
		line = key + " " + e.value
	}
	at, known := ends[sect]
	switch {
	case !known && sect != "":
		if last := len(lines) - 1; lines[last] == "" {
			lines = lines[:last]
		}
		ends[sect] = len(lines) + 1
		lines = append(lines, "["+unquoted(strings.TrimSuffix(sect, "."))+"]"+cr, line+cr, "")
		return lines
	case !known: // before the first section
		at = -1
	}
	lines = slices.Insert(lines, at+1, line+cr)
	for s, n := range ends {
		if n > at || s == sect && known {
			ends[s] = n + 1
		}
	}
	return lines
}
