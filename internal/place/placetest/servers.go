//go:build unix

// Package placetest starts real servers that are places.
package placetest

import (
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"

	"catena/internal/login"
)

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
	dir, err := os.MkdirTemp("", "catena-place-")
	require.NoError(t, err)
	require.NoError(t, os.Chmod(dir, 0o755))
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer func() { _ = l.Close() }()
	_, port, _ = net.SplitHostPort(l.Addr().String())
	return dir, port
}

// SFTP starts a real sshd with a folder, and returns its address, the folder, and the login.
func SFTP(t *testing.T) (to, root string, as login.Entry) {
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
exec $(command -v sshd) -D -e -f /dev/null -p %s -o ListenAddress=127.0.0.1 \
  -o HostKey=%[1]s/key -o PermitRootLogin=yes -o UsePAM=no -o AuthorizedKeysFile=%[1]s/keys \
  -o StrictModes=no -o Subsystem='sftp internal-sftp'`, dir, port))
	return "sftp://127.0.0.1:" + port + dir + "/copies", dir + "/copies",
		login.Entry{Kind: login.Place, Of: "127.0.0.1", User: "root", More: login.More{Key: string(key)}}
}

// WebDAV starts a real Apache with a folder, and returns its address, the folder, and the login.
// Its certificate is trusted for the test.
func WebDAV(t *testing.T) (to, root string, as login.Entry) {
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
