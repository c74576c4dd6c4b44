package dialect_test

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/dialect"
	"catena/internal/site"
)

var keeper = dialect.Login{User: "keeper", Password: "quoin"}

// logged asks once, answers the challenge, and asks again.
func logged(t *testing.T, p dialect.Peer) (status int, err error) {
	var l dialect.HTTPLogin
	for range 2 {
		r, err := http.NewRequest(http.MethodGet, p.URL("/x"), nil)
		require.NoError(t, err)
		require.NoError(t, l.Sign(p, r))
		a, err := dialect.Ask(t.Context(), p, r)
		require.NoError(t, err)
		if a.Status != http.StatusUnauthorized {
			return a.Status, nil
		}
		if err := l.Take(p, a.Header); err != nil {
			return a.Status, err
		}
	}
	return http.StatusUnauthorized, nil
}

func peer(s *httptest.Server) dialect.Peer {
	return dialect.Peer{Address: s.Listener.Addr().String(), Login: keeper, TLS: s.TLS != nil}
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
		w.Header().Add("WWW-Authenticate", `Digest realm="x", qop="auth", algorithm=SHA-256, nonce="n"`)
		w.WriteHeader(http.StatusUnauthorized)
	}))
	defer s.Close()
	p := peer(s)
	p.PlainBasic = true // even then
	status, err := logged(t, p)
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

	_, err := logged(t, peer(plain))
	assert.ErrorIs(t, err, dialect.ErrPlain)
	assert.Zero(t, passwords.Load(), "nothing was sent")
	allowed := peer(plain)
	allowed.PlainBasic = true
	status, err := logged(t, allowed)
	require.NoError(t, err)
	assert.Equal(t, http.StatusOK, status)
	status, err = logged(t, peer(secure))
	require.NoError(t, err)
	assert.Equal(t, http.StatusOK, status)

	wrong := peer(secure)
	wrong.Login.Password = "heron"
	before := passwords.Load()
	_, err = logged(t, wrong)
	assert.ErrorIs(t, err, dialect.ErrLoginRefused)
	assert.EqualValues(t, 1, passwords.Load()-before, "a wrong password is tried once")
}

func TestUnknownChallenge(t *testing.T) {
	var l dialect.HTTPLogin
	assert.ErrorIs(t, l.Take(dialect.Peer{TLS: true}, http.Header{"Www-Authenticate": {`Weird realm="x"`}}), dialect.ErrLoginRefused)
	assert.ErrorIs(t, l.Take(dialect.Peer{TLS: true}, http.Header{}), dialect.ErrLoginRefused)
	assert.False(t, l.Challenged())
	require.NoError(t, l.Take(dialect.Peer{}, http.Header{"Www-Authenticate": {`Digest realm="x", nonce="1", qop="auth"`}}))
	assert.True(t, l.Challenged())
	assert.ErrorIs(t, l.Take(dialect.Peer{}, http.Header{"Www-Authenticate": {`Digest realm="x", nonce="1", qop="auth"`}}), dialect.ErrLoginRefused, "the same again means the login is wrong")
	assert.NoError(t, l.Take(dialect.Peer{}, http.Header{"Www-Authenticate": {`Digest realm="x", nonce="2", qop="auth"`}}), "a restart makes another")
	assert.NoError(t, l.Take(dialect.Peer{}, http.Header{"Www-Authenticate": {`Digest realm="x", nonce="2", qop="auth", stale=true`}}))
}

// Another certificate ends the connection before a request is on it.
func TestTrustComesFirst(t *testing.T) {
	var requests atomic.Int64
	s := httptest.NewTLSServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { requests.Add(1) }))
	defer s.Close()
	p := peer(s)
	p.Trust = func(kind, fingerprint string) error {
		assert.Equal(t, dialect.KeyTLS, kind)
		assert.Equal(t, dialect.Fingerprint(s.Certificate().Raw), fingerprint)
		return fmt.Errorf("%w: another", dialect.ErrIdentityChanged)
	}
	ask := func() error {
		r, err := http.NewRequest(http.MethodGet, p.URL("/"), nil)
		require.NoError(t, err)
		_, err = dialect.Ask(t.Context(), p, r)
		return err
	}
	err := ask()
	require.ErrorIs(t, err, dialect.ErrIdentityChanged)
	assert.NotContains(t, err.Error(), "127.0.0.1", "the message around it has the address")
	r, err := http.NewRequest(http.MethodPut, p.URL("/"), nil)
	require.NoError(t, err)
	_, err = dialect.Transfer(t.Context(), p, r, dialect.Upload{Image: strings.NewReader("image"), Size: 5})
	assert.ErrorIs(t, err, dialect.ErrIdentityChanged)
	assert.Zero(t, requests.Load())
	p.Trust = func(string, string) error { return nil }
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
	for path, want := range map[string]error{"/long": dialect.ErrMalformed, "/headers": dialect.ErrMalformed, "/never": dialect.ErrAway, "/redirect": nil} {
		ctx, cancel := context.WithTimeout(t.Context(), 400*time.Millisecond)
		r, err := http.NewRequest(http.MethodGet, peer(s).URL(path), nil)
		require.NoError(t, err)
		a, err := dialect.Ask(ctx, peer(s), r)
		cancel()
		if want == nil {
			require.NoError(t, err)
			assert.Equal(t, http.StatusFound, a.Status, "a redirect is an answer, and not followed")
			continue
		}
		assert.ErrorIs(t, err, want, path)
	}
}

func TestURL(t *testing.T) {
	assert.Equal(t, "http://10.20.4.11:80/x", dialect.Peer{Address: "10.20.4.11:80"}.URL("/x"))
	assert.Equal(t, "https://[fe80::1%25eth0]:443/", dialect.Peer{Address: "[fe80::1%eth0]:443", TLS: true}.URL("/"))
	_, err := http.NewRequest(http.MethodGet, dialect.Peer{Address: "[fe80::1%eth0]:443"}.URL("/"), nil)
	assert.NoError(t, err)
}

func TestFactsAreCleaned(t *testing.T) {
	f := dialect.Facts{Name: "a\x1b[2Jb", Says: "x\ny", MAC: "02-00-5E-00-53-11", Behind: []string{"\x07z"},
		Neighbours: []site.Neighbour{{Port: "1\n", Name: "n\x00"}}}.Clean()
	assert.Equal(t, "a[2Jb", f.Name)
	assert.Equal(t, "x y", f.Says)
	assert.Equal(t, "02:00:5e:00:53:11", f.MAC)
	assert.Equal(t, []string{"z"}, f.Behind)
	assert.Equal(t, []site.Neighbour{{Port: "1", Name: "n"}}, f.Neighbours)
	for _, mac := range []string{"", "x", "00:00:00:00:00:00", "01:00:5e:00:00:fb", "ff:ff:ff:ff:ff:ff", "02:00:5e:00:53:11:22:33"} {
		assert.Empty(t, dialect.Facts{MAC: mac}.Clean().MAC, mac)
	}
	many := dialect.Facts{Neighbours: make([]site.Neighbour, 5000), Behind: make([]string, 5000), Services: make([]string, 5000)}.Clean()
	assert.Less(t, len(many.Neighbours)+len(many.Behind)+len(many.Services), 1000)
	assert.NotContains(t, fmt.Sprintf("%v %+v %s", keeper, keeper, dialect.Peer{Login: keeper}.Login), "quoin", "a login does not print")
}
