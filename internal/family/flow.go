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

// section is a part of a program whose steps are taken together.
type section struct {
	key    string
	steps  []*Step
	given  []string // the values that Catena brings, besides login and component
	after  []string // keys of sections whose values it has besides those of a session
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
	sections := p.sections()
	taken := map[string][]string{}
	for _, s := range sections {
		taken[s.key] = append(taken[s.key], Names(s.steps)...)
	}
	for _, s := range sections {
		has := map[string]bool{"login": true, "component": true, "status": true, "try": s.key != "recognise"}
		for _, name := range slices.Concat(s.given, s.values, p.lent) {
			has[name] = true
		}
		for _, key := range s.after {
			for _, name := range taken[key] {
				has[name] = true
			}
		}
		p.flows(s, s.steps, has, taken)
	}
}

// flows checks the steps of a section, in their order. has are the values that are set there.
func (p *parser) flows(s section, steps []*Step, has map[string]bool, taken map[string][]string) {
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
var allowed = map[string]string{"image": "update:, restart: and store:", "offer": "the steps: of offer:",
	"address": "address:", "on": "blink:"}

// sections are those of a program.
func (p *parser) sections() []section {
	g := p.program
	image := []string{"image"}
	within := func(more ...string) []string { return append(slices.Clone(session), more...) }
	out := []section{
		{key: "recognise", steps: g.Recognise},
		{key: "login", steps: g.Login, after: session[:1]},
		{key: "enter", steps: g.Enter.Steps, after: session},
		{key: "read", steps: g.Read, after: session},
		{key: "leave", steps: g.Enter.Leave, after: session},
		{key: "logout", steps: g.Logout, after: session},
		{key: "update", steps: g.Update, given: image, after: within("store")},
		{key: "restart", steps: g.Restart, given: image, after: within("store", "update")},
		{key: "revert", steps: g.Revert, after: session},
		{key: "address", steps: g.Address, given: []string{"address"}, after: session},
		{key: "blink", steps: g.Blink, given: []string{"on"}, after: session},
	}
	for _, name := range slices.Sorted(maps.Keys(g.Parts)) {
		key, part := "components: "+name, g.Parts[name]
		out = append(out, section{key: key, steps: part.Update, given: image, after: within("store")},
			section{key: key + ": restart", steps: part.Restart, given: image,
				after: within("store", "update", key)})
	}
	if s := g.Settings; s != nil {
		out = append(out, section{key: "settings: save", steps: s.Save, after: session},
			section{key: "settings: restore", steps: s.Restore, after: session,
				values: []string{"settings"}})
	}
	for _, c := range g.Carry {
		key := "carry: " + c.Name
		out = append(out, section{key: key, steps: c.Read, after: session},
			section{key: key + ": write", steps: c.Write, after: within(key)})
	}
	if b := g.ParentRoute; b != nil {
		out = append(out, section{key: "children: list", steps: b.List, after: session[:3]},
			section{key: "store", steps: b.Store, given: image, after: session})
	}
	return out
}
