package scripted_test

import (
	"bytes"
	"context"
	"crypto/md5"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/device"
	"catena/internal/dialect"
	"catena/internal/dialect/scripted"
	"catena/internal/family"
	"catena/internal/login"
)

// odd is a device of odd habits: a web server, and the family file that teaches Catena to talk to
// it.
type odd struct {
	*http.ServeMux
	mu     sync.Mutex
	logins int
	got    bytes.Buffer
	asked  []string
}

func newOdd(version string) *odd {
	o := &odd{ServeMux: http.NewServeMux()}
	o.HandleFunc("GET /id", func(w http.ResponseWriter, _ *http.Request) {
		_, _ = fmt.Fprint(w, `{"model":"TG-200","serial":"S-1"}`)
	})
	o.answer("GET /version", `{"v":"`+version+`"}`)
	return o
}

func (o *odd) answer(pattern, body string) {
	o.HandleFunc(pattern, func(w http.ResponseWriter, _ *http.Request) {
		_, _ = io.WriteString(w, body)
	})
}

func (o *odd) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	o.mu.Lock()
	o.asked = append(o.asked, r.Method+" "+r.URL.Path)
	o.mu.Unlock()
	o.ServeMux.ServeHTTP(w, r)
}

// requests are those that it was asked.
func (o *odd) requests() []string {
	o.mu.Lock()
	defer o.mu.Unlock()
	return slices.Clone(o.asked)
}

const (
	oddHead = "family: odd\nvendor: Tollgarth\nmodels: [TG-200]\nplain_basic: true\nrecognise:\n" +
		"  - get: /id\n    take: {model: $.model, serial: $.serial}\n"
	oddRead = "read:\n  - get: /version\n    take: {version: $.v}\n"
)

// session opens a session with a server by a family file.
func (o *odd) session(t *testing.T, lines string) dialect.Session {
	f, err := family.Parse("odd.yaml", []byte(oddHead+lines))
	require.NoError(t, err)
	s := httptest.NewServer(o)
	t.Cleanup(s.Close)
	session := scripted.New(f, 1).Open(
		dialect.At{Endpoint: device.Endpoint{Address: s.Listener.Addr().String()}},
		login.Credential{User: "keeper", Password: "quoin & <sluice>", PlainBasic: true})
	t.Cleanup(func() { _ = session.Close(context.Background()) })
	return session
}

// send sends an image of the given size.
func send(t *testing.T, s dialect.Session, size int) (dialect.Update, []byte, error) {
	raw := bytes.Repeat([]byte("lock "), size/5)
	u, err := s.Update("main")
	require.NoError(t, err)
	require.NoError(t, u.Ready(t.Context(), dialect.Image{}))
	last := int64(0)
	err = u.Transfer(t.Context(), dialect.Image{ReaderAt: bytes.NewReader(raw), Size: int64(len(raw)),
		SHA256: fmt.Sprintf("%x", sha256.Sum256(raw))}, func(n int64) {
		assert.Greater(t, n, last)
		last = n
	})
	if err == nil {
		assert.Equal(t, int64(len(raw)), last)
	}
	return u, raw, err
}

// An HTML form with a hidden token and a cookie; the token stands in a header of each write.
func TestFormLogin(t *testing.T) {
	o := newOdd("1.0")
	o.HandleFunc("GET /login.html", func(w http.ResponseWriter, _ *http.Request) {
		_, _ = fmt.Fprint(w,
			`<!doctype html><form><input type="hidden" name="csrf" value="t&amp;1"></form>`)
	})
	o.HandleFunc("POST /login.html", func(w http.ResponseWriter, r *http.Request) {
		o.logins++
		if r.FormValue("csrf") != "t&1" || r.FormValue("pass") != "quoin & <sluice>" {
			_, _ = fmt.Fprint(w, "<html>wrong")
			return
		}
		http.SetCookie(w, &http.Cookie{Name: "sid", Value: "42"})
		http.Redirect(w, r, "/index.html", http.StatusSeeOther)
	})
	o.HandleFunc("POST /firmware", func(w http.ResponseWriter, r *http.Request) {
		if c, err := r.Cookie("sid"); err != nil || c.Value != "42" || r.Header.Get("X-Csrf") != "t&1" {
			http.Error(w, "no session", http.StatusUnauthorized)
			return
		}
		file, head, err := r.FormFile("image")
		if err != nil || r.FormValue("kind") != "main" {
			http.Error(w, "no file", http.StatusBadRequest)
			return
		}
		assert.Equal(t, "image.bin", head.Filename)
		_, _ = o.got.ReadFrom(file)
	})
	s := o.session(t, `login:
  - get: /login.html
    take: {csrf: '//input[@name="csrf"]/@value'}
  - post: /login.html
    form: {user: $login.user, pass: $login.password, csrf: $csrf}
    outcome: {303: ok, 200: credential}
`+oddRead+`update:
  - upload: POST /firmware
    header: {X-Csrf: $csrf}
    multipart: {kind: $component, image: $image, end: "1"}
`)
	_, raw, err := send(t, s, 300_000)
	require.NoError(t, err)
	assert.True(t, bytes.Equal(raw, o.got.Bytes()), "the image arrived as it is")
	assert.Equal(t, 1, o.logins)
}

