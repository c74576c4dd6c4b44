// Package httpjson is the dialect "http": devices that speak JSON over HTTP.
//
// As long as there is no family language to describe such devices, it knows one
// family: Tollgarth gate controllers. Errors of the device are problem details
// (RFC 9457), an image's digest travels as Content-Digest (RFC 9530).
package httpjson

import (
	"bytes"
	"context"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strings"

	"catena/internal/dialect"
	"catena/internal/firmware"
)

// Dialect is the dialect.
type Dialect struct{}

func (Dialect) Name() string { return "http" }

// about is the answer to GET /tg/v1/about.
type about struct {
	Maker    string `json:"maker"`
	Model    string `json:"model"`
	Hardware string `json:"hardware"`
	Serial   string `json:"serial"`
	Name     string `json:"name"`
}

// session is the answer to POST /tg/v1/sessions.
type session struct {
	Token       string `json:"token"`
	NewPassword bool   `json:"new_password"` // a new one is wanted first
}

// state is the answer to GET /tg/v1/state.
type state struct {
	Firmware string            `json:"firmware"`
	Parts    map[string]string `json:"parts"` // versions of its components
	Gate     string            `json:"gate"`
	Behind   []string          `json:"behind"` // serial numbers of those that hang behind it
	Faults   []string          `json:"faults"`
}

// writing is the answer to GET /tg/v1/firmware.
type writing struct {
	Phase   string `json:"phase"` // idle, receiving, writing, ready, refused
	Percent int    `json:"percent"`
	Why     string `json:"why"`
}

// Recognise asks a gate controller who it is.
func (d Dialect) Recognise(ctx context.Context, p dialect.Peer) (dialect.Facts, error) {
	t := &talk{peer: p}
	a, err := t.about(ctx)
	if err != nil {
		return dialect.Facts{}, err
	}
	return a.facts(), nil
}

func (a about) facts() dialect.Facts {
	return dialect.Facts{Name: a.Name, Vendor: a.Maker, Model: a.Model, Hardware: a.Hardware, Serial: a.Serial}.Clean()
}

// Open starts a talk.
func (d Dialect) Open(p dialect.Peer) dialect.Talk { return &talk{peer: p} }

// Read is Open and Read in one.
func (d Dialect) Read(ctx context.Context, p dialect.Peer) (dialect.Facts, error) {
	return d.Open(p).Read(ctx)
}

type talk struct {
	peer  dialect.Peer
	token string // of the session; empty: none yet
}

func (t *talk) request(method, path string, body any) (*http.Request, error) {
	raw, err := json.Marshal(body)
	if err != nil {
		return nil, err
	}
	r, err := http.NewRequest(method, t.peer.URL(path), bytes.NewReader(raw))
	if err != nil {
		return nil, err
	}
	r.Header.Set("Accept", "application/json")
	if body != nil {
		r.Header.Set("Content-Type", "application/json")
	} else {
		r.Body, r.ContentLength = http.NoBody, 0
	}
	return r, nil
}

// open asks what needs no login.
func (t *talk) open(ctx context.Context, method, path string, body, into any) (dialect.Answer, error) {
	r, err := t.request(method, path, body)
	if err != nil {
		return dialect.Answer{}, err
	}
	a, err := dialect.Ask(ctx, t.peer, r)
	if err != nil {
		return a, err
	}
	return a, understand(a, into)
}

func (t *talk) about(ctx context.Context) (about, error) {
	var a about
	answer, err := t.open(ctx, http.MethodGet, "/tg/v1/about", nil, &a)
	switch {
	case errors.Is(err, dialect.ErrAway) || ctx.Err() != nil:
		return a, err
	case err != nil || answer.Status != http.StatusOK || a.Maker != "Tollgarth" || a.Model == "":
		return a, dialect.ErrNotMine
	}
	return a, nil
}

// logIn tries the login, once.
func (t *talk) logIn(ctx context.Context) error {
	var s session
	_, err := t.open(ctx, http.MethodPost, "/tg/v1/sessions",
		map[string]string{"user": t.peer.Login.User, "password": t.peer.Login.Password}, &s)
	switch {
	case errors.Is(err, dialect.ErrNoRight):
		err = dialect.ErrLoginRefused
	case err == nil && s.NewPassword:
		err = dialect.ErrNewPassword
	case err == nil && s.Token == "":
		err = dialect.Malformed("a login without a token")
	}
	t.token = s.Token
	return err
}

// inside sends what make makes with a living session. A session that the device
// has forgotten is renewed once.
func (t *talk) inside(ctx context.Context, make func() (*http.Request, error),
	send func(*http.Request) (dialect.Answer, error)) (dialect.Answer, error) {
	for renewed := false; ; renewed = true {
		if t.token == "" || renewed {
			if err := t.logIn(ctx); err != nil {
				return dialect.Answer{}, err
			}
		}
		r, err := make()
		if err != nil {
			return dialect.Answer{}, err
		}
		r.Header.Set("Authorization", "Bearer "+t.token)
		a, err := send(r)
		if err != nil || a.Status != http.StatusUnauthorized || renewed {
			return a, err
		}
	}
}

