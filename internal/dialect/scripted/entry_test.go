package scripted_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"sync/atomic"
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

// disk is what outlives a session.
type disk struct {
	started []byte
	secret  bool
	writes  int
}

func (d *disk) aids() dialect.Caller {
	return dialect.Caller{
		Keep: func(k dialect.Kept) error {
			d.started, d.secret = bytes.Clone(k.Raw), k.Secret
			d.writes++
			return nil
		},
		Kept: func() ([]byte, error) { return d.started, nil },
	}
}

// sessions opens sessions with one server, one after the other.
func (o *odd) sessions(t *testing.T, lines string, aids dialect.Caller) func() dialect.Session {
	f, err := family.Parse("odd.yaml", []byte(oddHead+lines))
	require.NoError(t, err)
	s := httptest.NewServer(o)
	t.Cleanup(s.Close)
	return func() dialect.Session {
		return scripted.New(f, 1).Open(dialect.At{Caller: aids,
			Endpoint: device.Endpoint{Address: s.Listener.Addr().String()}},
			login.Credential{User: "keeper", Password: "quoin & <sluice>", PlainBasic: true,
				More: login.More{Secrets: map[string]string{"service": "wicket"}}})
	}
}

// guarded is a device that takes an image only from a member, and members have to be taken out
// again. It knows who are in.
type guarded struct {
	*odd
	members map[string]string // the numbers, by name
	deaf    bool              // it takes no one out
	known   []string          // every name that ever was in
}

func newGuarded() *guarded {
	g := &guarded{odd: newOdd("1.0"), members: map[string]string{}}
	g.HandleFunc("POST /members", func(w http.ResponseWriter, r *http.Request) {
		if r.FormValue("key") != "wicket" {
			http.Error(w, "wrong key", http.StatusForbidden)
			return
		}
		name := r.FormValue("name")
		number := fmt.Sprintf("m%d", len(g.known))
		g.members[name] = number
		g.known = append(g.known, name)
		_, _ = fmt.Fprintf(w, `{"number":%q}`, number)
	})
	g.HandleFunc("DELETE /members/{number}", func(w http.ResponseWriter, r *http.Request) {
		for name, number := range g.members {
			if number == r.PathValue("number") && !g.deaf {
				delete(g.members, name)
				return
			}
		}
		http.NotFound(w, r)
	})
	g.HandleFunc("PUT /fw", func(w http.ResponseWriter, r *http.Request) {
		if len(g.members) == 0 {
			http.Error(w, "", http.StatusForbidden)
		}
		_, _ = io.Copy(io.Discard, r.Body)
		_, _ = fmt.Fprint(w, `{"task":7}`)
	})
	g.HandleFunc("GET /in", func(w http.ResponseWriter, _ *http.Request) {
		_, _ = fmt.Fprintf(w, `{"n":%d}`, len(g.members))
	})
	return g
}

const guardedFamily = `secrets: {service: writing}
enter:
  steps:
    - post: /members
      form: {name: catena-$try, key: $login.service}
      take: {member: $.number}
leave:
  steps:
    - delete: /members/$member
      outcome: {404: done}
  expect: inside == 0
read:
  - get: /version
    take: {version: $.v}
  - get: /in
    take: {inside: int $.n}
update:
  - upload: PUT /fw
    take: {task: int $.task}
  - poll: /task/$task
    take: {phase: $.phase}
    until: phase == "ready"
`

// What a device is entered for it is left of, once, last; reading does not enter it, and the secret
// for writing is not sent by what only reads.
func TestEnterAndLeave(t *testing.T) {
	g, d := newGuarded(), &disk{}
	s := g.sessions(t, guardedFamily, d.aids())()
	_, err := s.Read(t.Context())
	require.NoError(t, err)
	assert.Empty(t, g.known, "reading does not require it")
	_, _, err = send(t, s, 1000)
	require.NoError(t, err)
	assert.Len(t, g.members, 1)
	assert.True(t, d.secret)
	assert.Contains(t, string(d.started), `"task":7`, "what the update has taken is kept before the "+
		"next step")
	require.NoError(t, s.Close(t.Context()))
	assert.Empty(t, g.members)
	assert.Empty(t, d.started)
	assert.Len(t, g.known, 1)
	s = g.sessions(t, guardedFamily, d.aids())()
	_, _, err = send(t, s, 1000)
	require.NoError(t, err)
	require.NoError(t, s.Close(t.Context()))
	assert.NotEqual(t, g.known[0], g.known[1], "each try has its own name")
}

