package family

import (
	"cmp"
	"fmt"
	"maps"
	"net/http"
	"reflect"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/goccy/go-yaml/ast"

	"catena/internal/bacnet"
	"catena/internal/settings"
	"catena/internal/text"
	"catena/internal/yamldoc"
)

// The protocols of steps. Those that a file may be of come first.
var (
	protocols     = []string{"http", "ssh", "snmp", "bacnet", "https", "tftp"}
	fileProtocols = protocols[:4]
)

// Protocols returns the protocols that a family may be of.
func Protocols() []string { return slices.Clone(fileProtocols) }

// identified are the protocols whose devices identify themselves by the standard's own objects: a
// family needs no steps to recognise them.
var identified = []string{"snmp", "bacnet"}

// How people call them, and a name of an object.
var (
	ofName    = map[string]string{"snmp": "SNMP", "bacnet": "BACnet"}
	ofExample = map[string]string{"snmp": "sysDescr.0", "bacnet": "device/firmware-revision"}
)

// ofObjects reports whether the requests of a step are about objects, each with a value.
func (s *Step) ofObjects() bool { return slices.Contains(identified, s.Protocol) }

// parser reads a program in two rounds: first the tree, with every name that a step takes, then
// all that names are used in, which needs to know them. It gives up at the first mistake, by
// panicking with a *yamldoc.Error that parsePrograms recovers.
type parser struct {
	doc      *yamldoc.Doc
	program  *Program
	names    map[string]Type
	secret   map[string]bool
	later    []func()
	protocol string
	says     *Extract          // where a device says why it refuses; nil: it does not
	objects  map[string]string // object numbers of SNMP that the file has names for
	inside   *Step             // the step that is being read; nil: none is
	each     bool              // the steps that are being read list children
	lent     []string          // the names that a parent's login and enter take for its children
}

// parsePrograms reads the keys of a program, and of that of its children, where the file has them.
func (f *Family) parsePrograms(doc *yamldoc.Doc, root map[string]ast.Node) (err error) {
	if !slices.ContainsFunc(names(inProgram), func(k string) bool { return root[k] != nil }) {
		return nil
	}
	defer func() {
		switch r := recover().(type) {
		case nil:
		case *yamldoc.Error:
			f.Program, f.Children, err = nil, nil, r
		default:
			panic(r)
		}
	}()
	p := &parser{doc: doc, program: &Program{}, names: map[string]Type{}, secret: map[string]bool{}}
	p.read(root)
	p.finish(root)
	f.Program = p.program
	if root["children"] != nil {
		f.Children = p.children(root["children"], *f)
	}
	return nil
}

// finish is the second round.
func (p *parser) finish(root map[string]ast.Node) {
	for _, check := range p.later {
		check()
	}
	p.levels(root)
	p.flow()
	p.program.names = p.names
	reads := slices.Concat(p.program.Recognise, p.program.Read)
	if b := p.program.ParentRoute; b != nil {
		reads = append(reads, b.List...)
	}
	Walk(reads, func(s *Step) { s.Reads = true })
	Walk(p.program.all(), func(s *Step) { s.Reads = s.Reads || s.Method == http.MethodGet })
}

// children reads the family of the devices behind those of a family. Its steps know what login and
// enter of the parent take, and nothing else of it: a serial number there is the parent's.
func (p *parser) children(n ast.Node, parent Family) *Family {
	doc, root, err := p.doc.Within(n, names(inChildren|ofChildren))
	var f Family
	if err == nil {
		f, err = parse(doc, Family{Vendor: parent.Vendor, PlainBasic: parent.PlainBasic})
	}
	if err != nil {
		panic(err)
	}
	g := p.program
	lent := map[string]Type{}
	for _, name := range append(Names(g.Login), Names(g.Enter.Steps)...) {
		lent[name] = p.names[name]
	}
	c := &parser{doc: doc, names: lent, secret: maps.Clone(p.secret), protocol: p.protocol,
		says: p.says, objects: p.objects, lent: slices.Collect(maps.Keys(lent)),
		program: &Program{Protocol: g.Protocol, Wire: g.Wire, Secrets: g.Secrets, Terminal: g.Terminal,
			ParentRoute: &ParentRoute{Parent: parent.Name}}}
	c.behind(root)
	c.readAll(root, inChildren)
	c.complete(root)
	c.finish(root)
	f.Program = c.program
	return &f
}

// behind reads what only children have.
func (p *parser) behind(root map[string]ast.Node) {
	b := p.program.ParentRoute
	p.each = true
	b.List = p.steps(root["list"])
	p.each = false
	listed := 0
	Walk(b.List, func(s *Step) {
		if s.Each != nil {
			listed++
		}
	})
	if listed != 1 {
		p.fail(root["family"], "children: list: requires steps, one of them with each:, which finds "+
			"the children in its answer")
	}
	b.Identity = []string{"serial"}
	if at := root["identity"]; at != nil {
		b.Identity = nil
		for _, name := range p.list(at) {
			b.Identity = append(b.Identity, p.text(name))
		}
	}
	taken := Names(b.List)
	for _, name := range append([]string{"version"}, b.Identity...) {
		if !slices.Contains(taken, name) || p.names[name] == List || p.names[name] == Map {
			at := root["identity"]
			if at == nil {
				at = root["list"]
			}
			p.fail(at, "children: list: must take %s of each of them, which tells %s", name,
				map[bool]string{true: "what it runs", false: "one from all others"}[name == "version"])
		}
	}
	b.Parallel = p.count(root["parallel"], "parallel: is how many are updated at a time", 1000)
	if at := root["goes"]; at != nil {
		if b.Last = p.text(at) == "last"; !b.Last && p.text(at) != "first" {
			p.fail(at, "children: goes: is first, before their parent's own update, or last, after it")
		}
	}
	if at := root["store"]; at != nil {
		keys := p.keys(at, "store", "steps", "has")
		b.Store = p.steps(keys["steps"])
		p.condition(keys["has"], &b.Stored)
		if !slices.ContainsFunc(b.Store, (*Step).MayWrite) {
			p.fail(at, "store: has neither upload: nor offer: among its steps:")
		}
	}
}

