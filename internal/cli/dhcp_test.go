//go:build linux

package cli_test

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Debian's DHCP client in a namespace gets its address, another one gets none; and where a DHCP
// server answers, nothing is given.
func TestRealDHCPClient(t *testing.T) {
	w := newTown(t)
	for _, program := range []string{"udhcpc", "udhcpd"} {
		if _, err := exec.LookPath(program); err != nil {
			t.Skipf("there is no %s", program)
		}
	}
	w.host("laptop", 1)
	w.host("boxed", 2)
	w.host("other", 3)
	for host, mac := range map[string]string{"boxed": "02:00:5e:00:53:61",
		"other": "02:00:5e:00:53:62"} {
		w.ip("-n", w.prefix+host, "addr", "flush", "dev", "eth0")
		w.ip("-n", w.prefix+host, "link", "set", "eth0", "address", mac)
	}
	site := filepath.Join(w.dir, "hill")
	catena := func(args ...string) *exec.Cmd {
		cmd := exec.Command("ip", append([]string{"netns", "exec", w.prefix + "laptop", "catena"},
			args...)...)
		cmd.Dir = w.dir
		cmd.Env = append(os.Environ(), "CATENA_SHELF="+filepath.Join(w.dir, "shelf"))
		return cmd
	}
	out, err := catena("new", "Marrow Hill Locks", "-C", site, "--adapter", "eth0").CombinedOutput()
	require.NoError(t, err, "%s", out)
	lease := filepath.Join(w.dir, "lease.sh")
	require.NoError(t, os.WriteFile(lease, []byte("#!/bin/sh\n[ \"$1\" = bound ] && ip addr add "+
		"$ip/$mask dev $interface\nexit 0\n"), 0o755))
	ask := func(host, tries string) string {
		out, _ := exec.Command("ip", "netns", "exec", w.prefix+host, "udhcpc", "-i", "eth0", "-n", "-q",
			"-f", "-t", tries, "-T", "1",
			"-s", lease).CombinedOutput()
		return string(out)
	}

	give := catena("-C", site, "address", "give", "02:00:5e:00:53:61", "10.20.4.61/24", "--adapter",
		"eth0", "--yes", "--for", "3m")
	var said bytes.Buffer
	give.Stdout, give.Stderr = &said, &said
	require.NoError(t, give.Start())
	assert.Contains(t, ask("other", "3"), "no lease")
	list, err := catena("-C", site, "address", "list", "--adapter", "eth0", "--for",
		"1s").CombinedOutput()
	require.NoError(t, err, "%s", list)
	got := ask("boxed", "40")
	assert.Contains(t, got, "lease of 10.20.4.61 obtained from 10.20.4.1")
	require.NoError(t, give.Wait(), said.String())
	assert.Regexp(t, `02:00:5e:00:53:61 sent a request, and was offered 10\.20\.4\.61`, said.String())
	assert.Contains(t, said.String(), "02:00:5e:00:53:61 has 10.20.4.61 now. Find it: catena scan "+
		"10.20.4.61")
	assert.NotContains(t, said.String(), "53:62")

	// one that asks, and one of another net, are heard
	listing := catena("-C", site, "address", "list", "--adapter", "eth0", "--for", "6s")
	said.Reset()
	listing.Stdout, listing.Stderr = &said, &said
	require.NoError(t, listing.Start())
	assert.Contains(t, ask("other", "3"), "no lease")
	require.NoError(t, listing.Wait())
	assert.Regexp(t, `02:00:5e:00:53:62 +dhcp +it asks for an address`,
		regexp.MustCompile(` +`).ReplaceAllString(said.String(), " "))

	refused := func(want string, args ...string) {
		out, err := catena(append([]string{"-C", site, "address", "give"}, append(args, "--adapter",
			"eth0", "--yes")...)...).CombinedOutput()
		require.Error(t, err, "%s", out)
		assert.Regexp(t, want, string(out))
	}
	refused("someone answers there; nothing was given", "02:00:5e:00:53:62", "10.20.4.61/24")
	refused("eth0 has no address in 192.168.7.0/24", "02:00:5e:00:53:62", "192.168.7.2/24")
	refused("is not a MAC address of a device", "ff:ff:ff:ff:ff:ff", "10.20.4.62/24")
	w.ip("-n", w.prefix+"boxed", "addr", "flush", "dev", "eth0")
	w.ip("-n", w.prefix+"boxed", "addr", "add", "10.20.4.9/24", "dev", "eth0")
	conf := filepath.Join(w.dir, "udhcpd.conf")
	require.NoError(t, os.WriteFile(conf, []byte("start 10.20.4.100\nend 10.20.4.110\ninterface "+
		"eth0\nlease_file /run/leases\npidfile /run/pid\n"), 0o644))
	w.daemon("boxed", "touch /run/leases\nexec udhcpd -f "+conf)
	assert.Contains(t, ask("other", "20"), "obtained from 10.20.4.9") // it is up
	refused("another DHCP server answers there: 10.20.4.9; nothing was given", "02:00:5e:00:53:62",
		"10.20.4.62/24")
}

