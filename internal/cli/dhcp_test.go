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

// Debian's DHCP client in a namespace gets its address, another one gets none; and where a DHCP server
// answers, nothing is given.
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
	for host, mac := range map[string]string{"boxed": "02:00:5e:00:53:61", "other": "02:00:5e:00:53:62"} {
		w.ip("-n", w.prefix+host, "addr", "flush", "dev", "eth0")
		w.ip("-n", w.prefix+host, "link", "set", "eth0", "address", mac)
	}
	site := filepath.Join(w.dir, "hill")
	catena := func(args ...string) *exec.Cmd {
		cmd := exec.Command("ip", append([]string{"netns", "exec", w.prefix + "laptop", "catena"}, args...)...)
		cmd.Dir = w.dir
		cmd.Env = append(os.Environ(), "CATENA_SHELF="+filepath.Join(w.dir, "shelf"))
		return cmd
	}
	out, err := catena("new", "Marrow Hill Locks", "-C", site, "--adapter", "eth0").CombinedOutput()
	require.NoError(t, err, "%s", out)
	lease := filepath.Join(w.dir, "lease.sh")
	require.NoError(t, os.WriteFile(lease, []byte("#!/bin/sh\n[ \"$1\" = bound ] && ip addr add $ip/$mask dev $interface\nexit 0\n"), 0o755))
	ask := func(host, tries string) string {
		out, _ := exec.Command("ip", "netns", "exec", w.prefix+host, "udhcpc", "-i", "eth0", "-n", "-q", "-f", "-t", tries, "-T", "1",
			"-s", lease).CombinedOutput()
		return string(out)
	}

	give := catena("-C", site, "address", "give", "02:00:5e:00:53:61", "10.20.4.61/24", "--adapter", "eth0", "--yes", "--for", "3m")
	var said bytes.Buffer
	give.Stdout, give.Stderr = &said, &said
	require.NoError(t, give.Start())
	time.Sleep(4 * time.Second) // it looks for another server
	assert.Contains(t, ask("other", "3"), "no lease")
	list, err := catena("-C", site, "address", "list", "--adapter", "eth0", "--for", "1s").CombinedOutput()
	require.NoError(t, err, "%s", list)
	got := ask("boxed", "40")
	assert.Contains(t, got, "lease of 10.20.4.61 obtained from 10.20.4.1")
	require.NoError(t, give.Wait(), said.String())
	assert.Regexp(t, `02:00:5e:00:53:61 asks, and was offered 10\.20\.4\.61`, said.String())
	assert.Contains(t, said.String(), "02:00:5e:00:53:61 has 10.20.4.61 now. Find it: catena scan 10.20.4.61")
	assert.NotContains(t, said.String(), "53:62")

	// one that asks, and one of another net, are heard
	listing := catena("-C", site, "address", "list", "--adapter", "eth0", "--for", "4s")
	said.Reset()
	listing.Stdout, listing.Stderr = &said, &said
	require.NoError(t, listing.Start())
	time.Sleep(time.Second)
	assert.Contains(t, ask("other", "3"), "no lease")
	require.NoError(t, listing.Wait())
	assert.Regexp(t, `02:00:5e:00:53:62 +dhcp +it asks for an address`, regexp.MustCompile(` +`).ReplaceAllString(said.String(), " "))

	refused := func(want string, args ...string) {
		out, err := catena(append([]string{"-C", site, "address", "give"}, append(args, "--adapter", "eth0", "--yes")...)...).CombinedOutput()
		require.Error(t, err, "%s", out)
		assert.Regexp(t, want, string(out))
	}
	refused("somebody answers there; nothing was given", "02:00:5e:00:53:62", "10.20.4.61/24")
	refused("eth0 has no address in 192.168.7.0/24", "02:00:5e:00:53:62", "192.168.7.2/24")
	refused("is no hardware address of a device", "ff:ff:ff:ff:ff:ff", "10.20.4.62/24")
	w.ip("-n", w.prefix+"boxed", "addr", "flush", "dev", "eth0")
	w.ip("-n", w.prefix+"boxed", "addr", "add", "10.20.4.9/24", "dev", "eth0")
	conf := filepath.Join(w.dir, "udhcpd.conf")
	require.NoError(t, os.WriteFile(conf, []byte("start 10.20.4.100\nend 10.20.4.110\ninterface eth0\nlease_file /run/leases\npidfile /run/pid\n"), 0o644))
	w.daemon("boxed", "touch /run/leases\nexec udhcpd -f "+conf)
	time.Sleep(time.Second)
	refused("another DHCP server answers there: 10.20.4.9; nothing was given", "02:00:5e:00:53:62", "10.20.4.62/24")
}
