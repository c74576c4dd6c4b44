//go:build linux

package scripted_test

import (
	"context"
	"crypto/sha256"
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

	"catena/internal/device"
	"catena/internal/dialect"
	"catena/internal/dialect/scripted"
	"catena/internal/family"
	"catena/internal/login"
)

// freePort is a port of loopback that nobody has at the moment.
func freePort(t *testing.T, network string) string {
	if network == "udp" {
		l, err := net.ListenPacket("udp", "127.0.0.1:0")
		require.NoError(t, err)
		defer func() { _ = l.Close() }()
		return l.LocalAddr().String()
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer func() { _ = l.Close() }()
	return l.Addr().String()
}

// publicDir is a folder that daemons can read that have given up their rights.
func publicDir(t *testing.T) string {
	dir, err := os.MkdirTemp("", "catena-real-")
	require.NoError(t, err)
	require.NoError(t, os.Chmod(dir, 0o755))
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	return dir
}

// daemon runs a program in a mount namespace of its own until the test ends.
func daemon(t *testing.T, program, script string) {
	if _, err := exec.LookPath(program); err != nil {
		t.Skipf("needs %s", program)
	}
	if out, err := exec.Command("unshare", "-m", "true").CombinedOutput(); err != nil {
		t.Skipf("no mount namespace can be made here: %s", out)
	}
	c := exec.Command("unshare", "-m", "sh", "-ec", script)
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

func open(t *testing.T, text, address string, as login.Credential) dialect.Session {
	f, err := family.Parse("real.yaml", []byte(text))
	require.NoError(t, err)
	session := scripted.New(f, 1).Open(dialect.At{Endpoint: device.Endpoint{Address: address,
		ProtocolVersion: "v2c"}}, as)
	t.Cleanup(func() { _ = session.Close(context.Background()) })
	return session
}

// A real sshd: its login is tried once, commands run in a real shell, the image goes by its SFTP, or
// where that is switched off by its scp.
func TestRealSSHD(t *testing.T) {
	t.Run("sftp", func(t *testing.T) { realSSHD(t, "-o Subsystem='sftp internal-sftp'") })
	t.Run("scp", func(t *testing.T) { realSSHD(t, "") })
}

func realSSHD(t *testing.T, subsystem string) {
	address := freePort(t, "tcp")
	_, port, _ := net.SplitHostPort(address)
	dir := publicDir(t)
	out, err := exec.Command("openssl", "passwd", "-6", "quoin & <sluice>").Output()
	if err != nil {
		t.Skip("needs openssl")
	}
	daemon(t, "sshd", fmt.Sprintf(`cd %s
cp /etc/passwd /etc/shadow .
echo 'keeper:x:0:0::/root:/bin/sh' >> passwd
echo 'keeper:%s:20000:0:99999:7:::' >> shadow
mount --bind passwd /etc/passwd; mount --bind shadow /etc/shadow
mkdir -p run; mount --bind run /run; mkdir -p /run/sshd
ssh-keygen -q -t ed25519 -N '' -f key
exec $(command -v sshd) -D -e -f /dev/null -p %s -o ListenAddress=127.0.0.1 -o HostKey=%[1]s/key -o PermitRootLogin=yes \
  -o UsePAM=no -o PasswordAuthentication=yes -o MaxAuthTries=3 %[4]s`, dir,
		strings.TrimSpace(string(out)), port, subsystem))
	text := `family: real
vendor: Harrow & Dene
models: [HD-7]
protocol: ssh
recognise:
  - get: greeting
    take: {says: '~ ^SSH-2\.0-(.*)'}
read:
  - run: cat ` + dir + `/version 2>/dev/null || echo 1.0
    take: {version: '~ (\S+)'}
update:
  - upload: ` + dir + `/image.bin
  - run: 'sha256sum ` + dir + `/image.bin | grep -q $image.sha256 && echo $component > ` + dir + `/version'
restart:
  - run: 'printf "Sure? "; read answer; test "$$answer" = yes && echo 2.0 > ` + dir + `/version'
    reply: {'Sure\? $': "yes"}
`
	as := login.Credential{User: "keeper", Password: "quoin & <sluice>"}
	session := open(t, text, address, as)
	var r device.Reading
	require.Eventually(t, func() bool {
		r, err = session.Read(t.Context())
		return err == nil
	}, time.Minute, 100*time.Millisecond)
	assert.Equal(t, "1.0", r.Version)
	assert.Contains(t, r.Says, "OpenSSH")
	update, raw, err := send(t, session, 3_000_000)
	require.NoError(t, err)
	got, err := os.ReadFile(filepath.Join(dir, "image.bin"))
	require.NoError(t, err)
	assert.Equal(t, sha256.Sum256(raw), sha256.Sum256(got))
	r, err = session.Read(t.Context())
	require.NoError(t, err)
	assert.Equal(t, "main", r.Version)
	require.NoError(t, update.Activate(t.Context()))
	r, err = session.Read(t.Context())
	require.NoError(t, err)
	assert.Equal(t, "2.0", r.Version)

	wrong := as
	wrong.Password = "mitre"
	_, err = open(t, text, address, wrong).Read(t.Context())
	assert.ErrorIs(t, err, device.ErrLoginRefused)
}

// A real snmpd: objects are read and set by number; what it refuses is said.
func TestRealSNMPD(t *testing.T) {
	address := freePort(t, "udp")
	dir := t.TempDir()
	conf := filepath.Join(dir, "snmpd.conf")
	require.NoError(t, os.WriteFile(conf, []byte(fmt.Sprintf(
		"agentAddress udp:%s\n[snmp] persistentDir %s\nsysName top\nrwcommunity sluice 127.0.0.1\n", address, dir)), 0o600))
	daemon(t, "snmpd", "exec snmpd -f -LE 4 -C -c "+conf+" -I -smux")
	text := `family: real
vendor: Osmere
models: [OS-8]
protocol: snmp
recognise:
  - get: {name: 1.3.6.1.2.1.1.5.0}
read:
  - get: {version: 1.3.6.1.2.1.1.6.0, ticks: int 1.3.6.1.2.1.1.3.0, tree: map 1.3.6.1.2.1.1}
state: {uptime: ticks / 100}
update:
  - set: {1.3.6.1.2.1.1.6.0: text $component}
    writes: true
restart:
  - set: {1.3.6.1.2.1.1.5.0: int 1}
`
	session := open(t, text, address, login.Credential{Password: "sluice"})
	var r device.Reading
	require.Eventually(t, func() (ok bool) {
		var err error
		r, err = session.Read(t.Context())
		return err == nil
	}, time.Minute, 100*time.Millisecond)
	assert.Equal(t, "top", r.Called)
	require.NotNil(t, r.Boot)
	update, err := session.Update("lamp")
	require.NoError(t, err)
	require.NoError(t, update.Transfer(t.Context(), dialect.Image{ReaderAt: strings.NewReader(""),
		SHA256: strings.Repeat("0", 64)}, nil))
	r, err = session.Read(t.Context())
	require.NoError(t, err)
	assert.Equal(t, "lamp", r.Version)
	assert.ErrorContains(t, update.Activate(t.Context()), "WrongType", "its name is a text")
}

// A real Apache: Digest, and an image by PUT into WebDAV.
func TestRealApache(t *testing.T) {
	address := freePort(t, "tcp")
	dir := publicDir(t)
	modules := "/usr/lib/apache2/modules/mod_"
	var load strings.Builder
	for _, m := range []string{"mpm_event", "authn_core", "authz_core", "authn_file", "authz_user", "auth_digest", "dav", "dav_fs"} {
		fmt.Fprintf(&load, "LoadModule %s_module %s%s.so\n", m, modules, m)
	}
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "www"), 0o777))
	require.NoError(t, os.Chmod(filepath.Join(dir, "www"), 0o777))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "www", "state.json"),
		[]byte(`{"model":"TG-200","serial":"S-1","v":"1.0"}`), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "conf"), []byte(load.String()+fmt.Sprintf(`
ServerName localhost
Listen %s
PidFile %s/pid
ErrorLog %[2]s/error
Mutex file:%[2]s
User www-data
Group www-data
DocumentRoot %[2]s/www
DAVLockDB %[2]s/locks
<Directory %[2]s/www>
  Dav On
  AuthType Digest
  AuthName "gate"
  AuthUserFile %[2]s/users
  Require valid-user
</Directory>
<Files state.json>
  Require all granted
</Files>
`, address, dir)), 0o644))
	ha1, err := exec.Command("sh", "-c", `printf %s 'keeper:gate:quoin' | md5sum | cut -c1-32`).Output()
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "users"), []byte("keeper:gate:"+string(ha1)), 0o644))
	daemon(t, "apache2", "chmod 777 "+dir+"; exec apache2 -DFOREGROUND -f "+dir+"/conf")
	text := `family: real
vendor: Tollgarth
models: [TG-200]
recognise:
  - get: /state.json
    take: {model: $.model, serial: $.serial}
read:
  - get: /state.json
    take: {version: $.v}
update:
  - upload: PUT /image.bin
`
	session := open(t, text, address, login.Credential{User: "keeper", Password: "quoin"})
	require.Eventually(t, func() bool {
		_, err = session.Read(t.Context())
		return err == nil
	}, time.Minute, 100*time.Millisecond)
	_, raw, err := send(t, session, 2_000_000)
	require.NoError(t, err)
	got, err := os.ReadFile(filepath.Join(dir, "www", "image.bin"))
	require.NoError(t, err)
	assert.Equal(t, sha256.Sum256(raw), sha256.Sum256(got))
	wrong := open(t, text, address, login.Credential{User: "keeper", Password: "mitre"})
	_, _, err = send(t, wrong, 1000)
	assert.ErrorIs(t, err, device.ErrLoginRefused)
}
