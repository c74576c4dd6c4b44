package wire_test

import (
	"bytes"
	"crypto/rand"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/wire"
)

// Clients that others have written fetch an offer whole, with options and without.
func TestRealClientsFetchAnOffer(t *testing.T) {
	for name, c := range map[string]struct {
		program, by string
		args        func(o *wire.Offer, into string) []string
	}{
		"curl over TFTP": {"curl", "tftp", func(o *wire.Offer, into string) []string {
			return []string{"-sf", "--tftp-blksize", "1428", "-o", into, o.URL}
		}},
		"curl over TFTP without options": {"curl", "tftp", func(o *wire.Offer, into string) []string {
			return []string{"-sf", "--tftp-no-options", "-o", into, o.URL}
		}},
		"curl over HTTP": {"curl", "http", func(o *wire.Offer, into string) []string {
			return []string{"-sf", "-o", into, o.URL}
		}},
		"curl over HTTP in two parts": {"curl", "http", func(o *wire.Offer, into string) []string {
			return []string{"-sf", "-r", "0-99999", "-o", into, o.URL, "--next", "-sf", "-C", "-", "-o",
				into, o.URL}
		}},
		"tftp-hpa": {"tftp", "tftp", func(o *wire.Offer, into string) []string {
			return []string{"-m", "binary", o.Host, strconv.Itoa(o.Port), "-c", "get", o.File, into}
		}},
		"atftp with a window": {"atftp", "tftp", func(o *wire.Offer, into string) []string {
			return []string{"--option", "blksize 1024", "--option", "windowsize 8", "-g", "-l", into, "-r",
				o.File,
				o.Host, strconv.Itoa(o.Port)}
		}},
		"atftp": {"atftp", "tftp", func(o *wire.Offer, into string) []string {
			return []string{"--option", "blksize 8192", "--option", "tsize 0", "-g", "-l", into, "-r",
				o.File,
				o.Host, strconv.Itoa(o.Port)}
		}},
	} {
		t.Run(name, func(t *testing.T) {
			program, err := exec.LookPath(c.program)
			if err != nil {
				t.Skipf("needs %s", c.program)
			}
			image := make([]byte, 1_000_003) // its last block is not full
			_, _ = rand.Read(image)
			var sent atomic.Int64
			o, err := wire.NewOffer(c.by, "127.0.0.1:8080", "image.bin", wire.Body{
				From: bytes.NewReader(image), Size: int64(len(image)),
				Sent: func(n int64) { sent.Store(n) }})
			require.NoError(t, err)
			defer o.Close()
			into := filepath.Join(t.TempDir(), "got")
			out, err := exec.Command(program, c.args(o, into)...).CombinedOutput()
			require.NoError(t, err, "%s", out)
			got, err := os.ReadFile(into)
			require.NoError(t, err)
			assert.True(t, bytes.Equal(image, got), "%d of %d bytes", len(got), len(image))
			require.NoError(t, o.Fetched(t.Context(), nil))
			assert.Equal(t, int64(len(image)), sent.Load())
		})
	}
	// No one else gets it, and nothing else is there.
	image := []byte("lock")
	o, err := wire.NewOffer("tftp", "127.0.0.9:69", "image.bin",
		wire.Body{From: bytes.NewReader(image), Size: 4})
	require.NoError(t, err)
	defer o.Close()
	if curl, err := exec.LookPath("curl"); err == nil {
		assert.Error(t, exec.Command(curl, "-sf", "-o", os.DevNull, o.URL).Run(),
			"it is offered to another host")
	}
}
