package cli_test

import (
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A trial finds its device as a scan would: over TLS where the port speaks that, at the port that was
// named, also where it is none of the family's.
func TestATrialFindsItsDevice(t *testing.T) {
	t.Parallel()
	serve := http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		_ = json.NewEncoder(w).Encode(map[string]string{"model": "TG-200", "serial": "S-1", "v": "K42"})
	})
	plain, secure := httptest.NewServer(serve), httptest.NewTLSServer(serve)
	t.Cleanup(plain.Close)
	t.Cleanup(secure.Close)
	dir := t.TempDir()
	file := filepath.Join(dir, "f.yaml")
	require.NoError(t, os.WriteFile(file, []byte("family: f\nvendor: Tollgarth\nmodels: [TG-200]\nports: [9]\n"+
		"recognise:\n  - get: /\n    take: {model: $.model, serial: $.serial}\nread:\n  - get: /\n"+
		"    take: {version: $.v}\n"), 0o600))
	for _, where := range []string{plain.Listener.Addr().String(), plain.URL,
		secure.Listener.Addr().String(), secure.URL} {
		out, err := command(dir, "family", "try", file, where).CombinedOutput()
		require.NoError(t, err, "%s", out)
		assert.Contains(t, string(out), where+" is a Tollgarth TG-200, serial number S-1, and runs K42.")
	}
	out, err := command(dir, "family", "try", file, "http://"+secure.Listener.Addr().String()).CombinedOutput()
	var code *exec.ExitError
	require.ErrorAs(t, err, &code, "%s", out)
}
