// Package settings compares the settings that devices have: what a person set, before an update and
// after it.
//
// Its central function is Parse, which makes of a text in one of the known formats a flat list of
// values by their paths. A format that is not known is opaque: it is only kept and restored.
package settings

import (
	"bufio"
	"bytes"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strconv"
	"strings"

	"catena/internal/text"
)

// Format is how settings are written.
type Format string

const (
	JSON     Format = "json"
	INI      Format = "ini"       // sections in brackets, key = value
	KeyValue Format = "key-value" // a key and a value on each line, between them =, : or space
	XML      Format = "xml"
	Opaque   Format = "opaque" // whatever it is
	None     Format = "none"   // there are none: of the device only single values are saved
)

// Formats are all of them.
var Formats = []Format{JSON, INI, KeyValue, XML, Opaque}

// separators are what stands between a key and its value.
var separators = map[Format]string{INI: "=:", KeyValue: "=: \t"}

// Values are settings by their paths: section.key, or a.b[0] of JSON.
type Values map[string]string

// Bounds.
const (
	maxValues = 100_000
	maxDepth  = 64
)

// ErrOpaque is returned by Parse for settings that cannot be looked into.
var ErrOpaque = errors.New("their format is the maker's own")

// Parse reads settings. Its errors name the line of the text, or are ErrOpaque.
func Parse(f Format, raw []byte) (Values, error) {
	switch f {
	case JSON:
		return parseJSON(raw)
	case INI, KeyValue:
		return parseLines(f, raw)
	case XML:
		doc, err := readXML(raw)
		if err != nil {
			return nil, err
		}
		v := Values{}
		for path, at := range doc.settings {
			v[path] = at.value()
		}
		return v, nil
	}
	if f == None {
		return Values{}, nil
	}
	return nil, ErrOpaque
}

func parseJSON(raw []byte) (Values, error) {
	d := json.NewDecoder(bytes.NewReader(raw))
	d.UseNumber() // a number stays as it is written
	var tree any
	if err := d.Decode(&tree); err != nil {
		return nil, fmt.Errorf("no JSON: %w", err)
	}
	if _, err := d.Token(); !errors.Is(err, io.EOF) {
		return nil, errors.New("not JSON: there is text after it")
	}
	v := Values{}
	return v, v.add("", tree, 0)
}

// add adds a tree of JSON below a path.
func (v Values) add(path string, tree any, depth int) error {
	if depth > maxDepth || len(v) >= maxValues {
		return fmt.Errorf("more than %d settings, or more than %d levels", maxValues, maxDepth)
	}
	switch tree := tree.(type) {
	case map[string]any:
		for _, key := range slices.Sorted(maps.Keys(tree)) {
			if err := v.add(strings.TrimPrefix(path+"."+plain(key), "."), tree[key], depth+1); err != nil {
				return err
			}
		}
	case []any:
		for i, item := range tree {
			if err := v.add(fmt.Sprintf("%s[%d]", path, i), item, depth+1); err != nil {
				return err
			}
		}
	default:
		raw, err := json.Marshal(tree)
		v[path] = string(raw)
		return err
	}
	return nil
}

// plain is a key as a part of a path: one with a dot or a bracket in it is quoted.
func plain(key string) string {
	if key == "" || strings.ContainsAny(key, ".[]\"") {
		return strconv.Quote(key)
	}
	return key
}

// cutKey cuts the path of a setting in lines into its section, with the dot, and its key.
func cutKey(path string, f Format) (section, key string) {
	if f == KeyValue {
		return "", unquoted(path)
	}
	if dots := marks(path, '.'); len(dots) > 0 {
		return path[:dots[0]+1], unquoted(path[dots[0]+1:])
	}
	return "", unquoted(path)
}

// marks are the places of a mark in a path; in quotes it is none.
func marks(path string, mark byte) (out []int) {
	quoted := false
	for i := 0; i < len(path); i++ {
		switch {
		case path[i] == '\\' && quoted:
			i++
		case path[i] == '"':
			quoted = !quoted
		case path[i] == mark && !quoted:
			out = append(out, i)
		}
	}
	return out
}

// unquoted is a part of a path as the key that it is.
func unquoted(part string) string {
	if key, err := strconv.Unquote(part); err == nil && strings.HasPrefix(part, `"`) {
		return key
	}
	return part
}

