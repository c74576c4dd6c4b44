// Package notify tells others what happens in a job, and what is new in a feed: by webhook, by a
// command, by the terminal's bell. What cannot be told is tried again and then given up: nothing
// here ever holds a job up.
package notify

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"slices"
	"strings"
	"sync"
	"time"

	"catena/internal/text"
)

// Format is the number of this form of an Event's JSON.
const Format = 1

// Kind is what happened.
type Kind string

// The kinds, and the one of a test.
const (
	Start    Kind = "start"    // a job started
	End      Kind = "end"      // it is over; Counts say how its devices ended
	Stranded Kind = "stranded" // a device needs hands
	Asks     Kind = "ask"      // a device waits for a person
	CutOff   Kind = "cut-off"  // a device restarts, and others are reached only through it
	Window   Kind = "window"   // the window closes soon, and devices have not ended
	Missed   Kind = "missed"   // a scheduled job did not start
	News     Kind = "news"     // a feed has a later image, or a version became unsafe
	Audit    Kind = "audit"    // an audit has found something new
	Test     Kind = "test"
)

// Kinds are those that a site may ask for.
var Kinds = []Kind{Start, End, Stranded, Asks, CutOff, Window, Missed, News, Audit}

// Event is what is told. The names of its fields in JSON are a promise.
type Event struct {
	Format int            `json:"tell"`
	Kind   Kind           `json:"event"`
	At     time.Time      `json:"at"`
	Site   string         `json:"site"`
	Job    string         `json:"job,omitempty"`
	Order  string         `json:"order,omitempty"`
	Device string         `json:"device,omitempty"` // its name
	Text   string         `json:"text"`             // a sentence
	Counts map[string]int `json:"counts,omitempty"` // of devices, by step or end
}

// Target is who is told.
type Target struct {
	Webhook string   // a URL; or
	Command []string // a program and its words, run in Dir; or
	Dir     string
	// Forbidden says that the user of this machine has not allowed the command.
	Forbidden bool
	Bell      bool   // this terminal
	On        []Kind // empty: all
	// Secret signs what is sent to the webhook; empty: it is not signed.
	Secret string
}

// Name is what a target is called in a sentence. Of a URL the rest may hold a secret.
func (t Target) Name() string {
	switch {
	case t.Webhook != "":
		if u, err := url.Parse(t.Webhook); err == nil {
			return "webhook at " + u.Host
		}
		return "webhook"
	case len(t.Command) > 0:
		return "command " + t.Command[0]
	}
	return "bell"
}

func (t Target) accepts(k Kind) bool {
	return k == Test || len(t.On) == 0 ||
		slices.Contains(t.On, k)
}

// Bounds of telling.
const (
	tries     = 4
	within    = 10 * time.Second // one try of a webhook
	runsFor   = time.Minute      // a command
	mostAhead = 256              // events that wait for a target; later ones are dropped, and counted
)

// pauses are those between tries.
var pauses = []time.Duration{time.Second, 5 * time.Second, 20 * time.Second}

// Sender tells targets, each in its own time. It is made by New and ended by Close.
type Sender struct {
	queues  []chan Event
	targets []Target
	failed  func(Target, error) // called at most once for each target that fails
	ctx     context.Context
	stop    context.CancelFunc
	group   sync.WaitGroup
}

// New starts to tell. bell is the terminal, nil where there is none. failed hears the first failure
// of each target, from goroutines of the sender's own.
func New(targets []Target, bell io.Writer, failed func(Target, error)) *Sender {
	s := &Sender{targets: targets, failed: failed}
	s.ctx, s.stop = context.WithCancel(context.Background())
	for _, t := range targets {
		queue := make(chan Event, mostAhead)
		s.queues = append(s.queues, queue)
		s.group.Go(func() {
			told := false
			for e := range queue {
				err := Send(s.ctx, t, e, bell, pauses)
				if err != nil && !told {
					told = true
					failed(t, err)
				}
			}
		})
	}
	return s
}

// Tell tells all who want to know. It does not wait.
func (s *Sender) Tell(e Event) {
	for i, t := range s.targets {
		if !t.accepts(e.Kind) {
			continue
		}
		select {
		case s.queues[i] <- e:
		default: // it has failed for long, and said so
		}
	}
}

// Close waits until all is told, at most so long, and ends the sender.
func (s *Sender) Close(wait time.Duration) {
	for _, q := range s.queues {
		close(q)
	}
	timer := time.AfterFunc(wait, s.stop)
	s.group.Wait()
	timer.Stop()
	s.stop()
}