// count is a number from 1; 0 where there is none.
func (p *parser) count(n ast.Node, what string, most int) int {
	if n == nil {
		return 0
	}
	count, err := strconv.Atoi(p.text(n))
	if err != nil || count < 1 || count > most {
		p.fail(n, "%s: 1 to %d", what, most)
	}
	return count
}

func (p *parser) fail(at ast.Node, format string, args ...any) {
	panic(p.doc.At(at, format, args...))
}

func (p *parser) read(root map[string]ast.Node) {
	p.protocol = "http"
	if n := root["protocol"]; n != nil {
		p.protocol = p.text(n)
		if !slices.Contains(fileProtocols, p.protocol) {
			p.fail(n, "protocol: %q is not one of %s%s", p.protocol, strings.Join(fileProtocols, ", "),
				meant(p.protocol, fileProtocols))
		}
	}
	p.program.Protocol, p.objects = p.protocol, maps.Clone(standardObjects)
	p.readAll(root, inProgram)
	p.complete(root)
}

// readAll reads the keys that may stand in a place, in the order of the table.
func (p *parser) readAll(root map[string]ast.Node, in place) {
	for _, k := range keys {
		if at := root[k.name]; at != nil && k.in&in != 0 && k.read != nil {
			k.read(p, at, root)
		}
	}
}

func (p *parser) ports(at ast.Node) {
	for _, n := range p.list(at) {
		port, err := strconv.ParseUint(p.text(n), 10, 16)
		if err != nil || port == 0 {
			p.fail(n, "ports: %q is not a port", p.text(n))
		}
		p.program.Ports = append(p.program.Ports, uint16(port))
	}
}

// terminal reads how the shell of a device looks.
func (p *parser) terminal(at ast.Node) {
	keys := p.keys(at, "terminal", "prompt", "pages")
	if keys["prompt"] == nil || p.protocol != "ssh" {
		p.fail(at, "terminal: belongs to protocol: ssh, and requires prompt:, such as prompt: '[>#] ?$'")
	}
	t := &Terminal{Prompt: p.pattern(keys["prompt"], "prompt")}
	for _, pair := range p.pairs(keys["pages"], "pages") {
		re, err := regexp.Compile(pair.name)
		if err != nil {
			p.fail(pair.key, "pages: %v", err)
		}
		t.Pages = append(t.Pages, Page{re, p.text(pair.value)})
	}
	p.program.Terminal = t
}

// pattern reads a regular expression.
func (p *parser) pattern(at ast.Node, key string) *regexp.Regexp {
	re, err := regexp.Compile(p.text(at))
	if err != nil || re.MatchString("") {
		p.fail(at, "%s: is RE2 that does not match nothing: %v", key, err)
	}
	return re
}

func (p *parser) wire(at ast.Node) {
	keys := p.keys(at, "wire", "header", "error")
	p.program.Wire = p.fields(keys["header"])
	if at := keys["error"]; at != nil {
		e, err := parseExtract(p.text(at))
		if err != nil {
			p.fail(at, "wire: error: %v", err)
		}
		p.says = &e
	}
}

// parts reads the components that are updated another way.
func (p *parser) parts(at ast.Node) {
	g := p.program
	for _, pair := range p.pairs(at, "components") {
		keys := p.keys(pair.value, "a component", "update", "restart", "restarts", "interlocks")
		if g.Parts == nil {
			g.Parts = map[string]Part{}
		}
		part := Part{Update: p.steps(keys["update"]), Restart: p.steps(keys["restart"]),
			Restarts: p.restarts(keys["restarts"]), Interlocks: p.interlocks(keys["interlocks"])}
		if keys["update"] != nil && !slices.ContainsFunc(part.Update, (*Step).MayWrite) {
			p.fail(pair.value, "components: %s: update: has neither upload: nor offer:, nor a step that "+
				"says writes: true",
				pair.name)
		}
		g.Parts[pair.name] = part
	}
}

// carry reads the values that are preserved.
func (p *parser) carry(n ast.Node) {
	for _, item := range p.list(n) {
		keys := p.keys(item, "carry", "value", "read", "write")
		if keys["value"] == nil {
			p.fail(item, "carry: each requires value: the name that its read: takes, and its write: sends")
		}
		c := Carry{Name: p.text(keys["value"]), Read: p.steps(keys["read"]),
			Write: p.steps(keys["write"])}
		if !slices.Contains(Names(c.Read), c.Name) || len(c.Write) == 0 {
			p.fail(item, "carry: %s: requires read:, which takes %[1]s, and write:, which sends $%[1]s",
				c.Name)
		}
		if p.secret[c.Name] {
			p.fail(item, "carry: %s is a secret; carried values are recorded in the ledger", c.Name)
		}
		p.program.Carry = append(p.program.Carry, c)
	}
}

// secrets reads the names of the secrets, and what each is for.
func (p *parser) secrets(n ast.Node) {
	for _, pair := range p.pairs(n, "secrets") {
		level := p.text(pair.value)
		if level != "reading" && level != "writing" {
			p.fail(pair.value, "secrets: %s: is for reading or for writing", pair.name)
		}
		if !secretName().MatchString(pair.name) || len(pair.name) > maxName/2 || pair.name == "user" ||
			pair.name == "password" {
			p.fail(pair.key, "secrets: %q cannot be a name; use lower-case letters, digits and _", pair.name)
		}
		p.program.Secrets = append(p.program.Secrets, Secret{pair.name, level == "writing"})
	}
}

