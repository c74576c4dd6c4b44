package dialect

import (
	"fmt"
	"net/http"
	"strings"

	"github.com/icholy/digest"

	"catena/internal/site"
)

// HTTPLogin answers the challenges of one device: HTTP Digest (RFC 7616) where it is
// offered, Basic (RFC 7617) only where the wire does not show it or a family allows
// that. Its zero value has not been challenged yet.
type HTTPLogin struct {
	challenge *digest.Challenge
	basic     bool
	count     int // requests under the challenge
}

// Challenged tells whether a challenge was taken up.
func (l *HTTPLogin) Challenged() bool { return l.challenge != nil || l.basic }

// Take takes up the challenges of a refusal. It returns ErrLoginRefused where the device only
// repeats what was answered already: then the login is wrong; and ErrPlain.
func (l *HTTPLogin) Take(p Peer, h http.Header) error {
	if c, err := digest.FindChallenge(h); err == nil {
		if l.challenge != nil && l.challenge.Nonce == c.Nonce && !c.Stale {
			return ErrLoginRefused
		}
		l.challenge, l.basic, l.count = c, false, 0
		return nil
	}
	for _, field := range h.Values("WWW-Authenticate") {
		scheme, _, _ := strings.Cut(strings.TrimSpace(field), " ")
		switch {
		case !strings.EqualFold(scheme, "Basic"):
		case l.basic:
			return ErrLoginRefused
		case !p.TLS && !p.PlainBasic:
			return fmt.Errorf("%w; if that is acceptable, its family file allows it with plain_basic: true", ErrPlain)
		default:
			l.basic = true
			return nil
		}
	}
	return ErrLoginRefused
}

// Sign adds the answer to the challenge to a request, if there was one.
func (l *HTTPLogin) Sign(p Peer, r *http.Request) error {
	switch {
	case l.basic:
		r.SetBasicAuth(p.Login.User, p.Login.Password)
	case l.challenge != nil:
		l.count++
		credentials, err := digest.Digest(l.challenge, digest.Options{
			Method: r.Method, URI: r.URL.RequestURI(), Count: l.count, Username: p.Login.User, Password: p.Login.Password})
		if err != nil {
			return Malformed("a login method that is not known: %s", site.Clean(err.Error()))
		}
		r.Header.Set("Authorization", credentials.String())
	}
	return nil
}
