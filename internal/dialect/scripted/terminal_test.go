package scripted_test

import (
	"bufio"
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"io"
	"net"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"catena/internal/device"
	"catena/internal/dialect"
	"catena/internal/dialect/scripted"
	"catena/internal/family"
	"catena/internal/firmware"
	"catena/internal/login"
)

// console is a device that has only a shell. Its commands are functions; what they print ends with
// the prompt, unless they return false: then the connection ends.
type console struct {
	commands map[string]func(in *bufio.Reader, out io.Writer) bool
	typed    atomic.Int64
}

func (c *console) serve(t *testing.T) string {
	_, key, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	signer, err := ssh.NewSignerFromKey(key)
	require.NoError(t, err)
	config := &ssh.ServerConfig{PasswordCallback: func(ssh.ConnMetadata, []byte) (*ssh.Permissions, error) {
		return nil, nil
	}}
	config.AddHostKey(signer)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { _ = l.Close() })
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go c.connection(conn, config)
		}
	}()
	return l.Addr().String()
}

func (c *console) connection(conn net.Conn, config *ssh.ServerConfig) {
	server, channels, requests, err := ssh.NewServerConn(conn, config)
	if err != nil {
		return
	}
	defer func() { _ = server.Close() }()
	go ssh.DiscardRequests(requests)
	for channel := range channels {
		ch, asked, err := channel.Accept()
		if err != nil {
			return
		}
		for q := range asked {
			_ = q.Reply(q.Type == "pty-req" || q.Type == "shell", nil)
			if q.Type == "shell" {
				c.shell(ch)
				return
			}
		}
	}
}

func (c *console) shell(ch ssh.Channel) {
	in := bufio.NewReader(ch)
	for {
		_, _ = io.WriteString(ch, "\r\nbox> ")
		line, err := in.ReadString('\r')
		if err != nil {
			return
		}
		c.typed.Add(1)
		_, _ = io.WriteString(ch, line+"\n") // it echoes, whatever is asked of it
		do := c.commands[strings.TrimSuffix(line, "\r")]
		if do != nil && !do(in, ch) {
			return
		}
	}
}

const consoleFamily = "family: boxes\nvendor: Osmere\nmodels: [SSH]\nprotocol: ssh\n" +
	"terminal: {prompt: '^box> $', pages: {'^-- more --$': ' '}}\n" +
	"wire: {error: '~ (?m)^error: (.+)'}\n" +
	"recognise:\n  - get: greeting\n    take: {model: ~ (SSH)}\n" +
	"read:\n  - run: show\n    take: {version: ~ (?m)^version (\\S+), last: ~ (?m)^last (\\S+)}\n"

func (c *console) session(t *testing.T, lines string) dialect.Session {
	f, err := family.Parse("boxes.yaml", []byte(consoleFamily+lines))
	require.NoError(t, err)
	s := scripted.New(f, 1).Open(dialect.At{Endpoint: device.Endpoint{Address: c.serve(t)}},
		login.Credential{User: "keeper", Password: "quoin"})
	t.Cleanup(func() { _ = s.Close(context.Background()) })
	return s
}

// A shell turns its pages, and its echo, its colours and what it writes over are no part of an answer.
func TestAShellIsRead(t *testing.T) {
	c := &console{commands: map[string]func(*bufio.Reader, io.Writer) bool{
		"show": func(in *bufio.Reader, out io.Writer) bool {
			_, _ = io.WriteString(out, "wait...\rversion 4.2\r\n\x1b[1m-- more --\x1b[0m")
			b, err := in.ReadByte()
			_, _ = io.WriteString(out, "\r          \rlast line\r\n")
			return err == nil && b == ' '
		},
		"set": func(_ *bufio.Reader, out io.Writer) bool {
			_, _ = io.WriteString(out, "error: locked\r\n")
			return true
		},
	}}
	s := c.session(t, "blink: {steps: [{run: set}]}\nstate: {well: last == \"line\"}\n")
	r, err := s.Read(t.Context())
	require.NoError(t, err)
	assert.Equal(t, "4.2", r.Version)
	require.NoError(t, s.Healthy(t.Context(), r), "the second page was read, too")
	l, err := s.Locate()
	require.NoError(t, err)
	_, err = l.Show(t.Context(), true, "")
	require.ErrorIs(t, err, device.ErrRefused)
	assert.Contains(t, err.Error(), "locked")
}

