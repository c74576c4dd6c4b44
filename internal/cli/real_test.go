//go:build linux

package cli_test

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/md5"
	"crypto/rand"
	"crypto/x509"
	"encoding/hex"
	"encoding/pem"
	"fmt"
	"math/big"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// town is a network of namespaces joined by a bridge: one host in each.
type town struct {
	t      *testing.T
	prefix string // of the namespaces' names
	dir    string
}

// needed are the programs on the other side, with their Debian packages.
var needed = map[string]string{"ip": "iproute2", "unshare": "util-linux", "wsdd": "wsdd",
	"avahi-daemon": "avahi-daemon", "snmpd": "snmpd",
	"lldpd": "lldpd", "sshd": "openssh-server", "ssh-keygen": "openssh-client",
	"nginx": "nginx-light", "lighttpd": "lighttpd"}

func newTown(t *testing.T) *town {
	if os.Geteuid() != 0 {
		t.Skip("network namespaces want root")
	}
	for program, pkg := range needed {
		if _, err := exec.LookPath(program); err != nil {
			t.Skipf("there is no %s (Debian's package %s)", program, pkg)
		}
	}
	dir, err := os.MkdirTemp("", "catena-town-")
	require.NoError(t, err)
	require.NoError(t, os.Chmod(dir, 0o755)) // some daemons give up their rights
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	w := &town{t: t, prefix: fmt.Sprintf("mh%d-", os.Getpid()), dir: dir}
	if out, err := exec.Command("ip", "netns", "add",
		w.prefix+"bridge").CombinedOutput(); err != nil {
		t.Skipf("network namespaces cannot be made here: %s", out)
	}
	t.Cleanup(func() { _ = exec.Command("ip", "netns", "del", w.prefix+"bridge").Run() })
	if out, err := exec.Command("ip", "-n", w.prefix+"bridge", "link", "add", "name", "br0", "type",
		"bridge", "mcast_snooping", "0").CombinedOutput(); err != nil {
		t.Skipf("a bridge cannot be made here: %s", out)
	}
	if out, err := exec.Command("unshare", "--mount", "mount", "-t", "tmpfs", "tmpfs",
		"/run").CombinedOutput(); err != nil {
		t.Skipf("a /run of its own cannot be given to a daemon here: %s", out)
	}
	w.ip("-n", w.prefix+"bridge", "link", "set", "br0", "up")
	// A bridge keeps LLDP to itself unless it is told to pass it on: bit 14, for …:0e.
	w.in("bridge", "sh", "-c", "echo 16384 > /sys/class/net/br0/bridge/group_fwd_mask || true")
	return w
}

func (w *town) ip(args ...string) {
	out, err := exec.Command("ip", args...).CombinedOutput()
	require.NoError(w.t, err, "ip %v: %s", args, out)
}

// in runs a command in a host to its end.
func (w *town) in(host string, args ...string) string {
	out, err := exec.Command("ip", append([]string{"netns", "exec", w.prefix + host},
		args...)...).CombinedOutput()
	require.NoError(w.t, err, "%v: %s", args, out)
	return string(out)
}

// host adds a host with an address, and a way to it.
func (w *town) host(name string, last int) {
	ns := w.prefix + name
	w.ip("netns", "add", ns)
	w.t.Cleanup(func() { _ = exec.Command("ip", "netns", "del", ns).Run() })
	w.ip("link", "add", "eth0", "netns", ns, "type", "veth", "peer", "name", "to-"+name, "netns",
		w.prefix+"bridge")
	w.ip("-n", w.prefix+"bridge", "link", "set", "to-"+name, "master", "br0", "up")
	w.ip("-n", ns, "link", "set", "lo", "up")
	// its link-local address is there at once
	w.in(name, "sh", "-c", "echo 0 > /proc/sys/net/ipv6/conf/eth0/accept_dad || true")
	w.ip("-n", ns, "link", "set", "eth0", "up")
	w.ip("-n", ns, "addr", "add", fmt.Sprintf("10.20.4.%d/24", last), "dev", "eth0", "broadcast",
		"10.20.4.255")
	w.ip("-n", ns, "route", "add", "default", "dev", "eth0")
}

// daemon runs a program in a host until the test ends, with a /run of its own.
func (w *town) daemon(host, script string) (stop func()) {
	log, err := os.Create(filepath.Join(w.dir, host+"-"+fmt.Sprint(time.Now().UnixNano())+".log"))
	require.NoError(w.t, err)
	cmd := exec.Command("ip", "netns", "exec", w.prefix+host, "unshare", "--mount", "sh", "-ec",
		"mount -t tmpfs tmpfs /run\n"+script)
	cmd.Stdout, cmd.Stderr = log, log
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	require.NoError(w.t, cmd.Start())
	done := make(chan struct{})
	go func() { _ = cmd.Wait(); close(done) }()
	stopped := false
	stop = func() {
		if stopped {
			return
		}
		stopped = true
		_ = syscall.Kill(-cmd.Process.Pid, syscall.SIGTERM)
		select {
		case <-done:
		case <-time.After(5 * time.Second):
			_ = syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL)
		}
		if w.t.Failed() {
			text, _ := os.ReadFile(log.Name())
			w.t.Logf("%s:\n%s", host, text)
		}
	}
	w.t.Cleanup(stop)
	return stop
}

