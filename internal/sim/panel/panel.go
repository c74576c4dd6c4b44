// Package panel is the stand-in of Tollgarth operating panels, which have only web pages.
package panel

import (
	"bytes"
	"crypto/rand"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"html"
	"io"
	"net/http"
	"strconv"
	"strings"
	"sync"

	"catena/internal/sim/standin"
)

// panel is a Tollgarth operating panel: web pages with a login by form, whose hidden token counts
// once, and with a session in a cookie; an image comes in pieces, and is started by two restarts.
//
//	GET  /                    its model and serial number, for everyone
//	GET  /login               the form, with a hidden token
//	POST /login               csrf, user, password; 303 and a cookie, or the form again
//	GET  /system              version, fault, and the token that each write must carry as X-CSRF
//	GET  /firmware            {"phase": idle, receiving, writing, ready, refused; "percent"; "next";
//
// "why"}
//
//	POST /firmware            {"size", "sha256"}: 201, {"id"}
//	PUT  /firmware/ID         a piece of at most 64 KiB, with Content-Range (RFC 9110, 14.4), in
//
// their order
//
//	POST /firmware/ID/commit  202: it writes; 422: it is not whole
//	POST /restart             202: it restarts, and once more automatically
type panel struct {
	*standin.StandIn
	mu       sync.Mutex
	forms    map[string]bool   // tokens of forms that were not sent yet
	sessions map[string]string // the tokens for writes, by session
	id       string
	size     int
	sha256   string
	got      []byte
	why      string // why the newest image was refused; empty: it was not
}

// maxPiece is how long a piece of an image may be, in bytes.
const maxPiece = 64 << 10

// New makes the stand-in a panel.
func New(s *standin.StandIn, _ []standin.Device) error {
	p := &panel{StandIn: s, forms: map[string]bool{}, sessions: map[string]string{}}
	s.Starts = 2
	mux := http.NewServeMux()
	mux.HandleFunc("GET /{$}", func(w http.ResponseWriter, _ *http.Request) {
		page(w, fmt.Sprintf(`<meta name="vendor" content="Tollgarth"><meta name="model" content="%s">`+
			`<meta name="serial" content="%s"><title>Operating panel</title>`, html.EscapeString(s.Model),
			html.EscapeString(s.Serial)), `<p><a href="/login">Log in</a>`)
	})
	mux.HandleFunc("GET /login", func(w http.ResponseWriter, _ *http.Request) { p.form(w, "") })
	mux.HandleFunc("POST /login", p.login)
	mux.HandleFunc("GET /system", p.inside(p.system))
	mux.HandleFunc("GET /firmware", p.inside(p.progress))
	mux.HandleFunc("POST /firmware", p.writes(p.begin))
	mux.HandleFunc("PUT /firmware/{id}", p.writes(p.piece))
	mux.HandleFunc("POST /firmware/{id}/commit", p.writes(p.commit))
	mux.HandleFunc("POST /restart", p.writes(p.restart))
	s.Handler = mux
	return nil
}

func page(w http.ResponseWriter, head, body string) {
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	_, _ = fmt.Fprintf(w, "<!doctype html><html><head>%s</head><body>%s</body></html>", head, body)
}

// form is the page to log in.
func (p *panel) form(w http.ResponseWriter, says string) {
	token := rand.Text()
	p.mu.Lock()
	p.forms[token] = true
	p.mu.Unlock()
	page(w, "<title>Log in</title>", fmt.Sprintf(`<p class="error">%s</p><form method="post">`+
		`<input type="hidden" name="csrf" value="%s"><input name="user"><input type="password" name="password">`+
		`</form>`, says, token))
}

func (p *panel) login(w http.ResponseWriter, r *http.Request) {
	r.Body = http.MaxBytesReader(w, r.Body, 4<<10)
	token := r.PostFormValue("csrf")
	p.mu.Lock()
	fresh := p.forms[token]
	delete(p.forms, token)
	p.mu.Unlock()
	switch {
	case !fresh:
		p.form(w, "This form is too old.")
	case r.PostFormValue("user") != p.Login.User || r.PostFormValue("password") != p.Login.Password:
		p.Did("refused login")
		p.form(w, "User or password is wrong.")
	default:
		p.LoggedIn()
		session := rand.Text()
		p.mu.Lock()
		p.sessions[session] = rand.Text()
		p.mu.Unlock()
		http.SetCookie(w, &http.Cookie{Name: "panel", Value: session, HttpOnly: true, Path: "/"})
		http.Redirect(w, r, "/system", http.StatusSeeOther)
	}
}