var section = text.Later(`^\[([^\]]+)\]$`)

func parseLines(f Format, raw []byte) (Values, error) {
	v, in := Values{}, ""
	lines := bufio.NewScanner(bytes.NewReader(raw))
	lines.Buffer(nil, 1<<20)
	for n := 1; lines.Scan(); n++ {
		line := strings.TrimSpace(lines.Text())
		if line == "" || strings.ContainsAny(line[:1], "#;!") {
			continue
		}
		if m := section().FindStringSubmatch(line); m != nil && f == INI {
			in = plain(strings.TrimSpace(m[1])) + "."
			continue
		}
		at := strings.IndexAny(line, separators[f])
		if at <= 0 {
			return nil, fmt.Errorf("line %d has no value: %.40q", n, line)
		}
		key, value := strings.TrimSpace(line[:at]), strings.TrimLeft(line[at:], " \t")
		if strings.HasPrefix(value, "=") || strings.HasPrefix(value, ":") {
			value = strings.TrimSpace(value[1:])
		}
		path := in + plain(key)
		if _, twice := v[path]; twice {
			return nil, fmt.Errorf("line %d: %.40q is listed twice", n, key)
		}
		if v[path] = value; len(v) > maxValues {
			return nil, fmt.Errorf("more than %d settings", maxValues)
		}
	}
	return v, lines.Err()
}

// Digest is the same for settings that mean the same: order and comments do not count. Opaque ones
// are the same only byte by byte.
func Digest(f Format, raw []byte) string {
	h := sha256.New()
	v, err := Parse(f, raw)
	if err != nil {
		h.Write(raw)
		return fmt.Sprintf("%x", h.Sum(nil))
	}
	for _, path := range slices.Sorted(maps.Keys(v)) {
		fmt.Fprintf(h, "%q=%q\n", path, v[path])
	}
	return fmt.Sprintf("%x", h.Sum(nil))
}

// Change is one setting that differs.
type Change struct {
	Path string `json:"path"`
	Was  string `json:"was"` // empty beside Kind added
	Now  string `json:"now"`
	Kind Kind   `json:"kind"`
}

// Kind says how a setting differs.
type Kind string

const (
	Changed Kind = "changed"
	Added   Kind = "added" // it is only in the newer ones
	Gone    Kind = "gone"
)

// Diff is what differs, by path. What may be a secret is blanked in both; that it differs is told.
func Diff(f Format, was, now []byte) ([]Change, error) {
	before, err := Parse(f, was)
	if err != nil {
		return nil, err
	}
	after, err := Parse(f, now)
	if err != nil {
		return nil, err
	}
	var out []Change
	for path, value := range before {
		switch is, there := after[path]; {
		case !there:
			out = append(out, Change{path, blank(path, value), "", Gone})
		case is != value:
			out = append(out, Change{path, blank(path, value), blank(path, is), Changed})
		}
	}
	for path, value := range after {
		if _, there := before[path]; !there {
			out = append(out, Change{path, "", blank(path, value), Added})
		}
	}
	slices.SortFunc(out, func(a, b Change) int { return strings.Compare(a.Path, b.Path) })
	return out, nil
}

// Lost is what of the earlier settings the later ones do not have, or have otherwise.
func Lost(f Format, was, now []byte) ([]Change, error) {
	all, err := Diff(f, was, now)
	return slices.DeleteFunc(all, func(c Change) bool { return c.Kind == Added }), err
}

// secret are words in the name of a setting whose value no one should read over a shoulder.
var secret = text.Later(
	`(?i)pass(word|wd|phrase)?|secret|token|psk|community|pin$|pin[^a-z]|key$|private|credential`)

func blank(path, value string) string {
	if value != "" && secret().MatchString(path) {
		return "‹secret›"
	}
	return value
}

// Blanked is a text of settings in which what may be a secret is blanked, line by line.
func Blanked(f Format, raw []byte) (string, error) {
	v, err := Parse(f, raw)
	if err != nil {
		return "", err
	}
	var b strings.Builder
	for _, path := range slices.Sorted(maps.Keys(v)) {
		fmt.Fprintf(&b, "%s = %s\n", path, blank(path, v[path]))
	}
	return b.String(), nil
}
