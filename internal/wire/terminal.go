package wire

import (
	"bytes"
	"context"
	"errors"
	"io"
	"regexp"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"

	"catena/internal/device"
	"catena/internal/text"
)

// Terminal is an interactive shell of a device that accepts no single commands (RFC 4254, 6.2 and
// 6.5): the output until the next prompt is the answer to a command. It is for one goroutine.
type Terminal struct {
	session *ssh.Session
	in      io.Writer
	screen  *screen
	style   TerminalStyle
	fresh   bool // nothing was typed yet
}

// TerminalStyle is how a device's shell looks.
type TerminalStyle struct {
	Prompt *regexp.Regexp // the end of the output while it waits for a command
	Pages  []Prompt       // the end of the output while it waits in a long answer, and the key for it
}

// The time between two checks of the output, and how long a prompt must be its end to count.
const (
	promptStays = 80 * time.Millisecond
	promptTicks = 20 * time.Millisecond
	wakeAfter   = 3 * time.Second // a new shell that prints nothing is woken
)

// Terminal starts a shell and waits for its first prompt. Its error is a device.Unsupported where
// the device starts none.
func (s *SSH) Terminal(ctx context.Context, style TerminalStyle) (*Terminal, error) {
	session, err := s.client.NewSession()
	if err != nil {
		return nil, cause(ctx, err)
	}
	in, err := session.StdinPipe()
	if err != nil {
		return nil, cause(ctx, err)
	}
	t := &Terminal{session: session, in: in, screen: &screen{}, style: style, fresh: true}
	session.Stdout, session.Stderr = t.screen, t.screen
	err = session.RequestPty("dumb", 1000, 1000, ssh.TerminalModes{ssh.ECHO: 0})
	if err == nil {
		err = session.Shell()
	}
	if err != nil {
		_ = session.Close()
		return nil, device.Because(device.Unsupported, "it starts no shell over SSH")
	}
	go func() {
		_ = session.Wait() // however it ended
		t.screen.ended()
	}()
	if printed, err := t.await(ctx, nil, nil); err != nil {
		t.Close()
		return nil, &unprompted{string(printed), err}
	}
	return t, nil
}

// Peek starts a shell, and returns what it prints in a while without being asked. Its error is that
// of Terminal.
func (s *SSH) Peek(ctx context.Context, while time.Duration) (string, error) {
	ctx, cancel := context.WithTimeout(ctx, while)
	defer cancel()
	printed := ""
	t, err := s.Terminal(ctx, TerminalStyle{Prompt: regexp.MustCompile(`$.`)}) // it never comes
	if t != nil {
		t.Close()
	}
	var none *unprompted
	if errors.As(err, &none) {
		printed, err = none.printed, nil
	}
	return printed, err
}

// unprompted is the error of a shell that was started, and printed no prompt.
type unprompted struct {
	printed string
	error
}

func (u *unprompted) Unwrap() error { return u.error }

// Close ends the shell.
func (t *Terminal) Close() { _ = t.session.Close() }

// Type types a command and returns the output until the next prompt, without the echo of the
// command and without the prompt. Each question of prompts is answered where it is the end of the
// output. seen is shown the output so far, from time to time; it may be nil. Its errors
// are a device.NoAnswer where the shell or the connection ended, or no prompt came in time, and a
// device.Malformed for an answer without end.
func (t *Terminal) Type(ctx context.Context, command string, prompts []Prompt,
	seen func([]byte)) ([]byte, error) {
	t.screen.clear()
	t.fresh = false
	if _, err := io.WriteString(t.in, command+"\r"); err != nil {
		return nil, device.Because(device.NoAnswer, device.BrokenOff)
	}
	out, err := t.await(ctx, prompts, seen)
	first, rest, _ := bytes.Cut(out, []byte("\n"))
	if bytes.Equal(bytes.TrimSpace(first), []byte(command)) {
		out = rest
	}
	return out, err
}

