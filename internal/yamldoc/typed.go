package yamldoc

import (
	"errors"
	"fmt"
	"reflect"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/token"

	"catena/internal/text"
)

// typed states in the words of the file that a value has the wrong type; nil: the error is another.
// For example, of limits: {parallel: many}
//
//	limits: parallel: must be a whole number, not "many"
func (d *Doc) typed(err error, into reflect.Type) error {
	var (
		value    *yaml.TypeError
		node     *yaml.UnexpectedNodeTypeError
		overflow *yaml.OverflowError
		unknown  *yaml.UnknownFieldError
		at       *token.Token
		want     string
	)
	switch {
	case errors.As(err, &value):
		at, want = value.Token, kindOf(value.DstType)
	case errors.As(err, &node):
		at, want = node.Token, map[ast.NodeType]string{ast.MappingType: keysAndValues,
			ast.SequenceType: list}[node.Expected]
	case errors.As(err, &overflow):
		at, want = overflow.Token, "a smaller number"
	case errors.As(err, &unknown):
		at = unknown.Token
		return d.unknown(at, fmt.Sprintf("unknown field %q", at.Value), tags(into, 0))
	}
	if at == nil || at.Position == nil || want == "" {
		return nil
	}
	keys, found := pathTo(d.file.Docs[0].Body, at.Position, nil)
	is := `"` + at.Value + `"`
	switch found.(type) {
	case *ast.SequenceNode:
		is = "a list"
	case *ast.MappingNode, *ast.MappingValueNode:
		is = "keys with values"
	}
	keys = append(keys, fmt.Sprintf("must be %s, not %s", want, is))
	return &Error{Name: d.name, Line: at.Position.Line, Column: at.Position.Column,
		Message: strings.Join(keys, ": ")}
}

const (
	list          = "a list, such as [a, b]"
	keysAndValues = "keys with values, such as {key: value}"
)

// kindOf is what a value of that type is in a file.
func kindOf(t reflect.Type) string {
	switch t.Kind() {
	case reflect.Bool:
		return "true or false"
	case reflect.String:
		return "a text"
	case reflect.Float32, reflect.Float64:
		return "a number"
	case reflect.Slice, reflect.Array:
		return list
	case reflect.Map, reflect.Struct:
		return keysAndValues
	case reflect.Pointer:
		return kindOf(t.Elem())
	}
	if reflect.Int <= t.Kind() && t.Kind() <= reflect.Uint64 {
		return "a whole number"
	}
	return ""
}

// pathTo returns the keys that lead to the value at a place, and that value; nil: there is none.
func pathTo(n ast.Node, at *token.Position, keys []string) ([]string, ast.Node) {
	if n == nil {
		return nil, nil
	}
	switch n := n.(type) {
	case *ast.MappingNode:
		for _, v := range n.Values {
			if path, found := pathTo(v, at, keys); found != nil {
				return path, found
			}
		}
	case *ast.MappingValueNode:
		return pathTo(n.Value, at, append(keys, n.Key.GetToken().Value))
	case *ast.SequenceNode:
		for _, v := range n.Values {
			if path, found := pathTo(v, at, keys); found != nil {
				if found == v {
					path = append(path, "each item")
				}
				return path, found
			}
		}
	}
	if p := n.GetToken().Position; p != nil && p.Line == at.Line && p.Column == at.Column {
		return keys, n
	}
	return nil, nil
}

// unknown is the error about a key that no one knows, with the nearest one that is known.
func (d *Doc) unknown(at *token.Token, message string, known []string) error {
	if like := text.Nearest(at.Value, known); like != "" {
		message += "; did you mean " + like + "?"
	}
	return &Error{Name: d.name, Line: at.Position.Line, Column: at.Position.Column, Message: message}
}

// tags are all keys that a type can have, also further inside.
func tags(t reflect.Type, depth int) (all []string) {
	switch {
	case t == nil || depth > maxDepth:
	case t.Kind() == reflect.Pointer, t.Kind() == reflect.Slice, t.Kind() == reflect.Map:
		return tags(t.Elem(), depth+1)
	case t.Kind() == reflect.Struct:
		for i := range t.NumField() {
			name, _, _ := strings.Cut(t.Field(i).Tag.Get("yaml"), ",")
			if name != "" && name != "-" {
				all = append(all, name)
			}
			all = append(all, tags(t.Field(i).Type, depth+1)...)
		}
	}
	return all
}
