// Package schematest validates YAML against a JSON Schema by an independent validator, for the
// tests of whoever makes schemas.
package schematest

import (
	"bytes"
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/goccy/go-yaml"
	"github.com/stretchr/testify/require"
)

const python = "/usr/bin/python3"

const validate = `import json, jsonschema, sys
s = json.load(open(sys.argv[1])); jsonschema.Draft202012Validator.check_schema(s)
for e in jsonschema.Draft202012Validator(s).iter_errors(json.load(sys.stdin)): print(e.json_path, e.message)`

// Findings are what a schema finds in a YAML file, a line each; empty: nothing. Without Debian's
// python3-jsonschema the test is skipped.
func Findings(t *testing.T, schema []byte, text string) string {
	t.Helper()
	if exec.Command(python, "-c", "import jsonschema").Run() != nil {
		t.Skip("needs python3-jsonschema")
	}
	file := filepath.Join(t.TempDir(), "schema.json")
	require.NoError(t, os.WriteFile(file, schema, 0o600))
	var value any
	require.NoError(t, yaml.Unmarshal([]byte(text), &value))
	in, err := json.Marshal(value)
	require.NoError(t, err)
	c := exec.Command(python, "-c", validate, file)
	c.Stdin = bytes.NewReader(in)
	out, err := c.CombinedOutput()
	require.NoError(t, err, "%s", out)
	return string(out)
}
