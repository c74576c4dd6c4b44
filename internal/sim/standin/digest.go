package standin

import (
	"crypto/md5"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/hex"
	"fmt"
	"net/http"
	"strings"
)

// DigestAuth is HTTP Digest with qop=auth: RFC 7616, 3.4.
type DigestAuth struct {
	realm, algorithm string // MD5 or SHA-256
	nonce            string
	login            func() Login
}

// NewDigestAuth returns the authentication of one realm, with a new nonce. The login is read
// at each request.
func NewDigestAuth(realm, algorithm string, login func() Login) *DigestAuth {
	return &DigestAuth{realm: realm, algorithm: algorithm, nonce: rand.Text(), login: login}
}

// Challenge asks for the login.
func (a *DigestAuth) Challenge(w http.ResponseWriter) {
	w.Header().Add("WWW-Authenticate",
		fmt.Sprintf(`Digest realm="%s", qop="auth", algorithm=%s, nonce="%s"`,
			a.realm, a.algorithm, a.nonce))
}

// Holds tells whether a request answers the challenge with the login. given is false where
// it does not try.
func (a *DigestAuth) Holds(r *http.Request) (holds, given bool) {
	field, ok := strings.CutPrefix(r.Header.Get("Authorization"), "Digest ")
	if !ok {
		return false, false
	}
	p := map[string]string{}
	for part := range strings.SplitSeq(field, ",") {
		k, v, _ := strings.Cut(strings.TrimSpace(part), "=")
		p[strings.ToLower(k)] = strings.Trim(v, `"`)
	}
	login := a.login()
	if p["nonce"] != a.nonce || p["uri"] != r.URL.RequestURI() || p["username"] != login.User ||
		p["qop"] != "auth" || p["cnonce"] == "" {
		return false, true
	}
	h := func(s string) string {
		if a.algorithm == "MD5" {
			sum := md5.Sum([]byte(s))
			return hex.EncodeToString(sum[:])
		}
		sum := sha256.Sum256([]byte(s))
		return hex.EncodeToString(sum[:])
	}
	want := h(strings.Join([]string{h(login.User + ":" + a.realm + ":" + login.Password),
		p["nonce"], p["nc"], p["cnonce"], p["qop"], h(r.Method + ":" + p["uri"])}, ":"))
	return subtle.ConstantTimeCompare([]byte(want), []byte(p["response"])) == 1, true
}