// token is the token for writes of who asks; empty: they are not logged in.
func (p *panel) token(r *http.Request) string {
	c, err := r.Cookie("panel")
	if err != nil {
		return ""
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.sessions[c.Value]
}

// inside serves only who is logged in.
func (p *panel) inside(serve http.HandlerFunc) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		if p.token(r) == "" {
			http.Redirect(w, r, "/login", http.StatusSeeOther)
			return
		}
		serve(w, r)
	}
}

// writes serves only who is logged in and shows the token for writes.
func (p *panel) writes(serve http.HandlerFunc) http.HandlerFunc {
	return p.inside(func(w http.ResponseWriter, r *http.Request) {
		if r.Header.Get("X-CSRF") != p.token(r) {
			standin.Answer(w, http.StatusForbidden, map[string]any{"detail": "the token is wrong"})
			return
		}
		p.mu.Lock()
		defer p.mu.Unlock()
		serve(w, r)
	})
}

func (p *panel) system(w http.ResponseWriter, r *http.Request) {
	version, well := p.Running()
	fault := "none"
	if !well {
		fault = "touch sensor"
	}
	page(w, fmt.Sprintf(`<meta name="csrf" content="%s"><title>System</title>`, p.token(r)),
		fmt.Sprintf(`<table><tr><td id="version">%s<tr><td id="fault">%s<tr><td id="name">%s</table>`, version,
			fault, html.EscapeString(p.Name)))
}

func (p *panel) progress(w http.ResponseWriter, _ *http.Request) {
	p.mu.Lock()
	defer p.mu.Unlock()
	phase, percent, next := p.Phase()
	switch {
	case phase != "idle":
	case p.why != "":
		phase = "refused"
	case p.id != "":
		phase = "receiving"
	}
	standin.Answer(w, http.StatusOK, map[string]any{"phase": phase, "percent": percent, "next": next,
		"why": p.why})
}

func (p *panel) begin(w http.ResponseWriter, r *http.Request) {
	var in struct {
		Size   int
		SHA256 string
	}
	if json.NewDecoder(http.MaxBytesReader(w, r.Body, 4<<10)).Decode(&in) != nil || in.Size <= 0 ||
		in.Size > standin.MaxUpload {
		standin.Answer(w, http.StatusBadRequest, map[string]any{"detail": "say size and sha256"})
		return
	}
	p.id, p.size, p.sha256, p.got, p.why = rand.Text()[:8], in.Size, in.SHA256, nil, ""
	standin.Answer(w, http.StatusCreated, map[string]any{"id": p.id})
}

func (p *panel) piece(w http.ResponseWriter, r *http.Request) {
	raw, err := io.ReadAll(http.MaxBytesReader(w, r.Body, maxPiece))
	span, total, _ := strings.Cut(strings.TrimPrefix(r.Header.Get("Content-Range"), "bytes "), "/")
	first, last, _ := strings.Cut(span, "-")
	from, wrong := strconv.Atoi(first)
	to, alsoWrong := strconv.Atoi(last)
	switch {
	case err != nil:
		standin.Answer(w, http.StatusRequestEntityTooLarge, map[string]any{
			"detail": "a piece has at most 64 KiB"})
	case r.PathValue("id") != p.id || p.id == "":
		standin.Answer(w, http.StatusNotFound, map[string]any{"detail": "there is no such transfer"})
	case wrong != nil || alsoWrong != nil || total != strconv.Itoa(p.size) || from != len(p.got) ||
		to-from+1 != len(raw) || to >= p.size:
		standin.Answer(w, http.StatusConflict, map[string]any{
			"detail": fmt.Sprintf("the next byte is %d", len(p.got))})
	default:
		defer p.Receives()()
		p.got = append(p.got, raw...)
		w.WriteHeader(http.StatusNoContent)
	}
}

func (p *panel) commit(w http.ResponseWriter, r *http.Request) {
	if r.PathValue("id") != p.id || p.id == "" {
		standin.Answer(w, http.StatusNotFound, map[string]any{"detail": "there is no such transfer"})
		return
	}
	h := sha256.New()
	version, err := standin.Receive(bytes.NewReader(p.got), "Tollgarth", p.Model, "", h)
	if err == nil && (fmt.Sprintf("%x", h.Sum(nil)) != p.sha256 || len(p.got) != p.size) {
		err = standin.ErrChecksum
	}
	p.id, p.got = "", nil
	if err != nil {
		p.why = err.Error()
		standin.Answer(w, http.StatusUnprocessableEntity, map[string]any{"detail": p.why})
		return
	}
	p.Take("", version)
	w.WriteHeader(http.StatusAccepted)
}

func (p *panel) restart(w http.ResponseWriter, _ *http.Request) {
	clear(p.sessions)
	w.WriteHeader(http.StatusAccepted)
	p.Restart(0)
}