// A device that refuses single commands is told apart from one that refuses what they ask.
func TestAShellWithoutAFamilyForIt(t *testing.T) {
	f, err := family.Parse("boxes.yaml", []byte(strings.Replace(consoleFamily,
		"terminal: {prompt: '^box> $', pages: {'^-- more --$': ' '}}\n", "", 1)))
	require.NoError(t, err)
	s := scripted.New(f, 1).Open(dialect.At{Endpoint: device.Endpoint{Address: (&console{}).serve(t)}},
		login.Credential{User: "keeper", Password: "quoin"})
	_, err = s.Read(t.Context())
	assert.ErrorContains(t, err, "it accepts no commands over SSH; if it starts a shell, its family "+
		"requires terminal:")
}

// A command that runs for long tells its progress while it runs. It is typed once, also where the
// connection ends before its answer: then the device's state tells.
func TestACommandThatTellsItsProgress(t *testing.T) {
	for _, breaks := range []bool{false, true} {
		seen, proceed := make(chan struct{}), make(chan struct{})
		c := &console{}
		c.commands = map[string]func(*bufio.Reader, io.Writer) bool{
			"show": func(_ *bufio.Reader, out io.Writer) bool {
				_, _ = io.WriteString(out, "version 4.2\r\nlast x\r\n")
				return true
			},
			"write": func(_ *bufio.Reader, out io.Writer) bool {
				_, _ = io.WriteString(out, "\rwritten 10 %\rwritten 40 %")
				close(seen)
				<-proceed
				return !breaks
			},
		}
		s := c.session(t, "update:\n  - run: prepare\n    writes: true\n  - run: write\n"+
			"    progress: written (\\d+) %\nstate: {busy: last == \"busy\"}\n")
		u, err := s.Update("main")
		require.NoError(t, err)
		require.NoError(t, u.Ready(t.Context(), dialect.Image{SHA256: "00"}))
		require.NoError(t, u.Transfer(t.Context(), dialect.Image{SHA256: "00"}, nil))
		percent := 0
		for percent < 40 {
			percent, err = u.Progress(t.Context())
			require.NoError(t, err)
			require.Less(t, percent, 100)
		}
		<-seen
		assert.Equal(t, 40, percent)
		close(proceed)
		for err == nil && percent < 100 {
			percent, err = u.Progress(t.Context())
		}
		if !breaks {
			require.NoError(t, err)
			continue
		}
		require.ErrorIs(t, err, device.ErrAway)
		typed := c.typed.Load()
		_, err = u.Progress(t.Context())
		require.ErrorIs(t, err, device.ErrUnsupported, "it is idle: its version will tell")
		assert.Equal(t, typed+1, c.typed.Load(), "it was only read")
	}
}

// What entering does in a shell holds for that shell: one that continues after a crash, or after its
// connection broke, enters again. The device has left with the shell in which it was entered.
func TestAnotherShellEntersAgain(t *testing.T) {
	unlocked := map[*bufio.Reader]bool{}
	c := &console{commands: map[string]func(*bufio.Reader, io.Writer) bool{
		"show": func(_ *bufio.Reader, out io.Writer) bool {
			_, _ = io.WriteString(out, "version 4.2\r\nlast line\r\n")
			return true
		},
		"unlock": func(in *bufio.Reader, _ io.Writer) bool { unlocked[in] = true; return true },
		"lock":   func(in *bufio.Reader, _ io.Writer) bool { unlocked[in] = false; return true },
		"set": func(in *bufio.Reader, out io.Writer) bool {
			if !unlocked[in] {
				_, _ = io.WriteString(out, "error: unlock it first\r\n")
			}
			return true
		},
		"drop": func(*bufio.Reader, io.Writer) bool { return false },
	}}
	f, err := family.Parse("boxes.yaml", []byte(consoleFamily+"enter: {steps: [{run: unlock}]}\n"+
		"leave: {steps: [{run: lock}]}\nrestart: [{run: set}, {run: drop, gone: true}]\n"+
		"update: [{run: set, writes: true}]\n"))
	require.NoError(t, err)
	var disk []byte
	at := dialect.At{Endpoint: device.Endpoint{Address: c.serve(t)}, Caller: dialect.Caller{
		Keep: func(k dialect.Kept) error { disk = k.Raw; return nil },
		Kept: func() ([]byte, error) { return disk, nil }}}
	open := func() (dialect.Session, dialect.Update) {
		s := scripted.New(f, 1).Open(at, login.Credential{User: "keeper", Password: "quoin"})
		_, err := s.Read(t.Context())
		require.NoError(t, err)
		u, err := s.Update(firmware.Main)
		require.NoError(t, err)
		return s, u
	}
	_, first := open()
	require.NoError(t, first.Activate(t.Context()))
	require.NotEmpty(t, disk, "it is entered")
	require.NoError(t, first.Activate(t.Context()), "its shell was closed")
	next, second := open() // the first one was killed
	require.NoError(t, second.Activate(t.Context()))
	require.NoError(t, next.Close(t.Context()))
	assert.Empty(t, disk, "it was left")
}
