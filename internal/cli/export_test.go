package cli_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestAnExportIsProvenWithoutCatena takes the lines of Python out of docs/files.md and proves an
// exported ledger with them; one in which a word was changed they refuse.
func TestAnExportIsProvenWithoutCatena(t *testing.T) {
	python, err := exec.LookPath("python3")
	if err != nil {
		t.Skip("needs python3")
	}
	t.Parallel()
	doc, err := os.ReadFile(filepath.Join("..", "..", "docs", "files.md"))
	require.NoError(t, err)
	code := regexp.MustCompile("(?s)```python\n(.*?)```").FindSubmatch(doc)
	require.NotNil(t, code)

	dir, _ := patientSite(t, patient)
	catena(t, dir, "flash", "cam-11", "--yes")
	catena(t, dir, "ledger", "export", "entries.jsonl")
	prove := func() (string, error) {
		cmd := exec.Command(python, "-c", string(code[1]), "entries.jsonl")
		cmd.Dir = dir
		out, err := cmd.CombinedOutput()
		return string(out), err
	}
	said, err := prove()
	require.NoError(t, err, said)
	count, last, _ := strings.Cut(strings.TrimSpace(said), " entries, the last is ")
	assert.Contains(t, catena(t, dir, "ledger", "check"),
		"The ledger is intact: "+count+" entries, the last is "+last)

	file := filepath.Join(dir, "entries.jsonl")
	raw, err := os.ReadFile(file)
	require.NoError(t, err)
	require.Contains(t, string(raw), `"end":"done"`)
	require.NoError(t, os.WriteFile(file,
		[]byte(strings.Replace(string(raw), `"end":"done"`, `"end":"lost"`, 1)), 0o600))
	said, err = prove()
	assert.Error(t, err)
	assert.Contains(t, said, "is not as it was written")
}
