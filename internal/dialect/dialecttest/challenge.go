package dialecttest

import (
	"bytes"
	"crypto/tls"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/dialect"
)

// challengers are servers that reject every login, by the challenge that they send.
var challengers = map[string]func(n int64) string{
	"a fresh nonce": func(n int64) string {
		return fmt.Sprintf(`Digest realm="x", qop="auth", nonce="%d"`, n)
	},
	"a fresh nonce each, always stale": func(n int64) string {
		return fmt.Sprintf(`Digest realm="x", qop="auth", stale=true, nonce="%d"`, n)
	},
	"no challenge":          func(int64) string { return "" },
	"a challenge cut short": func(int64) string { return `Digest realm="x", nonce=` },
	"an unknown method":     func(int64) string { return `Riddle realm="x"` },
	"an unknown digest": func(n int64) string {
		return fmt.Sprintf(
			`Digest realm="x", algorithm=RIDDLE, nonce="%d"`, n)
	},
	"Basic after an attempt": func(int64) string { return `Basic realm="x"` },
}

// challenges counts how often a session sends its login to a server that rejects it. A stale nonce
// may be replaced once, so a server that reports nothing else sees two.
func (s Subject) challenges(t *testing.T) {
	for name, challenge := range challengers {
		t.Run(name, func(t *testing.T) {
			t.Parallel() // a rejected login is waited out
			at, attempts := s.rejecting(t, challenge)
			_, err := s.open(t, at).Read(t.Context())
			assert.Error(t, err)
			most := int64(1)
			if strings.Contains(name, "stale") {
				most = 2
			}
			assert.LessOrEqual(t, attempts.Load(), most)
		})
	}
}

// rejecting stands before a device: what carries a login is counted and rejected, and every
// challenge is replaced.
func (s Subject) rejecting(t *testing.T, challenge func(n int64) string) (dialect.At,
	*atomic.Int64) {
	at := s.Start(t, Faults{})
	device, err := url.Parse(at.URL("/"))
	require.NoError(t, err)
	attempts, answers := &atomic.Int64{}, &atomic.Int64{}
	reject := func(h http.Header) {
		h.Del("WWW-Authenticate")
		if c := challenge(answers.Add(1)); c != "" {
			h.Set("WWW-Authenticate", c)
		}
	}
	proxy := httputil.NewSingleHostReverseProxy(device)
	proxy.Transport = &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true}}
	proxy.ModifyResponse = func(r *http.Response) error {
		if r.StatusCode == http.StatusUnauthorized {
			reject(r.Header)
		}
		return nil
	}
	handler := http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body) // a truncated body carries no login
		r.Body = io.NopCloser(bytes.NewReader(body))
		if r.Header.Get("Authorization") == "" && !bytes.Contains(body, []byte(s.Login.User)) {
			proxy.ServeHTTP(w, r)
			return
		}
		attempts.Add(1)
		reject(w.Header())
		w.WriteHeader(http.StatusUnauthorized)
	})
	front := httptest.NewUnstartedServer(handler)
	if at.Secure() {
		front.StartTLS()
	} else {
		front.Start()
	}
	t.Cleanup(front.Close)
	at.Address = front.Listener.Addr().String()
	return at, attempts
}