// Send tells one target of one event, and tries again after each of the pauses. A refusal that
// another try would not change (a status of 4xx, a program that is not there) is not repeated.
func Send(ctx context.Context, t Target, e Event, bell io.Writer, pauses []time.Duration) (
	err error) {
	e.Format = Format
	body, err := json.Marshal(e)
	if err != nil {
		return err
	}
	for n := 0; ; n++ {
		final := false
		switch {
		case t.Webhook != "":
			final, err = post(ctx, t, body, time.Now())
		case len(t.Command) > 0:
			final, err = run(ctx, t, e, body)
		case bell != nil:
			_, err = fmt.Fprintf(bell, "\a\x1b]2;Catena: %s\x1b\\", printable(e.Text))
		}
		if err == nil || final || n >= len(pauses) {
			return err
		}
		select {
		case <-time.After(pauses[n]):
		case <-ctx.Done():
			return errors.Join(err, ctx.Err())
		}
	}
}

// printable is a text as one line that steers no terminal.
func printable(s string) string { return strings.ReplaceAll(text.Harmless(s), "\n", " ") }

var client = &http.Client{Timeout: within, CheckRedirect: func(*http.Request,
	[]*http.Request) error {
	return http.ErrUseLastResponse // what is told goes to no one else
}}

// post sends an event to a webhook, signed where there is a secret.
func post(ctx context.Context, t Target, body []byte, at time.Time) (final bool, err error) {
	r, err := http.NewRequestWithContext(ctx, http.MethodPost, t.Webhook, bytes.NewReader(body))
	if err != nil {
		return true, errors.New("its address is not a URL")
	}
	r.Header.Set("Content-Type", "application/json")
	r.Header.Set("User-Agent", "Catena")
	if t.Secret != "" {
		sign(r, body, t.Secret, at)
	}
	answer, err := client.Do(r)
	if err != nil {
		var u *url.Error
		if errors.As(err, &u) { // its text has the whole address
			err = u.Err
		}
		return false, err
	}
	_, _ = io.Copy(io.Discard, io.LimitReader(answer.Body, 64<<10)) // nothing in it counts
	_ = answer.Body.Close()
	if answer.StatusCode/100 == 2 {
		return true, nil
	}
	again := answer.StatusCode >= 500 || answer.StatusCode == http.StatusTooManyRequests ||
		answer.StatusCode == http.StatusRequestTimeout
	return !again, fmt.Errorf("it answers %s", answer.Status)
}

// label is what the signature of a request is called in its headers.
const label = "catena"

// sign signs a request by HTTP Message Signatures (RFC 9421) with hmac-sha256, over its method, its
// target, its type and the digest of its content (RFC 9530).
func sign(r *http.Request, body []byte, secret string, at time.Time) {
	digest := sha256.Sum256(body)
	r.Header.Set("Content-Digest", "sha-256=:"+base64.StdEncoding.EncodeToString(digest[:])+":")
	params := fmt.Sprintf(
		`("@method" "@target-uri" "content-type" "content-digest");created=%d;keyid="%s";alg="hmac-sha256"`,
		at.Unix(),
		label,
	)
	base := fmt.Sprintf("\"@method\": %s\n\"@target-uri\": %s\n\"content-type\": %s\n"+
		"\"content-digest\": %s\n\"@signature-params\": %s",
		r.Method, r.URL, r.Header.Get("Content-Type"), r.Header.Get("Content-Digest"), params)
	mac := hmac.New(sha256.New, []byte(secret))
	mac.Write([]byte(base))
	r.Header.Set("Signature-Input", label+"="+params)
	r.Header.Set("Signature", label+"=:"+base64.StdEncoding.EncodeToString(mac.Sum(nil))+":")
}

// run starts a command; the event is its input, and the sentence a variable.
func run(ctx context.Context, t Target, e Event, body []byte) (final bool, err error) {
	if t.Forbidden {
		return true, ErrNotAllowed
	}
	ctx, cancel := context.WithTimeout(ctx, runsFor)
	defer cancel()
	c := exec.CommandContext(ctx, t.Command[0], t.Command[1:]...)
	c.Dir = t.Dir
	c.WaitDelay = time.Second
	c.Stdin = bytes.NewReader(append(body, '\n'))
	// the secrets of the logins are not for it
	c.Env = append(slices.DeleteFunc(os.Environ(), func(v string) bool {
		return strings.HasPrefix(v, "CATENA_")
	}), "CATENA_EVENT="+string(e.Kind), "CATENA_JOB="+e.Job, "CATENA_TEXT="+printable(e.Text))
	err = c.Run()
	return errors.Is(err, exec.ErrNotFound), err
}