var secretName = text.Later(`^[a-z][a-z0-9_]*$`)

// objectNames reads the names that the file gives to objects of SNMP.
func (p *parser) objectNames(n ast.Node) {
	for _, pair := range p.pairs(n, "names") {
		number := strings.TrimPrefix(p.text(pair.value), ".")
		if !oid().MatchString(number) {
			p.fail(pair.value, "names: %q is not an object's number, such as 1.3.6.1.4.1.64999.7.1", number)
		}
		p.objects[pair.name] = number
	}
}

// objectOf is how a protocol names an object: SNMP by its number, BACnet by its property, or a file
// alone, which is read whole.
func (p *parser) objectOf(at ast.Node, what, written, protocol string) string {
	if protocol == "snmp" {
		return p.objectNumber(at, what, written)
	}
	if file, err := bacnet.ParseObject(written); err == nil && file.Type == bacnet.TypeFile &&
		what == "get" {
		return written
	}
	if _, err := bacnet.ParseProperty(written); err != nil {
		p.fail(at, "%s: %v", what, err)
	}
	return written
}

// bacnetFile refuses what an image cannot be written to. A name with values in it is checked when
// it is known.
func (p *parser) bacnetFile(at ast.Node, written string) {
	of, err := bacnet.ParseObject(written)
	if !strings.Contains(written, "$") && (err != nil || of.Type != bacnet.TypeFile) {
		p.fail(at, "upload: of protocol: bacnet goes to a file object: upload: file,1")
	}
}

// objectNumber is the number of an object that is written as a number, or as a name and the rest of
// the number: sysName.0.
func (p *parser) objectNumber(at ast.Node, what, written string) string {
	if oid().MatchString(written) {
		return strings.TrimPrefix(written, ".")
	}
	name, rest, _ := strings.Cut(written, ".")
	number := p.objects[name]
	if number == "" {
		p.fail(at, "%s: %q is neither an object's number, such as 1.3.6.1.2.1.1.5.0, nor a name such "+
			"as sysName.0%s",
			what, written, meant(name, slices.Sorted(maps.Keys(p.objects))))
	}
	if rest != "" {
		number += "." + rest
	}
	if !oid().MatchString(number) {
		p.fail(at, "%s: the part after the name %s must be numbers: %q", what, name, rest)
	}
	return number
}

// entry reads what is done around all else.
func (p *parser) entry(enter, leave ast.Node) {
	e := &p.program.Enter
	const together = "enter: and leave: belong together: leave undoes enter"
	if enter == nil {
		p.fail(leave, together)
	} else if leave == nil {
		p.fail(enter, together)
	}
	in := p.keys(enter, "enter", "for", "steps")
	if at := in["for"]; at != nil {
		if e.Reads = p.text(at) == "reading"; !e.Reads && p.text(at) != "writing" {
			p.fail(at, "enter: for: is reading (if reading requires it, too) or writing")
		}
	}
	out := p.keys(leave, "leave", "steps", "expect")
	e.Steps, e.Leave = p.steps(in["steps"]), p.steps(out["steps"])
	if len(e.Steps) == 0 || len(e.Leave) == 0 {
		p.fail(enter, "enter: and leave: each require steps:")
	}
	p.condition(out["expect"], &e.Undone)
}

func (p *parser) state(n ast.Node) {
	keys := p.keys(n, "state", "busy", "away", "pending", "idle", "uptime", "well",
		"why")
	g := p.program
	p.condition(keys["busy"], &g.Busy)
	p.condition(keys["away"], &g.Away)
	p.condition(keys["well"], &g.Well)
	p.expression(keys["pending"], &g.Pending, reflect.Invalid)
	p.expression(keys["idle"], &g.Idle, reflect.Invalid)
	p.expression(keys["uptime"], &g.Uptime, reflect.Float64)
	p.template(keys["why"], &g.Why)
}

// restarts is how often a device restarts until it runs its image.
func (p *parser) restarts(n ast.Node) int {
	return p.count(n, "restarts: is the number of restarts until it runs the image", 10)
}

func (p *parser) interlocks(n ast.Node) []Interlock {
	out := make([]Interlock, len(p.list(n)))
	for i, item := range p.list(n) {
		keys := p.keys(item, "interlocks", "holds", "else")
		if keys["holds"] == nil || keys["else"] == nil {
			p.fail(item, "interlocks: each requires holds: and else:, the sentence for the operator")
		}
		out[i].Else = p.text(keys["else"])
		at := keys["holds"]
		p.later = append(p.later, func() { out[i].Holds = p.compiled(at, reflect.Bool, nil) })
	}
	return out
}

func (p *parser) settings(n ast.Node) {
	keys := p.keys(n, "settings", "format", "save", "restore", "renamed")
	s := &Settings{Format: settings.Opaque}
	if at := keys["format"]; at != nil {
		s.Format = settings.Format(p.text(at))
		if !slices.Contains(settings.Formats, s.Format) {
			p.fail(at, "settings: format: %q is not one of json, ini, key-value, xml, opaque", s.Format)
		}
	}
	for _, pair := range p.pairs(keys["renamed"], "settings: renamed") {
		if s.Renamed == nil {
			s.Renamed = map[string]string{}
		}
		s.Renamed[pair.name] = p.text(pair.value)
	}
	s.Save, s.Restore = p.steps(keys["save"]), p.steps(keys["restore"])
	if p.names["settings"] != Text || !slices.Contains(Names(s.Save), "settings") {
		p.fail(n, "settings: save: must take settings, such as: take: {settings: body}")
	}
	p.program.Settings = s
}

