package snmp_test

import (
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
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
rocommunity towpath 127.0.0.1
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
	// Each rejection names what is wrong, and none of them speaks of a community.
	for says, wrong := range map[string]login.Credential{
		"or its privacy password or protocol, is wrong": {User: "warden", Password: "quoin-and-sluice",
			SNMP: login.SNMP{Auth: "sha256", Privacy: "aes", Secret: "another-secret"}},
		"or its authentication password or protocol, is wrong": {User: "warden", Password: "quoin-and-sluice",
			SNMP: login.SNMP{Auth: "sha", Privacy: "aes", Secret: "towpath-and-gate"}},
		"the user, or its authentication password": {User: "nobody", Password: "quoin-and-sluice",
			SNMP: login.SNMP{Auth: "sha256"}},
	} {
		err := read(wrong)
		require.ErrorIs(t, err, device.ErrLoginRefused, says)
		assert.ErrorContains(t, err, says)
		assert.NotContains(t, err.Error(), "community")
	}

	// A wrong community is not answered. The agent answers the discovery of SNMPv3, so it is there, and
	// rejected it; once it is gone, silence is silence.
	at.ProtocolVersion = snmp.V2c
	require.NoError(t, read(login.Credential{Password: "towpath"}))
	require.ErrorIs(t, read(login.Credential{Password: "lockside"}), device.ErrLoginRefused)
	session := snmp.Dialect{}.Open(at, login.Credential{Password: "towpath"})
	_, err = session.Read(t.Context())
	require.NoError(t, err)
	require.NoError(t, c.Process.Kill())
	_ = c.Wait()
	_, err = session.Read(t.Context())
	require.ErrorIs(t, err, device.ErrAway)
	require.ErrorIs(t, read(login.Credential{Password: "lockside"}), device.ErrAway)
}
