package family

import (
	"errors"
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strconv"
	"strings"

	"github.com/expr-lang/expr"
	"github.com/expr-lang/expr/ast"
	"github.com/expr-lang/expr/vm"

	"catena/internal/text"
)

// Values are what a program works with while it runs: what steps have taken, by name, and
// what is given (login, image, component, on, offer). A name that is not in it is not set.
type Values map[string]any

// The values that a caller brings; their fields are what a family can name.
type (
	// LoginValues are the login: user, password, and the secrets that the family asks for.
	LoginValues map[string]string
	// ImageValues are the image that is sent. Checksums are those of all of it.
	ImageValues struct {
		Name         string `expr:"name" json:"name"`           // on the wire
		File         string `expr:"file" json:"file,omitempty"` // as the maker named it
		Version      string `expr:"version" json:"version,omitempty"`
		Size         int    `expr:"size" json:"size"` // bytes
		SHA256       string `expr:"sha256" json:"sha256"`
		SHA256Base64 string `expr:"sha256_base64" json:"sha256_base64"`
		SHA1         string `expr:"sha1" json:"sha1,omitempty"`
		MD5          string `expr:"md5" json:"md5,omitempty"`
		MD5Base64    string `expr:"md5_base64" json:"md5_base64,omitempty"`
		CRC32        string `expr:"crc32" json:"crc32,omitempty"` // 8 hexadecimal digits
	}
	// AddressValues are where a device is to be: for the steps of address.
	AddressValues struct {
		IP      string `expr:"ip"`
		Prefix  int    `expr:"prefix"`
		Mask    string `expr:"mask"`
		Gateway string `expr:"gateway"` // empty: as it is
		Name    string `expr:"name"`    // what it is to call itself; empty: as it is
	}
	// NewValues are what a login is changed to: for the steps of password.
	NewValues struct {
		Password string `expr:"password"`
	}
	// OfferValues are where Catena serves the image: for the steps of an offer.
	OfferValues struct {
		URL  string `expr:"url"`
		Host string `expr:"host"`
		Port any    `expr:"port"` // a number; in a recording its name
		File string `expr:"file"`
	}
)

// ambient are the names that no step takes, with values of their types.
var ambient = Values{"login": LoginValues{}, "image": ImageValues{}, "offer": OfferValues{Port: 0},
	"address": AddressValues{}, "new": NewValues{},
	"component": "", "try": "", "on": false, "status": 0}

// asked are the functions that expressions may call about the answer at hand; nil: none is.
func asked(a *Answer) Values {
	return Values{
		"answer": func(extract string) string {
			e, err := parseExtract(extract)
			if err != nil || a == nil {
				return ""
			}
			got, err := e.find(*a)
			if err != nil || len(got) == 0 {
				return "" // there is no such thing in the answer
			}
			return plainText(got[0])
		},
		"header": func(name string) string {
			if a == nil {
				return ""
			}
			return a.Header.Get(name)
		},
	}
}

// Expr is a compiled expression.
type Expr struct {
	Source  string
	program *vm.Program
	names   map[string]Type
	uses    []string // the values in it: component, login.user, image.sha1, what steps take
}

// maxNodes bounds an expression: a longer one is not a condition that a person can check.
const maxNodes = 200

// dollar finds a value as a template has it, outside of quotes; "$.path" in answer() stays.
var dollar = text.Later(`(?:^|[^"'\w$])\$([a-zA-Z_][\w.]*)`)

// extracts finds what answer() is asked for, so that it is checked with the file.
var extracts = text.Later(`answer\("((?:[^"\\]|\\.)*)"\)`)

// Condition is a condition in the names that a program takes, such as an interlock of an image. Its
// error says which name is not taken.
func (p *Program) Condition(source string) (*Expr, error) {
	e, err := compile(source, p.names, reflect.Bool)
	if err == nil && slices.ContainsFunc(e.uses, func(use string) bool {
		return strings.HasPrefix(use,
			"login.")
	}) {
		err = errors.New("it may not use the login")
	}
	return e, explained(err, p.names)
}

