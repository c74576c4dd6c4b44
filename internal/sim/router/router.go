// Package router is the stand-in of Osmere routers, which offer nothing but a shell over SSH.
package router

import (
	"bufio"
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"

	"catena/internal/sim/standin"
)

// SecondPassword is what a router asks for before anything is changed.
const SecondPassword = "towpath-8"

// router is an Osmere router: an SSH server that refuses single commands and files, and starts a
// shell on a terminal (RFC 4254, 6.2 and 6.5).
//
//	status           its identity, its version, its faults, and a line for each port: two pages
//	unlock           asks for the second password; the prompt ends in # then
//	lock
//	fetch URL        fetches an image over HTTP, and says how far it is
//	write DIGEST     writes what was fetched, where it is whole, and says how far it is
//	image            phase, percent, next
//	restart          asks whether to, and does
type router struct {
	*standin.StandIn
	mine    sync.Mutex
	fetched []byte
}

// New makes the stand-in a router.
func New(s *standin.StandIn, _ []standin.Device) error {
	return standin.SSH(s, (&router{StandIn: s}).session)
}

// session starts the shell.
func (r *router) session(c ssh.Channel, asked <-chan *ssh.Request) {
	defer func() { _ = c.Close() }()
	terminal := false
	for q := range asked {
		switch q.Type {
		case "pty-req":
			terminal = true
			_ = q.Reply(true, nil)
		case "shell":
			_ = q.Reply(terminal, nil)
			if terminal {
				(&shell{router: r, in: bufio.NewReader(c), out: c}).serve()
				return
			}
		default: // exec, subsystem
			_ = q.Reply(false, nil)
		}
	}
}

// shell is one terminal at a router.
type shell struct {
	*router
	in       *bufio.Reader
	out      io.Writer
	unlocked bool
}

// page is how many lines a terminal shows before it waits for a key.
const page = 20

func (s *shell) say(format string, args ...any) {
	_, _ = fmt.Fprintf(s.out, format+"\r\n", args...)
}

// line reads what is typed until Enter; echo: it is shown.
func (s *shell) line(echo bool) (string, error) {
	var line []byte
	for len(line) < 4096 {
		b, err := s.in.ReadByte()
		switch {
		case err != nil:
			return "", err
		case b == '\r':
			_, _ = io.WriteString(s.out, "\r\n")
			return string(line), nil
		case b != '\n':
			line = append(line, b)
			if echo {
				_, _ = s.out.Write([]byte{b})
			}
		}
	}
	return "", errors.New("too long")
}

func (s *shell) serve() {
	s.say("%s, an Osmere %s. Type a command.", s.Name, s.Model)
	for {
		mark := ">"
		if s.unlocked {
			mark = "#"
		}
		_, _ = fmt.Fprintf(s.out, "\x1b[1m%s%s\x1b[0m ", s.Name, mark)
		command, err := s.line(true)
		if err != nil {
			return
		}
		if command != "" && !s.run(command) {
			return
		}
	}
}

// run carries out a command and reports whether the shell continues.
func (s *shell) run(command string) bool {
	word, rest, _ := strings.Cut(command, " ")
	if !s.unlocked && (word == "fetch" || word == "write" || word == "restart") {
		s.say("error: unlock it first")
		return true
	}
	switch word {
	case "status":
		s.status()
	case "unlock":
		_, _ = io.WriteString(s.out, "Second password: ")
		typed, err := s.line(false)
		if s.unlocked = err == nil && typed == SecondPassword; !s.unlocked {
			s.Did("refused second password")
			s.say("error: wrong password")
		}
	case "lock":
		s.unlocked = false
	case "image":
		phase, percent, next := s.Phase()
		s.say("phase    %s\r\npercent  %d\r\nnext     %s", phase, percent, next)
	case "fetch":
		s.fetch(rest)
	case "write":
		s.write(rest)
	case "restart":
		return s.restart()
	default:
		s.say("error: there is no command %s", word)
	}
	return true
}

// status tells what the router is, a page at a time.
func (s *shell) status() {
	version, well := s.Running()
	fault := "none"
	if !well {
		fault = "uplink down"
	}
	access := map[bool]string{false: "view", true: "full"}[s.unlocked]
	lines := []string{"model    " + s.Model, "serial   " + s.Serial, "name     " + s.Name,
		"access   " + access}
	for port := 1; port <= 24; port++ {
		lines = append(lines, fmt.Sprintf("port %2d  up", port))
	}
	lines = append(lines, "version  "+version, "fault    "+fault)
	for i, line := range lines {
		if i > 0 && i%page == 0 {
			_, _ = io.WriteString(s.out, "-- more: space --")
			if _, err := s.in.ReadByte(); err != nil {
				return
			}
			_, _ = io.WriteString(s.out, "\r"+strings.Repeat(" ", 17)+"\r")
		}
		s.say("%s", line)
	}
}

// fetch fetches an image.
func (s *shell) fetch(url string) {
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	q, err := http.NewRequestWithContext(ctx, http.MethodGet, url, nil)
	if err != nil {
		s.say("error: %v", err)
		return
	}
	host, _, _ := net.SplitHostPort(s.Addr)
	from := &net.Dialer{LocalAddr: &net.TCPAddr{IP: net.ParseIP(host)}}
	client := http.Client{Transport: &http.Transport{DialContext: from.DialContext,
		DisableKeepAlives: true}}
	a, err := client.Do(q)
	if err != nil {
		s.say("error: %v", err)
		return
	}
	defer func() { _ = a.Body.Close() }()
	defer s.Receives()()
	var all bytes.Buffer
	for told := int64(0); ; {
		n, err := io.CopyN(&all, a.Body, 64<<10)
		if percent := 100 * int64(all.Len()) / max(1, a.ContentLength); percent >= told+10 {
			told = percent
			s.say("fetched %d %%", percent)
		}
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil || n == 0 || all.Len() > standin.MaxUpload {
			s.say("error: the transfer broke off")
			return
		}
	}
	s.mine.Lock()
	defer s.mine.Unlock()
	s.fetched = all.Bytes()
	s.say("done")
}

// write writes what was fetched, and says how far it is. It continues when no one looks any more.
func (s *shell) write(digest string) {
	s.mine.Lock()
	defer s.mine.Unlock()
	h := sha256.New()
	version, err := standin.Receive(bytes.NewReader(s.fetched), "Osmere", s.Model, "", h)
	if err == nil && fmt.Sprintf("%x", h.Sum(nil)) != digest {
		err = standin.ErrChecksum
	}
	s.fetched = nil
	if err != nil {
		s.say("error: %v", err)
		return
	}
	s.Take("", version)
	for percent := 0; percent < 100; {
		time.Sleep(s.Pace.Write / 10)
		percent, _ = s.Written()
		_, _ = fmt.Fprintf(s.out, "\rwritten %d %%", percent)
	}
	s.say("\r\ndone")
}

// restart asks, and ends the shell.
func (s *shell) restart() bool {
	_, _ = io.WriteString(s.out, "All links go down. Restart? [y/n] ")
	if answer, err := s.line(true); err != nil || answer != "y" {
		s.say("not restarted")
		return true
	}
	s.Restart(0)
	return false
}