// After a crash the next session takes over what was started: it enters no second time, follows
// what was sent, and leaves.
func TestEntryAfterACrash(t *testing.T) {
	g, d := newGuarded(), &disk{}
	g.answer("GET /task/7", `{"phase":"ready"}`)
	open := g.sessions(t, guardedFamily, d.aids())
	_, _, err := send(t, open(), 1000) // and Catena dies
	require.NoError(t, err)
	s := open()
	_, err = s.Read(t.Context())
	require.NoError(t, err)
	u, err := s.Update("main")
	require.NoError(t, err)
	percent, err := u.Progress(t.Context())
	require.NoError(t, err)
	assert.Equal(t, 100, percent, "it asks for the task that the first session was given")
	require.NoError(t, s.Close(t.Context()))
	assert.Empty(t, g.members)
	assert.Len(t, g.known, 1)
	assert.Empty(t, d.started)
}

// Killed at any point of entering, whether before the device has let anyone in or after it: the next
// session has the device entered before it sends an image, and no one is in once it has left.
func TestKilledWhileEntering(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		name   string
		writes int // the process dies after this number of notes
	}{{"before the first step", 1}, {"after it", 2}, {"when it was in", 3}} {
		t.Run(c.name, func(t *testing.T) {
			g, d := newGuarded(), &disk{}
			dies := d.aids()
			keep := dies.Keep
			dies.Keep = func(k dialect.Kept) error {
				if d.writes >= c.writes {
					return errors.New("it is dead")
				}
				err := keep(k)
				if d.writes == c.writes {
					return errors.New("it is dead")
				}
				return err
			}
			u, err := g.sessions(t, guardedFamily, dies)().Update("main")
			require.NoError(t, err)
			require.ErrorContains(t, u.Ready(t.Context(), dialect.Image{}), "it is dead")
			require.NotEmpty(t, d.started)
			s := g.sessions(t, guardedFamily, d.aids())()
			_, _, err = send(t, s, 1000)
			require.NoError(t, err, "the device takes images only from members")
			require.NoError(t, s.Close(t.Context()))
			assert.Empty(t, g.members)
			assert.Empty(t, d.started)
		})
	}
}

// An entry that cannot be left is told, kept, and left by the next session with the device.
func TestAnEntryThatCannotBeLeft(t *testing.T) {
	t.Parallel()
	g, d := newGuarded(), &disk{}
	open := g.sessions(t, strings.Replace(guardedFamily, "      outcome: {404: done}\n", "", 1),
		d.aids())
	s := open()
	_, _, err := send(t, s, 1000)
	require.NoError(t, err)
	g.deaf = true
	assert.ErrorIs(t, s.Close(t.Context()), device.ErrNotLeft)
	assert.NotEmpty(t, d.started)
	g.deaf = false
	s = open()
	_, err = s.Read(t.Context())
	require.NoError(t, err)
	require.NoError(t, s.Close(t.Context()))
	assert.Empty(t, g.members)
	assert.Empty(t, d.started)
}

// A device is not entered when that cannot be kept: no one could leave it after a crash.
func TestNothingIsEnteredThatCannotBeKept(t *testing.T) {
	g, d := newGuarded(), &disk{}
	aids := d.aids()
	aids.Keep = func(dialect.Kept) error { return errors.New("no space left on device") }
	s := g.sessions(t, guardedFamily, aids)()
	u, err := s.Update("main")
	require.NoError(t, err)
	assert.ErrorContains(t, u.Ready(t.Context(), dialect.Image{}), "no space left")
	assert.Empty(t, g.known)
}

