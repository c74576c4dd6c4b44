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
//
// The login is sent once. Any server can invent a nonce, so a fresh one is not a second chance:
// a rejected answer is final, with two exceptions that a device must earn. It may report that
// only the nonce was too old (stale, RFC 7616, 3.3), once; and where it accepted the login
// before, one new challenge is answered, because a restart forgets nonces.
type HTTPAuth struct {
	As     login.Credential
	Secure bool // the connection is TLS

	challenge *digest.Challenge
	basic     bool
	count     int  // requests signed under the challenge's nonce; never reused (RFC 7616, 3.4)
	answered  bool // the newest request was signed, and has no verdict yet
	accepted  bool // the device accepted a request that was signed under this challenge
	renewed   bool // the challenge replaced a stale one
}

// maxNonce bounds the nonce of a challenge, in bytes.
const maxNonce = 4096

// Challenged tells whether a challenge was taken up.
func (l *HTTPAuth) Challenged() bool { return l.challenge != nil || l.basic }

// Challenges tells whether a rejection asks for a login that HTTPAuth can answer: Digest or Basic.
func Challenges(h http.Header) bool {
	for _, field := range h.Values("WWW-Authenticate") {
		scheme, _, _ := strings.Cut(strings.TrimSpace(field), " ")
		if strings.EqualFold(scheme, "Digest") || strings.EqualFold(scheme, "Basic") {
			return true
		}
	}
	return false
}

// Accepted records that the device accepted the newest request.
func (l *HTTPAuth) Accepted() {
	l.accepted = l.accepted || l.answered
	l.answered = false
}

// Take takes up the challenges of a 401 response to the newest request. It returns
// device.ErrLoginRefused where that request carried the login and the login may not be sent
// again, and device.ErrPlain where only Basic is offered on a connection that shows it.
func (l *HTTPAuth) Take(h http.Header) error {
	rejected := l.answered
	l.answered = false
	c, err := digest.FindChallenge(h)
	digests := err == nil && len(c.Nonce) <= maxNonce
	stale := digests && c.Stale && l.challenge != nil && !l.renewed
	if rejected && !l.accepted && !stale {
		return device.ErrLoginRefused
	}
	l.accepted = false
	if digests {
		if l.challenge == nil || l.challenge.Nonce != c.Nonce {
			l.count = 0
		}
		l.challenge, l.basic, l.renewed = c, false, rejected && c.Stale
		return nil
	}
	for _, field := range h.Values("WWW-Authenticate") {
		scheme, _, _ := strings.Cut(strings.TrimSpace(field), " ")
		switch {
		case !strings.EqualFold(scheme, "Basic"):
		case rejected && l.basic:
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
	l.answered = false
	switch {
	case l.basic:
		r.SetBasicAuth(l.As.User, l.As.Password)
	case l.challenge != nil:
		l.count++
		credentials, err := digest.Digest(l.challenge, digest.Options{
			Method: r.Method, URI: r.URL.RequestURI(), Count: l.count, Username: l.As.User,
			Password: l.As.Password})
		if err != nil {
			return device.Because(device.Malformed, "an unknown login method: %v", err)
		}
		r.Header.Set("Authorization", credentials.String())
	default:
		return nil
	}
	l.answered = true
	return nil
}
