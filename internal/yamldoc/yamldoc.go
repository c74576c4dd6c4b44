// Package yamldoc reads the project's YAML files strictly: an unknown key, a
// value of the wrong kind and a value that makes no sense are each refused with
// file, line and column. It does no I/O; callers bring the bytes.
package yamldoc

import (
	"bytes"
	"errors"
	"fmt"
	"reflect"
	"slices"
	"strconv"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/lexer"
	"github.com/goccy/go-yaml/parser"
	"github.com/goccy/go-yaml/token"

	"catena/internal/text"
)

// MaxSize is the largest file that is read, in bytes. A site of thousands of
// devices stays far below it; a file above it is not one of ours.
const MaxSize = 4 << 20

// Doc is one YAML file, kept so that later findings can name their place in it.
type Doc struct {
	name   string
	file   *ast.File
	tokens token.Tokens
}

// Error is a finding with its place.
type Error struct {
	Name         string
	Line, Column int // from 1; 0 where the place is the whole file
	Message      string
}

func (e *Error) Error() string {
	if e.Line == 0 {
		return fmt.Sprintf("%s: %s", e.Name, e.Message)
	}
	return fmt.Sprintf("%s:%d:%d: %s", e.Name, e.Line, e.Column, e.Message)
}

// Decode reads data, called name in messages, into the struct that into points
// to. Every error is an *Error. Anchors and aliases are refused: a file that refers to
// itself would never end.
func Decode(name string, data []byte, into any) (doc *Doc, err error) {
	doc, err = parse(name, data)
	if err == nil {
		err = doc.decode(doc.file.Docs[0].Body, into)
	}
	if err != nil {
		return nil, err
	}
	return doc, nil
}

// decode reads a node into a struct.
func (d *Doc) decode(n ast.Node, into any) (err error) {
	defer func() { // as in parse
		if r := recover(); r != nil {
			err = &Error{Name: d.name, Message: "is not valid YAML"}
		}
	}()
	if err := yaml.NodeToValue(n, into, yaml.Strict()); err != nil {
		if typed := d.typed(err, reflect.TypeOf(into)); typed != nil {
			return typed
		}
		return duration(d.name, d.tokens, place(d.name, err))
	}
	return nil
}

// Keys reads a file whose keys are known and whose values the caller reads: the values are
// returned by their keys. Every error is an *Error.
func Keys(name string, data []byte, known []string) (*Doc, map[string]ast.Node, error) {
	doc, err := parse(name, data)
	if err != nil {
		return nil, nil, err
	}
	keys, err := doc.keys(known)
	return doc, keys, err
}

// Within is Keys for a part of the file, which is then read like a separate file.
func (d *Doc) Within(n ast.Node, known []string) (*Doc, map[string]ast.Node, error) {
	part := &Doc{d.name, &ast.File{Docs: []*ast.DocumentNode{{BaseNode: &ast.BaseNode{}, Body: n}}},
		d.tokens}
	keys, err := part.keys(known)
	return part, keys, err
}

func (d *Doc) keys(known []string) (map[string]ast.Node, error) {
	root, is := d.file.Docs[0].Body.(*ast.MappingNode)
	if !is {
		return nil, d.At(d.file.Docs[0].Body, "must be keys with values")
	}
	out := map[string]ast.Node{}
	for _, v := range root.Values {
		key := v.Key.GetToken().Value
		if !slices.Contains(known, key) {
			return nil, d.unknown(v.Key.GetToken(), fmt.Sprintf("unknown key %q", key), known)
		}
		if out[key] != nil {
			return nil, d.At(v.Key, "%s is listed twice", key)
		}
		out[key] = v.Value
	}
	return out, nil
}

// Into reads some keys of a file that Keys has read into a struct.
func (d *Doc) Into(into any, keys ...string) error {
	root := *d.file.Docs[0].Body.(*ast.MappingNode) // Keys has seen that it is one
	root.Values = slices.DeleteFunc(slices.Clone(root.Values), func(v *ast.MappingValueNode) bool {
		return !slices.Contains(keys, v.Key.GetToken().Value)
	})
	return d.decode(&root, into)
}

// At makes an error at a node.
func (d *Doc) At(n ast.Node, format string, args ...any) *Error {
	at := n.GetToken().Position
	return &Error{Name: d.name, Line: at.Line, Column: at.Column,
		Message: fmt.Sprintf(format, args...)}
}

