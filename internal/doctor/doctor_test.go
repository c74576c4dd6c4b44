package doctor_test

import (
	"net/netip"
	"os"
	"path/filepath"
	"runtime"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/doctor"
)

// Looking leaves nothing behind, also in a folder that is not there yet.
func TestWritable(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, doctor.Writable(filepath.Join(dir, "not", "yet")))
	left, err := os.ReadDir(dir)
	require.NoError(t, err)
	assert.Empty(t, left)
	if os.Getuid() != 0 && runtime.GOOS != "windows" {
		require.NoError(t, os.Chmod(dir, 0o500))
		assert.ErrorIs(t, doctor.Writable(dir), os.ErrPermission)
	}
	if runtime.GOOS == "linux" {
		assert.Error(t, doctor.Writable("/proc/1"), "a file cannot be made there, whoever asks")
	}
}

func TestFree(t *testing.T) {
	free, err := doctor.Free(t.TempDir())
	require.NoError(t, err)
	assert.Positive(t, free)
	beside, err := doctor.Free(filepath.Join(t.TempDir(), "not", "yet"))
	require.NoError(t, err)
	assert.Positive(t, beside)
}

// A multicast of its own is heard on loopback; an adapter that is not there is an error.
func TestMulticast(t *testing.T) {
	if runtime.GOOS != "linux" {
		t.Skip("loopback is called otherwise there, or does no multicast")
	}
	assert.NoError(t, doctor.Multicast("lo", netip.MustParseAddr("127.0.0.1")))
	assert.Error(t, doctor.Multicast("nosuch0", netip.MustParseAddr("127.0.0.1")))
}
