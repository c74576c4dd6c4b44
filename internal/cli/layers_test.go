package cli

import (
	"go/ast"
	"go/parser"
	"go/token"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Commands call the rooms below: none reads the ledger of an open site, or what its site file says,
// itself.
func TestCommandsReadNeitherLedgerNorSiteFile(t *testing.T) {
	files, err := filepath.Glob("*.go")
	require.NoError(t, err)
	calls := 0
	for _, name := range files {
		set := token.NewFileSet()
		file, err := parser.ParseFile(set, name, nil, 0)
		require.NoError(t, err)
		ast.Inspect(file, func(n ast.Node) bool {
			s, is := n.(*ast.SelectorExpr)
			if !is {
				return true
			}
			of, plain := s.X.(*ast.Ident)
			calls++
			assert.NotEqual(t, "Ledger", s.Sel.Name, set.Position(s.Pos()))
			if plain && of.Name == "w" { // what every command calls an open site
				assert.NotEqual(t, "Site", s.Sel.Name, set.Position(s.Pos()))
			}
			return true
		})
	}
	assert.Greater(t, calls, 5000)
}

// Text that a device, a file or another person wrote reaches the terminal through view, which prints
// a string only without what a terminal would act on; a view.Painted was made by it. What is printed
// in another way is JSON, or the settings as the device gave them.
func TestOutputIsCleanedByType(t *testing.T) {
	files, err := filepath.Glob("*.go")
	require.NoError(t, err)
	prints := 0
	for _, name := range files {
		if strings.HasSuffix(name, "_test.go") || name == "print.go" || name == "schema.go" {
			continue
		}
		set := token.NewFileSet()
		file, err := parser.ParseFile(set, name, nil, 0)
		require.NoError(t, err)
		ast.Inspect(file, func(n ast.Node) bool {
			call, is := n.(*ast.CallExpr)
			if !is {
				return true
			}
			f, is := call.Fun.(*ast.SelectorExpr)
			if !is {
				return true
			}
			if of, is := f.X.(*ast.SelectorExpr); is && screen(of) { // a.out.Write(…)
				assert.Equal(t, "settings.go", name, set.Position(n.Pos()))
				return true
			}
			if len(call.Args) == 0 {
				return true
			}
			if to, is := call.Args[0].(*ast.SelectorExpr); is && screen(to) {
				of, _ := f.X.(*ast.Ident)
				prints++
				assert.NotContains(t, []string{"fmt", "io"}, of.String(), set.Position(n.Pos()))
			}
			return true
		})
	}
	assert.Greater(t, prints, 30)
}

// screen reports whether an expression is what a command prints to.
func screen(s *ast.SelectorExpr) bool {
	of, is := s.X.(*ast.Ident)
	return is && of.Name == "a" && (s.Sel.Name == "out" || s.Sel.Name == "err")
}