// parse reads a file as far as its tree.
func parse(name string, data []byte) (doc *Doc, err error) {
	if len(data) > MaxSize {
		return nil, &Error{Name: name,
			Message: fmt.Sprintf("is %d bytes long; at most %d are read", len(data), MaxSize)}
	}
	data = bytes.TrimPrefix(data, []byte("\ufeff")) // editors on Windows start a file with it
	number, signs := 0, 0
	for line := range bytes.Lines(data) {
		if number++; len(line) > maxLine {
			return nil, &Error{Name: name, Line: number, Column: 1,
				Message: fmt.Sprintf("is a line of %d bytes; at most %d are read", len(line), maxLine)}
		}
		for _, c := range line {
			if c == ':' || c == ',' || c == '{' || c == '[' {
				signs++
			}
		}
		if signs > maxTokens { // the tokens alone would take hundreds of MiB
			return nil, &Error{Name: name, Line: number, Column: 1, Message: tooLong}
		}
	}
	// the YAML package does so on some files that are none
	defer func() {
		if r := recover(); r != nil {
			doc, err = nil, &Error{Name: name, Message: "is not valid YAML"}
		}
	}()
	tokens := lexer.Tokenize(string(data))
	if err := shape(name, tokens); err != nil {
		return nil, err
	}
	file, err := parser.ParseBytes(data, 0)
	if err != nil {
		return nil, place(name, err)
	}
	if len(file.Docs) == 0 || file.Docs[0].Body == nil {
		return nil, &Error{Name: name, Message: "is empty"}
	}
	if len(file.Docs) > 1 {
		return nil, &Error{Name: name,
			Message: "contains more than one document; split it at the line ---"}
	}
	return &Doc{name, file, tokens}, nil
}

const tooLong = "is deeper or longer than a file of this kind can be"

// Bounds of what is given to the parser, whose time and memory grow with the square
// of the depth. No file of ours comes near them.
const (
	maxDepth  = 32      // of [ and {, or of - and ? on one line
	maxIndent = 128     // spaces before the first thing on a line
	maxTokens = 200_000 // words and signs
	maxLine   = 1 << 18 // bytes; a word costs the parser fifty times its length
)

// shape refuses files that refer to themselves or are built to be slow.
func shape(name string, tokens token.Tokens) error {
	depth, line, marks := 0, 0, 0
	for i, t := range tokens {
		at := func(message string) error {
			return &Error{Name: name, Line: t.Position.Line, Column: t.Position.Column,
				Message: message}
		}
		first := t.Position.Line != line
		if first {
			line, marks = t.Position.Line, 0
		}
		switch t.Type {
		case token.AnchorType, token.AliasType, token.MergeKeyType:
			return at("anchors (&) and aliases (*) are not read; write it out, and put names with a * in " +
				"quotes")
		case token.SequenceStartType, token.MappingStartType:
			depth++
		case token.SequenceEndType, token.MappingEndType:
			depth--
		case token.SequenceEntryType, token.MappingKeyType, token.MappingValueType, token.TagType:
			if depth == 0 {
				marks++
			}
		}
		if depth > maxDepth || marks > maxDepth || i > maxTokens || first && depth == 0 &&
			t.Position.Column > maxIndent {
			return at(tooLong)
		}
	}
	return nil
}

// Errorf makes an error at the value that path names, for example
// "$.hold[0].device"; where there is no such value, at the whole file.
func (d *Doc) Errorf(path, format string, args ...any) error {
	e := &Error{Name: d.name, Message: fmt.Sprintf(format, args...)}
	e.Line, e.Column = d.find(path)
	return e
}

// find returns the place of a value, or zeros.
func (d *Doc) find(path string) (line, column int) {
	defer func() { _ = recover() }() // as in Decode
	p, err := yaml.PathString(path)
	if err != nil {
		return 0, 0
	}
	node, err := p.FilterFile(d.file)
	if err != nil || node == nil {
		return 0, 0
	}
	at := node.GetToken().Position
	return at.Line, at.Column
}

// duration gives the error about a word that is not a duration, which the YAML package leaves
// without a place, the place of the word.
func duration(name string, tokens token.Tokens, err error) error {
	var e *Error
	if !errors.As(err, &e) || e.Line > 0 {
		return err
	}
	_, quoted, is := strings.Cut(e.Message, "time: invalid duration ")
	word, unquoteErr := strconv.Unquote(quoted)
	if !is || unquoteErr != nil {
		return err
	}
	for _, t := range tokens {
		if t.Value == word {
			return &Error{Name: name, Line: t.Position.Line, Column: t.Position.Column,
				Message: fmt.Sprintf("%q is not a duration; write for example 20m", word)}
		}
	}
	return err
}

// twice is how the YAML package reports a key that is there twice.
var twice = text.Later(`^mapping key (".*") already defined at \[(\d+):\d+\]$`)

func place(name string, err error) error {
	e := &Error{Name: name, Message: err.Error()}
	var y yaml.Error
	if errors.As(err, &y) {
		e.Message = y.GetMessage()
		if t := y.GetToken(); t != nil && t.Position != nil {
			e.Line, e.Column = t.Position.Line, t.Position.Column
		}
	}
	e.Message, _, _ = strings.Cut(strings.TrimSpace(e.Message), "\n")
	if m := twice().FindStringSubmatch(e.Message); m != nil {
		e.Message = m[1] + " is listed twice, first in line " + m[2]
	}
	return e
}
