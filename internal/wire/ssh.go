package wire

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"path"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"

	"catena/internal/device"
	"catena/internal/login"
	"catena/internal/text"
)

// Bounds of what a device may take and give over SSH.
const (
	sshWithin  = 15 * time.Second // for the connection and the login
	maxPrinted = 256 << 10        // bytes that a command may print
	maxPrompts = 64               // questions that one command may ask
)

// HostKeyOrder is in which order host keys are asked for: always the same, so that a server with
// several shows the same one.
var HostKeyOrder = []string{ssh.KeyAlgoED25519, ssh.KeyAlgoECDSA256, ssh.KeyAlgoECDSA384,
	ssh.KeyAlgoECDSA521, ssh.KeyAlgoRSASHA512, ssh.KeyAlgoRSASHA256, ssh.KeyAlgoRSA}

// SSH is a connection with a device that has let us in (RFC 4253, RFC 4252, RFC 4254).
type SSH struct {
	client *ssh.Client
	conn   net.Conn
}

// DialSSH connects and logs in. The host key is shown to trust before anything is sent; a login
// is tried once: by its key or the agent's, and if it has a password by that, or where the device
// has only that, keyboard-interactive, whose questions are answered with the password where they do
// not echo, once. Its errors are causes.
func DialSSH(ctx context.Context, address string, as login.Credential, trust Trust) (*SSH, error) {
	ctx, cancel := context.WithTimeout(ctx, sshWithin)
	defer cancel()
	conn, err := dial(ctx, "tcp", address)
	if err != nil {
		return nil, cause(ctx, err)
	}
	stop := context.AfterFunc(ctx, func() { _ = conn.Close() })
	defer stop()
	tried := false
	once := func() (string, error) {
		if tried {
			return "", errors.New("the password was rejected")
		}
		tried = true
		return as.Password, nil
	}
	config := &ssh.ClientConfig{User: as.User, HostKeyAlgorithms: HostKeyOrder,
		HostKeyCallback: func(_ string, _ net.Addr, key ssh.PublicKey) error {
			if trust == nil {
				return nil
			}
			return trust(device.KeySSH, ssh.FingerprintSHA256(key))
		},
	}
	if as.Keyed() {
		keys, done, err := signers(as)
		defer done()
		if err != nil {
			_ = conn.Close()
			return nil, cause(ctx, err)
		}
		config.Auth = append(config.Auth, ssh.PublicKeys(keys...))
	}
	if as.Password != "" {
		config.Auth = append(config.Auth, ssh.PasswordCallback(once), ssh.KeyboardInteractive(
			func(_, _ string, questions []string, echo []bool) (answers []string, err error) {
				for i := range questions {
					answer := ""
					if !echo[i] {
						answer, err = once()
					}
					answers = append(answers, answer)
				}
				return answers, err
			}))
	}
	c, channels, requests, err := ssh.NewClientConn(conn, address, config)
	if err != nil {
		_ = conn.Close()
		var known *device.Cause
		switch {
		case errors.As(err, &known):
			return nil, known
		case tried || strings.Contains(err.Error(), "unable to authenticate"):
			return nil, device.ErrLoginRefused
		}
		return nil, cause(ctx, err)
	}
	return &SSH{client: ssh.NewClient(c, channels, requests), conn: conn}, nil
}

// agentKeys are how many keys of an agent are offered: a device counts each as a try.
const agentKeys = 3

// signers are the keys of a login: its own, or those of the SSH agent, which sign until done is
// called. Beside the agent a public key says which of its keys it is.
func signers(as login.Credential) (keys []ssh.Signer, done func(), err error) {
	done = func() {}
	if !as.Agent {
		own, err := ssh.ParsePrivateKey([]byte(as.Key))
		return []ssh.Signer{own}, done, err
	}
	conn, err := net.Dial("unix", os.Getenv("SSH_AUTH_SOCK"))
	if err != nil {
		return nil, done, device.Because(device.OwnFault, "no SSH agent answers at SSH_AUTH_SOCK")
	}
	all, err := agent.NewClient(conn).Signers()
	if only, _, _, _, bad := ssh.ParseAuthorizedKey([]byte(as.Key)); bad == nil {
		all = slices.DeleteFunc(all, func(k ssh.Signer) bool {
			return !bytes.Equal(k.PublicKey().Marshal(), only.Marshal())
		})
	}
	if err == nil && len(all) == 0 {
		err = device.Because(device.OwnFault, "the SSH agent has no key for it")
	}
	return all[:min(len(all), agentKeys)], func() { _ = conn.Close() }, err
}

