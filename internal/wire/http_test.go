package wire_test

import (
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"regexp"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/device"
	"catena/internal/login"
	"catena/internal/wire"
)

var keeper = login.Credential{User: "keeper", Password: "quoin"}

// logged asks once, answers the challenge, and asks again.
func logged(t *testing.T, s *httptest.Server, as login.Credential) (status int, err error) {
	l := wire.HTTPAuth{As: as, Secure: s.TLS != nil}
	c := wire.NewHTTP(nil)
	for range 2 {
		r, err := http.NewRequest(http.MethodGet, s.URL+"/x", nil)
		require.NoError(t, err)
		require.NoError(t, l.Sign(r))
		a, err := c.Ask(t.Context(), r)
		require.NoError(t, err)
		if a.Status != http.StatusUnauthorized {
			return a.Status, nil
		}
		if err := l.Take(a.Header); err != nil {
			return a.Status, err
		}
	}
	return http.StatusUnauthorized, nil
}

func TestDigestComesBeforeBasic(t *testing.T) {
	var sent atomic.Value
	sent.Store("")
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if a := r.Header.Get("Authorization"); a != "" {
			sent.Store(a)
			return
		}
		w.Header().Add("WWW-Authenticate", `Basic realm="x"`)
		w.Header().Add("WWW-Authenticate",
			`Digest realm="x", qop="auth", algorithm=SHA-256, nonce="n"`)
		w.WriteHeader(http.StatusUnauthorized)
	}))
	defer s.Close()
	as := keeper
	as.PlainBasic = true // even then
	status, err := logged(t, s, as)
	require.NoError(t, err)
	assert.Equal(t, http.StatusOK, status)
	assert.True(t, strings.HasPrefix(sent.Load().(string), "Digest "), sent.Load())
	assert.NotContains(t, sent.Load(), "quoin")
}

func TestBasicWantsTLSOrLeave(t *testing.T) {
	var passwords atomic.Int64
	h := http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if _, password, ok := r.BasicAuth(); ok {
			passwords.Add(1)
			if password == "quoin" {
				return
			}
		}
		w.Header().Set("WWW-Authenticate", `Basic realm="x"`)
		w.WriteHeader(http.StatusUnauthorized)
	})
	plain, secure := httptest.NewServer(h), httptest.NewTLSServer(h)
	defer plain.Close()
	defer secure.Close()

	_, err := logged(t, plain, keeper)
	assert.ErrorIs(t, err, device.ErrPlain)
	assert.Zero(t, passwords.Load(), "nothing was sent")
	allowed := keeper
	allowed.PlainBasic = true
	status, err := logged(t, plain, allowed)
	require.NoError(t, err)
	assert.Equal(t, http.StatusOK, status)
	status, err = logged(t, secure, keeper)
	require.NoError(t, err)
	assert.Equal(t, http.StatusOK, status)

	wrong := keeper
	wrong.Password = "heron"
	before := passwords.Load()
	_, err = logged(t, secure, wrong)
	assert.ErrorIs(t, err, device.ErrLoginRefused)
	assert.EqualValues(t, 1, passwords.Load()-before, "a wrong password is tried once")
}

func TestUnknownChallenge(t *testing.T) {
	l := wire.HTTPAuth{Secure: true}
	assert.ErrorIs(t, l.Take(http.Header{"Www-Authenticate": {`Weird realm="x"`}}),
		device.ErrLoginRefused)
	assert.ErrorIs(t, l.Take(http.Header{}), device.ErrLoginRefused)
	assert.False(t, l.Challenged())
	require.NoError(t, l.Take(challenge(`nonce="1"`)))
	assert.True(t, l.Challenged())
}

func challenge(parameters string) http.Header {
	return http.Header{"Www-Authenticate": {`Digest realm="x", qop="auth", ` + parameters}}
}