// await waits for the prompt. It answers questions and turns pages until then.
func (t *Terminal) await(ctx context.Context, prompts []Prompt, seen func([]byte)) ([]byte, error) {
	tick := time.NewTicker(promptTicks)
	defer tick.Stop()
	answers, startedAt := 0, time.Now()
	for {
		now := t.screen.look()
		if seen != nil {
			seen(now.all)
		}
		switch page := -1; {
		case now.err != nil:
			return now.all, now.err
		case len(now.all) == 0 && answers == 0 && t.fresh && time.Since(startedAt) > wakeAfter:
			t.fresh = false // some print their prompt only once someone has typed
			_, _ = io.WriteString(t.in, "\r")
		case now.quiet >= promptStays && asks(t.style.Prompt, now.last):
			return now.all[:len(now.all)-len(now.last)], nil
		default:
			for i, p := range t.style.Pages {
				if asks(p.Question, now.last) {
					page = i
				}
			}
			if page >= 0 {
				t.screen.turn(t.style.Pages[page].Question)
				answers++
				_, _ = io.WriteString(t.in, t.style.Pages[page].Answer) // its end shows in the screen
				break
			}
			for _, p := range prompts {
				if asks(p.Question, now.last) {
					t.screen.answered()
					answers++
					_, _ = io.WriteString(t.in, p.Answer+"\r")
					break
				}
			}
		}
		if answers > maxPages {
			return now.all, device.Because(device.Malformed, "a command asked more than %d questions",
				maxPages)
		}
		select {
		case <-ctx.Done():
			return now.all, cause(ctx, ctx.Err())
		case <-tick.C:
		}
	}
}

// maxPages bounds the questions and pages of one command.
const maxPages = 4096

// asks reports whether a question is the end of the output.
func asks(question *regexp.Regexp, last []byte) bool {
	at := question.FindAllIndex(last, -1)
	return len(at) > 0 && len(bytes.TrimRight(last[at[len(at)-1][1]:], " \t")) == 0
}

// screen is the output of a shell since the last command, bounded.
type screen struct {
	mu    sync.Mutex
	buf   bytes.Buffer
	since int // from here on nothing was answered
	at    time.Time
	err   error
}

// glance is a screen at an instant, without colours and carriage returns.
type glance struct {
	all, last []byte // last: the newest line of the output since the last answer
	quiet     time.Duration
	err       error
}

func (s *screen) Write(b []byte) (int, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.at = time.Now()
	if s.buf.Len()+len(b) > maxPrinted {
		s.err = device.Because(device.Malformed, "a command printed more than %d KiB", maxPrinted>>10)
		return 0, s.err
	}
	return s.buf.Write(b)
}

// ended notes the end of the shell.
func (s *screen) ended() {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.err == nil {
		s.err = device.Because(device.NoAnswer, device.BrokenOff)
	}
}

func (s *screen) clear() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.buf.Reset()
	s.since = 0
}

// answered notes that the newest question was answered.
func (s *screen) answered() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.since = s.buf.Len()
}

// turn removes the question for the next page: it is not part of the answer.
func (s *screen) turn(question *regexp.Regexp) {
	s.mu.Lock()
	defer s.mu.Unlock()
	all := plain(s.buf.Bytes())
	if at := question.FindAllIndex(all, -1); len(at) > 0 {
		all = bytes.Clone(all[:at[len(at)-1][0]])
	}
	s.buf.Reset()
	s.buf.Write(all)
	s.since = len(all)
}

// plain is output as a terminal shows it: without colours, and of a line that was overwritten only
// the newest text.
func plain(raw []byte) []byte {
	raw = bytes.ReplaceAll(colours().ReplaceAll(raw, nil), []byte("\r\n"), []byte("\n"))
	lines := bytes.Split(raw, []byte("\n"))
	for i, line := range lines {
		for part := range bytes.SplitSeq(line, []byte("\r")) {
			if len(part) > 0 {
				lines[i] = part
			}
		}
	}
	return bytes.Join(lines, []byte("\n"))
}

var colours = text.Later("\x1b\\[[0-9;?]*[A-Za-z]")

func (s *screen) look() glance {
	s.mu.Lock()
	defer s.mu.Unlock()
	g := glance{all: plain(s.buf.Bytes()), err: s.err, quiet: time.Since(s.at)}
	last := plain(s.buf.Bytes()[min(s.since, s.buf.Len()):])
	if i := bytes.LastIndexByte(last, '\n'); i >= 0 {
		last = last[i+1:]
	}
	g.last = g.all[len(g.all)-len(last):]
	return g
}