func (p *parser) blink(n ast.Node) {
	keys := p.keys(n, "blink", "shows", "steps")
	p.program.Shows = "it shows itself"
	if keys["shows"] != nil {
		p.program.Shows = p.text(keys["shows"])
	}
	p.program.Blink = p.steps(keys["steps"])
	if len(p.program.Blink) == 0 {
		p.fail(n, "blink: requires steps:; $on is true to start and false to end")
	}
}

// levels refuses a value of the login where none may be sent, and a secret for writing where
// something is only read.
func (p *parser) levels(root map[string]ast.Node) {
	g := p.program
	writing := map[string]bool{}
	for _, s := range g.Secrets {
		writing[s.Name] = s.Writing
	}
	check := func(steps []*Step, bad func(name string) bool, key, why string) {
		Walk(steps, func(s *Step) {
			for _, name := range s.Logins {
				if bad(name) {
					p.fail(root[key], "%s: line %d: $login.%s %s", key, s.Line, name, why)
				}
			}
		})
	}
	check(g.Recognise, func(string) bool { return true }, "recognise",
		"is not allowed here: the device is not recognised yet")
	listing := []*Step(nil)
	if g.ParentRoute != nil {
		listing = g.ParentRoute.List
	}
	for key, steps := range map[string][]*Step{"login": g.Login, "logout": g.Logout, "read": g.Read,
		"list": listing} {
		check(steps, func(name string) bool { return writing[name] }, key,
			"is a secret for writing, and this is done to read")
	}
	Walk(slices.Concat(g.Recognise, g.Read, g.Logout, g.Permission, listing), func(s *Step) {
		if s.Kind == Ask || s.Kind == Upload || s.Kind == Offer || s.On != "" {
			p.fail(root["family"], "line %d: %s: or on: is not allowed where a device is only read", s.Line,
				s.Word)
		}
	})
	Walk(g.Recognise, func(s *Step) {
		if s.Protocol == "snmp" && g.Protocol != "snmp" {
			p.fail(root["recognise"], "recognise: line %d: SNMP sends a community, which is a login", s.Line)
		}
	})
	if g.Enter.Reads {
		check(g.Enter.Steps, func(name string) bool { return writing[name] }, "enter",
			"is a secret for writing, and this is done to read")
	}
}

// Walk does something with steps, and with those inside of them.
func Walk(steps []*Step, do func(*Step)) {
	for _, s := range steps {
		do(s)
		Walk(s.Steps, do)
	}
}

// complete refuses a program that could not do what it promises.
func (p *parser) complete(root map[string]ast.Node) {
	g := p.program
	where := func(keys ...string) ast.Node {
		for _, k := range keys {
			if root[k] != nil {
				return root[k]
			}
		}
		return root["family"]
	}
	needs := func(bad bool, at ast.Node, format string, args ...any) {
		if bad {
			p.fail(at, format, args...)
		}
	}
	own := slices.Contains(identified, g.Protocol)
	needs(len(g.Recognise) == 0 && !own && g.ParentRoute == nil, where("recognise",
		"protocol", "read"),
		"recognise: is missing: steps without a login that recognise these devices")
	needs(len(g.Recognise) > 0 && !tells(g.Recognise), where("recognise"),
		"recognise: anything that answers would be one of the family: take something that others do not "+
			"have, such as model: or serial:, without a default; says: alone is no sign")
	needs(len(g.Read) > 0 && p.names["version"] == "" && !own, where("read"),
		"read: no step extracts version, which every device must report")
	needs(len(g.Update) > 0 && len(g.Read) == 0 && g.ParentRoute == nil, where("update"),
		"update: requires read:, because the version verifies an update")
	writes := slices.ContainsFunc(g.Update, (*Step).MayWrite)
	needs(len(g.Update) > 0 && !writes, where("update"),
		"update: has neither upload: nor offer:, nor a step that says writes: true")
	needs(g.ParentRoute != nil && len(g.ParentRoute.Store) > 0 && len(g.Update) == 0, where("store"),
		"store: belongs to update:, which is missing")
	needs(len(g.Update) == 0 && len(g.Restart)+len(g.Revert) > 0, where("restart", "revert"),
		"restart: and revert: belong to update:, which is missing")
	for name, as := range map[string]Type{"components": Map, "idle": Map, "behind": List,
		"services": List, "uptime": Number, "starts": Int, "free": Number} {
		needs(p.names[name] != "" && p.names[name] != as, where("read", "recognise"),
			"%s: is a %s here and must be extracted as a %s", name, p.names[name], as)
	}
}

// tells reports whether steps can fail with a device that is not of the family: by an expectation,
// an outcome, or a value that must be there; says: only by a pattern.
func tells(steps []*Step) bool {
	return slices.ContainsFunc(steps, func(s *Step) bool {
		return s.Expect != nil || len(s.Outcomes) > 0 || len(s.Objects) > 0 ||
			slices.ContainsFunc(s.Take, func(t Take) bool {
				return (t.Name != "says" || t.From.re != nil) && !t.HasOr && !t.From.body && !t.From.status
			})
	})
}

// MayWrite tells whether the device may be writing an image from this step on.
func (s *Step) MayWrite() bool {
	return s.Writes || s.Kind == Offer || s.Kind == Upload && !s.OfBytes()
}

// OfBytes tells whether an upload sends a value instead of the image.
func (s *Step) OfBytes() bool { return s.Body != nil && s.Body.Kind == "raw" }

func (p *parser) steps(n ast.Node) (out []*Step) {
	for _, item := range p.list(n) {
		out = append(out, p.step(item))
	}
	return out
}