// compile checks an expression against the names of its family, and the kind of its result;
// reflect.Invalid: any.
func compile(source string, names map[string]Type, as reflect.Kind) (*Expr, error) {
	e := &Expr{Source: source, names: names}
	options := []expr.Option{expr.Env(e.env(nil, nil)), expr.MaxNodes(maxNodes)}
	switch as {
	case reflect.Bool:
		options = append(options, expr.AsBool())
	case reflect.Int:
		options = append(options, expr.AsInt())
	case reflect.Float64:
		options = append(options, expr.AsFloat64())
	}
	if m := dollar().FindStringSubmatch(source); m != nil {
		return nil, fmt.Errorf("in a condition a value has no $: write %s", m[1])
	}
	var err error
	e.program, err = expr.Compile(source, options...)
	if err != nil {
		line, _, _ := strings.Cut(strings.TrimSpace(err.Error()), "\n")
		return nil, errors.New(line)
	}
	root := e.program.Node()
	used := &usage{names: names}
	ast.Walk(&root, used)
	if used.whole > 0 {
		return nil, errors.New("a value of the login is named: login.user, login.password")
	}
	e.uses = used.all
	for _, m := range extracts().FindAllStringSubmatch(source, -1) {
		if _, err := parseExtract(m[1]); err != nil {
			return nil, err
		}
	}
	return e, nil
}

// usage finds the values that an expression uses.
type usage struct {
	names map[string]Type // that steps take
	all   []string
	whole int // how often the login itself is named without one of its values
}

// Visit notes a node; those inside come first.
func (u *usage) Visit(node *ast.Node) {
	switch n := (*node).(type) {
	case *ast.IdentifierNode:
		if ambient[n.Value] != nil || u.names[n.Value] != "" {
			u.all = append(u.all, n.Value)
			if n.Value == "login" {
				u.whole++
			}
		}
	case *ast.MemberNode:
		of, isName := n.Node.(*ast.IdentifierNode)
		key, isKey := n.Property.(*ast.StringNode)
		if isName && isKey && ambient[of.Value] != nil {
			u.all = append(u.all, of.Value+"."+key.Value)
			if of.Value == "login" {
				u.whole-- // its name was just counted
			}
		}
	}
}

// env is what an expression sees. Names that are not set have the zero value of their type.
func (e *Expr) env(v Values, a *Answer) map[string]any {
	env := maps.Clone(ambient)
	maps.Copy(env, asked(a))
	for name, t := range e.names {
		env[name] = t.zero()
	}
	for name, value := range v {
		if value != nil {
			env[name] = value
		}
	}
	if a != nil {
		env["status"] = a.Status
	}
	return env
}

// run evaluates an expression. a is the answer at hand; nil: none.
func (e *Expr) run(v Values, a *Answer) (any, error) { return expr.Run(e.program, e.env(v, a)) }

// Holds tells whether a condition holds; a nil one does.
func (e *Expr) Holds(v Values, a *Answer) (bool, error) {
	if e == nil {
		return true, nil
	}
	got, err := e.run(v, a)
	is, _ := got.(bool)
	return is, err
}

// Int is the whole number of an expression.
func (e *Expr) Int(v Values, a *Answer) (int, error) {
	got, err := e.run(v, a)
	n, _ := got.(int)
	return n, err
}

// Number is the number of an expression.
func (e *Expr) Number(v Values) (float64, error) {
	got, err := e.run(v, nil)
	n, _ := got.(float64)
	return n, err
}

// String is the text of an expression; of a nil one it is empty.
func (e *Expr) String(v Values) (string, error) {
	if e == nil {
		return "", nil
	}
	got, err := e.run(v, nil)
	return plainText(got), err
}

// Template is a text with values in it. $name and $(expression) are values, $$ is a dollar.
type Template struct {
	Source string
	Secret bool // it holds what must not be shown
	uses   []string
	parts  []part
}

type part struct {
	text string
	name string // of a plain name; then unset leaves the whole out
	expr *Expr  // nil: text
}

// Set tells whether there is a template at all.
func (t Template) Set() bool { return t.Source != "" }

// Is tells whether a template is exactly one value, $name.
func (t Template) Is(name string) bool { return len(t.parts) == 1 && t.parts[0].name == name }