// A token that the device forgot is renewed, once; what is refused then is not tried again.
func TestTokenIsRenewed(t *testing.T) {
	o := newOdd("1.0")
	valid := map[string]bool{}
	o.HandleFunc("POST /token", func(w http.ResponseWriter, _ *http.Request) {
		o.logins++
		token := fmt.Sprintf("token-%d", o.logins)
		valid[token] = true
		_, _ = fmt.Fprintf(w, `{"token":%q}`, token)
	})
	o.HandleFunc("GET /inside", func(w http.ResponseWriter, r *http.Request) {
		if !valid[strings.TrimPrefix(r.Header.Get("X-Token"), "T ")] {
			http.Error(w, "", http.StatusUnauthorized)
			return
		}
		_, _ = fmt.Fprint(w, `{"v":"1.0"}`)
	})
	s := o.session(t, "wire: {header: {X-Token: T $token}}\nlogin:\n  - post: /token\n    take: "+
		"{token: $.token}\n"+
		"read:\n  - get: /inside\n    take: {version: $.v}\n")
	for range 2 {
		_, err := s.Read(t.Context())
		require.NoError(t, err)
	}
	assert.Equal(t, 1, o.logins, "a session lasts")
	clear(valid)
	_, err := s.Read(t.Context())
	require.NoError(t, err)
	assert.Equal(t, 2, o.logins)
	refusing := newOdd("1.0")
	refusing.answer("POST /token", `{"token":"t"}`)
	refusing.HandleFunc("GET /inside", func(w http.ResponseWriter, _ *http.Request) {
		http.Error(w, "", http.StatusUnauthorized)
	})
	s = refusing.session(t, "login:\n  - post: /token\n    take: {token: $.token}\nread:\n  - get: "+
		"/inside\n    take: {version: $.v}\n")
	_, err = s.Read(t.Context())
	assert.ErrorIs(t, err, device.ErrLoginRefused)
	assert.Equal(t, []string{"GET /id", "POST /token", "GET /inside", "POST /token", "GET /inside"},
		refusing.requests())
}

// Chunks with a start and a commit; "not now" is asked again after what the device says.
func TestChunks(t *testing.T) {
	o := newOdd("1.0")
	o.answer("POST /begin", `{"id":"a b"}`)
	var ranges []string
	busy := true
	o.HandleFunc("PUT /chunk/{id}", func(w http.ResponseWriter, r *http.Request) {
		assert.Equal(t, "a b", r.PathValue("id"))
		if busy {
			busy = false
			w.Header().Set("Retry-After", "1")
			http.Error(w, "", http.StatusServiceUnavailable)
			return
		}
		ranges = append(ranges, r.Header.Get("Content-Range"))
		_, _ = o.got.ReadFrom(r.Body)
	})
	o.answer("POST /commit", "")
	s := o.session(t, oddRead+`update:
  - post: /begin
    json: {size: $image.size, sha1: $image.sha1}
    take: {id: $.id}
    writes: true
  - upload: PUT /chunk/$id
    chunks: 64KiB
  - post: /commit
`)
	_, raw, err := send(t, s, 150_000)
	require.NoError(t, err)
	assert.Equal(t, []string{"bytes 0-65535/150000", "bytes 65536-131071/150000",
		"bytes 131072-149999/150000"}, ranges)
	assert.True(t, bytes.Equal(raw, o.got.Bytes()))
}

