package cli

import (
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/goccy/go-yaml"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// wordList reads the words that the program does not use, and what it uses instead: the list that
// the manual and the comments are checked with. unwanted finds one; what is part of a name, of a
// path or of a word with a hyphen is none.
func wordList(t *testing.T) (instead map[string]string, unwanted *regexp.Regexp) {
	raw, err := os.ReadFile("../../.vale/styles/Catena/Words.yml")
	require.NoError(t, err)
	var list struct {
		Swap map[string]string `yaml:"swap"`
	}
	require.NoError(t, yaml.Unmarshal(raw, &list))
	require.NotEmpty(t, list.Swap)
	var words []string
	for w := range list.Swap {
		words = append(words, strings.ReplaceAll(w, " ", `\s+`))
	}
	return list.Swap, regexp.MustCompile(`(?i)(?:^|[^-\w./])(` + strings.Join(words, "|") +
		`)(?:$|[^-\w])`)
}

// The words of the program: every text in its sources that has a space, every comment, and the
// manual.
func TestWords(t *testing.T) {
	instead, unwanted := wordList(t)
	var wrong []string
	check := func(at, text string) {
		if m := unwanted.FindStringSubmatch(text); m != nil {
			word := strings.Join(strings.Fields(strings.ToLower(m[1])), " ")
			wrong = append(wrong, fmt.Sprintf("%s: %q: write %s", at, word, instead[word]))
		}
	}
	root := filepath.Join("..", "..")
	require.NoError(t, filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() && strings.HasPrefix(d.Name(), ".") && path != root {
			return fs.SkipDir
		}
		switch filepath.Ext(path) {
		case ".md":
			raw, err := os.ReadFile(path)
			for n, line := range strings.Split(string(raw), "\n") {
				check(fmt.Sprintf("%s:%d", path, n+1), line)
			}
			return err
		case ".go":
			if filepath.Base(path) != "english_test.go" {
				return checkSource(path, check)
			}
		}
		return nil
	}))
	assert.Empty(t, wrong)
}

// checkSource checks the comments and texts of a Go file.
func checkSource(path string, check func(at, text string)) error {
	files := token.NewFileSet()
	file, err := parser.ParseFile(files, path, nil, parser.ParseComments)
	if err != nil {
		return err
	}
	for _, group := range file.Comments {
		check(files.Position(group.Pos()).String(), group.Text())
	}
	ast.Inspect(file, func(n ast.Node) bool {
		if field, is := n.(*ast.Field); is {
			field.Tag = nil // names of fields are no words
		}
		expr, is := n.(ast.Expr)
		if text, all := literal(expr); is && all {
			if strings.Contains(text, " ") && !strings.Contains(text, "TRIGGER") {
				check(files.Position(n.Pos()).String(), strings.ReplaceAll(text, `\n`, "\n"))
			}
			return false
		}
		return true
	})
	return nil
}

// literal is a text in a source that is written as one literal, or as several with + between;
// false: it is none.
func literal(e ast.Expr) (text string, is bool) {
	switch e := e.(type) {
	case *ast.BasicLit:
		return strings.Trim(e.Value, "\"`"), e.Kind == token.STRING
	case *ast.BinaryExpr:
		left, isText := literal(e.X)
		right, isToo := literal(e.Y)
		return left + right, e.Op == token.ADD && isText && isToo
	}
	return "", false
}
