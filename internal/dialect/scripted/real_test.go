//go:build linux

package scripted_test

import (
	"bytes"
	"context"
	"crypto/sha256"
	"fmt"
	"io"
	"net"
	"net/http"
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
	"catena/internal/wire"
)

// freePort is a port of loopback that no one has at the moment.
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

// A real sshd: its login is tried once, commands run in a real shell, the image goes by its SFTP,
// or where that is switched off by its scp.
func TestRealSSHD(t *testing.T) {
	t.Run("sftp", func(t *testing.T) { realSSHD(t, "-o Subsystem='sftp internal-sftp'") })
	t.Run("scp", func(t *testing.T) { realSSHD(t, "") })
}

// sshd runs a real one that lets keeper in with a password and with the key in the file that it
// returns, and a folder that it can write to.
func sshd(t *testing.T, subsystem string) (address, dir, key string) {
	address = freePort(t, "tcp")
	_, port, _ := net.SplitHostPort(address)
	dir, key = publicDir(t), filepath.Join(t.TempDir(), "id")
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
ssh-keygen -q -t ed25519 -N '' -f %[5]s
cp %[5]s.pub keys; chmod 600 keys
exec $(command -v sshd) -D -e -f /dev/null -p %[3]s -o ListenAddress=127.0.0.1 -o HostKey=%[1]s/key -o PermitRootLogin=yes \
  -o UsePAM=no -o PasswordAuthentication=yes -o MaxAuthTries=3 -o AuthorizedKeysFile=%[1]s/keys -o StrictModes=no %[4]s`, dir,
		strings.TrimSpace(string(out)), port, subsystem, key))
	return address, dir, key
}

func realSSHD(t *testing.T, subsystem string) {
	address, dir, key := sshd(t, subsystem)
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
	var err error
	require.Eventually(t, func() bool {
		r, err = session.Read(t.Context())
		return err == nil
	}, time.Minute, 100*time.Millisecond)
	assert.Equal(t, "1.0", r.Version)
	assert.Contains(t, r.Says, "OpenSSH")
	byKey(t, key, func(more login.More) error {
		_, err := open(t, text, address, login.Credential{User: "keeper", More: more}).Read(t.Context())
		return err
	})
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

// byKey logs in by a private key, and by the agent that has it.
func byKey(t *testing.T, key string, in func(login.More) error) {
	private, err := os.ReadFile(key)
	require.NoError(t, err)
	require.NoError(t, in(login.More{Key: string(private)}))
	socket := filepath.Join(t.TempDir(), "agent")
	agent := exec.Command("ssh-agent", "-D", "-a", socket)
	require.NoError(t, agent.Start())
	defer func() { _ = agent.Process.Kill(); _ = agent.Wait() }()
	t.Setenv("SSH_AUTH_SOCK", socket)
	other := filepath.Join(t.TempDir(), "other")
	require.NoError(t, exec.Command("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", other).Run())
	require.Eventually(t, func() bool { return exec.Command("ssh-add", "-q", other).Run() == nil },
		time.Minute, 50*time.Millisecond)
	assert.ErrorIs(t, in(login.More{Agent: true}), device.ErrLoginRefused, "it has another key")
	require.NoError(t, exec.Command("ssh-add", "-q", key).Run())
	public, err := os.ReadFile(key + ".pub")
	require.NoError(t, err)
	assert.NoError(t, in(login.More{Agent: true, Key: string(public)}))
	assert.NoError(t, in(login.More{Agent: true}), "the second of its keys is the right one")
}

// A device whose web page tells and whose shell restarts it: one family speaks both.
func TestRealSSHDBesideHTTP(t *testing.T) {
	address, dir, _ := sshd(t, "")
	o := newOdd("1.0")
	o.HandleFunc("PUT /fw", func(_ http.ResponseWriter, r *http.Request) {
		_, _ = io.Copy(io.Discard,
			r.Body)
	})
	met := ""
	s := o.sessions(t, oddRead+`secrets: {service: writing}
update:
  - upload: PUT /fw
restart:
  - run: 'printf "Password: "; read p; echo "$$p" > `+dir+`/said'
    protocol: ssh:`+address[strings.LastIndex(address, ":")+1:]+`
    reply: {'Password: $': $login.service}
`, dialect.Caller{TrustAt: func(at string) wire.Trust {
		return func(kind, _ string) error {
			met = kind + " at " + at
			return nil
		}
	}})()
	u, _, err := send(t, s, 1000)
	require.NoError(t, err)
	require.Eventually(t, func() bool { return u.Activate(t.Context()) == nil }, time.Minute,
		100*time.Millisecond)
	said, err := os.ReadFile(filepath.Join(dir, "said"))
	require.NoError(t, err)
	assert.Equal(t, "wicket\n", string(said))
	assert.Equal(t, device.KeySSH+" at "+address, met, "its host key is one that can be trusted")
}

// A real TFTP server, as a boot loader has one, takes the image of a device whose web page tells.
func TestRealTFTPServerBesideHTTP(t *testing.T) {
	address, dir := freePort(t, "udp"), publicDir(t)
	require.NoError(t, os.Chmod(dir, 0o777))
	daemon(t, "in.tftpd", fmt.Sprintf("exec in.tftpd -L -4 -c -s -u root -a %s %s", address, dir))
	o := newOdd("1.0")
	for name, c := range map[string]struct {
		file string
		size int
		bad  bool
	}{"whole": {"image.bin", 3_000_005, false}, "of more than 65,535 blocks": {"long.bin",
		1468*65_600 + 5, false}, "of full blocks": {"full.bin", 1468 * 100, false},
		"refused": {"no/such/image.bin", 1000, true}} {
		s := o.session(t, oddRead+"update:\n  - upload: "+c.file+"\n    protocol: tftp:"+
			address[strings.LastIndex(address, ":")+1:]+"\n")
		var raw []byte
		var err error
		if !c.bad {
			require.Eventually(t, func() bool {
				_, raw, err = send(t, s, c.size)
				return err == nil
			}, time.Minute, 100*time.Millisecond, name)
			got, err := os.ReadFile(filepath.Join(dir, c.file))
			require.NoError(t, err)
			assert.True(t, bytes.Equal(raw, got), name)
			continue
		}
		_, _, err = send(t, s, c.size)
		assert.ErrorIs(t, err, device.ErrRefused)
	}
}

// A real nginx that wants to see a client's certificate.
func TestRealNginxWithAClientCertificate(t *testing.T) {
	address, dir := freePort(t, "tcp"), publicDir(t)
	out, err := exec.Command("sh", "-ec", `cd `+dir+`
openssl req -x509 -newkey rsa:2048 -nodes -days 2 -subj /CN=gate -keyout server.key -out server.crt 2>&1
openssl req -x509 -newkey ec -pkeyopt ec_paramgen_curve:P-256 -nodes -days 2 -subj /CN=keeper -keyout own.key -out own.crt 2>&1
mkdir www; printf '{"model":"TG-200","serial":"S-1"}' > www/id; printf '{"v":"1.0"}' > www/version; chmod -R a+rX .`).CombinedOutput()
	if err != nil {
		t.Skipf("needs openssl: %s", out)
	}
	require.NoError(t, os.WriteFile(filepath.Join(dir, "conf"),
		[]byte(fmt.Sprintf(`daemon off; pid %[1]s/pid; error_log %[1]s/error;
events {}
http { access_log off; client_body_temp_path %[1]s/tmp;
  server { listen %[2]s ssl; ssl_certificate %[1]s/server.crt; ssl_certificate_key %[1]s/server.key;
    ssl_verify_client optional; ssl_client_certificate %[1]s/own.crt; root %[1]s/www;
    location /version { if ($ssl_client_verify != SUCCESS) { return 403; } } } }
`, dir, address)), 0o644))
	daemon(t, "nginx", "exec nginx -c "+dir+"/conf")
	f, err := family.Parse("odd.yaml", []byte(oddHead+oddRead))
	require.NoError(t, err)
	read := func(more login.More) error {
		s := scripted.New(f, 1).Open(dialect.At{Endpoint: device.Endpoint{Address: address,
			Scheme: "https"}},
			login.Credential{User: "keeper", More: more})
		_, err := s.Read(t.Context())
		return err
	}
	own, err := os.ReadFile(filepath.Join(dir, "own.crt"))
	require.NoError(t, err)
	key, err := os.ReadFile(filepath.Join(dir, "own.key"))
	require.NoError(t, err)
	with := login.More{Key: string(key), Certificate: string(own)}
	require.NoError(t, with.Unlock(nil))
	require.Eventually(t, func() bool { return read(with) == nil }, time.Minute, 100*time.Millisecond)
	assert.ErrorIs(t, read(login.More{}), device.ErrNoRight)
}

// A real snmpd: objects are read and set by number and by name; what it refuses is said.
func TestRealSNMPD(t *testing.T) {
	address := freePort(t, "udp")
	dir := t.TempDir()
	conf := filepath.Join(dir, "snmpd.conf")
	require.NoError(t, os.WriteFile(conf, []byte(fmt.Sprintf(
		"agentAddress udp:%s\n[snmp] persistentDir %s\nsysName top\nrwcommunity sluice 127.0.0.1\n",
		address, dir)), 0o600))
	daemon(t, "snmpd", "exec snmpd -f -LE 4 -C -c "+conf+" -I -smux")
	text := `family: real
vendor: Osmere
models: [OS-8]
protocol: snmp
recognise:
  - get: {name: sysName.0}
names: {place: 1.3.6.1.2.1.1.6}
read:
  - get: {version: place.0, ticks: int 1.3.6.1.2.1.1.3.0, tree: map 1.3.6.1.2.1.1}
state: {uptime: ticks / 100}
update:
  - set: {sysLocation.0: text $component}
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
	for _, m := range []string{"mpm_event", "authn_core", "authz_core", "authn_file", "authz_user",
		"auth_digest", "dav", "dav_fs"} {
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