// The device fetches the image from Catena; no one else can.
func TestOfferByHTTP(t *testing.T) {
	o := newOdd("1.0")
	o.HandleFunc("POST /fetch", func(w http.ResponseWriter, r *http.Request) {
		url := r.FormValue("url")
		elsewhere, err := http.Get(url[:strings.LastIndex(url, "/")] + "x/image.bin")
		if assert.NoError(t, err) {
			assert.Equal(t, http.StatusNotFound, elsewhere.StatusCode)
			_ = elsewhere.Body.Close()
		}
		go func() {
			a, err := http.Get(url)
			if err == nil {
				o.mu.Lock()
				_, _ = o.got.ReadFrom(a.Body)
				o.mu.Unlock()
				_ = a.Body.Close()
			}
		}()
	})
	s := o.session(t, oddRead+"update:\n  - offer: http\n    steps:\n      - post: /fetch\n        "+
		"form: {url: $offer.url}\n")
	_, raw, err := send(t, s, 2_000_000)
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		o.mu.Lock()
		defer o.mu.Unlock()
		return bytes.Equal(raw, o.got.Bytes())
	}, time.Minute, 10*time.Millisecond)
}

// What has an effect is not told twice: a lost answer is an error, not a second try.
func TestALostAnswerIsNotRepeated(t *testing.T) {
	o := newOdd("1.0")
	o.HandleFunc("PUT /fw", func(_ http.ResponseWriter, r *http.Request) {
		_, _ = io.Copy(io.Discard, r.Body)
	})
	o.HandleFunc("POST /restart", func(http.ResponseWriter,
		*http.Request) {
		panic(http.ErrAbortHandler)
	})
	for lines, want := range map[string]error{"": device.ErrAway, "    gone: true\n": nil} {
		o.mu.Lock()
		o.asked = nil
		o.mu.Unlock()
		s := o.session(t, oddRead+"update:\n  - upload: PUT /fw\nrestart:\n  - post: /restart\n"+lines)
		u, _, err := send(t, s, 1000)
		require.NoError(t, err)
		err = u.Activate(t.Context())
		assert.True(t, errors.Is(err, want) || err == nil && want == nil, "%v", err)
		assert.Equal(t, []string{"PUT /fw", "POST /restart"}, o.requests())
	}
}

// An interlock leaves the device untouched, with the family's own sentence.
func TestInterlock(t *testing.T) {
	o := newOdd("1.0")
	o.answer("GET /link", `{"link":"modem"}`)
	s := o.session(t, "read:\n  - get: /version\n    take: {version: $.v}\n  - get: /link\n    "+
		"take: {link: $.link}\n"+
		"interlocks:\n  - {holds: 'component != link', else: The modem carries the link in use.}\n"+
		"update:\n  - upload: PUT /fw\n")
	u, err := s.Update("modem")
	require.NoError(t, err)
	assert.ErrorContains(
		t,
		u.Ready(t.Context(), dialect.Image{}),
		"The modem carries the link in use.",
	)
	u, err = s.Update("main")
	require.NoError(t, err)
	assert.NoError(t, u.Ready(t.Context(), dialect.Image{}))
}

// A login never leaves while a device is being recognised, nor in the clear where that is not
// allowed.
func TestWhenALoginLeaves(t *testing.T) {
	o := newOdd("1.0")
	var seen []string
	o.HandleFunc("GET /who", func(w http.ResponseWriter, r *http.Request) {
		seen = append(seen, r.Header.Get("Authorization"))
		w.Header().Set("WWW-Authenticate", `Basic realm="x"`)
		http.Error(w, "", http.StatusUnauthorized)
	})
	f, err := family.Parse("odd.yaml", []byte("family: odd\nvendor: Tollgarth\nmodels: [TG-200]\n"+
		"recognise:\n"+
		"  - get: /who\n    take: {model: $.model}\n"+oddRead))
	require.NoError(t, err)
	server := httptest.NewServer(o)
	defer server.Close()
	at := dialect.At{Endpoint: device.Endpoint{Address: server.Listener.Addr().String()}}
	as := login.Credential{User: "keeper", Password: "quoin"}
	_, err = scripted.New(f, 1).Open(at, as).Read(t.Context())
	assert.ErrorIs(t, err, device.ErrNotMine)
	assert.Equal(t, []string{""}, seen)

	o.answer("POST /login", `{}`)
	f, err = family.Parse("odd.yaml", []byte(strings.Replace(oddHead, "plain_basic: true\n", "", 1)+
		"login:\n  - post: /login\n    json: {p: $login.password}\n"+oddRead))
	require.NoError(t, err)
	_, err = scripted.New(f, 1).Open(at, as).Read(t.Context())
	assert.ErrorIs(t, err, device.ErrPlain)
	assert.NotContains(t, o.requests(), "POST /login")
}

