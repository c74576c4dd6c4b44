package standin

import (
	"crypto/ed25519"
	"crypto/rand"
	"errors"
	"io"
	"net"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"
)

// sshFor is how long one connection lasts.
const sshFor = 10 * time.Minute

// SSH has a stand-in speak SSH (RFC 4253, RFC 4252): its login by password, a host key that Rekey
// replaces, and its sessions served by session, which closes its channel.
func SSH(s *StandIn, session func(ssh.Channel, <-chan *ssh.Request)) error {
	signer, err := newHostKey()
	if err != nil {
		return err
	}
	config := &ssh.ServerConfig{ServerVersion: "SSH-2.0-" + s.Model, MaxAuthTries: 3,
		PasswordCallback: func(c ssh.ConnMetadata, password []byte) (*ssh.Permissions, error) {
			s.Did("ssh password of " + c.User())
			if c.User() != s.Login.User || string(password) != s.Login.Password {
				s.Did("refused login")
				return nil, errors.New("user or password is wrong")
			}
			s.LoggedIn()
			return nil, nil
		}}
	config.AddHostKey(signer)
	s.Rekey = func() {
		if another, err := newHostKey(); err == nil {
			fresh := *config
			fresh.AddHostKey(another)
			config = &fresh
		}
	}
	s.Conn = func(c net.Conn) {
		_ = c.SetDeadline(time.Now().Add(sshFor))
		if s.Faults.Silent {
			_, _ = io.Copy(io.Discard, c)
			return
		}
		conn, channels, requests, err := ssh.NewServerConn(c, config)
		if err != nil {
			return
		}
		go ssh.DiscardRequests(requests)
		var open sync.WaitGroup
		for ch := range channels {
			if ch.ChannelType() != "session" {
				_ = ch.Reject(ssh.UnknownChannelType, "there are sessions only")
				continue
			}
			channel, asked, err := ch.Accept()
			if err == nil {
				open.Go(func() { session(channel, asked) })
			}
		}
		open.Wait()
		_ = conn.Close()
	}
	return nil
}

func newHostKey() (ssh.Signer, error) {
	_, key, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return nil, err
	}
	return ssh.NewSignerFromKey(key)
}
