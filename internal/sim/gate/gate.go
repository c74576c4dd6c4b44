// Package gate is the stand-in of Tollgarth gate and signal controllers, which speak JSON over
// HTTP.
package gate

import (
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"crypto/tls"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"catena/internal/sim/standin"
)

// gate is a Tollgarth gate controller: JSON over HTTP, with a session token after
// the login. Its errors are problem details (RFC 9457), an image's digest travels
// as Content-Digest (RFC 9530).
//
//	GET  /tg/v1/about      who it is; no login
//	POST /tg/v1/sessions   a login (HTTP Digest, or user and password as JSON) for a token
//	                       of five minutes; 409 where all seats are taken
//	DELETE /tg/v1/sessions ends the session of the token
//	GET  /tg/v1/state      what it runs and how it is
//	PUT  /tg/v1/firmware   an image, with ?part= for a part; written once it is whole
//	GET  /tg/v1/firmware   how far the writing is
//	POST /tg/v1/restart    start what was written
//	PUT  /tg/v1/password   change the password
//	PUT  /tg/v1/lamp       let the lamp blink, or not
type gate struct {
	*standin.StandIn
	mu     sync.Mutex
	tokens map[string]time.Time
	wrong  int
	busy   bool
	why    string // why the last image was refused
	behind []string
	digest *standin.DigestAuth
}

const (
	tokenLives = 5 * time.Minute
	maxWrong   = 5 // wrong passwords in a row before it stops listening to any
)

// New makes the stand-in a gate controller.
func New(s *standin.StandIn, of []standin.Device) error {
	_, _, err := makeGate(s, of)
	return err
}

func makeGate(s *standin.StandIn, of []standin.Device) (*gate, *http.ServeMux, error) {
	g := &gate{StandIn: s, tokens: map[string]time.Time{},
		digest: standin.NewDigestAuth("gate", "SHA-256", s.LoginNow)}
	for _, d := range of {
		if slices.Contains(s.Downstream, d.Name) {
			g.behind = append(g.behind, d.Serial)
		}
	}
	mux := http.NewServeMux()
	mux.HandleFunc("GET /tg/v1/about", func(w http.ResponseWriter, _ *http.Request) {
		standin.Answer(w, http.StatusOK, map[string]any{
			"maker": "Tollgarth", "model": s.Model, "hardware": s.Hardware, "serial": s.Serial,
			"name": s.Name})
	})
	mux.HandleFunc("POST /tg/v1/sessions", g.session)
	mux.HandleFunc("DELETE /tg/v1/sessions", g.inside(g.end))
	mux.HandleFunc("GET /tg/v1/state", g.inside(g.state))
	mux.HandleFunc("PUT /tg/v1/firmware", g.inside(g.put))
	mux.HandleFunc("GET /tg/v1/firmware", g.inside(g.progress))
	mux.HandleFunc("POST /tg/v1/restart", g.inside(g.reboot))
	mux.HandleFunc("PUT /tg/v1/lamp", g.inside(g.lamp))
	mux.HandleFunc("PUT /tg/v1/password", g.inside(g.setPassword))
	s.Handler = mux
	service := "_http._tcp.local."
	if s.TLS {
		certificate, err := standin.SelfSigned(s.Name)
		if err != nil {
			return nil, nil, err
		}
		s.Secure, service = &tls.Config{Certificates: []tls.Certificate{certificate}},
			"_https._tcp.local."
	}
	s.UDP = map[string]func([]byte) [][]byte{"mdns": s.AnswerMDNS(service)}
	return g, mux, nil
}

// setPassword changes the password of the login: it wants the old one once more.
func (g *gate) setPassword(w http.ResponseWriter, r *http.Request) {
	var in struct{ Old, New string }
	if json.NewDecoder(http.MaxBytesReader(w, r.Body, 4<<10)).Decode(&in) != nil || len(in.New) < 8 {
		problem(w, http.StatusBadRequest, "a password has at least 8 characters")
		return
	}
	if in.Old != g.Password() {
		problem(w, http.StatusForbidden, "the old password is wrong")
		return
	}
	g.SetPassword(in.New)
	standin.Answer(w, http.StatusOK, map[string]any{"changed": true})
}

func (g *gate) lamp(w http.ResponseWriter, r *http.Request) {
	var in struct{ Blinks *bool }
	if json.NewDecoder(http.MaxBytesReader(w, r.Body, 4<<10)).Decode(&in) != nil ||
		in.Blinks == nil {
		problem(w, http.StatusBadRequest, "say whether the lamp blinks")
		return
	}
	g.Did(fmt.Sprintf("lamp %v", *in.Blinks))
	standin.Answer(w, http.StatusOK, map[string]any{"blinks": *in.Blinks})
}

func (g *gate) session(w http.ResponseWriter, r *http.Request) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.wrong >= maxWrong {
		problem(w, http.StatusTooManyRequests,
			"too many wrong passwords; switch the controller off and on")
		return
	}
	holds, given := g.digest.Holds(r)
	if g.Auth == "json" || !given {
		holds, given = g.jsonLogin(r)
	}
	if !given {
		if g.Auth != "json" {
			g.digest.Challenge(w)
		}
		problem(w, http.StatusUnauthorized, "log in")
		return
	}
	if !holds {
		g.wrong++
		g.Did("refused login")
		problem(w, http.StatusUnauthorized, "user or password is wrong")
		return
	}
	g.wrong = 0
	if g.Faults.NewPassword {
		standin.Answer(w, http.StatusCreated, map[string]any{"new_password": true})
		return
	}
	maps.DeleteFunc(g.tokens, func(_ string, until time.Time) bool { return time.Now().After(until) })
	if g.Seats > 0 && len(g.tokens) >= g.Seats {
		g.NoSeat()
		problem(w, http.StatusConflict, "all seats are taken")
		return
	}
	g.LoggedIn()
	token := rand.Text()
	g.tokens[token] = time.Now().Add(tokenLives)
	standin.Answer(w, http.StatusCreated, map[string]any{"token": token,
		"lifetime_s": int(tokenLives.Seconds())})
}

