package family

import (
	"fmt"
	"maps"
	"reflect"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/goccy/go-yaml/ast"

	"catena/internal/text"
	"catena/internal/yamldoc"
)

// The keys of a family file that say how devices are talked to.
var programKeys = []string{"protocol", "ports", "wire", "recognise", "login", "logout", "read",
	"state", "interlocks", "update", "restart", "restarts", "revert", "components", "blink"}

// The keys of a step, besides the one that says what it does.
var stepKeys = []string{"query", "header", "json", "form", "xml", "text", "multipart", "chunks",
	"take", "outcome", "when", "within", "expect", "until", "fail", "percent", "gone", "repeat",
	"writes", "reply", "shell", "steps"}

// What a step may do.
var stepWords = []string{"get", "put", "post", "patch", "delete", "upload", "offer", "run", "set",
	"poll", "wait"}

// parser reads a program in two rounds: first the tree, with every name that a step takes, then
// all that names are used in, which needs to know them. It gives up at the first mistake, by
// panicking with a *yamldoc.Error that parseProgram recovers.
type parser struct {
	doc      *yamldoc.Doc
	program  *Program
	names    map[string]Type
	secret   map[string]bool
	later    []func()
	protocol string
	says     *Extract // where a device says why it refuses; nil: it does not
}

// parseProgram reads the keys of a program; nil where the file has none of them.
func parseProgram(doc *yamldoc.Doc, root map[string]ast.Node) (program *Program, err error) {
	if !slices.ContainsFunc(programKeys, func(k string) bool { return root[k] != nil }) {
		return nil, nil
	}
	defer func() {
		switch r := recover().(type) {
		case nil:
		case *yamldoc.Error:
			program, err = nil, r
		default:
			panic(r)
		}
	}()
	p := &parser{doc: doc, program: &Program{}, names: map[string]Type{}, secret: map[string]bool{}}
	p.read(root)
	for _, check := range p.later {
		check()
	}
	return p.program, nil
}

func (p *parser) fail(at ast.Node, format string, args ...any) {
	panic(p.doc.At(at, format, args...))
}

func (p *parser) read(root map[string]ast.Node) {
	g := p.program
	p.protocol = "http"
	if n := root["protocol"]; n != nil {
		p.protocol = p.text(n)
		if !slices.Contains([]string{"http", "ssh", "snmp"}, p.protocol) {
			p.fail(n, "protocol: %q is not one of http, ssh, snmp%s", p.protocol,
				meant(p.protocol, []string{"http", "ssh", "snmp"}))
		}
	}
	g.Protocol = p.protocol
	for _, n := range p.list(root["ports"]) {
		port, err := strconv.ParseUint(p.text(n), 10, 16)
		if err != nil || port == 0 {
			p.fail(n, "ports: %q is not a port", p.text(n))
		}
		g.Ports = append(g.Ports, uint16(port))
	}
	if n := root["wire"]; n != nil {
		keys := p.keys(n, "wire", "header", "error")
		g.Wire = p.fields(keys["header"])
		if at := keys["error"]; at != nil {
			e, err := parseExtract(p.text(at))
			if err != nil {
				p.fail(at, "wire: error: %v", err)
			}
			p.says = &e
		}
	}
	for key, to := range map[string]*[]*Step{"recognise": &g.Recognise, "login": &g.Login,
		"logout": &g.Logout, "read": &g.Read, "update": &g.Update, "restart": &g.Restart,
		"revert": &g.Revert} {
		*to = p.steps(root[key])
	}
	for _, pair := range p.pairs(root["components"], "components") {
		keys := p.keys(pair.value, "a component", "update", "restart")
		if g.Parts == nil {
			g.Parts = map[string]Part{}
		}
		part := Part{Update: p.steps(keys["update"]), Restart: p.steps(keys["restart"])}
		if keys["update"] != nil && !slices.ContainsFunc(part.Update, (*Step).MayWrite) {
			p.fail(pair.value, "components: %s: update: has neither upload: nor offer:, nor a step that says writes: true",
				pair.name)
		}
		g.Parts[pair.name] = part
	}
	if n := root["restarts"]; n != nil {
		count, err := strconv.Atoi(p.text(n))
		if err != nil || count < 1 || count > 10 {
			p.fail(n, "restarts: is how often it restarts until it runs the image: 1 to 10")
		}
		g.Restarts = count
	}
	p.state(root["state"])
	p.interlocks(root["interlocks"])
	p.blink(root["blink"])
	p.complete(root)
}