// A login without the secret that a family asks for is told so; nothing is sent in its place.
func TestASecretThatTheLoginHasNot(t *testing.T) {
	t.Parallel()
	g := newGuarded()
	s := g.session(t, guardedFamily)
	u, err := s.Update("main")
	require.NoError(t, err)
	assert.ErrorIs(t, u.Ready(t.Context(), dialect.Image{}), &device.Cause{Problem: device.NoSecret})
	assert.Empty(t, g.known)
}

// A person is asked, and confirms it, or the device itself shows it.
func TestAsk(t *testing.T) {
	o := newOdd("1.0")
	var on atomic.Bool
	o.HandleFunc("GET /dock", func(w http.ResponseWriter, _ *http.Request) {
		_, _ = fmt.Fprintf(w, `{"on":"%v"}`, on.Load())
	})
	o.HandleFunc("PUT /fw", func(_ http.ResponseWriter, r *http.Request) {
		_, _ = io.Copy(io.Discard,
			r.Body)
	})
	lines := oddRead[:len(oddRead)-1] + "\n  - get: /dock\n    take: {dock: $.on}\nupdate:\n" +
		"  - ask: Hold $component to its base.\n    within: 20s\n%s  - upload: PUT /fw\n"
	for name, c := range map[string]struct {
		until string
		ask   func(context.Context, string, bool) error
		want  string
	}{
		"a person has done it": {"", func(_ context.Context, what string, busy bool) error {
			assert.Equal(t, "Hold main to its base.", what)
			assert.False(t, busy)
			return nil
		}, ""},
		"its parent is busy": {"    occupies: true\n", func(_ context.Context, _ string,
			busy bool) error {
			assert.True(t, busy)
			return nil
		}, ""},
		"a person skips it": {"", func(context.Context, string, bool) error {
			return device.Because(device.NeedsPerson, "skipped")
		}, "skipped"},
		"no one is there": {"", nil, "there is no operator to ask"},
		"the device shows it": {"    until: dock == \"true\"\n", func(ctx context.Context, _ string,
			_ bool) error {
			on.Store(true)
			<-ctx.Done() // the person says nothing
			return ctx.Err()
		}, ""},
	} {
		t.Run(name, func(t *testing.T) {
			s := o.sessions(t, fmt.Sprintf(lines, c.until), dialect.Caller{Ask: c.ask})()
			u, err := s.Update("main")
			require.NoError(t, err)
			err = u.Ready(t.Context(), dialect.Image{})
			if c.want == "" {
				require.NoError(t, err)
				return
			}
			require.ErrorContains(t, err, c.want)
			assert.NotContains(t, o.requests(), "PUT /fw")
		})
	}
}

// An upload continues where the device says that it ended.
func TestAnUploadGoesOn(t *testing.T) {
	o := newOdd("1.0")
	var mu sync.Mutex // the device serves one request at a time
	has, broken := 0, true
	o.HandleFunc("GET /upload", func(w http.ResponseWriter, _ *http.Request) {
		mu.Lock()
		defer mu.Unlock()
		_, _ = fmt.Fprintf(w, `{"bytes":%d}`, has)
	})
	o.HandleFunc("PUT /fw", func(w http.ResponseWriter, r *http.Request) {
		mu.Lock()
		defer mu.Unlock()
		assert.Equal(t, fmt.Sprintf("bytes %d-%d/150000", has, min(has+65536, 150_000)-1),
			r.Header.Get("Content-Range"))
		if has > 0 && broken {
			broken = false
			panic(http.ErrAbortHandler)
		}
		n, _ := io.Copy(&o.got, r.Body)
		has += int(n)
	})
	s := o.session(t, oddRead+`update:
  - get: /upload
    take: {there: int $.bytes}
  - upload: PUT /fw
    from: there
    chunks: 64KiB
`)
	u, raw, err := send(t, s, 150_000)
	require.ErrorIs(t, err, device.ErrAway)
	require.NoError(t, u.Ready(t.Context(), dialect.Image{}))
	require.NoError(t, u.Transfer(t.Context(), dialect.Image{ReaderAt: bytes.NewReader(raw),
		Size:   150_000,
		SHA256: strings.Repeat("0", 64)}, nil))
	assert.True(t, bytes.Equal(raw, o.got.Bytes()), "each byte was sent once")
}

