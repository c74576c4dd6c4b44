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
	"slices"
	"strings"

	"catena/internal/device"
	"catena/internal/dialect"
	"catena/internal/firmware"
	"catena/internal/login"
	"catena/internal/wire"
)

// Dialect is the dialect.
type Dialect struct{}

// About is what the program must know of it.
func (Dialect) About() dialect.About {
	return dialect.About{Name: "http", Rank: 20, Transport: "tcp",
		Ports: []uint16{80, 443, 8080, 8443}}
}

// about is the answer to GET /tg/v1/about.
type about struct {
	Maker    string `json:"maker"`
	Model    string `json:"model"`
	Hardware string `json:"hardware"`
	Serial   string `json:"serial"`
	Name     string `json:"name"`
}

// token is the answer to POST /tg/v1/sessions.
type token struct {
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

// Probe asks a gate controller who it is.
func (d Dialect) Probe(ctx context.Context, at dialect.At) (device.Reading, error) {
	a, err := d.open(at, login.Credential{}).about(ctx)
	if err != nil {
		return device.Reading{}, err
	}
	return a.reading(), nil
}

func (a about) reading() device.Reading {
	return device.Reading{Called: a.Name,
		Identity: device.Identity{Vendor: a.Maker, Model: a.Model, Hardware: a.Hardware,
			Serial: a.Serial}}.Clean()
}

// Open starts a session.
func (d Dialect) Open(at dialect.At, as login.Credential) dialect.Session { return d.open(at, as) }

func (Dialect) open(at dialect.At, as login.Credential) *session {
	return &session{at: at, as: as, http: wire.NewHTTP(at.Trust)}
}

type session struct {
	dialect.NoSettings
	at    dialect.At
	as    login.Credential
	http  *wire.HTTP
	token string // empty: none yet
}

func (t *session) request(method, path string, body any) (*http.Request, error) {
	raw, err := json.Marshal(body)
	if err != nil {
		return nil, err
	}
	r, err := http.NewRequest(method, t.at.URL(path), bytes.NewReader(raw))
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
func (t *session) open(
	ctx context.Context, method, path string, body, into any,
) (wire.Answer, error) {
	r, err := t.request(method, path, body)
	if err != nil {
		return wire.Answer{}, err
	}
	a, err := t.http.Ask(ctx, r)
	if err != nil {
		return a, err
	}
	return a, understand(a, into)
}

func (t *session) about(ctx context.Context) (about, error) {
	var a about
	answer, err := t.open(ctx, http.MethodGet, "/tg/v1/about", nil, &a)
	switch {
	case errors.Is(err, device.ErrAway) || ctx.Err() != nil:
		return a, err
	case err != nil || answer.Status != http.StatusOK || a.Maker != "Tollgarth" || a.Model == "":
		return a, device.ErrNotMine
	}
	return a, nil
}

// asksForLogin are the answers to an empty login that ask for one.
var asksForLogin = []int{http.StatusUnauthorized, http.StatusBadRequest,
	http.StatusUnsupportedMediaType, http.StatusUnprocessableEntity}

// logIn tries the login, once: by HTTP Digest where the device offers that, else as JSON,
// which shows the password on the wire and is sent only over TLS or where that is allowed.
func (t *session) logIn(ctx context.Context) error {
	const sessions = "/tg/v1/sessions"
	t.token = ""
	auth := wire.HTTPAuth{As: t.as, Secure: t.at.Secure()}
	asked, err := t.request(http.MethodPost, sessions, nil)
	if err != nil {
		return err
	}
	a, err := t.http.Ask(ctx, asked)
	if err != nil {
		return err
	}
	var body any
	switch offered := auth.Take(a.Header) == nil; {
	case offered:
	case !slices.Contains(asksForLogin, a.Status):
		return t.take(a) // it requires none, or something is wrong
	case !t.at.Secure() && !t.as.PlainBasic:
		return device.ErrPlain
	default:
		body = map[string]string{"user": t.as.User, "password": t.as.Password}
	}
	r, err := t.request(http.MethodPost, sessions, body)
	if err != nil {
		return err
	}
	if err := auth.Sign(r); err != nil {
		return err
	}
	a, err = t.http.Ask(ctx, r)
	if err != nil {
		return err
	}
	return t.take(a)
}

// take takes the token from the answer to a login.
func (t *session) take(a wire.Answer) error {
	var got token
	err := understand(a, &got)
	switch {
	case errors.Is(err, device.ErrNoRight):
		err = device.ErrLoginRefused
	case err == nil && got.NewPassword:
		err = device.ErrNewPassword
	case err == nil && got.Token == "":
		err = device.Because(device.Malformed, "a login without a token")
	}
	t.token = got.Token
	return err
}

// inside sends what build builds with a living session. A session that the device
// has forgotten is renewed once.
func (t *session) inside(ctx context.Context, build func() (*http.Request, error),
	send func(*http.Request) (wire.Answer, error)) (wire.Answer, error) {
	for renewed := false; ; renewed = true {
		if t.token == "" || renewed {
			if err := t.logIn(ctx); err != nil {
				return wire.Answer{}, err
			}
		}
		r, err := build()
		if err != nil {
			return wire.Answer{}, err
		}
		r.Header.Set("Authorization", "Bearer "+t.token)
		a, err := send(r)
		if err != nil || a.Status != http.StatusUnauthorized || renewed {
			return a, err
		}
	}
}

func (t *session) ask(ctx context.Context, method, path string, into any) error {
	a, err := t.inside(ctx,
		func() (*http.Request, error) { return t.request(method, path, nil) },
		func(r *http.Request) (wire.Answer, error) { return t.http.Ask(ctx, r) })
	if err != nil {
		return err
	}
	return understand(a, into)
}

func (t *session) Read(ctx context.Context) (device.Reading, error) {
	a, err := t.about(ctx)
	if err != nil {
		return device.Reading{}, err
	}
	var s state
	if err := t.ask(ctx, http.MethodGet, "/tg/v1/state", &s); err != nil {
		return a.reading(), err
	}
	f := a.reading()
	f.Version, f.Components, f.Behind = s.Firmware, s.Parts, s.Behind
	if f.Version == "" {
		return f, device.Because(device.Malformed, "a state without a firmware")
	}
	return f.Clean(), nil
}

// Update moves an image into a component.
func (t *session) Update(component string) (dialect.Update, error) {
	return &update{session: t, component: component}, nil
}

type update struct {
	dialect.OneSlot
	session   *session
	component string
}

// Traits: the controller waits to be told to restart, and does not say for how long.
func (*update) Traits() dialect.Traits { return dialect.Traits{} }

// Ready has nothing to ask: the controller refuses the image itself.
func (*update) Ready(context.Context) error { return nil }

func (u *update) Transfer(ctx context.Context, image dialect.Image, sent func(int64)) error {
	digest, err := hex.DecodeString(image.SHA256)
	if err != nil {
		return err
	}
	path := "/tg/v1/firmware"
	if u.component != firmware.Main {
		path += "?part=" + url.QueryEscape(u.component)
	}
	t := u.session
	a, err := t.inside(ctx, func() (*http.Request, error) {
		r, err := t.request(http.MethodPut, path, nil)
		if err == nil {
			r.Header.Set("Content-Type", "application/octet-stream")
			r.Header.Set("Content-Digest",
				"sha-256=:"+base64.StdEncoding.EncodeToString(digest)+":")
		}
		return r, err
	}, func(r *http.Request) (wire.Answer, error) {
		return t.http.Send(ctx, r, wire.Body{From: image, Size: image.Size, Sent: sent})
	})
	if err != nil {
		return err
	}
	return understand(a, nil)
}

func (u *update) Progress(ctx context.Context) (int, error) {
	var w writing
	if err := u.session.ask(ctx, http.MethodGet, "/tg/v1/firmware", &w); err != nil {
		return 0, err
	}
	switch w.Phase {
	case "ready":
		return 100, nil
	case "writing", "receiving":
		return max(0, min(w.Percent, 99)), nil
	case "refused":
		return 0, device.Because(device.Refusal, "%s", w.Why)
	}
	return 0, device.Because(device.Refusal, "%s", "it holds no image ("+w.Phase+")")
}

func (u *update) Activate(ctx context.Context) error {
	err := u.session.ask(ctx, http.MethodPost, "/tg/v1/restart", nil)
	u.session.token = "" // the restart forgets it
	return err
}

func (t *session) Healthy(ctx context.Context, _ device.Reading) error {
	var s state
	if err := t.ask(ctx, http.MethodGet, "/tg/v1/state", &s); err != nil {
		return err
	}
	if len(s.Faults) > 0 {
		return device.Because(device.Refusal, "it reports a fault: %s",
			strings.Join(s.Faults, "; "))
	}
	return nil
}

// Locate is the controller's lamp.
func (t *session) Locate() (dialect.Locator, error) { return lamp{t}, nil }

type lamp struct{ session *session }

func (l lamp) Show(ctx context.Context, on bool, output string) (string, error) {
	if output != "" {
		return "", device.Because(device.Refusal, "it has no outputs to name; leave the output out")
	}
	t := l.session
	a, err := t.inside(ctx,
		func() (*http.Request, error) {
			return t.request(http.MethodPut, "/tg/v1/lamp", map[string]bool{"blinks": on})
		},
		func(r *http.Request) (wire.Answer, error) { return t.http.Ask(ctx, r) })
	if err == nil {
		err = understand(a, nil)
	}
	return "its lamp blinks", err
}

// Close leaves the session to the controller, which forgets it after a while.
func (t *session) Close(context.Context) error { return nil }

// understand turns an answer into a value or into the error it stands for.
func understand(a wire.Answer, into any) error {
	var problem struct {
		Detail string `json:"detail"`
	}
	switch {
	case a.Status >= 200 && a.Status < 300:
		if into == nil {
			return nil
		}
		if err := json.Unmarshal(a.Body, into); err != nil {
			return device.Because(device.Malformed, "no JSON of the expected kind")
		}
		return nil
	case a.Status == http.StatusUnauthorized:
		return device.ErrLoginRefused
	case a.Status == http.StatusForbidden:
		return device.ErrNoRight
	}
	_ = json.Unmarshal(a.Body, &problem) // the status says enough where there is none
	if problem.Detail == "" {
		problem.Detail = fmt.Sprintf("HTTP %d", a.Status)
	}
	if a.Status == http.StatusTooManyRequests {
		return device.Because(device.BadLogin, "%s", problem.Detail)
	}
	return device.Because(device.Refusal, "%s", problem.Detail)
}