var plainName = text.Later(`^[a-zA-Z_][a-zA-Z0-9_]*(\.[a-zA-Z_][a-zA-Z0-9_]*)*`)

// template reads a text with values in it.
func template(source string, names map[string]Type) (Template, error) {
	t := Template{Source: source}
	literal := ""
	flush := func() {
		if literal != "" {
			t.parts = append(t.parts, part{text: literal})
			literal = ""
		}
	}
	for rest := source; rest != ""; {
		before, after, found := strings.Cut(rest, "$")
		literal += before
		if !found {
			break
		}
		name, inner := plainName().FindString(after), ""
		switch {
		case strings.HasPrefix(after, "$"):
			literal += "$"
			rest = after[1:]
			continue
		case strings.HasPrefix(after, "("):
			end := closing(after)
			if end < 0 {
				return t, errors.New("$( has no closing )")
			}
			inner, rest = after[1:end], after[end+1:]
		case name != "":
			inner, rest = name, after[len(name):]
		default:
			return t, errors.New("a $ starts a value: $name or $(expression); a plain one is $$")
		}
		e, err := compile(inner, names, reflect.Invalid)
		if err != nil {
			return t, fmt.Errorf("$%s: %w", inner, err)
		}
		for _, use := range e.uses {
			t.uses = append(t.uses, use)
			t.Secret = t.Secret || strings.HasPrefix(use, "login.") && use != "login.user" ||
				use == "new.password"
		}
		flush()
		t.parts = append(t.parts, part{name: name, expr: e})
	}
	flush()
	if head, _, dotted := strings.Cut(source, "."); dotted &&
		plainName().FindString(source) == source &&
		ambient[head] != nil {
		if _, err := compile(source, names, reflect.Invalid); err != nil {
			return t, nil // a file's name, such as image.bin
		}
		return t, fmt.Errorf("%s would be sent as these words; the value is $%[1]s", source)
	}
	return t, nil
}

// closing is the place of the ) that belongs to the ( at the start; words in quotes do not count.
func closing(s string) int {
	depth, quote := 0, rune(0)
	for i, r := range s {
		switch {
		case quote != 0:
			if r == quote {
				quote = 0
			}
		case r == '"' || r == '\'':
			quote = r
		case r == '(':
			depth++
		case r == ')':
			depth--
			if depth == 0 {
				return i
			}
		}
	}
	return -1
}

// Encode brings a value into the place where it stands, or refuses it. before is the file's own
// text that stands before it.
type Encode func(value, before string) (string, error)

// Text fills a template in. set is false where a value in it is not set: then what it is for is
// left out.
func (t Template) Text(v Values, encode Encode) (text string, set bool, err error) {
	var b strings.Builder
	before := ""
	for _, p := range t.parts {
		if p.expr == nil {
			b.WriteString(p.text)
			before += p.text
			continue
		}
		value, set, err := p.value(v)
		if err != nil || !set {
			return "", set, err
		}
		s, err := encode(plainText(value), before)
		if err != nil {
			return "", false, fmt.Errorf("$%s: %w", p.expr.Source, err)
		}
		b.WriteString(s)
	}
	return b.String(), true, nil
}

// Value fills a template in; one that is a single value keeps its type.
func (t Template) Value(v Values) (value any, set bool, err error) {
	if len(t.parts) == 1 && t.parts[0].expr != nil {
		return t.parts[0].value(v)
	}
	return t.Text(v, asIs)
}

func (p part) value(v Values) (value any, set bool, err error) {
	if p.name != "" {
		head, _, _ := strings.Cut(p.name, ".")
		if got, is := v[head]; !is || got == nil {
			return nil, false, nil
		}
	}
	value, err = p.expr.run(v, nil)
	return value, value != nil, err
}

func asIs(s, _ string) (string, error) { return s, nil }

// plainText is a value as text.
func plainText(v any) string {
	switch v := v.(type) {
	case nil:
		return ""
	case string:
		return v
	case float64:
		return strconv.FormatFloat(v, 'f', -1, 64)
	case []string:
		return strings.Join(v, ", ")
	}
	return fmt.Sprint(v)
}