func (t *talk) ask(ctx context.Context, method, path string, into any) error {
	a, err := t.inside(ctx,
		func() (*http.Request, error) { return t.request(method, path, nil) },
		func(r *http.Request) (dialect.Answer, error) { return dialect.Ask(ctx, t.peer, r) })
	if err != nil {
		return err
	}
	return understand(a, into)
}

func (t *talk) Read(ctx context.Context) (dialect.Facts, error) {
	a, err := t.about(ctx)
	if err != nil {
		return dialect.Facts{}, err
	}
	var s state
	if err := t.ask(ctx, http.MethodGet, "/tg/v1/state", &s); err != nil {
		return a.facts(), err
	}
	f := a.facts()
	f.Version, f.Components, f.Behind = s.Firmware, s.Parts, s.Behind
	if f.Version == "" {
		return f, dialect.Malformed("a state without a firmware")
	}
	return f.Clean(), nil
}

func (t *talk) Send(ctx context.Context, u dialect.Upload) (dialect.Traits, error) {
	digest, err := hex.DecodeString(u.SHA256)
	if err != nil {
		return dialect.Traits{}, err
	}
	path := "/tg/v1/firmware"
	if u.Component != firmware.Main {
		path += "?part=" + url.QueryEscape(u.Component)
	}
	a, err := t.inside(ctx, func() (*http.Request, error) {
		r, err := t.request(http.MethodPut, path, nil)
		if err == nil {
			r.Header.Set("Content-Type", "application/octet-stream")
			r.Header.Set("Content-Digest", "sha-256=:"+base64.StdEncoding.EncodeToString(digest)+":")
		}
		return r, err
	}, func(r *http.Request) (dialect.Answer, error) { return dialect.Transfer(ctx, t.peer, r, u) })
	if err != nil {
		return dialect.Traits{}, err
	}
	return dialect.Traits{}, understand(a, nil)
}

func (t *talk) Writing(ctx context.Context) (int, error) {
	var w writing
	if err := t.ask(ctx, http.MethodGet, "/tg/v1/firmware", &w); err != nil {
		return 0, err
	}
	switch w.Phase {
	case "ready":
		return 100, nil
	case "writing", "receiving":
		return max(0, min(w.Percent, 99)), nil
	case "refused":
		return 0, dialect.Refused(w.Why)
	}
	return 0, dialect.Refused("it holds no image (" + w.Phase + ")")
}

func (t *talk) Restart(ctx context.Context) error {
	err := t.ask(ctx, http.MethodPost, "/tg/v1/restart", nil)
	t.token = "" // the restart forgets it
	return err
}

func (t *talk) Healthy(ctx context.Context, _ dialect.Facts) error {
	var s state
	if err := t.ask(ctx, http.MethodGet, "/tg/v1/state", &s); err != nil {
		return err
	}
	if len(s.Faults) > 0 {
		return fmt.Errorf("it reports a fault: %s", dialect.Facts{Name: strings.Join(s.Faults, "; ")}.Clean().Name)
	}
	return nil
}

// Blink makes the controller's lamp blink.
func (d Dialect) Blink(ctx context.Context, p dialect.Peer, on bool, output string) (string, error) {
	if output != "" {
		return "", dialect.Refused("it has no outputs to name; leave the output out")
	}
	t := &talk{peer: p}
	a, err := t.inside(ctx,
		func() (*http.Request, error) {
			return t.request(http.MethodPut, "/tg/v1/lamp", map[string]bool{"blinks": on})
		},
		func(r *http.Request) (dialect.Answer, error) { return dialect.Ask(ctx, p, r) })
	if err == nil {
		err = understand(a, nil)
	}
	return "its lamp blinks", err
}

// understand turns an answer into a value or into the error it stands for.
func understand(a dialect.Answer, into any) error {
	var problem struct {
		Detail string `json:"detail"`
	}
	switch {
	case a.Status >= 200 && a.Status < 300:
		if into == nil {
			return nil
		}
		if err := json.Unmarshal(a.Body, into); err != nil {
			return dialect.Malformed("no JSON of the expected kind")
		}
		return nil
	case a.Status == http.StatusUnauthorized:
		return dialect.ErrLoginRefused
	case a.Status == http.StatusForbidden:
		return dialect.ErrNoRight
	}
	_ = json.Unmarshal(a.Body, &problem) // the status says enough where there is none
	if problem.Detail == "" {
		problem.Detail = fmt.Sprintf("HTTP %d", a.Status)
	}
	if a.Status == http.StatusTooManyRequests {
		return fmt.Errorf("%w: %s", dialect.ErrLoginRefused, dialect.Facts{Name: problem.Detail}.Clean().Name)
	}
	return dialect.Refused(problem.Detail)
}
