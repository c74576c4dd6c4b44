// Package hub is the stand-in of Pennick radio hubs, which have web pages for people and announce
// themselves by SSDP.
package hub

import (
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"html"
	"net/http"
	"strconv"
	"strings"
	"sync"

	"catena/internal/sim/standin"
)

// hub is a Pennick radio hub: a UPnP device (UPnP DA 1.1) with a description that is open to all,
// and web pages for the rest, made for people.
//
//	GET  /login     a form with a hidden token    POST /login    user, pass, token: a cookie
//	GET  /status    a table                       GET  /update   how far the writing is
//	POST /update    a form with the image; the token in a header
//	POST /restart   start what was written
//	GET  /handsets  a table of those behind it; each takes an image through the hub alone
//	POST /handsets/image        a form with an image for them, kept until a restart
//	POST /handsets/{n}/install  it takes that image, on the charging base of the hub only
//	POST /handsets/{n}/call     it rings: someone should put it on the base
type hub struct {
	*standin.StandIn
	mine   sync.Mutex
	token  string         // hidden in the form, and in a header of each change
	behind *standin.Units // the handsets
	cookie string         // of the session; empty: none
}

const deviceType = "urn:schemas-upnp-org:device:Basic:1"

// New makes the stand-in a radio hub.
func New(s *standin.StandIn, _ []standin.Device) error {
	h := &hub{StandIn: s, token: rand.Text()}
	mux := http.NewServeMux()
	mux.HandleFunc("GET /description.xml", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/xml")
		fmt.Fprintf(w, `<?xml version="1.0"?><root xmlns="urn:schemas-upnp-org:device-1-0"><specVersion><major>1</major><minor>1</minor></specVersion>
<device><deviceType>%s</deviceType><friendlyName>%s</friendlyName><manufacturer>Pennick</manufacturer>
<modelName>%s</modelName><modelNumber>%s</modelNumber><serialNumber>%s</serialNumber><UDN>uuid:%s</UDN></device></root>`,
			deviceType, html.EscapeString(s.Name), html.EscapeString(s.Model),
			html.EscapeString(s.Hardware),
			html.EscapeString(s.Serial), h.id())
	})
	mux.HandleFunc("GET /{$}", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Server", "pennick-httpd")
		fmt.Fprint(w, "<html><head><title>Radio hub</title></head></html>")
	})
	mux.HandleFunc("GET /login", func(w http.ResponseWriter, _ *http.Request) {
		h.mine.Lock()
		defer h.mine.Unlock()
		page(w, "Log in", fmt.Sprintf(`<form method="post"><input type="hidden" name="token" value="%s">
<input name="user"><input name="pass" type="password"></form>`, h.token))
	})
	mux.HandleFunc("POST /login", h.logIn)
	mux.HandleFunc("GET /status", h.inside(h.status))
	mux.HandleFunc("GET /update", h.inside(h.progress))
	mux.HandleFunc("POST /update", h.inside(h.update))
	mux.HandleFunc("POST /restart", h.inside(h.reboot))
	h.behind = standin.NewUnits(s, "Pennick", 1)
	mux.HandleFunc("GET /handsets", h.inside(h.handsets))
	mux.HandleFunc("POST /handsets/image", h.inside(h.handsetImage))
	mux.HandleFunc("POST /handsets/{n}/{do}", h.inside(func(w http.ResponseWriter, r *http.Request) {
		n, _ := strconv.Atoi(r.PathValue("n"))
		if r.PathValue("do") == "call" {
			h.behind.Ask(n)
			page(w, "Handset", "<p>It rings.</p>")
			return
		}
		r.Body = http.MaxBytesReader(w, r.Body, 4<<10)
		if err := h.behind.Install(n, r.FormValue("image")); err != nil {
			page(w, "Handset", `<p class="error">`+html.EscapeString(err.Error())+"</p>")
			return
		}
		page(w, "Handset", "<p>It takes the image.</p>")
	}))
	s.Handler = mux
	s.UDP = map[string]func([]byte) [][]byte{"ssdp": func(packet []byte) [][]byte {
		return standin.Service{UUID: h.id(), Targets: []string{"upnp:rootdevice", deviceType},
			Fields: "LOCATION: http://" + s.Addr + "/description.xml\r\nSERVER: hub/1 UPnP/1.1 radio/1\r\n",
		}.HearSearch(packet)
	}}
	return nil
}

func page(w http.ResponseWriter, title, body string) {
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	fmt.Fprintf(w, "<!doctype html><html><head><title>%s</title></head><body><h1>%[1]s</h1>%s</body></html>\n",
		title, body)
}

