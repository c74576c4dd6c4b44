package family

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"regexp"
	"strconv"
	"strings"

	"github.com/antchfx/htmlquery"
	"github.com/antchfx/xmlquery"
	"github.com/antchfx/xpath"
	"github.com/theory/jsonpath"
	"golang.org/x/net/html"

	"catena/internal/text"
)

// Answer is what came back for a step.
type Answer struct {
	Status int         // of HTTP, or the exit status of a command
	Header http.Header // of HTTP
	Body   []byte
	// Objects are the values of SNMP objects, by the name or, below a tree, by the rest of the OID.
	Objects map[string]any
}

// Take is a value that a step keeps of its answer.
type Take struct {
	Name   string
	As     Type
	From   Extract
	Key    *jsonpath.Path // of a map from a list of objects: what it is called by
	Value  *jsonpath.Path
	Or     any // where the answer has none
	HasOr  bool
	Secret bool
}

// Extract finds values in an answer: JSONPath (RFC 9535), XPath 1.0 on XML or HTML, RE2 (its
// first group, or all of it), a header, or the status.
type Extract struct {
	json   *jsonpath.Path
	xpath  *xpath.Expr
	re     *regexp.Regexp
	header string
	status bool
	body   bool
}

func parseExtract(source string) (e Extract, err error) {
	switch head, rest, _ := strings.Cut(source, " "); {
	case source == "status":
		e.status = true
	case source == "body":
		e.body = true
	case head == "header" && strings.TrimSpace(rest) != "":
		e.header = strings.TrimSpace(rest)
	case head == "~":
		e.re, err = regexp.Compile(strings.TrimSpace(rest))
	case strings.HasPrefix(source, "$"):
		e.json, err = jsonpath.Parse(source)
	case strings.HasPrefix(source, "/") || strings.HasPrefix(source, "string("):
		e.xpath, err = compileXPath(source)
	default:
		err = fmt.Errorf("%q extracts nothing: write $.json, //xpath, ~ regular expression, "+
			"header NAME, status, or body",
			source)
	}
	return e, err
}

// compileXPath compiles an XPath; the package gives up on some that are none.
func compileXPath(source string) (e *xpath.Expr, err error) {
	defer func() {
		if r := recover(); r != nil {
			err = fmt.Errorf("%q is not an XPath", source)
		}
	}()
	return xpath.Compile(source)
}

// parseTake reads a value to take: [TYPE] FROM [[by KEY] of VALUE] [or DEFAULT].
func parseTake(name, source string) (Take, error) {
	t := Take{Name: name, As: Text}
	rest := strings.TrimSpace(source)
	if head, more, _ := strings.Cut(rest, " "); head == "secret" {
		t.Secret, rest = true, strings.TrimSpace(more)
	}
	for _, as := range []Type{Text, Int, Number, Bool, List, Map} {
		if head, more, _ := strings.Cut(rest, " "); head == string(as) {
			t.As, rest = as, strings.TrimSpace(more)
			break
		}
	}
	if from, or, found := cutLast(rest, " or "); found {
		rest, t.HasOr = strings.TrimSpace(from), true
		var err error
		t.Or, err = t.As.literal(strings.TrimSpace(or))
		if err != nil {
			return t, fmt.Errorf("%s: or: %w", name, err)
		}
	}
	if from, by, found := cutLast(rest, " by "); found && t.As == Map {
		key, value, _ := strings.Cut(by, " of ")
		var err error
		t.Key, err = jsonpath.Parse(strings.TrimSpace(key))
		if err == nil {
			t.Value, err = jsonpath.Parse(strings.TrimSpace(value))
		}
		if err != nil {
			return t, fmt.Errorf("%s: a map of a list is written: map $.parts[*] by $.name of $.version: %w",
				name, err)
		}
		rest = strings.TrimSpace(from)
	} else if from, value, found := cutLast(rest, " of "); found && t.As == Map {
		var err error
		if t.Value, err = jsonpath.Parse(strings.TrimSpace(value)); err != nil {
			return t, fmt.Errorf("%s: a map of objects is written: map $.parts of $.version: %w", name,
				err)
		}
		rest = strings.TrimSpace(from)
	}
	var err error
	t.From, err = parseExtract(rest)
	if err == nil && t.Value != nil && t.From.json == nil {
		err = errors.New("by and of take from JSON only")
	}
	if err != nil {
		return t, fmt.Errorf("%s: %w", name, err)
	}
	return t, nil
}

func cutLast(s, sep string) (before, after string, found bool) {
	i := strings.LastIndex(s, sep)
	if i < 0 {
		return s, "", false
	}
	return s[:i], s[i+len(sep):], true
}

