package family

import (
	"maps"
	"slices"
	"strings"

	"github.com/goccy/go-yaml/ast"
)

// use is a value that a step uses.
type use struct {
	name string
	at   ast.Node
	sent bool // it is needed before the step is sent; else after its answer
}

// Section is a part of a program whose steps are taken together.
type Section struct {
	Key    string
	Steps  []*Step
	given  []string // the values that Catena brings, besides login and component
	after  []string // keys of sections whose values it has
	values []string // single names that it has besides
}

// session are the sections that may have been taken before any other one.
var session = []string{"recognise", "login", "enter", "read", "children: list"}

// flow refuses a value that cannot be set where it is used: what it stands in would be left out
// without a word. A step has what the sections before its own take, and what the steps before it
// take. One that is skipped by its when: counts: only the device shows whether it was.
//
//	login    has   recognise
//	read     has   recognise, login, enter
//	update   has   the session (all of these), and $image
//	restart  has   the session, update, and $image
//	blink    has   the session, and $on: what update takes is gone by then
func (p *parser) flow() {
	sections := p.program.Sections()
	taken := map[string][]string{}
	for _, s := range sections {
		taken[s.Key] = append(taken[s.Key], Names(s.Steps)...)
	}
	for _, s := range sections {
		has := map[string]bool{"login": true, "component": true, "status": true,
			"try": s.Key != "recognise"}
		for _, name := range slices.Concat(s.given, s.values, p.lent) {
			has[name] = true
		}
		for _, key := range s.after {
			for _, name := range taken[key] {
				has[name] = true
			}
		}
		p.flows(s, s.Steps, has, taken)
	}
}

// flows checks the steps of a section, in their order. has are the values that are set there.
func (p *parser) flows(s Section, steps []*Step, has map[string]bool, taken map[string][]string) {
	check := func(step *Step, sent bool) {
		for _, u := range step.uses {
			if u.sent != sent || has[u.name] {
				continue
			}
			if where := allowed[u.name]; where != "" {
				p.fail(u.at, "$%s is set only in %s", u.name, where)
			}
			var in []string
			for _, key := range slices.Sorted(maps.Keys(taken)) {
				if slices.Contains(taken[key], u.name) {
					in = append(in, key+":")
				}
			}
			p.fail(u.at, "%s is never set here: a step of %s extracts it, which is not taken before "+
				"this one", u.name, strings.Join(in, " and of "))
		}
	}
	for _, step := range steps {
		check(step, true)
		if step.Kind == Offer {
			inside := maps.Clone(has)
			inside["offer"] = true
			p.flows(s, step.Steps, inside, taken)
		}
		for _, name := range Names([]*Step{step}) {
			has[name] = true
		}
		check(step, false)
	}
}

// allowed is where the values that Catena brings are set.
var allowed = map[string]string{"image": "update:, restart: and store:",
	"offer":   "the steps: of offer:",
	"address": "address:", "on": "blink:", "new": "password:"}

// Sections are those of a program, in the order in which they may be taken.
func (p *Program) Sections() []Section {
	image := []string{"image"}
	within := func(more ...string) []string { return append(slices.Clone(session), more...) }
	var out []Section
	if b := p.ParentRoute; b != nil {
		out = []Section{{Key: "children: list", Steps: b.List, after: session[:3]},
			{Key: "store", Steps: b.Store, given: image, after: session}}
	}
	out = append(out, []Section{
		{Key: "recognise", Steps: p.Recognise},
		{Key: "login", Steps: p.Login, after: session[:1]},
		{Key: "enter", Steps: p.Enter.Steps, after: session},
		{Key: "read", Steps: p.Read, after: session},
		{Key: "leave", Steps: p.Enter.Leave, after: session},
		{Key: "logout", Steps: p.Logout, after: session},
		{Key: "update", Steps: p.Update, given: image, after: within("store")},
		{Key: "restart", Steps: p.Restart, given: image, after: within("store", "update")},
		{Key: "revert", Steps: p.Revert, after: session},
		{Key: "address", Steps: p.Address, given: []string{"address"}, after: session},
		{Key: "blink", Steps: p.Blink, given: []string{"on"}, after: session},
		{Key: "permission", Steps: p.Permission, after: session},
		{Key: "password", Steps: p.Password, given: []string{"new"}, after: session},
	}...)
	for _, name := range slices.Sorted(maps.Keys(p.Parts)) {
		key, part := "components: "+name, p.Parts[name]
		out = append(out, Section{Key: key, Steps: part.Update, given: image, after: within("store")},
			Section{Key: key + ": restart", Steps: part.Restart, given: image,
				after: within("store", "update", key)})
	}
	if s := p.Settings; s != nil {
		out = append(out, Section{Key: "settings: save", Steps: s.Save, after: session},
			Section{Key: "settings: restore", Steps: s.Restore, after: session,
				values: []string{"settings"}})
	}
	for _, c := range p.Carry {
		key := "carry: " + c.Name
		out = append(out, Section{Key: key, Steps: c.Read, after: session},
			Section{Key: key + ": write", Steps: c.Write, after: within(key)})
	}
	return out
}

// Placeholder is a value of the type of a name, which is shown before its own value is known.
func (p *Program) Placeholder(name string) any {
	word := strings.ToUpper(name)
	switch p.names[name] {
	case Int:
		return 1
	case Number:
		return 1.0
	case Bool:
		return true
	case List:
		return []string{word}
	case Map:
		return map[string]string{word: word}
	}
	return word
}