// A camera fresh from its box: its own DHCP client asks, it is heard, given an address, found there
// and flashed.
func TestABoxedCamera(t *testing.T) {
	w := newTown(t)
	w.host("laptop", 1)
	w.host("boxed", 2)
	w.ip("-n", w.prefix+"boxed", "addr", "flush", "dev", "eth0")
	w.ip("-n", w.prefix+"boxed", "link", "set", "eth0", "address", "02:00:5e:00:53:71")
	scenario := w.file("boxed.yaml", `site: Marrow Hill Locks
login: {user: keeper, password: quoin-and-sluice}
devices: [{name: cam-53, kind: camera, model: WX-40, hardware: B, serial: WX4-10053, version: 3.1.0, host: 53}]
images:
  - {maker: Wexcombe, models: [WX-40], version: 3.1.0, file: wx40_3.1.0.bin, bytes: 40000}
  - {maker: Wexcombe, models: [WX-40], version: 3.2.1, file: wx40_3.2.1.bin, bytes: 40000}
`)
	catena := func(args ...string) string {
		cmd := exec.Command("ip", append([]string{"netns", "exec", w.prefix + "laptop", "catena", "-C",
			"hill"}, args...)...)
		cmd.Dir = w.dir
		cmd.Env = append(os.Environ(), "CATENA_SHELF="+filepath.Join(w.dir, "shelf"),
			"CATENA_LOGIN=keeper:quoin-and-sluice")
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, "%v: %s", args, out)
		return string(out)
	}
	catena("new", "Marrow Hill Locks", "--adapter", "eth0", "--range", "10.20.4.0/24", "--port",
		"8080")
	w.daemon("boxed", "exec catena sim "+scenario+" --boxed eth0 --images "+w.dir+"/firmware")
	var heard string
	require.Eventually(t, func() bool {
		heard = catena("address", "list", "--adapter", "eth0", "--for", "3s")
		return regexp.MustCompile(`02:00:5e:00:53:71 .*it asks for an address`).MatchString(heard)
	}, time.Minute, time.Millisecond, "%s", heard)
	said := catena("address", "give", "02:00:5e:00:53:71", "10.20.4.53/24", "--adapter", "eth0",
		"--yes", "--for", "2m")
	assert.Contains(t, said, "02:00:5e:00:53:71 has 10.20.4.53 now")
	require.Eventually(t, func() bool {
		heard = catena("scan", "10.20.4.53", "--patience", "3s")
		return regexp.MustCompile(
			`10\.20\.4\.53:8080 +Wexcombe +WX-40 +B +WX4-10053 +3\.1\.0`).MatchString(heard)
	}, time.Minute, time.Millisecond, "%s", heard)
	catena("shelf", "add", "firmware")
	assert.Regexp(t, `done +3\.1\.0 +3\.2\.1`, catena("flash", "--all", "--yes"))
}