func (p *parser) state(n ast.Node) {
	if n == nil {
		return
	}
	keys := p.keys(n, "state", "busy", "pending", "idle", "uptime", "well",
		"why")
	g := p.program
	p.condition(keys["busy"], &g.Busy)
	p.condition(keys["well"], &g.Well)
	p.expression(keys["pending"], &g.Pending, reflect.Invalid)
	p.expression(keys["idle"], &g.Idle, reflect.Invalid)
	p.expression(keys["uptime"], &g.Uptime, reflect.Float64)
	p.template(keys["why"], &g.Why)
}

func (p *parser) interlocks(n ast.Node) {
	for _, item := range p.list(n) {
		keys := p.keys(item, "interlocks", "holds", "else")
		if keys["holds"] == nil || keys["else"] == nil {
			p.fail(item, "interlocks: each requires holds: and else:, the sentence for the person")
		}
		i := len(p.program.Interlocks)
		p.program.Interlocks = append(p.program.Interlocks, Interlock{Else: p.text(keys["else"])})
		at := keys["holds"]
		p.later = append(p.later, func() {
			p.program.Interlocks[i].Holds = p.compiled(at, reflect.Bool)
		})
	}
}

func (p *parser) blink(n ast.Node) {
	if n == nil {
		return
	}
	keys := p.keys(n, "blink", "shows", "steps")
	p.program.Shows = "it shows itself"
	if keys["shows"] != nil {
		p.program.Shows = p.text(keys["shows"])
	}
	p.program.Blink = p.steps(keys["steps"])
	if len(p.program.Blink) == 0 {
		p.fail(n, "blink: requires steps:; $on is true to begin and false to end")
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
	needs(len(g.Recognise) == 0 && g.Protocol != "snmp", where("recognise", "protocol", "read"),
		"recognise: is missing: steps, without a login, that tell these devices from others")
	needs(len(g.Read) > 0 && p.names["version"] == "" && g.Protocol != "snmp", where("read"),
		"read: no step takes version, which a device must tell")
	needs(len(g.Update) > 0 && len(g.Read) == 0, where("update"),
		"update: requires read:, since the version proves an update")
	writes := slices.ContainsFunc(g.Update, (*Step).MayWrite)
	needs(len(g.Update) > 0 && !writes, where("update"),
		"update: has neither upload: nor offer:, nor a step that says writes: true")
	needs(len(g.Update) == 0 && len(g.Restart)+len(g.Revert) > 0, where("restart", "revert"),
		"restart: and revert: belong to update:, which is missing")
	for name, as := range map[string]Type{"components": Map, "idle": Map, "behind": List,
		"services": List, "uptime": Number, "starts": Int} {
		needs(p.names[name] != "" && p.names[name] != as, where("read", "recognise"),
			"%s: is a %s here and must be taken as a %s", name, p.names[name], as)
	}
}

// MayWrite tells whether the device may be writing from this step on.
func (s *Step) MayWrite() bool { return s.Writes || s.Kind == Upload || s.Kind == Offer }

func (p *parser) steps(n ast.Node) (out []*Step) {
	for _, item := range p.list(n) {
		out = append(out, p.step(item))
	}
	return out
}

func (p *parser) step(n ast.Node) *Step {
	keys := p.keys(n, "a step", append(slices.Clone(stepWords), stepKeys...)...)
	at := n.GetToken().Position
	s := &Step{Place: Place{at.Line, at.Column}, Protocol: p.protocol, says: p.says}
	for _, word := range stepWords {
		if keys[word] == nil {
			continue
		}
		if s.Word != "" {
			p.fail(keys[word], "a step does one thing: %s or %s", s.Word, word)
		}
		s.Word = word
	}
	if s.Word == "" {
		p.fail(n, "a step must say what it does: %s", strings.Join(stepWords, ", "))
	}
	does := keys[s.Word]
	switch s.Word {
	case "wait":
		s.Kind, s.Pause = Wait, p.duration(does, "wait", time.Hour)
	case "offer":
		s.Kind, s.By = Offer, p.text(does)
		if !slices.Contains([]string{"http", "tftp"}, s.By) {
			p.fail(does, "offer: says how the device fetches the image: http or tftp")
		}
		s.Steps = p.steps(keys["steps"])
		if len(s.Steps) == 0 {
			p.fail(n, "offer: requires steps:, which make the device fetch $offer.url")
		}
	case "upload":
		s.Kind = Upload
		p.target(does, s)
	case "run":
		if p.protocol != "ssh" {
			p.fail(does, "run: is a step of protocol: ssh")
		}
		p.target(does, s)
	case "set":
		if p.protocol != "snmp" {
			p.fail(does, "set: is a step of protocol: snmp")
		}
		s.Kind, s.Objects = Request, p.sets(does)
	default:
		p.target(does, s)
	}
	p.beside(n, keys, s)
	return s
}

// target is what a request goes to: a path, a command line, or objects.
func (p *parser) target(does ast.Node, s *Step) {
	if s.Kind == "" {
		s.Kind = Request
	}
	if s.Word == "poll" {
		s.Kind = Poll
	}
	if p.protocol == "snmp" {
		if s.Word != "get" && s.Word != "poll" {
			p.fail(does, "%s: is not a step of protocol: snmp; there are get, set, poll, offer, wait",
				s.Word)
		}
		s.Objects = p.gets(does)
		return
	}
	source := p.text(does)
	if p.protocol == "ssh" {
		if s.Word == "get" && source == "greeting" {
			return
		}
		if !slices.Contains([]string{"run", "poll", "upload"}, s.Word) {
			p.fail(does, "%s: is not a step of protocol: ssh; there are run, upload, poll, offer, wait, and get: greeting",
				s.Word)
		}
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
		p.fail(does, "%s: a path begins with /: requests go only to the device itself", s.Word)
	}
	p.templateOf(does, source, &s.Path)
}

// only says which steps a key belongs to.
var only = map[string][]string{"until": {"poll"}, "fail": {"poll"}, "percent": {"poll"},
	"steps": {"offer"}, "chunks": {"upload"}, "reply": {"run"}, "shell": {"run", "poll"}}

// beside reads what stands beside the word of a step.
func (p *parser) beside(n ast.Node, keys map[string]ast.Node, s *Step) {
	for _, key := range slices.Sorted(maps.Keys(only)) {
		if keys[key] != nil && !slices.Contains(only[key], s.Word) {
			p.fail(keys[key], "%s: belongs to %s", key, strings.Join(only[key], ", "))
		}
	}
	for _, key := range []string{"query", "header", "json", "form", "xml", "text", "multipart"} {
		if keys[key] != nil && (s.Method == "" || s.Method == "GET") && (s.Method == "" || key != "query" && key != "header") {
			p.fail(keys[key], "%s: cannot go with %s of protocol: %s", key, s.Word, p.protocol)
		}
	}
	s.Query, s.Header = p.fields(keys["query"]), p.fields(keys["header"])
	s.Body = p.body(n, keys)
	p.takes(keys["take"], s)
	p.outcomes(keys["outcome"], s)
	p.condition(keys["when"], &s.When)
	p.condition(keys["expect"], &s.Expect)
	p.condition(keys["until"], &s.Until)
	p.condition(keys["fail"], &s.Fail)
	p.expression(keys["percent"], &s.Percent, reflect.Int)
	if keys["within"] != nil {
		s.Within = p.duration(keys["within"], "within", 24*time.Hour)
	}
	if s.Kind == Poll && keys["until"] == nil {
		p.fail(n, "poll: requires until:, a condition that ends it")
	}
	if keys["chunks"] != nil {
		s.Chunk = p.bytes(keys["chunks"])
	}
	s.Gone, s.Repeat = p.yes(keys["gone"], "gone"), p.yes(keys["repeat"], "repeat")
	s.Writes = p.yes(keys["writes"], "writes")
	s.Shell = "posix"
	if keys["shell"] != nil {
		s.Shell = p.text(keys["shell"])
		if s.Shell != "posix" && s.Shell != "none" {
			p.fail(keys["shell"], "shell: is posix, which quotes values, or none, where they must be plain")
		}
	}
	p.replies(keys["reply"], s)
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
func (p *parser) body(n ast.Node, keys map[string]ast.Node) *Body {
	var b *Body
	for _, kind := range []string{"json", "form", "xml", "text", "multipart"} {
		at := keys[kind]
		if at == nil {
			continue
		}
		if b != nil {
			p.fail(at, "a request carries one body: %s or %s", b.Kind, kind)
		}
		b = &Body{Kind: kind}
		switch kind {
		case "json":
			tree := p.tree(at)
			b.JSON = &tree
			p.later = append(p.later, func() { p.fillTree(&tree) })
		case "form", "multipart":
			b.Fields = p.fields(at)
		default:
			p.template(at, &b.Text)
		}
	}
	return b
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
		if !plainJSON.MatchString(raw) {
			p.fail(n, "json: %s is not a number of JSON; a text stands in quotes", raw)
		}
		return Tree{Kind: TreeRaw, Raw: raw}
	}
	return Tree{Kind: TreeText, Text: Template{Source: p.text(n)}, at: n}
}

// plainJSON are numbers, true, false and null as JSON writes them (RFC 8259, 3 and 6).
var plainJSON = regexp.MustCompile(`^(-?(0|[1-9][0-9]*)(\.[0-9]+)?([eE][+-]?[0-9]+)?|true|false|null)$`)

// fillTree compiles the texts of a tree, once all names are known.
func (p *parser) fillTree(t *Tree) {
	if t.Kind == TreeText {
		t.Text = p.parsed(t.at, t.Text.Source)
	}
	for i := range t.Items {
		p.fillTree(&t.Items[i])
	}
}

func (p *parser) takes(n ast.Node, s *Step) {
	for _, pair := range p.pairs(n, "take") {
		if !plainNameOnly.MatchString(pair.name) || ambient[pair.name] != nil {
			p.fail(pair.key, "take: %q cannot be a name; use letters, digits and _", pair.name)
		}
		t, err := parseTake(pair.name, p.text(pair.value))
		if err != nil {
			p.fail(pair.value, "take: %v", err)
		}
		p.named(pair.key, pair.name, t.As)
		p.secret[pair.name] = p.secret[pair.name] || t.Secret
		s.Take = append(s.Take, t)
	}
}

var plainNameOnly = regexp.MustCompile(`^[a-zA-Z_][a-zA-Z0-9_]*$`)

// named notes that a step takes a name.
func (p *parser) named(at ast.Node, name string, as Type) {
	if was := p.names[name]; was != "" && was != as {
		p.fail(at, "%s is taken as a %s elsewhere; a name has one type", name, was)
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
		if m := statuses.FindStringSubmatch(pair.name); m != nil {
			o.Low, _ = strconv.Atoi(strings.ReplaceAll(m[1], "x", "0"))
			o.High, _ = strconv.Atoi(strings.ReplaceAll(m[1], "x", "9"))
			s.Outcomes[i] = o
			continue
		}
		s.Outcomes[i] = o
		outcomes, key := s.Outcomes, pair.key
		p.later = append(p.later, func() { outcomes[i].If = p.compiled(key, reflect.Bool) })
	}
}

// statuses are a status, or a class of them: 404, 5xx; 0 to 255 of a command.
var statuses = regexp.MustCompile(`^([0-9]{1,3}|[1-5]xx)$`)

var oid = regexp.MustCompile(`^\.?[0-9]+(\.[0-9]+)+$`)

// gets reads the objects of a get: a name for each, and the OID, with a type before it.
func (p *parser) gets(n ast.Node) (out []Object) {
	for _, pair := range p.pairs(n, "get") {
		o := Object{Name: pair.name, As: Text}
		source := p.text(pair.value)
		for _, as := range []Type{Text, Int, Number, Bool, Map} {
			if head, rest, _ := strings.Cut(source, " "); head == string(as) {
				o.As, source = as, strings.TrimSpace(rest)
			}
		}
		o.OID, o.Tail = strings.TrimPrefix(source, "."), o.As == Map
		if !oid.MatchString(source) {
			p.fail(pair.value, "get: %q is not an object's number, such as 1.3.6.1.2.1.1.5.0", source)
		}
		if !plainNameOnly.MatchString(pair.name) || ambient[pair.name] != nil {
			p.fail(pair.key, "get: %q cannot be a name; use letters, digits and _", pair.name)
		}
		p.named(pair.key, pair.name, o.As)
		out = append(out, o)
	}
	return out
}

// sets reads the objects of a set: the OID of each, and its type and value.
func (p *parser) sets(n ast.Node) []Object {
	var out []Object
	for _, pair := range p.pairs(n, "set") {
		if !oid.MatchString(pair.name) {
			p.fail(pair.key, "set: %q is not an object's number, such as 1.3.6.1.2.1.1.5.0", pair.name)
		}
		as, value, _ := strings.Cut(p.text(pair.value), " ")
		if !slices.Contains([]string{"int", "text", "address", "hex"}, as) {
			p.fail(pair.value, "set: write the type, and the value: int 2, text $offer.file, address $offer.host, hex 0a02")
		}
		out = append(out, Object{OID: strings.TrimPrefix(pair.name, "."), Type: as,
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
	p.later = append(p.later, func() { *to = p.parsed(n, source) })
}

func (p *parser) parsed(n ast.Node, source string) Template {
	t, err := template(source, p.names)
	if err != nil {
		p.fail(n, "%v", explained(err, p.names))
	}
	p.asks(source)
	for _, sum := range []string{"sha1", "md5", "crc32"} {
		p.program.Sums = p.program.Sums || strings.Contains(source, "image."+sum)
	}
	return t
}

func (p *parser) condition(n ast.Node, to **Expr) { p.expression(n, to, reflect.Bool) }

func (p *parser) expression(n ast.Node, to **Expr, as reflect.Kind) {
	if n != nil {
		p.later = append(p.later, func() { *to = p.compiled(n, as) })
	}
}

// asks notes that a value or a condition depends on the component.
func (p *parser) asks(source string) {
	p.program.ByPart = p.program.ByPart || componentName.MatchString(source)
}

var componentName = regexp.MustCompile(`\bcomponent\b`)

func (p *parser) compiled(n ast.Node, as reflect.Kind) *Expr {
	p.asks(p.text(n))
	e, err := compile(p.text(n), p.names, as)
	if err != nil {
		p.fail(n, "%v", explained(err, p.names))
	}
	return e
}

// explained adds to an error about a name the one that may have been meant.
func explained(err error, names map[string]Type) error {
	m := unknownName.FindStringSubmatch(err.Error())
	if m == nil {
		return err
	}
	all := slices.Sorted(maps.Keys(ambient))
	all = append(all, slices.Sorted(maps.Keys(names))...)
	return fmt.Errorf("no step takes %s%s", m[1], meant(m[1], all))
}

var unknownName = regexp.MustCompile(`unknown name (\w+)`)

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
			p.fail(v.Key, "%s: %s stands twice", what, name)
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
	p.fail(n, "must be a list: each item on a line of its own, with - before it")
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
	m := sizes.FindStringSubmatch(p.text(n))
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

var sizes = regexp.MustCompile(`^([0-9]{1,9}) ?(KiB|MiB)?$`)

// Keys are all keys of a family file and of its steps.
func Keys() []string { return slices.Concat(fileKeys, programKeys, stepWords, stepKeys) }