func (p *parser) step(n ast.Node) *Step {
	all := p.keys(n, "a step", names(asWord|inStep)...)
	at := n.GetToken().Position
	s := &Step{Place: Place{at.Line, at.Column}, Protocol: p.protocol, says: p.says, Shell: "posix"}
	if p.program.Terminal != nil {
		s.Shell = "none" // nothing is known of its quotes
	}
	defer func() { s.typed = p.program.Terminal != nil && s.Protocol == "ssh" }()
	outer := p.inside
	p.inside = s
	defer func() { p.inside = outer }()
	var does key
	for _, k := range keys {
		if k.in != asWord || all[k.name] == nil {
			continue
		}
		if s.Word != "" {
			p.fail(all[k.name], "a step has one action: %s or %s", s.Word, k.name)
		}
		s.Word, does = k.name, k
	}
	if s.Word == "" {
		p.fail(n, "a step requires an action: %s", strings.Join(names(asWord), ", "))
	}
	p.otherWay(all, s)
	if can := wordsBy(s.Protocol); !slices.Contains(can, s.Word) {
		p.fail(all[s.Word], "%s: is not a step of protocol: %s; there are %s", s.Word, s.Protocol,
			strings.Join(can, ", "))
	}
	does.step(p, all[s.Word], s, all)
	for _, k := range keys {
		if all[k.name] == nil || k.in != inStep {
			continue
		}
		if with := strings.Fields(k.with); k.with != "" && !slices.Contains(with, s.Word) {
			p.fail(all[k.name], "%s: belongs to %s", k.name, strings.Join(with, ", "))
		}
		if k.step != nil {
			k.step(p, all[k.name], s, all)
		}
	}
	if s.Kind == Poll && all["until"] == nil {
		p.fail(n, "poll: requires until:, a condition that ends it")
	}
	return s
}

// reinitialise reads how a device is restarted by BACnet, and with which password.
func (p *parser) reinitialise(at ast.Node, s *Step) {
	s.Kind = Request
	state, _, _ := strings.Cut(p.text(at), " ")
	if _, is := bacnet.States[state]; !is {
		known := slices.Sorted(maps.Keys(bacnet.States))
		p.fail(at, "reinitialise: %q is not one of %s%s", state, strings.Join(known, ", "),
			meant(state, known))
	}
	p.template(at, &s.Path)
}

func (p *parser) offer(at ast.Node, s *Step, steps ast.Node) {
	s.Kind, s.By = Offer, p.text(at)
	if !slices.Contains([]string{"http", "tftp"}, s.By) {
		p.fail(at, "offer: is the protocol by which the device fetches the image: http or tftp")
	}
	s.Steps = p.steps(steps)
	if len(s.Steps) == 0 {
		p.fail(at, "offer: requires steps:, which make the device fetch $offer.url")
	}
}

func (p *parser) eachOf(at ast.Node, s *Step) {
	e, err := parseExtract(p.text(at))
	switch {
	case !p.each || s.ofObjects():
		p.fail(at, "each: belongs to a step of children: list:, of http or ssh")
	case err != nil:
		p.fail(at, "each: %v", err)
	case e.json == nil && e.xpath == nil && e.re == nil:
		p.fail(at, "each: finds the children by JSONPath, XPath, or ~ RE2")
	}
	s.Each = &e
}

func (p *parser) shell(at ast.Node, s *Step) {
	s.Shell = p.text(at)
	if s.Shell != "posix" && s.Shell != "none" {
		p.fail(at, "shell: is posix, which quotes values, or none, where they must be plain")
	}
}

// otherWay reads whether a step goes by another protocol, to another port, or to another device.
func (p *parser) otherWay(keys map[string]ast.Node, s *Step) {
	if n := keys["on"]; n != nil {
		s.On = p.text(n)
		if !deviceName().MatchString(s.On) || len(s.On) > maxName {
			p.fail(n, "on: names another device of the site, such as switch-basin")
		}
	}
	n := keys["protocol"]
	if n == nil {
		return
	}
	name, port, given := strings.Cut(p.text(n), ":")
	if !slices.Contains(protocols, name) {
		p.fail(n, "protocol: %q is not one of %s%s", name, strings.Join(protocols, ", "),
			meant(name, protocols))
	}
	s.Protocol = name
	if given {
		number, err := strconv.ParseUint(port, 10, 16)
		if err != nil || number == 0 {
			p.fail(n, "protocol: %q is not a port; write for example ssh:2222", port)
		}
		s.Port = uint16(number)
	}
}

var deviceName = text.Later(`^[^\s"']+$`)

// maxName bounds a name that a file gives, in bytes. A pattern that counted so far would be built
// again at each start of the program.
const maxName = 64

// target is what a request goes to: a path, a command line, a file, or objects.
func (p *parser) target(does ast.Node, s *Step) {
	s.Kind = Request
	switch s.Word {
	case "poll":
		s.Kind = Poll
	case "upload":
		s.Kind = Upload
	}
	if s.ofObjects() && s.Kind != Upload {
		s.Objects = p.gets(does, s.Protocol)
		return
	}
	source := p.text(does)
	switch {
	case s.Protocol == "bacnet":
		p.bacnetFile(does, source)
		p.templateOf(does, source, &s.Path)
		return
	case s.Protocol == "ssh" && s.Word == "get":
		if source != "greeting" {
			p.fail(does, "get: of protocol: ssh is get: greeting; a command is run:")
		}
		return
	case s.Protocol == "ssh", s.Protocol == "tftp":
		p.templateOf(does, source, &s.Path)
		return
	}
	s.Method = map[string]string{"poll": "GET"}[s.Word]
	if s.Word == "upload" {
		method, path, two := strings.Cut(source, " ")
		if !two || method != "PUT" && method != "POST" {
			p.fail(does, "upload: write PUT or POST, and the path: upload: PUT /firmware")
		}
		s.Method, source = method, strings.TrimSpace(path)
	} else if s.Method == "" {
		s.Method = strings.ToUpper(s.Word)
	}
	if !strings.HasPrefix(source, "/") {
		p.fail(does, "%s: a path starts with /: requests go only to the device itself", s.Word)
	}
	p.templateOf(does, source, &s.Path)
}

