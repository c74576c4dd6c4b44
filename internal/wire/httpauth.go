package wire

import (
	"net/http"
	"strings"

	"github.com/icholy/digest"

	"catena/internal/device"
	"catena/internal/login"
)

// HTTPAuth answers the challenges of one device with one credential: HTTP Digest
// (RFC 7616) where it is offered, Basic (RFC 7617) only over TLS or where the credential
// may be shown on the wire.
type HTTPAuth struct {
	As     login.Credential
	Secure bool // the connection is TLS

	challenge *digest.Challenge
	basic     bool
	count     int // requests under the challenge
}

// Challenged tells whether a challenge was taken up.
func (l *HTTPAuth) Challenged() bool { return l.challenge != nil || l.basic }

// Challenges tells whether a refusal asks for a login that HTTPAuth can answer: Digest or Basic.
func Challenges(h http.Header) bool {
	for _, field := range h.Values("WWW-Authenticate") {
		scheme, _, _ := strings.Cut(strings.TrimSpace(field), " ")
		if strings.EqualFold(scheme, "Digest") || strings.EqualFold(scheme, "Basic") {
			return true
		}
	}
	return false
}

// Take takes up the challenges of a refusal. It returns device.ErrLoginRefused where the
// device only repeats what was answered already: then the login is wrong; and
// device.ErrPlain.
func (l *HTTPAuth) Take(h http.Header) error {
	if c, err := digest.FindChallenge(h); err == nil {
		if l.challenge != nil && l.challenge.Nonce == c.Nonce && !c.Stale {
			return device.ErrLoginRefused
		}
		l.challenge, l.basic, l.count = c, false, 0
		return nil
	}
	for _, field := range h.Values("WWW-Authenticate") {
		scheme, _, _ := strings.Cut(strings.TrimSpace(field), " ")
		switch {
		case !strings.EqualFold(scheme, "Basic"):
		case l.basic:
			return device.ErrLoginRefused
		case !l.Secure && !l.As.PlainBasic:
			return device.ErrPlain
		default:
			l.basic = true
			return nil
		}
	}
	return device.ErrLoginRefused
}

// Sign adds the answer to the challenge to a request, if there was one.
func (l *HTTPAuth) Sign(r *http.Request) error {
	switch {
	case l.basic:
		r.SetBasicAuth(l.As.User, l.As.Password)
	case l.challenge != nil:
		l.count++
		credentials, err := digest.Digest(l.challenge, digest.Options{
			Method: r.Method, URI: r.URL.RequestURI(), Count: l.count, Username: l.As.User,
			Password: l.As.Password})
		if err != nil {
			return device.Because(device.Malformed, "a login method that is not known: %v", err)
		}
		r.Header.Set("Authorization", credentials.String())
	}
	return nil
}
