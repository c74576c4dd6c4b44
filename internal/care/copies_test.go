//go:build unix

package care_test

import (
	"bytes"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/care"
	"catena/internal/family"
	"catena/internal/ledger"
	"catena/internal/login"
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
		"sftp": copiesSSHD, "webdav": copiesApache,
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

// server runs a daemon that writes into a folder, until the test ends.
func server(t *testing.T, script string) {
	c := exec.Command("unshare", "-m", "sh", "-ec", script)
	if out, err := exec.Command("unshare", "-m", "true").CombinedOutput(); err != nil {
		t.Skipf("no mount namespace can be made here: %s", out)
	}
	log, err := os.Create(filepath.Join(t.TempDir(), "log"))
	require.NoError(t, err)
	c.Stdout, c.Stderr = log, log
	c.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	require.NoError(t, c.Start())
	t.Cleanup(func() {
		_ = syscall.Kill(-c.Process.Pid, syscall.SIGKILL)
		_ = c.Wait()
		_ = log.Close()
		if said, err := os.ReadFile(log.Name()); err == nil && t.Failed() {
			t.Log(string(said))
		}
	})
}

// needs skips a test where a program is not there, and makes a folder that a daemon can read, and a
// port.
func needs(t *testing.T, programs ...string) (dir, port string) {
	for _, p := range programs {
		if _, err := exec.LookPath(p); err != nil {
			t.Skipf("needs %s", p)
		}
	}
	dir, err := os.MkdirTemp("", "catena-copies-")
	require.NoError(t, err)
	require.NoError(t, os.Chmod(dir, 0o755))
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer func() { _ = l.Close() }()
	_, port, _ = net.SplitHostPort(l.Addr().String())
	return dir, port
}

func copiesSSHD(t *testing.T) (to, root string, as login.Entry) {
	dir, port := needs(t, "sshd", "ssh-keygen")
	out, err := exec.Command("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", filepath.Join(dir,
		"id")).CombinedOutput()
	require.NoError(t, err, "%s", out)
	key, err := os.ReadFile(filepath.Join(dir, "id"))
	require.NoError(t, err)
	server(t, fmt.Sprintf(`cd %s
mkdir -p run copies; mount --bind run /run; mkdir -p /run/sshd
ssh-keygen -q -t ed25519 -N '' -f key
cp id.pub keys
exec $(command -v sshd) -D -e -f /dev/null -p %s -o ListenAddress=127.0.0.1 -o HostKey=%[1]s/key -o PermitRootLogin=yes \
  -o UsePAM=no -o AuthorizedKeysFile=%[1]s/keys -o StrictModes=no -o Subsystem='sftp internal-sftp'`, dir, port))
	return "sftp://127.0.0.1:" + port + dir + "/copies", dir + "/copies",
		login.Entry{Kind: login.Place, Of: "127.0.0.1", User: "root", More: login.More{Key: string(key)}}
}

func copiesApache(t *testing.T) (to, root string, as login.Entry) {
	dir, port := needs(t, "apache2", "openssl")
	out, err := exec.Command("openssl", "req", "-x509", "-newkey", "ed25519", "-nodes", "-days", "2",
		"-subj", "/CN=localhost",
		"-addext", "subjectAltName=DNS:localhost", "-keyout", dir+"/tls.key", "-out", dir+
			"/tls.pem").CombinedOutput()
	require.NoError(t, err, "%s", out)
	t.Setenv("SSL_CERT_FILE", dir+"/tls.pem") // as a person trusts the office's server
	hash, err := exec.Command("openssl", "passwd", "-apr1", "quoin").Output()
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(dir+"/users", append([]byte("keeper:"), hash...), 0o644))
	require.NoError(t, os.Mkdir(dir+"/www", 0o777))
	require.NoError(t, os.Chmod(dir+"/www", 0o777))
	var load strings.Builder
	for _, m := range []string{"mpm_event", "authn_core", "authz_core", "authn_file", "authz_user",
		"auth_basic", "dav", "dav_fs", "ssl"} {
		fmt.Fprintf(&load, "LoadModule %s_module /usr/lib/apache2/modules/mod_%[1]s.so\n", m)
	}
	require.NoError(t, os.WriteFile(dir+"/conf", []byte(load.String()+fmt.Sprintf(`
ServerName localhost
Listen 127.0.0.1:%s
PidFile %s/pid
ErrorLog %[2]s/error
Mutex file:%[2]s
User www-data
Group www-data
DocumentRoot %[2]s/www
DAVLockDB %[2]s/locks
SSLEngine on
SSLCertificateFile %[2]s/tls.pem
SSLCertificateKeyFile %[2]s/tls.key
<Directory %[2]s/www>
  Dav On
  AuthType Basic
  AuthName "copies"
  AuthUserFile %[2]s/users
  Require valid-user
</Directory>
`, port, dir)), 0o644))
	server(t, "chmod 777 "+dir+"; exec apache2 -DFOREGROUND -f "+dir+"/conf")
	return "https://localhost:" + port, dir + "/www", login.Entry{Kind: login.Place, Of: "localhost",
		User: "keeper", Password: "quoin"}
}