func (p *parser) replies(n ast.Node, s *Step) {
	pairs := p.pairs(n, "reply")
	s.Reply = make([]Reply, len(pairs))
	for i, pair := range pairs {
		re, err := regexp.Compile(pair.name)
		if err != nil {
			p.fail(pair.key, "reply: %v", err)
		}
		s.Reply[i].Prompt = re
		p.template(pair.value, &s.Reply[i].Text)
	}
}

// body reads what a request carries; at most one of the kinds.
func (p *parser) body(kind string, at ast.Node, s *Step) {
	if s.Body != nil {
		p.fail(at, "a request carries one body: %s or %s", s.Body.Kind, kind)
	}
	b := &Body{Kind: kind}
	s.Body = b
	switch kind {
	case "json":
		tree := p.tree(at)
		b.JSON = &tree
		step := p.inside
		p.later = append(p.later, func() { p.fillTree(&tree, step) })
	case "form", "multipart":
		b.Fields = p.fields(at)
	default:
		p.template(at, &b.Text)
	}
	p.later = append(p.later, func() { p.fits(at, s) }) // once its values are known
}

// fits refuses a body that cannot be what it says.
func (p *parser) fits(at ast.Node, s *Step) {
	b, images := s.Body, 0
	for _, f := range b.Fields {
		if f.Value.Is("image") {
			images++
		}
	}
	switch {
	case s.Kind == Upload && b.Kind != "raw" && b.Kind != "multipart":
		p.fail(at, "%s: an upload carries the image itself; send values with query:, header: or "+
			"multipart:, or in a step before it", b.Kind)
	case s.Kind == Upload && b.Kind == "multipart" && images != 1:
		p.fail(at, "multipart: of an upload requires one part that is $image")
	case s.Kind != Upload && images > 0:
		p.fail(at, "%s: $image is sent by upload: only", b.Kind)
	case b.Kind == "raw" && (len(b.Text.parts) != 1 || b.Text.parts[0].expr == nil):
		p.fail(at, "raw: is one value, such as $settings; with text around it it is text:")
	}
	if b.Kind != "raw" && b.Kind != "text" {
		return
	}
	for _, name := range b.Text.uses {
		switch as := p.names[name]; {
		case as == "" || as == Text:
		case b.Kind == "raw":
			p.fail(at, "raw: %s is a %s; only a text goes byte by byte", name, as)
		case as == List || as == Map:
			p.fail(at, "text: %s is a %s; a text has no place for it", name, as)
		}
	}
}

// Tree is a JSON document with values in it. Its objects keep the order of the file.
type Tree struct {
	Keys  []string // of an object
	Items []Tree   // of an object or a list
	Kind  TreeKind
	Text  Template // of a text
	Raw   string   // of a number, true, false, null: as it stands in the file
	at    ast.Node
}

// TreeKind is what a tree is.
type TreeKind int

const (
	TreeText TreeKind = iota
	TreeRaw
	TreeList
	TreeObject
)

func (p *parser) tree(n ast.Node) Tree {
	switch n := n.(type) {
	case *ast.MappingNode, *ast.MappingValueNode:
		t := Tree{Kind: TreeObject}
		for _, pair := range p.pairs(n, "json") {
			t.Keys, t.Items = append(t.Keys, pair.name), append(t.Items, p.tree(pair.value))
		}
		return t
	case *ast.SequenceNode:
		t := Tree{Kind: TreeList}
		for _, item := range n.Values {
			t.Items = append(t.Items, p.tree(item))
		}
		return t
	case *ast.IntegerNode, *ast.FloatNode, *ast.BoolNode, *ast.NullNode:
		raw := n.GetToken().Value
		if _, isNull := n.(*ast.NullNode); isNull {
			raw = "null"
		}
		if !plainJSON().MatchString(raw) {
			p.fail(n, "json: %s is not a number of JSON; a text stands in quotes", raw)
		}
		return Tree{Kind: TreeRaw, Raw: raw}
	}
	return Tree{Kind: TreeText, Text: Template{Source: p.text(n)}, at: n}
}

// plainJSON are numbers, true, false and null as JSON writes them (RFC 8259, 3 and 6).
var plainJSON = text.Later(
	`^(-?(0|[1-9][0-9]*)(\.[0-9]+)?([eE][+-]?[0-9]+)?|true|false|null)$`)

// fillTree compiles the texts of a tree, once all names are known.
func (p *parser) fillTree(t *Tree, step *Step) {
	if t.Kind == TreeText {
		t.Text = p.parsed(t.at, t.Text.Source, step)
	}
	for i := range t.Items {
		p.fillTree(&t.Items[i], step)
	}
}

func (p *parser) takes(n ast.Node, s *Step) {
	for _, pair := range p.pairs(n, "take") {
		if !plainNameOnly().MatchString(pair.name) || ambient[pair.name] != nil {
			p.fail(pair.key, "take: %q cannot be a name; use letters, digits and _", pair.name)
		}
		t, err := parseTake(pair.name, p.text(pair.value))
		if err != nil {
			p.fail(pair.value, "take: %v", err)
		}
		if t.From.body && t.As != Text {
			p.fail(pair.value, "take: body is a text")
		}
		p.later = append(p.later, func() { p.matchable(pair.value, s, t.From) })
		p.named(pair.key, pair.name, t.As)
		p.secret[pair.name] = p.secret[pair.name] || t.Secret
		s.Take = append(s.Take, t)
	}
}

// matchable refuses what can never be found in the answers of a step.
func (p *parser) matchable(at ast.Node, s *Step, from Extract) {
	of := s.Protocol
	switch {
	case s.ofObjects() && (s.Word == "get" || s.Word == "poll"):
		p.fail(at, "take: an answer of %s is its objects: name each in get:, with a pattern if only a "+
			"part of it counts: get: {version: %s ~ V(\\S+)}", ofName[of], ofExample[of])
	case s.ofObjects() && !from.status, of == "tftp":
		p.fail(at, "take: an answer of %s has nothing to extract here", cmp.Or(ofName[of], of))
	case from.header != "" && of != "http" && of != "https":
		p.fail(at, "take: an answer of %s has no headers", of)
	}
}

