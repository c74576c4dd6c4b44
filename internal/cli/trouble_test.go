package cli

import (
	"flag"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/workspace"
)

// update writes what documents have from the program again: go test ./internal/cli -update
var update = flag.Bool("update", false, "write generated parts of documents again")

// between is the part of a document between a line that starts with from, and the next that is to.
func between(t *testing.T, file, from, to, want string) {
	t.Helper()
	name := filepath.Join("..", "..", "docs", file)
	raw, err := os.ReadFile(name)
	require.NoError(t, err)
	before, rest, found := strings.Cut(string(raw), from)
	require.True(t, found, "%s has %s", file, from)
	line, rest, _ := strings.Cut(rest, "\n")
	_, after, found := strings.Cut(rest, to)
	require.True(t, found)
	whole := before + from + line + "\n" + want + to + after
	if *update {
		require.NoError(t, os.WriteFile(name, []byte(whole), 0o644))
		return
	}
	assert.Equal(t, whole, string(raw),
		"docs/%s is as the program has it; refresh it: go test ./internal/cli -update", file)
}

// The document of troubles has the table as the program has it.
func TestTroubles(t *testing.T) {
	between(t, "trouble.md", "<!-- made by: go test ./internal/cli -run TestTroubles",
		"<!-- end -->", troubleTables())
}

// The documents list the fields as the program has them.
func TestDocumentsListTheColumns(t *testing.T) {
	require.Len(t, workspace.Abouts, len(workspace.Columns))
	table := "\n| field | what it is |\n|---|---|\n"
	for i, column := range workspace.Columns {
		require.NotEmpty(t, workspace.Abouts[i], column)
		table += "| `" + column + "` | " + workspace.Abouts[i] + " |\n"
	}
	between(t, "scripting.md",
		"<!-- made by: go test ./internal/cli -run TestDocumentsListTheColumns", "<!-- end -->", table+
			"\n")
}

// Every error of the document's second table is one that a script provokes.
func TestErrorsOfTheDocumentAreProvoked(t *testing.T) {
	raw, err := os.ReadFile("../../docs/trouble.md")
	require.NoError(t, err)
	_, table, found := strings.Cut(string(raw), "\n## Messages about this laptop")
	require.True(t, found)
	provoked := ""
	scripts, err := filepath.Glob("testdata/*.txt")
	require.NoError(t, err)
	for _, s := range append(scripts, "kill_test.go", "readonly_test.go", "real_test.go") {
		text, err := os.ReadFile(s)
		require.NoError(t, err)
		provoked += string(text)
	}
	rows := regexp.MustCompile("(?m)^\\| `([^`]+)` \\|").FindAllStringSubmatch(table, -1)
	assert.Greater(t, len(rows), 15)
	for _, row := range rows {
		// quotes cannot be in a script's pattern
		assert.Contains(t, provoked, strings.ReplaceAll(row[1], "'", "."))
	}
}