// Greeting is what an SSH server says of itself before anything else (RFC 4253, 4.2), without the
// line's end.
func Greeting(ctx context.Context, address string) (string, error) {
	conn, err := dial(ctx, "tcp", address)
	if err != nil {
		return "", cause(ctx, err)
	}
	defer func() { _ = conn.Close() }()
	deadline, ok := ctx.Deadline()
	if !ok {
		deadline = time.Now().Add(answerWithin)
	}
	_ = conn.SetDeadline(deadline)
	line := make([]byte, 0, 255)
	for b := make([]byte, 1); len(line) < cap(line); {
		if _, err := conn.Read(b); err != nil {
			return "", cause(ctx, err)
		}
		if b[0] == '\n' {
			return strings.TrimRight(string(line), "\r"), nil
		}
		line = append(line, b[0])
	}
	return "", device.Because(device.Malformed, "a greeting of more than %d bytes", cap(line))
}

// Close ends the connection.
func (s *SSH) Close() { _ = s.client.Close() }

// Prompt is a question of a command and what is typed there.
type Prompt struct {
	Question *regexp.Regexp // on what was printed since the last answer
	Answer   string
}

// Run runs one command and returns its output and its exit status. Each prompt is answered where
// its question is the end of the output; nothing is typed otherwise. seen is shown the output so
// far, each time that there is more; it may be nil.
func (s *SSH) Run(ctx context.Context, command string, prompts []Prompt, seen func([]byte)) ([]byte,
	int, error) {
	session, err := s.client.NewSession()
	if err != nil {
		return nil, 0, cause(ctx, err)
	}
	defer func() { _ = session.Close() }()
	stop := context.AfterFunc(ctx, func() { _ = session.Close() })
	defer stop()
	in, err := session.StdinPipe()
	if err != nil {
		return nil, 0, cause(ctx, err)
	}
	printed := &printed{prompts: prompts, in: in, seen: seen}
	session.Stdout, session.Stderr = printed, printed
	if len(prompts) > 0 { // who asks wants to see a terminal
		_ = session.RequestPty("dumb", 1000, 1000, ssh.TerminalModes{ssh.ECHO: 0})
	}
	if err := session.Start(command); err != nil {
		if ctx.Err() == nil && strings.Contains(err.Error(), "failed") { // its answer (RFC 4254, 6.5)
			return nil, 0, device.Because(device.Refusal, "it accepts no commands over SSH; if it starts a "+
				"shell, its family requires terminal:")
		}
		return nil, 0, cause(ctx, err)
	}
	if len(prompts) == 0 {
		_ = in.Close()
	}
	err = session.Wait()
	out := printed.all()
	var exit *ssh.ExitError
	var missing *ssh.ExitMissingError
	switch {
	case ctx.Err() != nil:
		return out, 0, cause(ctx, ctx.Err())
	case printed.tooMuch():
		return out, 0, device.Because(device.Malformed, "a command printed more than %d KiB",
			maxPrinted>>10)
	case errors.As(err, &exit):
		return out, exit.ExitStatus(), nil
	case errors.As(err, &missing): // the connection ended first
		return out, 0, device.Because(device.NoAnswer, device.BrokenOff)
	case err != nil:
		return out, 0, cause(ctx, err)
	}
	return out, 0, nil
}

// printed is what a command prints, bounded. Colours and carriage returns are taken out.
type printed struct {
	mu      sync.Mutex
	buf     bytes.Buffer
	since   int // from here on nothing was answered
	answers int
	prompts []Prompt
	in      io.Writer
	seen    func([]byte)
	full    bool
}

var escapes = text.Later("\x1b\\[[0-9;?]*[A-Za-z]|\r")

func (p *printed) Write(b []byte) (int, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.buf.Len()+len(b) > maxPrinted {
		p.full = true
		return 0, errors.New("too much")
	}
	p.buf.Write(b)
	if p.seen != nil {
		p.seen(p.buf.Bytes())
	}
	last := escapes().ReplaceAll(p.buf.Bytes()[p.since:], nil)
	for _, prompt := range p.prompts {
		at := prompt.Question.FindAllIndex(last, -1)
		// only what stands at the very end is a question that waits
		if len(at) == 0 || len(bytes.TrimRight(last[at[len(at)-1][1]:], " \t")) > 0 {
			continue
		}
		p.answers++
		if p.answers > maxPrompts {
			p.full = true
			return 0, errors.New("too many questions")
		}
		p.since = p.buf.Len()
		if _, err := io.WriteString(p.in, prompt.Answer+"\n"); err != nil {
			return 0, err
		}
		break
	}
	return len(b), nil
}

func (p *printed) all() []byte {
	p.mu.Lock()
	defer p.mu.Unlock()
	return escapes().ReplaceAll(p.buf.Bytes(), nil)
}

func (p *printed) tooMuch() bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.full
}

// Files opens SFTP on the connection. It ends with the connection.
func (s *SSH) Files() (*sftp.Client, error) { return sftp.NewClient(s.client) }

// sftpAtOnce is how many writes of SFTP are under way together.
const sftpAtOnce = 16

