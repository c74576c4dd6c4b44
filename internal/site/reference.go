package site

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/goccy/go-yaml/lexer"
	"github.com/goccy/go-yaml/token"

	"catena/internal/device"
	"catena/internal/text"
)

// Reference is a word in the site's files that means devices.
type Reference struct {
	Where string // hold, targets, group chamber-1, lockstep, uplinks, cover chamber 1 view
	Word  string
	Like  string // the name of a device that may have been meant; empty: none is like it
}

func (r Reference) String() string {
	means := "no device has the name"
	switch r.Where {
	case perModel:
		means = "no device is of the model"
	case perKind, targetKind:
		means = "no device is of the kind"
	case targetModel:
		means = "no device, image or family is of the model"
	}
	s := fmt.Sprintf("%s: %s %q", r.Where, means, r.Word)
	if r.Like != "" {
		s += ", did you mean " + r.Like + "?"
	}
	return s
}

// The Where of words that mean models.
const (
	perModel    = "limits: per_model"
	perKind     = "limits: per_kind"
	targetKind  = "targets: kind"
	targetModel = "targets: model"
)

// references are all words that mean devices.
func (s Site) references() []Reference {
	var out []Reference
	add := func(where string, words ...string) {
		for _, w := range words {
			if w != "" {
				out = append(out, Reference{Where: where, Word: w})
			}
		}
	}
	for _, h := range s.Hold {
		add("hold", h.Device)
	}
	for _, t := range s.Targets {
		add("targets", t.Device)
	}
	for _, g := range s.groupNames() {
		add("group "+g, s.Groups[g]...)
	}
	for _, kind := range slices.Sorted(maps.Keys(s.Kinds)) {
		add("kinds: "+kind, s.Kinds[kind]...)
	}
	for _, l := range s.Lockstep {
		add("lockstep", l.Of...)
	}
	for _, u := range s.Uplinks {
		add("uplinks", append([]string{u.Through}, slices.DeleteFunc(u.all(), func(w string) bool {
			return w == Laptop
		})...)...)
	}
	for _, c := range s.Cover {
		add("cover "+c.Name, c.Of...)
	}
	for _, u := range s.Units {
		add("units", u.Base)
	}
	for _, p := range s.Places {
		add("places", fmt.Sprint(p.Key))
	}
	for _, h := range s.ByHand {
		add("by_hand", h.Device)
	}
	return out
}

// Unresolved returns the references that mean none of the devices: a word that is spelt wrong, or a
// device that is not there any more. A hold that means no one holds no one. models are those of
// images and families: the targets of several sites may be shared, so a target may be for a model
// that this site does not have.
func (s Site) Unresolved(devices []device.Device, models []string) []Reference {
	var names []string
	for _, d := range devices {
		names = append(names, d.Name)
	}
	var out []Reference
	for _, r := range s.references() {
		if !slices.ContainsFunc(devices, func(d device.Device) bool { return d.Answers(r.Word) }) {
			r.Like = text.Nearest(r.Word, names)
			out = append(out, r)
		}
	}
	return append(out, s.unknownModels(devices, models)...)
}

// unknownModels are the limits and targets of models that do not exist: such a limit would limit
// nothing, and the devices that such a target was meant for would get the newest image.
func (s Site) unknownModels(devices []device.Device, models []string) (out []Reference) {
	check := func(where, word string, known []string) {
		if !slices.ContainsFunc(known, func(m string) bool { return strings.EqualFold(m, word) }) {
			out = append(out, Reference{Where: where, Word: word, Like: text.Nearest(word, known)})
		}
	}
	var here []string
	for _, d := range devices {
		here = append(here, d.Model)
	}
	for _, model := range slices.Sorted(maps.Keys(s.Limits.PerModel)) {
		check(perModel, model, here)
	}
	var kinds []string
	for _, d := range devices {
		kinds = append(kinds, d.Kind)
	}
	for _, kind := range slices.Sorted(maps.Keys(s.Limits.PerKind)) {
		check(perKind, kind, kinds)
	}
	for _, t := range s.Targets {
		if t.Kind != "" {
			check(targetKind, t.Kind, kinds)
		}
		if t.Model != "" {
			check(targetModel, t.Model, append(here, models...))
		}
	}
	return out
}

// Refers tells whether the site's files mean a device: then it keeps its name here when it
// tells another one, so that what was said of it stays with it.
func (s Site) Refers(d device.Device) bool {
	_, listed := s.Inventory.Find(d)
	return listed || slices.ContainsFunc(s.references(),
		func(r Reference) bool { return d.Answers(r.Word) })
}

// Rename writes a device's new name where a site or targets file has the old one. Comments
// and everything else stay as they are.
func Rename(data []byte, from, to string) []byte {
	lines := strings.SplitAfter(string(data), "\n")
	tokens := lexer.Tokenize(string(data))
	within := placesIn(tokens)
	for _, t := range slices.Backward(tokens) { // from the end: columns before it stay right
		word := t.Type == token.StringType || t.Type == token.SingleQuoteType ||
			t.Type == token.DoubleQuoteType
		key := t.Next != nil && t.Next.Type == token.MappingValueType
		if !word || !strings.EqualFold(t.Value, from) || key && !within(t) {
			continue
		}
		line, column := t.Position.Line-1, t.Position.Column-1
		if line >= len(lines) {
			continue
		}
		runes := []rune(lines[line])
		if column > len(runes) {
			continue
		}
		head, rest := string(runes[:column]), string(runes[column:])
		for _, written := range []string{t.Value, `"` + t.Value + `"`, "'" + t.Value + "'"} {
			if after, ok := strings.CutPrefix(rest, written); ok {
				lines[line] = head + fmt.Sprintf("%q", to) + after
				break
			}
		}
	}
	return []byte(strings.Join(lines, ""))
}

// placesIn tells which tokens stand in places, where devices are keys.
func placesIn(tokens token.Tokens) func(*token.Token) bool {
	from, to := -1, len(tokens)
	for i, t := range tokens {
		top := t.Position.Column == 1 && t.Next != nil && t.Next.Type == token.MappingValueType
		switch {
		case top && t.Value == "places":
			from = i
		case top && from >= 0 && to == len(tokens):
			to = i
		}
	}
	return func(t *token.Token) bool {
		i := slices.Index(tokens, t)
		return from >= 0 && i > from && i < to
	}
}