func (h *hub) logIn(w http.ResponseWriter, r *http.Request) {
	h.mine.Lock()
	defer h.mine.Unlock()
	r.Body = http.MaxBytesReader(w, r.Body, 4<<10)
	if r.FormValue("token") != h.token || r.FormValue("user") != h.Login.User ||
		r.FormValue("pass") != h.Login.Password {
		h.Did("refused login")
		page(w, "Log in", `<p class="error">User or password is wrong.</p>`)
		return
	}
	h.LoggedIn()
	h.cookie = rand.Text()
	http.SetCookie(w, &http.Cookie{Name: "SID", Value: h.cookie, Path: "/", HttpOnly: true})
	http.Redirect(w, r, "/status", http.StatusSeeOther)
}

// inside lets only those through whose cookie is that of the session; others are led to the form.
func (h *hub) inside(do http.HandlerFunc) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		h.mine.Lock()
		c, err := r.Cookie("SID")
		in := err == nil && h.cookie != "" && c.Value == h.cookie
		foreign := r.Method != http.MethodGet && r.Header.Get("X-Token") != h.token
		h.mine.Unlock()
		switch {
		case !in:
			http.Redirect(w, r, "/login", http.StatusFound)
		case foreign:
			http.Error(w, "the token is missing", http.StatusForbidden)
		default:
			do(w, r)
		}
	}
}

func (h *hub) status(w http.ResponseWriter, _ *http.Request) {
	version, well := h.Running()
	radio := "on the air"
	if !well {
		radio = "no carrier"
	}
	page(w, "Status", fmt.Sprintf(
		`<table><tr><th>Firmware<td id="fw"> %s <tr><th>Radio<td id="radio">%s</table>`,
		html.EscapeString(version), radio))
}

func (h *hub) progress(w http.ResponseWriter, _ *http.Request) {
	phase, percent, next := h.Phase()
	state := map[string]string{"idle": "no update", "writing": "writing",
		"ready": "waits for restart"}[phase]
	page(w, "Update", fmt.Sprintf(
		`<p id="state">%s</p><progress max="100" value="%d"></progress><p id="next">%s</p>`,
		state, percent, html.EscapeString(next)))
}

func (h *hub) update(w http.ResponseWriter, r *http.Request) {
	parts, err := r.MultipartReader()
	if err != nil {
		http.Error(w, "a form is expected", http.StatusBadRequest)
		return
	}
	for {
		part, err := parts.NextPart()
		if err != nil {
			http.Error(w, "the form has no file", http.StatusBadRequest)
			return
		}
		if part.FormName() != "file" {
			continue
		}
		ended := h.Receives()
		version, err := standin.Receive(part, "Pennick", h.Model, "", nil)
		ended()
		if err != nil {
			w.WriteHeader(http.StatusOK) // as such pages do
			page(w, "Update", `<p class="error">`+html.EscapeString(err.Error())+"</p>")
			return
		}
		h.Take("", version)
		page(w, "Update", "<p>Being written.</p>")
		return
	}
}

func (h *hub) reboot(w http.ResponseWriter, _ *http.Request) {
	if percent, next := h.Written(); next != "" && percent < 100 {
		http.Error(w, "an image is being written", http.StatusConflict)
		return
	}
	h.mine.Lock()
	h.cookie, h.token = "", rand.Text()
	h.mine.Unlock()
	w.Header().Set("Connection", "close")
	page(w, "Restart", "<p>Please wait.</p>")
	h.Restart(0)
}

func (h *hub) handsets(w http.ResponseWriter, _ *http.Request) {
	var b strings.Builder
	h.behind.Each(func(n int, u *standin.Unit, state string, percent int) {
		base, radio := "off", "well"
		if u.Held() {
			base = "on"
		}
		if !u.Well() {
			radio = "no signal"
		}
		fmt.Fprintf(&b, `<tr><td>%d<td>%s<td>%s<td>%s<td>%s<td>%s<td>%d<td>%s<td>%s`, n,
			html.EscapeString(u.Name),
			html.EscapeString(u.Model), html.EscapeString(u.Serial), html.EscapeString(u.Runs), state,
			percent, base, radio)
	})
	page(w, "Handsets", "<table>"+b.String()+"</table>")
}

func (h *hub) handsetImage(w http.ResponseWriter, r *http.Request) {
	parts, err := r.MultipartReader()
	for err == nil {
		part, next := parts.NextPart()
		if err = next; err != nil || part.FormName() != "file" || len(h.behind.All) == 0 {
			continue
		}
		ended := h.Receives()
		defer ended()
		digest := sha256.New()
		model := h.behind.All[0].Model
		version, err := standin.Receive(part, "Pennick", model, "", digest)
		if err != nil {
			page(w, "Handsets", `<p class="error">`+html.EscapeString(err.Error())+"</p>")
			return
		}
		h.behind.Keep(hex.EncodeToString(digest.Sum(nil)), model, version)
		page(w, "Handsets", "<p>Kept.</p>")
		return
	}
	http.Error(w, "a form with a file is expected", http.StatusBadRequest)
}

func (h *hub) id() string { return fmt.Sprintf("00000000-0000-4000-8000-%012d", h.Host) }
