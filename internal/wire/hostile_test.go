package wire_test

import (
	"bufio"
	"bytes"
	"compress/gzip"
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"regexp"
	"runtime"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"catena/internal/device"
	"catena/internal/login"
	"catena/internal/wire"
)

// hostileParts are how a hostile HTTP server may put an answer together.
var (
	hostileStarts = map[string]string{"ok": "HTTP/1.1 200 OK\r\n", "no status": "HTTP/1.1\r\n",
		"another protocol": "SIP/2.0 200 OK\r\n", "a status of four digits": "HTTP/1.1 2000 OK\r\n",
		"a thousand times 100": strings.Repeat("HTTP/1.1 100 Continue\r\n\r\n", 1000) +
			"HTTP/1.1 200 OK\r\n",
		"an upgrade": "HTTP/1.1 101 Switching Protocols\r\nUpgrade: x\r\nConnection: Upgrade\r\n"}
	hostileHeaders = map[string]string{"none": "", "a long line": "X: " + strings.Repeat("x", 4<<20) +
		"\r\n",
		"very many":             strings.Repeat("X-Filler: y\r\n", 200_000),
		"a negative length":     "Content-Length: -1\r\n",
		"a length of exabytes":  "Content-Length: 9000000000000000000\r\n",
		"two lengths":           "Content-Length: 1\r\nContent-Length: 2\r\n",
		"a broken chunk":        "Transfer-Encoding: chunked\r\n",
		"compressed":            "Content-Encoding: gzip\r\n",
		"control characters":    "X: a\x00b\x1b[2J\r\n",
		"a redirect to a file":  "Location: file:///etc/passwd\r\n",
		"cookies without bound": strings.Repeat("Set-Cookie: a=b\r\n", 20_000)}
	hostileBodies = map[string]func(io.Writer){"nothing": func(io.Writer) {},
		"without end": func(w io.Writer) {
			for filled := bytes.Repeat([]byte("x"), 64<<10); ; {
				if _, err := w.Write(filled); err != nil {
					return
				}
			}
		},
		"a bomb": func(w io.Writer) { _, _ = w.Write(bomb()) }}
)

// bomb is 64 MiB of zeros, compressed.
var bomb = sync.OnceValue(func() []byte {
	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	for range 64 {
		_, _ = z.Write(make([]byte, 1<<20))
	}
	_ = z.Close()
	return b.Bytes()
})

// Whatever an HTTP server answers, a request ends within its time and memory, with an answer within
// bounds or with a cause.
func TestHostileHTTP(t *testing.T) {
	bomb()
	runtime.GC()
	var most, count atomic.Uint64
	stop := make(chan struct{})
	go func() { // what is held at most, of all that run at the same time
		for {
			select {
			case <-stop:
				return
			case <-time.After(5 * time.Millisecond):
			}
			var m runtime.MemStats
			runtime.ReadMemStats(&m)
			most.Store(max(most.Load(), m.HeapInuse))
		}
	}()
	var room sync.WaitGroup
	turns := make(chan struct{}, 4)
	for start, first := range hostileStarts {
		for header, second := range hostileHeaders {
			for body, third := range hostileBodies {
				turns <- struct{}{}
				room.Go(func() {
					defer func() { <-turns }()
					count.Add(1)
					what := fmt.Sprintf("%s, %s, %s", start, header, body)
					address := serveRaw(t, func(c net.Conn) {
						_, _ = http.ReadRequest(bufio.NewReader(c))
						for _, part := range []string{first, second, "\r\n"} {
							_, _ = io.WriteString(c, part)
						}
						third(c)
					})
					ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
					defer cancel()
					r, err := http.NewRequest(http.MethodGet, "http://"+address+"/", nil)
					if !assert.NoError(t, err) {
						return
					}
					a, err := wire.NewHTTP(nil).Ask(ctx, r)
					if err != nil {
						var cause *device.Cause
						assert.ErrorAs(t, err, &cause, what)
						assert.NotContains(t, err.Error(), "\x1b", what)
					}
					assert.LessOrEqual(t, len(a.Body), 256<<10, what)
				})
			}
		}
	}
	room.Wait()
	close(stop)
	assert.EqualValues(t, len(hostileStarts)*len(hostileHeaders)*len(hostileBodies), count.Load())
	t.Logf("%d behaviours, at most %d MiB held, four at the same time", count.Load(), most.Load()>>20)
	assert.Less(t, most.Load(), uint64(100<<20))
}

