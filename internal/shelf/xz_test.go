package shelf_test

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/shelf"
)

// Archives of the real xz, with several blocks; and one that asks for too much memory.
func TestRealXZ(t *testing.T) {
	for _, program := range []string{"xz", "tar"} {
		if _, err := exec.LookPath(program); err != nil {
			t.Skipf("there is no %s here", program)
		}
	}
	dir := write(t, t.TempDir(), oldImage, oldManifest, newImage, newManifest)
	packed := filepath.Join(t.TempDir(), "a.tar")
	out, err := exec.Command("tar", "-C", dir, "-cf", packed, "wx40").CombinedOutput()
	require.NoError(t, err, string(out))
	raw, err := os.ReadFile(packed)
	require.NoError(t, err)
	for name, c := range map[string]struct {
		args []string
		says string
	}{
		"usual":          {[]string{"-6"}, ""},
		"several blocks": {[]string{"-9", "--block-size=4096"}, ""},
		// firmware is not packed so; it is refused in words
		"a filter": {[]string{"--x86", "--lzma2=dict=1MiB"}, "xz"},
		"too much memory": {[]string{"--lzma2=dict=512MiB"},
			"requires 512 MiB of memory"},
	} {
		c2 := exec.Command("xz", append([]string{"-c"}, c.args...)...)
		c2.Stdin = bytes.NewReader(raw)
		squeezed, err := c2.Output()
		require.NoError(t, err, name)
		path := filepath.Join(t.TempDir(), "a.tar.xz")
		require.NoError(t, os.WriteFile(path, squeezed, 0o600))
		got := add(t, open(t), path)
		if c.says == "" {
			assert.Len(t, got[shelf.New], 2, "%s: %v", name, got)
			continue
		}
		require.Len(t, got[shelf.Refused], 1, name)
		assert.Contains(t, got[shelf.Refused][0], c.says, name)
	}
}
