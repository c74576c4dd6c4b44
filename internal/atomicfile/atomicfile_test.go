package atomicfile_test

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strconv"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/atomicfile"
)

func TestNothingIsLost(t *testing.T) {
	path := filepath.Join(t.TempDir(), "count")
	var group sync.WaitGroup
	for range 8 {
		group.Go(func() {
			for range 25 {
				assert.NoError(t, atomicfile.Transform(path, 0o600,
					func(old []byte) ([]byte, error) {
						n, _ := strconv.Atoi(string(old)) // no file is 0
						return []byte(fmt.Sprint(n + 1)), nil
					}))
			}
		})
	}
	group.Wait()
	got, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.Equal(t, "200", string(got), "every change was made on the one before it")
}

func TestAnErrorLeavesTheOld(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "x")
	require.NoError(t, atomicfile.Replace(path, []byte("old"), 0o640))
	no := errors.New("no")
	assert.ErrorIs(t, atomicfile.Transform(path, 0o640,
		func([]byte) ([]byte, error) { return nil, no }), no)
	assert.ErrorIs(t, atomicfile.Write(path, 0o640, func(w io.Writer) error {
		_, _ = w.Write([]byte("half")) // the error that follows counts
		return no
	}), no)
	got, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.Equal(t, "old", string(got))
	left, err := filepath.Glob(filepath.Join(dir, ".x-*"))
	require.NoError(t, err)
	assert.Empty(t, left, "nothing is left over")
}