func (w *town) file(name, text string) string {
	path := filepath.Join(w.dir, name)
	require.NoError(w.t, os.MkdirAll(filepath.Dir(path), 0o755))
	require.NoError(w.t, os.WriteFile(path, []byte(text), 0o644))
	return path
}

// certificate writes a new self-signed certificate with its key.
func (w *town) certificate(name string) string {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(w.t, err)
	template := &x509.Certificate{SerialNumber: big.NewInt(time.Now().UnixNano()),
		NotAfter: time.Now().Add(time.Hour)}
	cert, err := x509.CreateCertificate(rand.Reader, template, template, &key.PublicKey, key)
	require.NoError(w.t, err)
	raw, err := x509.MarshalECPrivateKey(key)
	require.NoError(w.t, err)
	return w.file(name, string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: cert}))+
		string(pem.EncodeToMemory(&pem.Block{Type: "EC PRIVATE KEY", Bytes: raw})))
}

// tree writes the files of a Redfish service that answers as files.
func (w *town) tree(name, model, serial, version string) string {
	root := filepath.Join(name, "redfish", "v1")
	for path, text := range map[string]string{
		"index.json": `{"RedfishVersion":"1.6.0","UUID":"` + serial +
			`","Vendor":"Brackwell","Product":"` + model +
			`","Systems":{"@odata.id":"/redfish/v1/systems.json"},"Managers":{"@odata.id":"/redfish/v1/managers.json"}}`,
		"systems.json": `{"Members":[{"@odata.id":"/redfish/v1/system.json"}]}`,
		"system.json": `{"Manufacturer":"Brackwell","Model":"` + model + `","SerialNumber":"` + serial +
			`"}`,
		"managers.json": `{"Members":[{"@odata.id":"/redfish/v1/manager.json"}]}`,
		"manager.json":  `{"FirmwareVersion":"` + version + `"}`,
	} {
		w.file(filepath.Join(root, path), text)
	}
	return filepath.Join(w.dir, name)
}

const realPassword = "quoin-and-sluice"

// nginx runs nginx with Basic in front of a Redfish tree, with TLS or without.
func (w *town) nginx(host, root, certificate string) (stop func()) {
	listen := "80;"
	if certificate != "" {
		listen = "443 ssl; ssl_certificate " + certificate + "; ssl_certificate_key " + certificate + ";"
	}
	users := w.file("nginx-users", "keeper:{PLAIN}"+realPassword+"\n")
	conf := w.file(host+".conf", `daemon off; pid /run/nginx.pid; error_log stderr; worker_processes 1;
events {}
http { access_log off; client_body_temp_path /run/b; proxy_temp_path /run/p; fastcgi_temp_path /run/f; uwsgi_temp_path /run/u; scgi_temp_path /run/s;
 server { listen `+listen+` root `+root+`; index index.json; default_type application/json;
  location = /redfish/v1/ { auth_basic off; }
  location = /redfish/v1/index.json { auth_basic off; }
  location /redfish/ { auth_basic "recorder"; auth_basic_user_file `+users+`; } } }`)
	return w.daemon(host, "exec nginx -c "+conf)
}

// snmpd runs an agent, and an LLDP daemon that tells it its neighbours. access is who
// may read.
func (w *town) snmpd(host, model, serial, access string) {
	conf := w.file(host+".conf", `agentAddress udp:161
master agentx
agentXSocket /run/agentx.sock
[snmp] persistentDir /run/snmp
sysName `+host+`
sysDescr Osmere `+model+` switch
createUser keeper SHA `+realPassword+` AES `+realPassword+`
`+access+`
override 1.3.6.1.2.1.47.1.1.1.1.5.1 integer 3
override 1.3.6.1.2.1.47.1.1.1.1.9.1 octet_str "4.2"
override 1.3.6.1.2.1.47.1.1.1.1.11.1 octet_str "`+serial+`"
override 1.3.6.1.2.1.47.1.1.1.1.12.1 octet_str "Osmere"
override 1.3.6.1.2.1.47.1.1.1.1.13.1 octet_str "`+model+`"
`)
	w.daemon(host, `mkdir -p /run/snmp /run/lldpd
chown _lldpd /run/lldpd
snmpd -f -LE 4 -C -c `+conf+` &
for i in 1 2 3 4 5 6 7 8 9 10; do [ -S /run/agentx.sock ] && break; sleep 0.3; done
chmod 777 /run/agentx.sock
cat > /run/lldpd.conf <<EOF
configure system hostname `+host+`
configure lldp tx-interval 1
EOF
lldpd -d -x -X /run/agentx.sock -u /run/lldpd.socket -I eth0 -O /run/lldpd.conf &
wait`)
}