// An image for a component is not sent to a device whose family knows nothing of components.
func TestAnImageForAnUnknownComponent(t *testing.T) {
	s := newOdd("1.0").session(t, oddRead+"update:\n  - upload: PUT /fw\n")
	_, err := s.Update("io")
	assert.ErrorContains(t, err, "has no update for the component io")
	_, err = s.Update("main")
	assert.NoError(t, err)
}

// A component that is updated another way has steps of its own.
func TestComponentsOfTheirOwn(t *testing.T) {
	o := newOdd("1.0")
	take := func(_ http.ResponseWriter, r *http.Request) { _, _ = io.Copy(io.Discard, r.Body) }
	o.HandleFunc("PUT /fw", take)
	o.HandleFunc("PUT /modem", take)
	o.answer("POST /restart", "")
	o.answer("POST /modem/reset", "")
	s := o.session(t, oddRead+"update:\n  - upload: PUT /fw\n    query: {part: $component}\n"+
		"restart:\n  - post: /restart\ncomponents:\n"+
		"  modem:\n    update:\n      - upload: PUT /modem\n    restart:\n      - post: /modem/reset\n")
	for component, want := range map[string][]string{
		"main": {"PUT /fw", "POST /restart"}, "io": {"PUT /fw", "POST /restart"},
		"modem": {"PUT /modem", "POST /modem/reset"}} {
		o.mu.Lock()
		o.asked = nil
		o.mu.Unlock()
		u, err := s.Update(component)
		require.NoError(t, err)
		require.NoError(t, u.Transfer(t.Context(), dialect.Image{ReaderAt: strings.NewReader("lock"),
			Size:   4,
			SHA256: strings.Repeat("0", 64)}, nil))
		require.NoError(t, u.Activate(t.Context()))
		assert.Equal(t, want, o.requests(), component)
	}
}

// A secret is blanked before a line is cut to its length: no part of it is shown, or recorded.
func TestNoPartOfASecretIsShown(t *testing.T) {
	o := newOdd("1.0")
	token := strings.Repeat("quoin", 20)
	o.answer("POST /login", `{"padding":"`+strings.Repeat("-", 90)+`","token":"`+token+`"}`)
	f, err := family.Parse("odd.yaml", []byte(oddHead+"login:\n  - post: /login\n    take: {token: "+
		"$.token}\n"+oddRead))
	require.NoError(t, err)
	s := httptest.NewServer(o)
	defer s.Close()
	shown := 0
	recorder := scripted.New(f, 1).Recorder(dialect.At{Endpoint: device.Endpoint{
		Address: s.Listener.Addr().String()}}, login.Credential{}, func(seen scripted.Seen) {
		for _, line := range slices.Concat(seen.Sent, seen.Got, seen.Took) {
			shown++
			assert.NotContains(t, line, "quoin")
		}
	})
	_, _, err = recorder.First(t.Context())
	require.NoError(t, err)
	assert.NotZero(t, shown)
	assert.NotContains(t, fmt.Sprintf("%+v", recorder.Recording()), "quoin")
}

// The steps before the first byte know the image: a device is told its size, its checksum and its
// version before it takes it.
func TestTheImageIsKnownBeforeItsFirstByte(t *testing.T) {
	o := newOdd("1.0")
	announced := ""
	o.HandleFunc("POST /begin", func(_ http.ResponseWriter, r *http.Request) {
		announced = r.FormValue("size") + " " + r.FormValue("md5") + " " + r.FormValue("version")
	})
	o.HandleFunc("PUT /firmware", func(_ http.ResponseWriter, r *http.Request) {
		_, _ = o.got.ReadFrom(r.Body)
	})
	s := o.session(
		t,
		oddRead+"update:\n  - post: /begin\n    form: {size: $image.size, md5: $image.md5, "+
			"version: $image.version}\n  - upload: PUT /firmware\n",
	)
	raw := []byte("a lock and its gate")
	image := dialect.Image{ReaderAt: bytes.NewReader(raw), Size: int64(len(raw)), Version: "2.0",
		SHA256: fmt.Sprintf("%x", sha256.Sum256(raw))}
	u, err := s.Update("main")
	require.NoError(t, err)
	require.NoError(t, u.Ready(t.Context(), image))
	assert.Equal(t, fmt.Sprintf("%d %x 2.0", len(raw), md5.Sum(raw)), announced)
	require.NoError(t, u.Transfer(t.Context(), image, func(int64) {}))
	assert.Equal(t, raw, o.got.Bytes())
}

