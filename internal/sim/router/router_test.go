package router_test

import (
	"bufio"
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"catena/internal/sim"
	"catena/internal/sim/router"
	"catena/internal/sim/standintest"
)

// It refuses single commands, files, and a shell without a terminal (RFC 4254, 6.2 and 6.5); in its
// shell a long answer has pages, and nothing is changed before the second password.
func TestTheShell(t *testing.T) {
	address := standintest.Start(t, sim.Device{Kind: "router", Model: "OR-4", Version: "1.0"})
	c, err := ssh.Dial("tcp", address, &ssh.ClientConfig{User: standintest.User,
		Auth:            []ssh.AuthMethod{ssh.Password(standintest.Password)},
		HostKeyCallback: ssh.InsecureIgnoreHostKey()})
	require.NoError(t, err)
	defer func() { _ = c.Close() }()
	open := func() *ssh.Session {
		s, err := c.NewSession()
		require.NoError(t, err)
		t.Cleanup(func() { _ = s.Close() })
		return s
	}
	assert.Error(t, open().Run("status"))
	assert.Error(t, open().RequestSubsystem("sftp"))
	assert.Error(t, open().Shell(), "without a terminal")

	s := open()
	require.NoError(t, s.RequestPty("dumb", 80, 24, ssh.TerminalModes{}))
	in, err := s.StdinPipe()
	require.NoError(t, err)
	out, err := s.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, s.Shell())
	printed := bufio.NewReader(out)
	until := func(mark string) string {
		var b strings.Builder
		for !strings.HasSuffix(b.String(), mark) {
			r, err := printed.ReadByte()
			require.NoError(t, err, b.String())
			b.WriteByte(r)
		}
		return b.String()
	}
	typed := func(text string) { _, err := io.WriteString(in, text); require.NoError(t, err) }
	until("first>\x1b[0m ")
	typed("status\r")
	page := until("-- more: space --")
	assert.Contains(t, page, "serial   S-1")
	assert.NotContains(t, page, "version")
	typed(" ")
	assert.Contains(t, until("first>\x1b[0m "), "version  1.0")
	typed("write x\r")
	assert.Contains(t, until("first>\x1b[0m "), "error: unlock it first")
	typed("unlock\r")
	until("Second password: ")
	typed("mitre\r")
	assert.Contains(t, until("first>\x1b[0m "), "error: wrong password")
	typed("unlock\r")
	until("Second password: ")
	typed(router.SecondPassword + "\r")
	assert.NotContains(t, until("first#\x1b[0m "), router.SecondPassword, "it is not echoed")
	typed("write x\r")
	assert.Contains(t, until("first#\x1b[0m "), "error: ")
	typed("restart\r")
	until("[y/n] ")
	typed("n\r")
	assert.Contains(t, until("first#\x1b[0m "), "not restarted")
}