// Catena, on a laptop in a network with real daemons, finds and reads each.
func TestRealNeighbours(t *testing.T) {
	w := newTown(t)
	for i, name := range []string{"wsd", "avahi", "basin", "top", "ssh", "tls", "laptop", "plain"} {
		w.host(name, 11+i)
	}
	for range 100 { // until their link-local addresses are there, and their own
		all := w.in("laptop", "ip", "-6", "addr") + w.in("wsd", "ip", "-6", "addr") +
			w.in("avahi", "ip", "-6", "addr")
		if !strings.Contains(all, "tentative") && strings.Count(all, "fe80:") >= 3 {
			break
		}
		time.Sleep(100 * time.Millisecond)
	}
	w.daemon("wsd", "exec wsdd -i eth0 -n LOCKHOUSE --shortlog")
	md5hex := func(s string) string { sum := md5.Sum([]byte(s)); return hex.EncodeToString(sum[:]) }
	users := w.file("digest-users", "keeper:weir:"+md5hex("keeper:weir:"+realPassword)+"\n")
	lighttpd := w.file("lighttpd.conf", `server.modules = ("mod_auth", "mod_authn_file", "mod_access")
server.document-root = "`+w.tree("digest", "BR-5", "BR5-00071", "2.10.1")+`"
server.port = 8181
server.bind = "[::]"
server.set-v6only = "disable"
server.upload-dirs = ("/run")
index-file.names = ("index.json")
mimetype.assign = ("" => "application/json")
auth.backend = "htdigest"
auth.backend.htdigest.userfile = "`+users+`"
$HTTP["url"] != "/redfish/v1/" { auth.require = ("/redfish/" => ("method" => "digest", "realm" => "weir", "require" => "valid-user")) }
`)
	avahi := w.file("avahi.conf", "[server]\nhost-name=recorder-weir\nuse-ipv4=yes\nuse-ipv6=yes\n"+
		"allow-interfaces=eth0\nenable-dbus=no\n[publish]\n")
	service := w.file("redfish.service",
		`<?xml version="1.0"?><service-group><name>Recorder at the weir</name><service><type>_http._tcp</type><port>8181</port></service></service-group>`)
	w.daemon("avahi", "mkdir -p /run/avahi-daemon; mount -t tmpfs tmpfs /etc/avahi/services; cp "+
		service+" /etc/avahi/services/\n"+
		"lighttpd -D -f "+lighttpd+" & avahi-daemon --no-drop-root --no-chroot --no-rlimits -f "+avahi+
		" & wait")
	w.snmpd("basin", "OS-8", "OS8-00060", "rocommunity public")
	w.snmpd("top", "OS-8", "OS8-00061", "rouser keeper priv")
	hostKey := filepath.Join(w.dir, "host-key")
	newKey := func() {
		_ = os.Remove(hostKey)
		out, err := exec.Command("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f",
			hostKey).CombinedOutput()
		require.NoError(t, err, string(out))
	}
	newKey()
	sshd := func() func() {
		return w.daemon("ssh", "mkdir -p /run/sshd; exec /usr/sbin/sshd -D -e -f /dev/null -h "+
			hostKey+" -o UsePAM=no -o PidFile=none")
	}
	stopSSH := sshd()
	stopTLS := w.nginx("tls", w.tree("basic", "BR-5", "BR5-00070", "2.10.3"),
		w.certificate("first.pem"))

	w.nginx("plain", w.tree("clear", "BR-3", "BR3-00069", "1.4"), "")

	site := filepath.Join(w.dir, "hill")
	shelf := filepath.Join(w.dir, "shelf")
	run := func(args ...string) (string, error) {
		t.Helper()
		program, err := exec.LookPath("catena")
		require.NoError(t, err)
		cmd := exec.Command("ip", append([]string{"netns", "exec", w.prefix + "laptop", program,
			"-C", site, "--shelf", shelf}, args...)...)
		cmd.Env = append(os.Environ(), "CATENA_LOGIN=",
			"CATENA_IDENTITY="+filepath.Join(w.dir, "identity"), "CATENA_PASSWORD="+realPassword)
		out, err := cmd.CombinedOutput()
		return string(out), err
	}
	catena := func(args ...string) string {
		t.Helper()
		out, err := run(args...)
		require.NoError(t, err, "catena %v:\n%s", args, out)
		return out
	}
	catena("new", "Marrow Hill Locks", "--adapter", "eth0", "--range", "10.20.4.1-10.20.4.30")
	catena("login", "add", "--user", "keeper")
	assert.Regexp(t, `eth0 +up +.*10\.20\.4\.17/24`, catena("scan", "--adapters"))

	var said string
	complete := func() bool { // the daemons take a moment to come up, and to see each other
		said = catena("scan")
		links := catena("scan", "--uplinks", "--at", "basin")
		return strings.Count(said, "\n10.20.4.")+strings.Count(said, " 10.20.4.") >= 6 &&
			strings.Contains(said, "OS8-00061") && strings.Contains(said, "BR5-00071") &&
			strings.Contains(strings.ToLower(said), "lockhouse") &&
			strings.Contains(links, "through: basin, reach: [top]")
	}
	for range 12 {
		if complete() {
			break
		}
		time.Sleep(time.Second)
	}
	t.Log(said)
	assert.Regexp(t, `(?mi)^WSD-Device-LOCKHOUSE +10\.20\.4\.11:5357 .*ws-discovery`, said)
	assert.Regexp(t, `(?m)^recorder-weir +10\.20\.4\.12:8181 +Brackwell +BR-5 +BR5-00071 +2\.10\.1 +.*mdns`, said)
	assert.Regexp(t, `(?m)^basin +10\.20\.4\.13:161 +Osmere +OS-8 +OS8-00060 +4\.2 +snmp`, said)
	assert.Regexp(t, `(?m)^top +10\.20\.4\.14:161 +Osmere +OS-8 +OS8-00061 +4\.2 +snmp`, said,
		"SNMPv3")
	assert.Regexp(t, `10\.20\.4\.15:22 .* ssh `, said)
	assert.Regexp(t, `10\.20\.4\.16:443 +Brackwell +BR-5 +BR5-00070 +2\.10\.3 +https`, said)
	assert.Contains(t, catena("show", "10.20.4.15"), "SSH-2.0-OpenSSH")
	assert.Regexp(t, `MAC address +[0-9a-f]{2}:`, catena("show", "10.20.4.15"))
	assert.Contains(t, catena("scan", "--uplinks", "--at", "basin"),
		"{through: basin, reach: [top]}")
	assert.Regexp(t, `(?m)10\.20\.4\.16.* keeper +works`, catena("login", "test"))

	assert.Regexp(t, `10\.20\.4\.18:80 .*login-refused .*accepts the password only in the clear, without TLS`, said)
	family := w.file("hill/families/brackwell.yaml",
		"family: brackwell\nvendor: Brackwell\nmodels: [BR-3]\nplain_basic: true\n")
	assert.Regexp(t, `10\.20\.4\.18:80 .*keeper +works`, catena("login", "test", "10.20.4.18"),
		family)

	// By IPv6 on the link, where the protocols have it. Their other addresses are not looked at
	// here: whoever says the same there is a separate claimant.
	for range 300 { // it asks for names first, which takes longer on a busy machine
		if strings.Contains(w.in("wsd", "cat", "/proc/net/udp6"), ":0E76 ") {
			break
		}
		time.Sleep(200 * time.Millisecond)
	}
	var linked string
	for range 4 { // a datagram may be lost
		linked += catena("scan", "fe80::/10", "--adapter", "eth0", "--patience", "5s")
		if strings.Contains(linked, "LOCKHOUSE") && strings.Contains(linked, "recorder-weir") {
			break
		}
	}
	assert.Regexp(t, `WSD-Device-LOCKHOUSE~2 +\[fe80::[0-9a-f:]+%eth0\]:5357`, linked)
	assert.Regexp(t, `recorder-weir~2 +\[fe80::[0-9a-f:]+%eth0\]:8181 .* BR5-00071 +2\.10\.1`,
		linked)
	assert.Contains(t, catena("scan", "--via", "snmp", "10.99.0.1"),
		"10.99.0.1 is in no network of this machine (it is in eth0 10.20.4.17/24)")
	catena("scan") // they are at their other addresses again

	// The next day the one has another certificate, the other another host key.
	stopTLS()
	stopSSH()
	newKey()
	sshd()
	w.nginx("tls", filepath.Join(w.dir, "basic"), w.certificate("second.pem"))
	accepted := ""
	for range 20 { // scans, until both are up again and were met
		said = catena("scan")
		if !strings.Contains(said, "TLS certificate changed") {
			continue
		}
		var err error
		accepted, err = run("login", "accept", "10.20.4.15", "--yes")
		if err == nil {
			break
		}
	}
	assert.Regexp(t, `10\.20\.4\.16:443 .*identity-changed .*its TLS certificate changed`, said)
	assert.Regexp(t, `the SSH host key changed`, accepted)
	catena("login", "accept", "10.20.4.16", "--yes")
	assert.Regexp(t, `10\.20\.4\.16:443 .*2\.10\.3`, catena("scan", "10.20.4.16"))
}