// Upload writes a body into a remote file by SFTP, or where the device has only that, by SCP. It is
// given up when not one byte was taken for a minute.
func (s *SSH) Upload(ctx context.Context, remote string, b Body) error {
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	stop := context.AfterFunc(ctx, func() { _ = s.conn.Close() })
	defer stop()
	stalled := time.AfterFunc(stallAfter, func() {
		cancel(device.Because(device.NoAnswer, "it accepted no more of the image"))
	})
	defer stalled.Stop()
	client, err := sftp.NewClient(s.client, sftp.UseConcurrentWrites(true))
	if err != nil && ctx.Err() == nil {
		return s.scp(ctx, remote, b, stalled)
	}
	if err != nil {
		return cause(ctx, context.Canceled)
	}
	defer func() { _ = client.Close() }()
	f, err := client.Create(remote)
	if err != nil {
		return device.Because(device.Refusal, "%s cannot be written: %v", remote, err)
	}
	body := &counted{Reader: io.NewSectionReader(b.From, 0, b.Size), read: func(n int64) {
		stalled.Reset(stallAfter)
		if b.Sent != nil && n < b.Size {
			b.Sent(n)
		}
	}}
	n, err := f.ReadFromWithConcurrency(body, sftpAtOnce)
	if err == nil {
		err = f.Close()
	}
	switch {
	case ctx.Err() != nil:
		return cause(ctx, context.Canceled)
	case errors.Is(err, sftp.ErrSSHFxConnectionLost):
		return device.Because(device.NoAnswer, device.BrokenOff)
	case err != nil:
		var status *sftp.StatusError
		if errors.As(err, &status) {
			return device.Because(device.Refusal, "%s cannot be written: %v", remote, err)
		}
		return cause(ctx, err)
	case n != b.Size:
		return device.Because(device.NoAnswer, "it accepted %d of %d bytes", n, b.Size)
	}
	if b.Sent != nil {
		b.Sent(b.Size)
	}
	return nil
}

// scp writes a body by the protocol of rcp, as the far side's scp -t speaks it: a line with mode,
// size and name, the bytes, and a zero; each is answered with a zero, or with 1 or 2 and a line.
func (s *SSH) scp(ctx context.Context, remote string, b Body, stalled *time.Timer) error {
	session, err := s.client.NewSession()
	if err != nil {
		return cause(ctx, err)
	}
	defer func() { _ = session.Close() }()
	in, err := session.StdinPipe()
	if err != nil {
		return cause(ctx, err)
	}
	out, err := session.StdoutPipe()
	if err != nil {
		return cause(ctx, err)
	}
	if err := session.Start("scp -t -- " + remote); err != nil {
		return device.Because(device.Refusal, "it offers neither SFTP nor SCP")
	}
	answers := bufio.NewReaderSize(out, maxPrinted)
	body := &counted{Reader: io.NewSectionReader(b.From, 0, b.Size), read: func(n int64) {
		stalled.Reset(stallAfter)
		if b.Sent != nil && n < b.Size {
			b.Sent(n)
		}
	}}
	for i, write := range []func() error{
		func() error { return nil },
		func() error {
			_, err := fmt.Fprintf(in, "C0644 %d %s\n", b.Size,
				path.Base(remote))
			return err
		},
		func() error {
			if _, err := io.Copy(in, body); err != nil {
				return err
			}
			_, err := in.Write([]byte{0})
			return err
		},
	} {
		if err := write(); err != nil {
			return cutOff(ctx, err, body.n, b.Size)
		}
		switch err := scpAnswer(ctx, answers, remote); {
		case errors.Is(err, io.EOF) && i == 0:
			return device.Because(device.Refusal, "it offers neither SFTP nor SCP")
		case err != nil:
			return cutOff(ctx, err, body.n, b.Size)
		}
	}
	_ = in.Close()
	_ = session.Wait() // it has answered for all of it
	if b.Sent != nil {
		b.Sent(b.Size)
	}
	return nil
}

// cutOff is the error of a transfer; io.EOF: the far side closed it after some bytes.
func cutOff(ctx context.Context, err error, sent, size int64) error {
	if ctx.Err() == nil && errors.Is(err, io.EOF) {
		return device.Because(device.NoAnswer, "the transfer was interrupted after %d of %d bytes", sent,
			size)
	}
	return cause(ctx, err)
}

// scpAnswer reads the answer of the far side of scp to a write; io.EOF: it closed.
func scpAnswer(ctx context.Context, answers *bufio.Reader, remote string) error {
	code, err := answers.ReadByte()
	switch {
	case ctx.Err() != nil:
		return cause(ctx, context.Canceled)
	case err != nil:
		return io.EOF
	case code == 0:
		return nil
	}
	line, _ := answers.ReadSlice('\n') // what came of it
	return device.Because(device.Refusal, "%s cannot be written: %s", remote, line)
}

// counted tells how much was read.
type counted struct {
	io.Reader
	n    int64
	read func(int64)
}

func (c *counted) Read(p []byte) (int, error) {
	n, err := c.Reader.Read(p)
	if n > 0 {
		c.n += int64(n)
		c.read(c.n)
	}
	return n, err
}