var plainNameOnly = text.Later(`^[a-zA-Z_][a-zA-Z0-9_]*$`)

// named notes that a step takes a name.
func (p *parser) named(at ast.Node, name string, as Type) {
	if was := p.names[name]; was != "" && was != as {
		p.fail(at, "%s is extracted as a %s elsewhere; a name has one type", name, was)
	}
	p.names[name] = as
}

func (p *parser) outcomes(n ast.Node, s *Step) {
	s.Outcomes = make([]Outcome, len(p.pairs(n, "outcome")))
	for i, pair := range p.pairs(n, "outcome") {
		at := pair.key.GetToken().Position
		o := Outcome{Place: Place{at.Line, at.Column}}
		word, says, _ := strings.Cut(p.text(pair.value), " ")
		o.Word, o.Says = Word(word), strings.TrimSpace(says)
		if !slices.Contains(Words, o.Word) {
			var all []string
			for _, w := range Words {
				all = append(all, string(w))
			}
			p.fail(pair.value, "outcome: %q is not one of %s%s", word, strings.Join(all, ", "),
				meant(word, all))
		}
		if m := statuses().FindStringSubmatch(pair.name); m != nil {
			o.Low, _ = strconv.Atoi(strings.ReplaceAll(m[1], "x", "0"))
			o.High, _ = strconv.Atoi(strings.ReplaceAll(m[1], "x", "9"))
			s.Outcomes[i] = o
			continue
		}
		s.Outcomes[i] = o
		outcomes, key := s.Outcomes, pair.key
		p.later = append(p.later, func() { outcomes[i].If = p.compiled(key, reflect.Bool, s) })
	}
}

// statuses are a status, or a class of them: 404, 5xx; 0 to 255 of a command.
var statuses = text.Later(`^([0-9]{1,3}|[1-5]xx)$`)

var oid = text.Later(`^\.?[0-9]+(\.[0-9]+)+$`)

// gets reads the objects of a get: a name for each, and the OID or the property, with a type before
// it.
func (p *parser) gets(n ast.Node, protocol string) (out []Object) {
	for _, pair := range p.pairs(n, "get") {
		o := Object{Name: pair.name, As: Text}
		source := p.text(pair.value)
		for _, as := range []Type{Text, Int, Number, Bool, Map} {
			if head, rest, _ := strings.Cut(source, " "); head == string(as) {
				o.As, source = as, strings.TrimSpace(rest)
			}
		}
		number, pattern, matched := strings.Cut(source, " ~ ")
		if matched {
			var err error
			if o.Match, err = regexp.Compile(strings.TrimSpace(pattern)); err != nil {
				p.fail(pair.value, "get: %s: %v", pair.name, err)
			}
			source = strings.TrimSpace(number)
			if o.As == Map {
				p.fail(pair.value, "get: %s: a map takes no pattern", pair.name)
			}
		}
		o.OID, o.Tail = p.objectOf(pair.value, "get", source, protocol), o.As == Map
		if !plainNameOnly().MatchString(pair.name) || ambient[pair.name] != nil {
			p.fail(pair.key, "get: %q cannot be a name; use letters, digits and _", pair.name)
		}
		if o.Whole() && o.As != Text {
			p.fail(pair.value, "get: %s: a whole file is a text", pair.name)
		}
		p.named(pair.key, pair.name, o.As)
		out = append(out, o)
	}
	return out
}

// sets reads the objects of a set: the OID or the property of each, and its type and value.
func (p *parser) sets(n ast.Node, protocol string) []Object {
	var out []Object
	types, such := []string{"int", "text", "address", "hex"},
		"int 2, text $offer.file, address $offer.host, hex 0a02"
	if protocol == "bacnet" {
		types, such = bacnet.WrittenTypes, "unsigned 2, real 21.5, text $image.file"
	}
	for _, pair := range p.pairs(n, "set") {
		number := p.objectOf(pair.key, "set", pair.name, protocol)
		as, value, _ := strings.Cut(p.text(pair.value), " ")
		if !slices.Contains(types, as) {
			p.fail(
				pair.value,
				"set: write the type (%s), and the value: %s",
				strings.Join(types, ", "),
				such,
			)
		}
		out = append(out, Object{OID: number, Type: as,
			Value: Template{Source: value}})
	}
	for i, pair := range p.pairs(n, "set") {
		p.templateOf(pair.value, out[i].Value.Source, &out[i].Value)
	}
	return out
}

func (p *parser) fields(n ast.Node) []Field {
	pairs := p.pairs(n, "fields")
	out := make([]Field, len(pairs))
	for i, pair := range pairs {
		out[i].Name = pair.name
		p.template(pair.value, &out[i].Value)
	}
	return out
}

func (p *parser) template(n ast.Node, to *Template) {
	if n != nil {
		p.templateOf(n, p.text(n), to)
	}
}

// templateOf compiles a template once all names are known.
func (p *parser) templateOf(n ast.Node, source string, to *Template) {
	to.Source = source
	step := p.inside
	p.later = append(p.later, func() { *to = p.parsed(n, source, step) })
}

func (p *parser) parsed(n ast.Node, source string, step *Step) Template {
	t, err := template(source, p.names)
	if err != nil {
		p.fail(n, "%v", explained(err, p.names))
	}
	p.uses(n, t.uses, step, true)
	return t
}

func (p *parser) condition(n ast.Node, to **Expr) { p.expression(n, to, reflect.Bool) }

