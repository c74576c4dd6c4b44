package snmp_test

import (
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"catena/internal/device"
	"catena/internal/dialect"
	"catena/internal/dialect/snmp"
	"catena/internal/login"
)

// A real agent, with users that have a privacy secret of their own.
func TestRealAgent(t *testing.T) {
	program, err := exec.LookPath("snmpd")
	if err != nil {
		t.Skip("there is no snmpd here (Debian's package snmpd)")
	}
	free, err := net.ListenPacket("udp", "127.0.0.1:0")
	require.NoError(t, err)
	address := free.LocalAddr().String()
	require.NoError(t, free.Close())
	dir := t.TempDir()
	conf := filepath.Join(dir, "snmpd.conf")
	require.NoError(t, os.WriteFile(conf, []byte(fmt.Sprintf(`agentAddress udp:%s
[snmp] persistentDir %s
sysName top
createUser warden SHA-256 quoin-and-sluice AES towpath-and-gate
createUser lodger MD5 quoin-and-sluice
rouser warden priv
rouser lodger auth
`, address, dir)), 0o600))
	c := exec.Command(program, "-f", "-LE", "4", "-C", "-c", conf, "-I", "-smux")
	require.NoError(t, c.Start())
	t.Cleanup(func() { _ = c.Process.Kill(); _ = c.Wait() })
	at := dialect.At{Endpoint: device.Endpoint{Dialect: snmp.Name, Address: address,
		ProtocolVersion: snmp.V3}}
	read := func(as login.Credential) error {
		_, err := snmp.Dialect{}.Open(at, as).Read(t.Context())
		return err
	}
	warden := login.Credential{User: "warden", Password: "quoin-and-sluice",
		SNMP: login.SNMP{Auth: "sha256", Privacy: "aes", Secret: "towpath-and-gate"}}
	require.Eventually(t, func() bool { return read(warden) == nil }, time.Minute,
		100*time.Millisecond,
		"it takes a moment to come up")
	require.NoError(t, read(login.Credential{User: "lodger", Password: "quoin-and-sluice",
		SNMP: login.SNMP{Auth: "md5"}}))
	wrong := warden
	wrong.SNMP.Secret = "another-secret"
	require.Error(t, read(wrong))
	wrong = warden
	wrong.SNMP.Auth = "sha"
	require.ErrorIs(t, read(wrong), device.ErrLoginRefused)
}