// A server can invent a nonce for every answer, so a fresh nonce is not a second chance.
func TestARejectedLoginIsFinal(t *testing.T) {
	counts := map[string]bool{}
	sign := func(l *wire.HTTPAuth) {
		r := httptest.NewRequest(http.MethodGet, "/x", nil)
		require.NoError(t, l.Sign(r))
		used := regexp.MustCompile(`nonce="[^"]*"|nc=[0-9a-f]+`).FindAllString(
			r.Header.Get("Authorization"), -1)
		count := strings.Join(used, " ")
		assert.NotEmpty(t, count)
		assert.False(t, counts[count], "the nonce count %s is used twice", count)
		counts[count] = true
	}
	begun := func() *wire.HTTPAuth {
		clear(counts)
		l := &wire.HTTPAuth{As: keeper}
		require.NoError(t, l.Take(challenge(`nonce="1"`)))
		sign(l)
		return l
	}
	for name, again := range map[string]http.Header{
		"the same nonce":         challenge(`nonce="1"`),
		"a fresh nonce":          challenge(`nonce="2"`),
		"no challenge":           {},
		"a malformed one":        {"Www-Authenticate": {`Digest nonce=`}},
		"a huge nonce":           challenge(`stale=true, nonce="` + strings.Repeat("n", 5000) + `"`),
		"another way to show it": {"Www-Authenticate": {`Basic realm="x"`}},
	} {
		assert.ErrorIs(t, begun().Take(again), device.ErrLoginRefused, name)
	}

	l := begun()
	require.NoError(t, l.Take(challenge(`nonce="2", stale=true`)), "only the nonce was too old")
	sign(l)
	assert.ErrorIs(t, l.Take(challenge(`nonce="3", stale=true`)), device.ErrLoginRefused,
		"and once only")

	l = begun()
	l.Accepted()
	sign(l)
	require.NoError(t, l.Take(challenge(`nonce="2"`)), "it was right before: a restart forgets nonces")
	sign(l)
	assert.ErrorIs(t, l.Take(challenge(`nonce="3"`)), device.ErrLoginRefused)

	l = begun()
	l.Accepted()
	sign(l)
	require.NoError(t, l.Take(challenge(`nonce="1"`)))
	sign(l) // under the next count
}

// Another certificate ends the connection before a request is on it.
func TestTrustComesFirst(t *testing.T) {
	var requests atomic.Int64
	s := httptest.NewTLSServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) {
		requests.Add(1)
	}))
	defer s.Close()
	trust := func(kind, fingerprint string) error {
		assert.Equal(t, device.KeyTLS, kind)
		assert.Equal(t, wire.Fingerprint(s.Certificate().Raw), fingerprint)
		return fmt.Errorf("another: %w", device.IdentityChangedError(kind, "a", "b"))
	}
	ask := func() error {
		r, err := http.NewRequest(http.MethodGet, s.URL, nil)
		require.NoError(t, err)
		_, err = wire.NewHTTP(func(kind,
			fingerprint string) error {
			return trust(kind, fingerprint)
		}).Ask(t.Context(), r)
		return err
	}
	err := ask()
	require.ErrorIs(t, err, device.ErrIdentityChanged)
	assert.NotContains(t, err.Error(), "127.0.0.1", "the message around it has the address")
	r, err := http.NewRequest(http.MethodPut, s.URL, nil)
	require.NoError(t, err)
	_, err = wire.NewHTTP(trust).Send(t.Context(), r,
		wire.Body{From: strings.NewReader("image"), Size: 5})
	assert.ErrorIs(t, err, device.ErrIdentityChanged)
	assert.Zero(t, requests.Load())
	trust = func(string, string) error { return nil }
	require.NoError(t, ask())
	assert.EqualValues(t, 1, requests.Load())
}

func TestAskIsBounded(t *testing.T) {
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case "/long":
			_, _ = io.WriteString(w, strings.Repeat("x", 300<<10))
		case "/headers":
			w.Header().Set("X", strings.Repeat("x", 100<<10))
		case "/redirect":
			http.Redirect(w, r, "/elsewhere", http.StatusFound)
		case "/never":
			<-r.Context().Done()
		}
	}))
	defer s.Close()
	for path, want := range map[string]error{"/long": device.ErrMalformed,
		"/headers": device.ErrMalformed, "/never": device.ErrAway, "/redirect": nil} {
		ctx, cancel := context.WithTimeout(t.Context(), 400*time.Millisecond)
		r, err := http.NewRequest(http.MethodGet, s.URL+path, nil)
		require.NoError(t, err)
		a, err := wire.NewHTTP(nil).Ask(ctx, r)
		cancel()
		if want == nil {
			require.NoError(t, err)
			assert.Equal(t, http.StatusFound, a.Status, "a redirect is an answer, and not followed")
			continue
		}
		assert.ErrorIs(t, err, want, path)
	}
}

// closed is a body whose connection was closed while it was sent.
type closed struct{}

func (closed) ReadAt([]byte, int64) (int, error) { return 0, net.ErrClosed }

// A device that cuts a transfer is away, whichever side of the connection sees it first: then the
// transfer is tried again.
func TestACutTransferIsAway(t *testing.T) {
	s := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		_, _ = io.Copy(io.Discard, r.Body)
	}))
	defer s.Close()
	r, err := http.NewRequest(http.MethodPut, s.URL, nil)
	require.NoError(t, err)
	_, err = wire.NewHTTP(nil).Send(t.Context(), r, wire.Body{From: closed{}, Size: 10})
	assert.ErrorIs(t, err, device.ErrAway)
	assert.True(t, wire.BrokenOff(err))
}