// end ends the session of the request.
func (g *gate) end(w http.ResponseWriter, r *http.Request) {
	g.mu.Lock()
	defer g.mu.Unlock()
	delete(g.tokens, bearer(r))
	w.WriteHeader(http.StatusNoContent)
}

func bearer(r *http.Request) string {
	token, _ := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
	return token
}

// jsonLogin takes user and password in the clear.
func (g *gate) jsonLogin(r *http.Request) (holds, given bool) {
	var in struct{ User, Password string }
	if json.NewDecoder(io.LimitReader(r.Body, 4<<10)).Decode(&in) != nil || in.User == "" {
		return false, false
	}
	g.Did("password in the clear")
	user := subtle.ConstantTimeCompare([]byte(in.User), []byte(g.Login.User))
	password := subtle.ConstantTimeCompare([]byte(in.Password), []byte(g.Password()))
	return user&password == 1, true
}

// inside lets only requests with a living token through. A restart forgets all.
func (g *gate) inside(h http.HandlerFunc) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		g.mu.Lock()
		until, ok := g.tokens[bearer(r)]
		g.mu.Unlock()
		if !ok || time.Now().After(until) {
			w.Header().Set("WWW-Authenticate", `Bearer realm="gate"`)
			problem(w, http.StatusUnauthorized, "no session")
			return
		}
		h(w, r)
	}
}

func (g *gate) state(w http.ResponseWriter, _ *http.Request) {
	if g.Faults.NoRight {
		problem(w, http.StatusForbidden, "only an administrator may see this")
		return
	}
	version, well := g.Running()
	faults := []string{}
	if !well {
		faults = append(faults, "limit switch does not answer")
	}
	standin.Answer(w, http.StatusOK, map[string]any{"firmware": version, "parts": g.PartVersions(),
		"behind": g.behind, "gate": "closed", "faults": faults, "role": g.role()})
}

// role is what the login may do.
func (g *gate) role() string {
	if g.Faults.ReadsOnly {
		return "viewer"
	}
	return "keeper"
}

func (g *gate) put(w http.ResponseWriter, r *http.Request) {
	if g.Faults.ReadsOnly {
		problem(w, http.StatusForbidden, "a viewer changes nothing")
		return
	}
	want, ok := contentDigest(r.Header.Get("Content-Digest"))
	switch {
	case !ok:
		problem(w, http.StatusBadRequest, "Content-Digest with sha-256 is missing")
		return
	case r.ContentLength < 0:
		problem(w, http.StatusLengthRequired, "Content-Length is missing")
		return
	}
	part := r.URL.Query().Get("part")
	if _, ok := g.PartVersions()[part]; part != "" && !ok {
		problem(w, http.StatusNotFound, "no such part")
		return
	}
	g.mu.Lock()
	percent, next := g.Written()
	if g.busy || next != "" && percent < 100 {
		g.mu.Unlock()
		problem(w, http.StatusConflict, "another image is being taken")
		return
	}
	g.busy, g.why = true, ""
	g.mu.Unlock()
	h := sha256.New()
	ended := g.Receives()
	version, err := standin.Receive(r.Body, "Tollgarth", g.Model, part, h)
	if err == nil && string(h.Sum(nil)) != string(want) {
		err = standin.ErrChecksum
	}
	ended()
	g.mu.Lock()
	g.busy = false
	if err != nil {
		g.why = err.Error()
	}
	g.mu.Unlock()
	if err != nil {
		problem(w, http.StatusUnprocessableEntity, err.Error())
		return
	}
	g.Take(part, version)
	standin.Answer(w, http.StatusAccepted, map[string]any{"phase": "writing", "percent": 0})
}

func (g *gate) progress(w http.ResponseWriter, _ *http.Request) {
	phase, percent, next := g.Phase()
	g.mu.Lock()
	defer g.mu.Unlock()
	switch {
	case g.busy:
		phase = "receiving"
	case phase == "idle" && g.why != "":
		phase = "refused"
	}
	standin.Answer(w, http.StatusOK, map[string]any{"phase": phase, "percent": percent,
		"version": next, "why": g.why})
}

func (g *gate) reboot(w http.ResponseWriter, _ *http.Request) {
	if percent, next := g.Written(); next != "" && percent < 100 {
		problem(w, http.StatusConflict, "an image is being written")
		return
	}
	g.mu.Lock()
	clear(g.tokens)
	g.mu.Unlock()
	w.Header().Set("Connection", "close")
	standin.Answer(w, http.StatusAccepted, map[string]any{"restarting": true})
	g.Restart(0)
}

// contentDigest takes the sha-256 out of a Content-Digest field (RFC 9530, 2):
// sha-256=:base64:
func contentDigest(field string) ([]byte, bool) {
	for item := range strings.SplitSeq(field, ",") {
		if v, ok := strings.CutPrefix(strings.TrimSpace(item), "sha-256=:"); ok &&
			strings.HasSuffix(v, ":") {
			raw, err := base64.StdEncoding.DecodeString(strings.TrimSuffix(v, ":"))
			return raw, err == nil && len(raw) == sha256.Size
		}
	}
	return nil, false
}

// problem answers with problem details, RFC 9457.
func problem(w http.ResponseWriter, status int, detail string) {
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(map[string]any{
		"type": "about:blank", "title": http.StatusText(status), "status": status,
		"detail": detail})
}
