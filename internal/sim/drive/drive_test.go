package drive_test

import (
	"encoding/binary"
	"errors"
	"io"
	"net"
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"catena/internal/sim"
	"catena/internal/sim/drive"
	"catena/internal/sim/standintest"
)

// request sends one request of Modbus over TCP, and returns the answer without its header, whose
// transaction, protocol, length and unit must hold (MODBUS Messaging on TCP/IP, 3.1.3).
func request(t *testing.T, c net.Conn, transaction uint16, pdu ...byte) []byte {
	head := binary.BigEndian.AppendUint16(nil, transaction)
	head = binary.BigEndian.AppendUint16(append(head, 0, 0), uint16(len(pdu)+1))
	_, err := c.Write(append(append(head, 9), pdu...))
	require.NoError(t, err)
	require.NoError(t, c.SetReadDeadline(time.Now().Add(time.Minute)))
	answer := make([]byte, 7)
	_, err = io.ReadFull(c, answer)
	require.NoError(t, err)
	assert.Equal(t, transaction, binary.BigEndian.Uint16(answer))
	assert.Zero(t, binary.BigEndian.Uint16(answer[2:]))
	assert.EqualValues(t, 9, answer[6])
	body := make([]byte, binary.BigEndian.Uint16(answer[4:])-1)
	_, err = io.ReadFull(c, body)
	require.NoError(t, err)
	return body
}

// The device identification is read object by object, in a stream or one alone; an object that it does not
// have is an exception (MODBUS Application Protocol 1.1b3, 6.21 and 7).
func TestModbus(t *testing.T) {
	address := standintest.Start(t, sim.Device{Kind: "drive", Model: "HD-7", Version: "1.0"})
	host, _, _ := net.SplitHostPort(address)
	c, err := net.Dial("tcp", net.JoinHostPort(host, strconv.Itoa(drive.ModbusPort)))
	require.NoError(t, err)
	defer func() { _ = c.Close() }()
	want := []string{"Harrow & Dene", "HD-7", "1.0"}
	for i, from := 0, byte(0); i < len(want); i++ {
		a := request(t, c, uint16(i), 0x2b, 0x0e, 1, from)
		require.Greater(t, len(a), 10)
		assert.Equal(t, []byte{0x2b, 0x0e, 1}, a[:3])
		assert.Equal(t, want[i], string(a[9:9+int(a[8])]))
		assert.Equal(t, i < 2, a[4] == 0xff, "more follows")
		from = a[5]
	}
	one := request(t, c, 7, 0x2b, 0x0e, 4, 1)
	assert.Equal(t, "HD-7", string(one[9:]))
	assert.Equal(t, []byte{0, 0}, one[4:6], "one alone: nothing follows")
	for what, pdu := range map[string][]byte{
		"a function that it has not": {3, 0, 0, 0, 1},
		"another subfunction":        {0x2b, 0x0d, 1, 0},
	} {
		assert.Equal(t, []byte{pdu[0] | 0x80, 1}, request(t, c, 8, pdu...), what)
	}
	assert.Equal(t, []byte{0xab, 2}, request(t, c, 9, 0x2b, 0x0e, 4, 0x70), "no such object")
	assert.Equal(t, []byte{0xab, 3}, request(t, c, 9, 0x2b, 0x0e, 9, 0), "no such access")
}

// It ends the connection after three wrong passwords (RFC 4252, 4), takes files only in service
// mode, and nothing but sessions.
func TestSSH(t *testing.T) {
	address := standintest.Start(t, sim.Device{Kind: "drive", Model: "HD-7", Version: "1.0"})
	tries := 0
	dial := func(method ssh.AuthMethod) (*ssh.Client, error) {
		return ssh.Dial("tcp", address, &ssh.ClientConfig{User: standintest.User,
			Auth: []ssh.AuthMethod{method}, HostKeyCallback: ssh.InsecureIgnoreHostKey()})
	}
	_, err := dial(ssh.RetryableAuthMethod(ssh.PasswordCallback(func() (string, error) {
		tries++
		return "mitre", nil
	}), 20))
	require.Error(t, err)
	assert.LessOrEqual(t, tries, 3)
	c, err := dial(ssh.Password(standintest.Password))
	require.NoError(t, err)
	defer func() { _ = c.Close() }()
	run := func(command, in string) (string, int) {
		s, err := c.NewSession()
		require.NoError(t, err)
		defer func() { _ = s.Close() }()
		pipe, err := s.StdinPipe()
		require.NoError(t, err)
		_, err = io.WriteString(pipe, in)
		require.NoError(t, err)
		out, err := s.Output(command)
		var status *ssh.ExitError
		if errors.As(err, &status) {
			return string(out), status.ExitStatus()
		}
		require.NoError(t, err)
		return string(out), 0
	}
	out, status := run("nothing", "")
	assert.Equal(t, 2, status, out)
	_, status = run("service on", "0000\n")
	assert.Equal(t, 3, status, "the code is wrong")
	out, status = run("firmware start", "")
	assert.Equal(t, 1, status, out)
	_, _, err = c.OpenChannel("direct-tcpip", nil)
	assert.Error(t, err, "it forwards no connections")
	_, status = run("service on", drive.ServiceCode+"\n")
	assert.Zero(t, status)
	out, _ = run("show", "")
	assert.Contains(t, out, "service  on")
}
