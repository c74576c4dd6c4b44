package shelf_test

import (
	"bytes"
	"crypto/sha256"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/shelf"
)

// An image that is changed on the shelf while it is sent hands on no changed byte: it stops before,
// says so, and is set aside.
func TestAnImageIsChangedWhileItIsSent(t *testing.T) {
	body := strings.Repeat("a lock keeper's image ", 20000)
	dir := write(t, t.TempDir(), file{"wx.bin", body}, manifestFor("WX-40", "3.2.1", "wx.bin", body))
	s := open(t)
	add(t, s, dir)
	digest := fmt.Sprintf("%x", sha256.Sum256([]byte(body)))

	whole, err := s.OpenImage(digest, "wx.bin")
	require.NoError(t, err)
	got, err := io.ReadAll(whole)
	require.NoError(t, err)
	assert.Equal(t, body, string(got))
	piece := make([]byte, 100)
	n, err := whole.ReadAt(piece, int64(len(body)-60))
	assert.Equal(t, 60, n)
	assert.ErrorIs(t, err, io.EOF)
	assert.Equal(t, body[len(body)-60:], string(piece[:n]))
	require.NoError(t, whole.Close())

	for name, change := range map[string]func(path string){
		"a byte": func(path string) {
			f, err := os.OpenFile(path, os.O_WRONLY, 0)
			require.NoError(t, err)
			_, err = f.WriteAt([]byte("X"), 200_000)
			require.NoError(t, err)
			require.NoError(t, f.Close())
		},
		"cut": func(path string) { require.NoError(t, os.Truncate(path, 150_000)) },
	} {
		t.Run(name, func(t *testing.T) {
			s := open(t)
			add(t, s, dir)
			image, err := s.OpenImage(digest, "wx.bin")
			require.NoError(t, err)
			defer func() { _ = image.Close() }()
			first := make([]byte, 1000)
			_, err = image.ReadAt(first, 0)
			require.NoError(t, err)
			var path string
			require.NoError(t, filepath.WalkDir(s.Dir(), func(p string, _ os.DirEntry, _ error) error {
				if filepath.Base(p) == digest {
					path = p
				}
				return nil
			}))
			require.NoError(t, os.Chmod(path, 0o600))
			change(path)
			got, err := io.ReadAll(image)
			require.ErrorIs(t, err, shelf.ErrDamaged)
			assert.ErrorIs(t, image.Changed(), shelf.ErrDamaged)
			assert.Less(t, len(got), 200_000)
			assert.True(t, bytes.HasPrefix([]byte(body), got), "what was handed on is as it was hashed")
			_, err = image.ReadAt(first, 0)
			require.ErrorIs(t, err, shelf.ErrDamaged, "nothing more is handed on")
			aside, err := s.AsideList()
			require.NoError(t, err)
			require.Len(t, aside, 1)
			assert.Equal(t, "wx.bin", aside[0].File)
			assert.Contains(t, aside[0].Reason, "changed on the shelf while it was sent")
			_, err = s.OpenImage(digest, "wx.bin")
			assert.ErrorIs(t, err, shelf.ErrGone)
		})
	}
}
