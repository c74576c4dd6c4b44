package workspace_test

import (
	"fmt"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/workspace"
)

// The documents list the columns as the program has them.
func TestDocumentsListTheColumns(t *testing.T) {
	doc, err := os.ReadFile("../../docs/files.md")
	require.NoError(t, err)
	require.Len(t, workspace.Abouts, len(workspace.Columns))

	var want strings.Builder
	for i, column := range workspace.Columns {
		require.NotEmpty(t, workspace.Abouts[i], column)
		fmt.Fprintf(&want, "| `%s` | %s |\n", column, workspace.Abouts[i])
	}
	assert.Contains(t, string(doc), "|---|---|\n"+want.String()+"\n")
}