// literal is a default: a text, in quotes or not, a number, true or false, or nil for unset.
func (t Type) literal(s string) (any, error) {
	if s == "nil" {
		return nil, nil
	}
	if unquoted, err := strconv.Unquote(s); err == nil {
		s = unquoted
	}
	switch t {
	case List, Map:
		if s != "" && s != "[]" && s != "{}" {
			return nil, errors.New("a list or a map has no default but nil or []")
		}
		return t.zero(), nil
	}
	return t.scalar(s)
}

// scalar brings a value into a type that is none of many.
func (t Type) scalar(v any) (any, error) {
	s := text.Clean(plainText(v))
	switch t {
	case Int:
		n, err := strconv.Atoi(strings.TrimSpace(s))
		if err != nil {
			return nil, fmt.Errorf("%q is not a whole number", s)
		}
		return n, nil
	case Number:
		n, err := strconv.ParseFloat(strings.TrimSpace(s), 64)
		if err != nil {
			return nil, fmt.Errorf("%q is not a number", s)
		}
		return n, nil
	case Bool:
		b, err := strconv.ParseBool(strings.TrimSpace(s))
		if err != nil {
			return nil, fmt.Errorf("%q is not true or false", s)
		}
		return b, nil
	}
	return s, nil
}

// maxValues bounds a list or map that is taken: a large parent has a few hundred children.
const maxValues = 4096

// take brings what was found into the take's type. found is false where the answer has nothing
// and there is no default.
func (t Take) take(a Answer) (value any, found bool, err error) {
	if t.From.body { // byte by byte: it is restored so
		return string(a.Body), true, nil
	}
	got, err := t.From.find(a)
	if err != nil && !t.HasOr {
		return nil, false, fmt.Errorf("%s: %w", t.Name, err)
	}
	if err != nil || len(got) == 0 || len(got) == 1 && got[0] == nil { // a JSON null is nothing
		return t.Or, t.HasOr, nil
	}
	if t.As != List && t.As != Map {
		value, err = t.As.scalar(got[0])
		if err != nil {
			err = fmt.Errorf("%s: %w", t.Name, err)
		}
		return value, true, err
	}
	if len(got) == 1 { // one node that holds many
		if many, is := got[0].([]any); is {
			got = many
		}
	}
	if len(got) > maxValues {
		return nil, false, fmt.Errorf("%s: %d values; at most %d are taken", t.Name, len(got), maxValues)
	}
	if t.As == List {
		list := []string{}
		for _, v := range got {
			list = append(list, text.Clean(plainText(v)))
		}
		return list, true, nil
	}
	value, err = t.asMap(got)
	return value, true, err
}

// asMap makes a map of an object, of an object of objects, or of a list of them where the take says
// by what.
func (t Take) asMap(got []any) (any, error) {
	out := map[string]string{}
	for _, v := range got {
		object, is := v.(map[string]any)
		switch {
		case !is:
			return nil, fmt.Errorf("%s: %.40q is not an object", t.Name, plainText(v))
		case t.Key != nil:
			key, value := t.Key.Select(object), t.Value.Select(object)
			if len(key) == 1 && len(value) == 1 {
				out[text.Clean(plainText(key[0]))] = text.Clean(plainText(value[0]))
			}
			continue
		}
		for name, value := range object {
			if t.Value != nil {
				of := t.Value.Select(value)
				if len(of) != 1 {
					continue
				}
				value = of[0]
			}
			out[text.Clean(name)] = text.Clean(plainText(value))
		}
	}
	if len(out) > maxValues {
		return nil, fmt.Errorf("%s: %d values; at most %d are taken", t.Name, len(out), maxValues)
	}
	return out, nil
}

// Bounds of what is parsed. What an XPath costs grows with the square of them: a page or a status
// document of a device has some hundred elements, in a dozen levels.
const (
	maxNesting  = 64   // levels of JSON and XML
	maxElements = 3000 // of XML and HTML
)

// find returns what an extract finds. Its error is an answer that is not of the kind.
func (e Extract) find(a Answer) ([]any, error) {
	switch {
	case e.status:
		return []any{a.Status}, nil
	case e.header != "":
		if a.Header.Get(e.header) == "" {
			return nil, nil
		}
		return []any{a.Header.Get(e.header)}, nil
	case e.re != nil:
		m := e.re.FindSubmatch(a.Body)
		if m == nil {
			return nil, nil
		}
		return []any{string(m[min(1, len(m)-1)])}, nil
	case e.json != nil:
		tree, err := parseJSON(a.Body)
		if err != nil {
			return nil, err
		}
		return []any(e.json.Select(tree)), nil
	}
	return findXPath(e.xpath, a)
}

