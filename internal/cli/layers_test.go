package cli

import (
	"go/ast"
	"go/parser"
	"go/token"
	"path/filepath"
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