func (p *parser) expression(n ast.Node, to **Expr, as reflect.Kind) {
	if n != nil {
		step := p.inside
		p.later = append(p.later, func() { *to = p.compiled(n, as, step) })
	}
}

// uses notes what a value or a condition asks of the given values, and refuses a secret of the
// login that the file does not declare. sent: it is needed before the step is sent.
func (p *parser) uses(at ast.Node, all []string, step *Step, sent bool) {
	for _, used := range all {
		if step != nil {
			head, _, _ := strings.Cut(used, ".")
			step.uses = append(step.uses, use{head, at, sent})
		}
		name, ofLogin := strings.CutPrefix(used, "login.")
		switch {
		case used == "component":
			p.program.ByPart = true
		case slices.Contains(otherSums, used):
			p.program.Sums = true
		case ofLogin && step == nil:
			p.fail(at, "a value of the login is allowed only in steps")
		case ofLogin:
			known := []string{"user", "password"}
			for _, s := range p.program.Secrets {
				known = append(known, s.Name)
			}
			if !slices.Contains(known, name) {
				p.fail(at, "the login has no %s%s; list secrets besides user and password in secrets:",
					name, meant(name, known))
			}
			step.Logins = append(step.Logins, name)
		}
	}
}

// otherSums are the checksums of an image that are not known without reading it.
var otherSums = []string{"image.sha1", "image.md5", "image.md5_base64", "image.crc32"}

func (p *parser) compiled(n ast.Node, as reflect.Kind, step *Step) *Expr {
	e, err := compile(p.text(n), p.names, as)
	if err != nil {
		p.fail(n, "%v", explained(err, p.names))
	}
	p.uses(n, e.uses, step, false)
	return e
}

// explained adds to an error about a name the one that may have been meant.
func explained(err error, names map[string]Type) error {
	if err == nil {
		return nil
	}
	m := unknownName().FindStringSubmatch(err.Error())
	if m == nil {
		return err
	}
	all := slices.Sorted(maps.Keys(ambient))
	all = append(all, slices.Sorted(maps.Keys(names))...)
	return fmt.Errorf("no step extracts %s%s", m[1], meant(m[1], all))
}

var unknownName = text.Later(`unknown name (\w+)`)

// meant is the end of a message about a word that is none of some.
func meant(word string, all []string) string {
	if near := text.Nearest(word, all); near != "" {
		return "; did you mean " + near + "?"
	}
	return ""
}

// What follows reads YAML.

type pair struct {
	name       string
	key, value ast.Node
}

// pairs are those of a mapping, in the order of the file; none of nil.
func (p *parser) pairs(n ast.Node, what string) (out []pair) {
	var values []*ast.MappingValueNode
	switch n := n.(type) {
	case nil:
		return nil
	case *ast.MappingNode:
		values = n.Values
	case *ast.MappingValueNode:
		values = []*ast.MappingValueNode{n}
	case *ast.NullNode:
		p.fail(n, "%s: is empty", what)
	default:
		p.fail(n, "%s: must be keys with values", what)
	}
	seen := map[string]bool{}
	for _, v := range values {
		name := v.Key.GetToken().Value
		if seen[name] {
			p.fail(v.Key, "%s: %s is listed twice", what, name)
		}
		seen[name] = true
		out = append(out, pair{name, v.Key, v.Value})
	}
	return out
}

// keys are the values of a mapping by their keys, of which only some may stand there.
func (p *parser) keys(n ast.Node, what string, known ...string) map[string]ast.Node {
	out := map[string]ast.Node{}
	for _, pair := range p.pairs(n, what) {
		if !slices.Contains(known, pair.name) {
			p.fail(pair.key, "%s has no key %s%s", what, pair.name, meant(pair.name, known))
		}
		out[pair.name] = pair.value
	}
	return out
}

func (p *parser) list(n ast.Node) []ast.Node {
	switch n := n.(type) {
	case nil:
		return nil
	case *ast.SequenceNode:
		return n.Values
	}
	p.fail(n, "must be a list: each item on its own line, after a -")
	return nil
}

// text is a scalar as it stands in the file: on, yes and 1.10 stay what they are.
func (p *parser) text(n ast.Node) string {
	switch n := n.(type) {
	case *ast.StringNode:
		return n.Value
	case *ast.LiteralNode:
		return n.Value.Value
	case *ast.IntegerNode, *ast.FloatNode, *ast.BoolNode, *ast.NullNode, *ast.InfinityNode,
		*ast.NanNode:
		return n.GetToken().Value
	}
	p.fail(n, "must be a text")
	return ""
}

func (p *parser) yes(n ast.Node, key string) bool {
	if n == nil {
		return false
	}
	b, err := strconv.ParseBool(p.text(n))
	if err != nil {
		p.fail(n, "%s: must be true or false", key)
	}
	return b
}

func (p *parser) duration(n ast.Node, key string, most time.Duration) time.Duration {
	d, err := time.ParseDuration(p.text(n))
	if err != nil || d <= 0 || d > most {
		p.fail(n, "%s: %q is not a duration of at most %s; write for example 30s", key, p.text(n), most)
	}
	return d
}

// bytes is a size, such as 512KiB or 1MiB.
func (p *parser) bytes(n ast.Node) int64 {
	m := sizes().FindStringSubmatch(p.text(n))
	if m == nil {
		p.fail(n, "%q is not a size; write for example 1MiB", p.text(n))
	}
	size, _ := strconv.ParseInt(m[1], 10, 64)
	size <<= map[string]int{"": 0, "KiB": 10, "MiB": 20}[m[2]]
	if size < 512 || size > 256<<20 {
		p.fail(n, "%q is not a size from 512 bytes to 256 MiB", p.text(n))
	}
	return size
}

var sizes = text.Later(`^([0-9]{1,9}) ?(KiB|MiB)?$`)
