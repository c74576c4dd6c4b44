//go:build unix

package care_test

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/care"
	"catena/internal/family"
	"catena/internal/ledger"
	"catena/internal/login"
	"catena/internal/place/placetest"
	"catena/internal/workspace"
)

// Copies go to a folder, to a real sshd, and to a real Apache; each only once, and what failed is
// made up later.
func TestCopies(t *testing.T) {
	for name, begin := range map[string]func(*testing.T) (to, root string, as login.Entry){
		"folder": func(t *testing.T) (string, string, login.Entry) {
			dir := t.TempDir()
			return dir, dir,
				login.Entry{}
		},
		"sftp": placetest.SFTP, "webdav": placetest.WebDAV,
	} {
		t.Run(name, func(t *testing.T) {
			to, root, as := begin(t)
			dir := t.TempDir()
			require.NoError(t, os.WriteFile(filepath.Join(dir, "site.yaml"),
				[]byte(fmt.Sprintf("site: Marrow Hill\nsecond_place: %q\n", to)), 0o600))
			w, err := workspace.Open(dir, time.Now, ledger.Writer{})
			require.NoError(t, err)
			defer w.Close()
			save := func(id, name, text string) {
				require.NoError(t, os.MkdirAll(filepath.Join(dir, "settings", id), 0o700))
				require.NoError(t, os.WriteFile(filepath.Join(dir, "settings", id, name), []byte(text), 0o600))
			}
			save("d1", "20261127T200000Z_7.4.age", "one")
			copies := func(book login.Book) (int, error) {
				x, err := w.Access(family.Set{}, book)
				require.NoError(t, err)
				return care.Copy(t.Context(), x, w.Dir, w.Site)
			}
			var book login.Book
			if as.Of != "" {
				_, err = copies(book)
				require.Error(t, err, "no one is let in without a login")
				_, err = book.Add(as)
				require.NoError(t, err)
			}
			require.Eventually(t, func() bool {
				n, err := copies(book)
				if err != nil {
					t.Log(err)
				}
				return err == nil && n == 1
			}, 20*time.Second, 200*time.Millisecond)
			save("d1", "20261127T210000Z_7.5.age", strings.Repeat("two", 100_000))
			save("d2", "20261127T210000Z_1.0.age", "three")
			n, err := copies(book)
			require.NoError(t, err)
			assert.Equal(t, 2, n, "the first one is there")
			got, err := os.ReadFile(filepath.Join(root, "Marrow-Hill", "d1", "20261127T210000Z_7.5.age"))
			require.NoError(t, err)
			assert.True(t, bytes.Equal([]byte(strings.Repeat("two", 100_000)), got))
			left, err := filepath.Glob(filepath.Join(root, "*", "*", "*.part"))
			require.NoError(t, err)
			assert.Empty(t, left)
		})
	}
	t.Run("not there", func(t *testing.T) {
		dir := t.TempDir()
		require.NoError(t, os.WriteFile(filepath.Join(dir, "site.yaml"),
			[]byte("site: X\nsecond_place: /media/no-such-stick\n"), 0o600))
		require.NoError(t, os.MkdirAll(filepath.Join(dir, "settings", "d1"), 0o700))
		w, err := workspace.Open(dir, time.Now, ledger.Writer{})
		require.NoError(t, err)
		defer w.Close()
		x, err := w.Access(family.Set{}, login.Book{})
		require.NoError(t, err)
		_, err = care.Copy(t.Context(), x, w.Dir, w.Site)
		assert.ErrorIs(t, err, os.ErrNotExist)
		assert.NoDirExists(t, "/media/no-such-stick")
	})
}
