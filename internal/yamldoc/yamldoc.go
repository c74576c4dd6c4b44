// Package yamldoc reads the project's YAML files strictly: an unknown key, a
// value of the wrong kind and a value that makes no sense are each refused with
// file, line and column. It does no I/O; callers bring the bytes.
package yamldoc

import (
	"errors"
	"fmt"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"
)

// MaxSize is the largest file that is read, in bytes. A site of thousands of
// devices stays far below it; a file above it is not one of ours.
const MaxSize = 4 << 20

// Doc is one YAML file, kept so that later findings can name their place in it.
type Doc struct {
	name string
	file *ast.File
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
// to. Every error is an *Error.
func Decode(name string, data []byte, into any) (*Doc, error) {
	if len(data) > MaxSize {
		return nil, &Error{Name: name, Message: fmt.Sprintf("is %d bytes long; at most %d are read", len(data), MaxSize)}
	}
	file, err := parser.ParseBytes(data, 0)
	if err != nil {
		return nil, place(name, err)
	}
	if len(file.Docs) == 0 || file.Docs[0].Body == nil {
		return nil, &Error{Name: name, Message: "is empty"}
	}
	if len(file.Docs) > 1 {
		return nil, &Error{Name: name, Message: "holds more than one document; split it at the line ---"}
	}
	if err := yaml.NodeToValue(file.Docs[0].Body, into, yaml.Strict()); err != nil {
		return nil, place(name, err)
	}
	return &Doc{name, file}, nil
}

// Errorf makes an error at the value that path names, for example
// "$.hold[0].device"; where there is no such value, at the whole file.
func (d *Doc) Errorf(path, format string, args ...any) error {
	e := &Error{Name: d.name, Message: fmt.Sprintf(format, args...)}
	if p, err := yaml.PathString(path); err == nil {
		if node, err := p.FilterFile(d.file); err == nil && node != nil {
			at := node.GetToken().Position
			e.Line, e.Column = at.Line, at.Column
		}
	}
	return e
}

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
	return e
}