// serveRaw serves connections on a port of its own, each once.
func serveRaw(t *testing.T, serve func(net.Conn)) string {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { _ = l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer func() { _ = c.Close() }()
				serve(c)
			}()
		}
	}()
	return l.Addr().String()
}

// Whatever an SSH server does, a login, a command and a shell end within their time, with a cause,
// and the password is sent once.
func TestHostileSSH(t *testing.T) {
	signer := hostKey(t)
	flood := func(w io.Writer) {
		for filled := bytes.Repeat([]byte("x"), 32<<10); ; {
			if _, err := w.Write(filled); err != nil {
				return
			}
		}
	}
	for name, c := range map[string]struct {
		raw     func(net.Conn)
		asks    bool                // for its password a hundred times, in ever new questions
		session func(c ssh.Channel) // after an exec or a shell
	}{
		"nothing is said":          {raw: func(c net.Conn) { _, _ = io.Copy(io.Discard, c) }},
		"a greeting without end":   {raw: func(c net.Conn) { flood(c) }},
		"a greeting of HTTP":       {raw: func(c net.Conn) { _, _ = io.WriteString(c, "HTTP/1.1 200 OK\r\n\r\n") }},
		"version 1":                {raw: func(c net.Conn) { _, _ = io.WriteString(c, "SSH-1.5-x\r\n") }},
		"it hangs up":              {raw: func(net.Conn) {}},
		"a packet of four GiB":     {raw: func(c net.Conn) { _, _ = io.WriteString(c, "SSH-2.0-x\r\n\xff\xff\xff\xff") }},
		"it asks without end":      {asks: true},
		"it answers without end":   {session: func(c ssh.Channel) { flood(c) }},
		"errors without end":       {session: func(c ssh.Channel) { flood(c.Stderr()) }},
		"it prints a prompt often": {session: func(c ssh.Channel) { _, _ = io.WriteString(c, strings.Repeat("box> \r\n", 9)+"box> ") }},
		"it closes the session":    {session: func(c ssh.Channel) { _ = c.Close() }},
		"it answers nothing":       {session: func(c ssh.Channel) { _, _ = io.Copy(io.Discard, c) }},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			var passwords atomic.Int64
			config := &ssh.ServerConfig{MaxAuthTries: 100}
			config.AddHostKey(signer)
			if c.asks {
				config.KeyboardInteractiveCallback = func(_ ssh.ConnMetadata, ask ssh.KeyboardInteractiveChallenge) (
					*ssh.Permissions, error) {
					for range 100 {
						if answers, err := ask("", "", []string{"Password: "}, []bool{false}); err != nil {
							return nil, err
						} else if answers[0] == "quoin" {
							passwords.Add(1)
						}
					}
					return nil, fmt.Errorf("never")
				}
			} else {
				config.PasswordCallback = func(ssh.ConnMetadata, []byte) (*ssh.Permissions, error) {
					passwords.Add(1)
					return nil, nil
				}
			}
			address := serveRaw(t, func(conn net.Conn) {
				if c.raw != nil {
					c.raw(conn)
					return
				}
				serveSSH(conn, config, c.session)
			})
			ctx, cancel := context.WithTimeout(t.Context(), 3*time.Second)
			defer cancel()
			began := time.Now()
			s, err := wire.DialSSH(ctx, address, login.Credential{User: "keeper", Password: "quoin"}, nil)
			if err == nil {
				_, _, err = s.Run(ctx, "show", nil, nil)
				if name != "it prints a prompt often" && name != "it closes the session" {
					require.Error(t, err)
				}
				_, _ = s.Terminal(ctx, wire.TerminalStyle{Prompt: regexp.MustCompile(`box> $`)})
				s.Close()
			}
			var cause *device.Cause
			if err != nil {
				require.ErrorAs(t, err, &cause)
			}
			assert.LessOrEqual(t, passwords.Load(), int64(1))
			assert.Less(t, time.Since(began), time.Minute, "it ended") // far beyond its bounds
		})
	}
}

// serveSSH serves sessions on one connection.
func serveSSH(conn net.Conn, config *ssh.ServerConfig, session func(ssh.Channel)) {
	server, channels, requests, err := ssh.NewServerConn(conn, config)
	if err != nil {
		return
	}
	defer func() { _ = server.Close() }()
	go ssh.DiscardRequests(requests)
	for offered := range channels {
		c, asked, err := offered.Accept()
		if err != nil {
			return
		}
		go func() {
			for r := range asked {
				_ = r.Reply(true, nil)
				if r.Type == "exec" || r.Type == "shell" {
					session(c)
					_ = c.Close()
				}
			}
		}()
	}
}