// A step goes to another device of the site, with that one's login.
func TestAStepOnAnotherDevice(t *testing.T) {
	o, other := newOdd("1.0"), newOdd("9.0")
	var prio []string
	other.HandleFunc("PUT /prio/{n}", func(w http.ResponseWriter, r *http.Request) {
		user, _, _ := r.BasicAuth()
		if user == "" {
			w.Header().Set("WWW-Authenticate", `Basic realm="x"`)
			http.Error(w, "", http.StatusUnauthorized)
			return
		}
		prio = append(prio, r.PathValue("n")+" by "+user)
	})
	o.HandleFunc("PUT /fw", func(_ http.ResponseWriter, r *http.Request) {
		prio = append(prio, "image")
		_, _ = io.Copy(io.Discard, r.Body)
	})
	there := httptest.NewServer(other)
	defer there.Close()
	aids := (&disk{}).aids()
	aids.Other = func(_ context.Context, name string) (dialect.Contact, error) {
		assert.Equal(t, "switch-basin", name)
		return dialect.Contact{At: dialect.At{Endpoint: device.Endpoint{Address: there.Listener.Addr().String()}},
			As: login.Credential{User: "switcher", Password: "sluice", PlainBasic: true}, Protocol: "http"}, nil
	}
	s := o.sessions(t, oddRead+`enter:
  steps:
    - put: /prio/low
      on: switch-basin
leave:
  steps:
    - put: /prio/high
      on: switch-basin
update:
  - upload: PUT /fw
`, aids)()
	_, _, err := send(t, s, 1000)
	require.NoError(t, err)
	require.NoError(t, s.Close(t.Context()))
	assert.Equal(t, []string{"low by switcher", "image", "high by switcher"}, prio)
}

// A wait of a person ends with its time.
func TestAskEnds(t *testing.T) {
	o := newOdd("1.0")
	s := o.sessions(t, oddRead+"update:\n  - ask: Press it.\n    within: 50ms\n  - upload: PUT /fw\n",
		dialect.Caller{Ask: func(ctx context.Context, _ string, _ bool) error { <-ctx.Done(); time.Sleep(time.Second); return nil }})()
	u, err := s.Update("main")
	require.NoError(t, err)
	assert.ErrorContains(t, u.Ready(t.Context(), dialect.Image{}), "no operator confirmed within 50ms")
}

// What the device itself tells after a crash is not kept: an update of such a device costs no entry.
func TestWhatTheDeviceTellsIsNotKept(t *testing.T) {
	o, d := newOdd("1.0"), &disk{}
	o.HandleFunc("PUT /fw", func(_ http.ResponseWriter, r *http.Request) { _, _ = io.Copy(io.Discard, r.Body) })
	o.answer("GET /fw", `{"phase":"ready"}`)
	poll := "update:\n  - upload: PUT /fw\n  - poll: /fw\n    take: {phase: $.phase}\n    until: phase == \"ready\"\n"
	for state, writes := range map[string]int{"state: {busy: phase == \"writing\"}\n": 0, "": 2} {
		d.writes = 0
		s := o.sessions(t, oddRead+poll+state, d.aids())()
		u, _, err := send(t, s, 1000)
		require.NoError(t, err)
		percent, err := u.Progress(t.Context())
		require.NoError(t, err)
		assert.Equal(t, 100, percent)
		require.NoError(t, s.Close(t.Context()))
		assert.Equal(t, writes, d.writes, state)
		assert.Empty(t, d.started)
	}
}