// parts are the places of an answer that an extract finds, each as a separate answer: an element
// of JSON, of XML or HTML, or what a pattern meets.
func (e Extract) parts(a Answer) (out []Answer, err error) {
	part := func(body string) {
		out = append(out, Answer{Status: a.Status, Header: a.Header, Body: []byte(body)})
	}
	switch {
	case e.re != nil:
		for _, m := range e.re.FindAll(a.Body, maxChildren+1) {
			part(string(m))
		}
	case e.json != nil:
		found, err := e.find(a)
		if err != nil {
			return nil, err
		}
		for _, node := range found {
			raw, err := json.Marshal(node)
			if err != nil {
				return nil, err
			}
			part(string(raw))
		}
	default:
		err = evaluate(e.xpath, a, func(at xpath.NodeNavigator) bool {
			switch at := at.(type) {
			case *htmlquery.NodeNavigator:
				// a row without its table is not HTML
				part("<!doctype html><table>" + htmlquery.OutputHTML(at.Current(), true) + "</table>")
			case *xmlquery.NodeNavigator:
				part(at.Current().OutputXML(true))
			}
			return len(out) <= maxChildren
		}, nil)
	}
	return out, err
}

func parseJSON(body []byte) (any, error) {
	depth, inside := 0, false
	for i := 0; i < len(body); i++ {
		switch c := body[i]; {
		case inside && c == '\\':
			i++
		case c == '"':
			inside = !inside
		case inside:
		case c == '[' || c == '{':
			depth++
		case c == ']' || c == '}':
			depth--
		}
		if depth > maxNesting {
			return nil, errors.New("JSON that is nested too deeply")
		}
	}
	var tree any
	d := json.NewDecoder(bytes.NewReader(body))
	d.UseNumber()
	if err := d.Decode(&tree); err != nil {
		return nil, errors.New("unexpected JSON")
	}
	return tree, nil
}

// findXPath looks into XML, or into HTML where the answer is that.
func findXPath(e *xpath.Expr, a Answer) (out []any, err error) {
	err = evaluate(e, a, func(at xpath.NodeNavigator) bool {
		out = append(out, strings.TrimSpace(at.Value()))
		return len(out) <= maxValues
	}, func(value any) { out = append(out, value) })
	return out, err
}

// evaluate hands on each node that an expression finds, as long as node says so, or its value where
// it has one and that is not empty; value may be nil.
func evaluate(e *xpath.Expr, a Answer, node func(xpath.NodeNavigator) bool,
	value func(any)) (err error) {
	defer func() { // the packages give up on some documents
		if r := recover(); r != nil {
			err = errors.New("an unreadable document")
		}
	}()
	if bytes.Count(a.Body, []byte("<")) > 2*maxElements { // each may have an end
		return errors.New("a document that is too large")
	}
	var at xpath.NodeNavigator
	if isHTML(a) {
		root, err := html.Parse(bytes.NewReader(a.Body))
		if err != nil {
			return errors.New("unexpected HTML")
		}
		at = htmlquery.CreateXPathNavigator(root)
	} else {
		root, err := xmlquery.Parse(bytes.NewReader(a.Body))
		if err != nil {
			return errors.New("unexpected XML")
		}
		at = xmlquery.CreateXPathNavigator(root)
	}
	if tooDeep(at.Copy()) {
		return errors.New("a document that is nested too deeply")
	}
	// one keeps state while it is evaluated, and devices are read at once
	own, err := xpath.Compile(e.String())
	if err != nil {
		return err
	}
	switch got := own.Evaluate(at).(type) {
	case *xpath.NodeIterator:
		for got.MoveNext() && node(got.Current()) {
		}
	default:
		if value != nil && got != "" {
			value(got)
		}
	}
	return nil
}

// tooDeep walks a document without recursion.
func tooDeep(at xpath.NodeNavigator) bool {
	for depth := 0; ; {
		if at.MoveToChild() {
			depth++
			if depth > maxNesting {
				return true
			}
			continue
		}
		for !at.MoveToNext() {
			if depth == 0 || !at.MoveToParent() {
				return false
			}
			depth--
		}
	}
}

func isHTML(a Answer) bool {
	start := bytes.ToLower(bytes.TrimSpace(a.Body[:min(len(a.Body), 200)]))
	return strings.Contains(a.Header.Get("Content-Type"), "html") ||
		bytes.HasPrefix(start, []byte("<!doctype html")) || bytes.HasPrefix(start, []byte("<html"))
}
