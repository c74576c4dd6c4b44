package login_test

import (
	"context"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/login"
)

// asks makes this test's program, run again as someone else, ask a keeper.
const asks = "CATENA_TEST_ASKS"

func TestMain(m *testing.M) {
	if socket := os.Getenv(asks); socket != "" {
		c, err := net.DialTimeout("unix", socket, time.Minute)
		if err != nil {
			os.Exit(3)
		}
		_ = c.SetDeadline(time.Now().Add(time.Minute))
		_, _ = io.WriteString(c, "give\n")
		raw, _ := io.ReadAll(c)
		_, _ = os.Stdout.Write(raw)
		os.Exit(0)
	}
	os.Exit(m.Run())
}

// The passphrase is given to this user's processes alone. Another user gets nothing even where the
// rights of the folder and the socket were lost, and a folder that others can open is not used.
func TestKeeper(t *testing.T) {
	run := filepath.Join("/tmp", "catena-keeper-test-"+filepath.Base(t.TempDir()))
	require.NoError(t, os.MkdirAll(run, 0o700))
	t.Cleanup(func() { _ = os.RemoveAll(run) })
	t.Setenv("XDG_RUNTIME_DIR", run)
	site := t.TempDir()
	socket, err := login.KeeperSocket(site, true)
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(t.Context())
	ready, ended := make(chan struct{}), make(chan error)
	go func() { ended <- login.Keep(ctx, socket, "a swan a day", func() { close(ready) }) }()
	<-ready
	said, err := login.Kept(site)
	require.NoError(t, err)
	assert.Equal(t, "a swan a day", said)
	_, err = login.Kept(t.TempDir())
	assert.ErrorIs(t, err, login.ErrLocked, "it is another site's")

	t.Run("another user", func(t *testing.T) {
		if os.Getuid() != 0 {
			t.Skip("needs root, to be someone else")
		}
		raw, err := os.ReadFile(os.Args[0])
		require.NoError(t, err)
		program := filepath.Join(run, "asks")
		require.NoError(t, os.WriteFile(program, raw, 0o755))
		ask := func() (string, error) {
			c := exec.Command(program)
			c.Env, c.Dir = []string{asks + "=" + socket}, "/"
			c.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: 65534, Gid: 65534}}
			out, err := c.Output()
			return string(out), err
		}
		require.NoError(t, os.Chmod(run, 0o755))
		said, err := ask()
		assert.Error(t, err, "the folder is this user's alone")
		assert.Empty(t, said)
		require.NoError(t, os.Chmod(filepath.Dir(socket), 0o755))
		require.NoError(t, os.Chmod(socket, 0o666))
		said, err = ask()
		assert.NoError(t, err, "it reaches the keeper")
		assert.Empty(t, said, "and gets nothing")
	})
	require.NoError(t, os.Chmod(filepath.Dir(socket), 0o755))
	_, err = login.Kept(site)
	assert.ErrorIs(t, err, login.ErrLocked)
	require.NoError(t, os.Chmod(filepath.Dir(socket), 0o700))
	cancel()
	assert.NoError(t, <-ended)
	assert.NoFileExists(t, socket)
}
