package wire_test

import (
	"bytes"
	"crypto/ed25519"
	"crypto/rand"
	"io"
	"net"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"catena/internal/device"
	"catena/internal/login"
	"catena/internal/wire"
)

// sshd is a server without SFTP. Each command is carried out by run on its channel, which is closed
// then.
func sshd(t *testing.T, run func(command string, c ssh.Channel)) (address string) {
	config := &ssh.ServerConfig{NoClientAuth: true}
	config.AddHostKey(hostKey(t))
	return serveRaw(t, func(conn net.Conn) {
		_, channels, requests, err := ssh.NewServerConn(conn, config)
		if err != nil {
			return
		}
		go ssh.DiscardRequests(requests)
		for offered := range channels {
			c, requests, err := offered.Accept()
			if err != nil {
				return
			}
			go func() {
				for r := range requests {
					_ = r.Reply(r.Type == "exec", nil) // no subsystem
					if r.Type == "exec" {
						run(string(r.Payload[4:]), c)
						_ = c.Close()
					}
				}
			}()
		}
	})
}

func hostKey(t *testing.T) ssh.Signer {
	_, private, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	signer, err := ssh.NewSignerFromKey(private)
	require.NoError(t, err)
	return signer
}

// A transfer by SCP that is cut off is reported with its bytes, and not as a device without SCP.
func TestSCPThatIsCutOff(t *testing.T) {
	image := make([]byte, 4<<20)
	for says, run := range map[string]func(command string, c ssh.Channel){
		"it offers neither SFTP nor SCP": func(string, ssh.Channel) {},
		"the transfer was interrupted after 0 of 4194304 bytes": func(_ string, c ssh.Channel) {
			_, _ = c.Write([]byte{0})
			_, _ = io.ReadFull(c, make([]byte, 4))
		},
		"the transfer was interrupted after ": func(_ string, c ssh.Channel) {
			_, _ = c.Write([]byte{0})
			line := make([]byte, len("C0644 4194304 image.bin\n"))
			_, _ = io.ReadFull(c, line)
			_, _ = c.Write([]byte{0})
			_, _ = io.ReadFull(c, make([]byte, 1<<20))
		},
		"image.bin cannot be written: disk full": func(_ string, c ssh.Channel) {
			_, _ = c.Write([]byte("\x01disk full\n"))
		},
	} {
		s, err := wire.DialSSH(t.Context(), sshd(t, run), login.Credential{User: "keeper"},
			func(string, string) error { return nil })
		require.NoError(t, err, says)
		err = s.Upload(t.Context(), "image.bin", wire.Body{From: bytes.NewReader(image),
			Size: int64(len(image))})
		s.Close()
		require.Error(t, err, says)
		assert.ErrorContains(t, err, says)
		if says[:3] == "the" {
			assert.ErrorIs(t, err, device.ErrAway)
		}
	}
}