// A session that has ended is opened once more, also where the device forbids then, or redirects to
// its login; what a new session is forbidden, too, is forbidden.
func TestASessionThatEndsWithoutAWord(t *testing.T) {
	for _, status := range []int{http.StatusForbidden, http.StatusSeeOther} {
		o := newOdd("1.0")
		token, forbids := "", false
		o.HandleFunc("POST /in", func(w http.ResponseWriter, _ *http.Request) {
			o.logins++
			token = fmt.Sprint("t", o.logins)
			_, _ = fmt.Fprintf(w, `{"t": %q}`, token)
		})
		o.HandleFunc("GET /state", func(w http.ResponseWriter, r *http.Request) {
			if forbids || r.Header.Get("X-Token") != token {
				w.Header().Set("Location", "/login")
				w.WriteHeader(status)
				return
			}
			_, _ = io.WriteString(w, `{"v": "1.0"}`)
		})
		s := o.session(t, "wire: {header: {X-Token: $t}}\nlogin:\n  - post: /in\n    take: {t: $.t}\n"+
			"read:\n  - get: /state\n    take: {version: $.v}\n")
		_, err := s.Read(t.Context())
		require.NoError(t, err)
		token = "" // it restarted, or was idle for long
		_, err = s.Read(t.Context())
		require.NoError(t, err, status)
		assert.Equal(t, 2, o.logins)
		forbids = true
		_, err = s.Read(t.Context())
		require.Error(t, err)
		assert.Equal(t, 3, o.logins, "one new login, and no more")
		_, err = s.Read(t.Context())
		require.Error(t, err)
		assert.Equal(t, 3, o.logins, "a session that has not served yet has not ended")
	}
}

// A device that looks at the file name gets the one that its family describes: a constant, the
// maker's, or one with the version. A name that could mean something else is never sent.
func TestTheNameUnderWhichAnImageIsSent(t *testing.T) {
	for key, want := range map[string]string{"": "image.bin", "image_name: update.zip\n": "update.zip",
		"image_name: $image.file\n":                "hub_6.zip",
		"image_name: 'hub-$(image.version).pkg'\n": "hub-6.pkg",
		"image_name: '$(image.version)/hub.zip'\n": ""} {
		o, name := newOdd("6"), ""
		o.HandleFunc("POST /update", func(_ http.ResponseWriter, r *http.Request) {
			_, header, err := r.FormFile("file")
			if assert.NoError(t, err) {
				name = header.Filename
			}
		})
		f, err := family.Parse("odd.yaml", []byte(oddHead+oddRead+key+
			"update:\n  - upload: POST /update\n    multipart: {file: $image}\n"))
		if want == "" {
			assert.ErrorContains(t, err, "cannot be sent as a file name")
			continue
		}
		require.NoError(t, err)
		require.NotNil(t, f.Program)
		s := o.session(
			t,
			oddRead+key+"update:\n  - upload: POST /update\n    multipart: {file: $image}\n",
		)
		u, err := s.Update("main")
		require.NoError(t, err)
		image := dialect.Image{ReaderAt: strings.NewReader("lock"), Size: 4, Version: "6",
			SHA256: fmt.Sprintf("%x", sha256.Sum256([]byte("lock"))), File: "from-the-maker/hub_6.zip"}
		require.NoError(t, u.Ready(t.Context(), image))
		require.NoError(t, u.Transfer(t.Context(), image, nil))
		assert.Equal(t, want, name)

		image.File, image.Version = `hub";6.zip`, "6 beta"
		image.SHA256 = strings.Repeat("0", 64) // another one
		if strings.Contains(key, "image.") {
			assert.ErrorContains(t, u.Ready(t.Context(), image), "cannot be sent as a file name")
		} else {
			assert.NoError(t, u.Ready(t.Context(), image))
		}
	}
	_, err := family.Parse("odd.yaml", []byte(oddHead+oddRead+"image_name: $image.size\n"))
	assert.ErrorContains(t, err, "use $image.file or $image.version")
}
