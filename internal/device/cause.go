package device

import (
	"fmt"

	"catena/internal/text"
)

// Problem is the kind of a Cause. Code asks for it; no one reads the wording.
type Problem string

const (
	NotMine   Problem = "not-mine"  // it speaks another dialect
	NoAnswer  Problem = "no-answer" // it does not answer, or stopped answering
	Malformed Problem = "malformed" // it sent what cannot be understood
	Refusal   Problem = "refusal"   // it rejected the request, with its own reason
	BadLogin  Problem = "bad-login" // it refused the login
	// it requires the password in the clear; none was sent
	PlainLogin Problem = "plain-login"
	// the login is right, but a new password is required first
	NewPassword Problem = "new-password"
	NoRight     Problem = "no-right" // the login is right, but lacks the permission
	// a certificate, host key or serial number changed; no login was sent
	Changed Problem = "identity-changed"
	NoLogin Problem = "no-login" // no login is known for it
	// it refused all logins before; they are not tried again unasked
	RefusedBefore  Problem = "refused-before"
	NotRecognised  Problem = "not-recognised"   // it answers, but nothing knows how to read it
	Mute           Problem = "mute"             // it accepts connections and sends no answer
	OnlyAnnounced  Problem = "only-announced"   // it was announced, but takes no connection
	MissedLastScan Problem = "missed-last-scan" // the last scan looked and did not find it
	Unsupported    Problem = "unsupported"      // Catena cannot do that with it yet
	NeedsPerson    Problem = "needs-person"     // a person should do something, and did not
	NotLeft        Problem = "not-left"         // an entered mode could not be left
	NotNow         Problem = "not-now"          // an interlock forbids it now, in its family's words
	NoSecret       Problem = "no-secret"        // its login has no secret of that name
	// this machine could not ask: that says nothing of the device
	OwnFault Problem = "own-fault"
)

// Problems are all kinds, those that people meet most first.
var Problems = []Problem{NoAnswer, BadLogin, NoLogin, RefusedBefore, Changed, MissedLastScan, Mute,
	NotRecognised, OnlyAnnounced,
	PlainLogin, NewPassword, NoRight, NoSecret, Refusal, Malformed, NotNow, NeedsPerson, NotLeft,
	Unsupported, NotMine, OwnFault}

// BrokenOff is the detail of a NoAnswer of who was there, and went before it answered.
const BrokenOff = "it closed the connection"

// NotInTime is the detail of a NoAnswer that came too late to count.
const NotInTime = "not in time"

// Cause says why something did not work with a device: a kind for code, and fields for
// the sentence that a person reads. It is an error; errors.Is compares kinds.
type Cause struct {
	Problem Problem `json:"problem"`
	Detail  string  `json:"detail,omitempty"` // the device's or the system's own words, cleaned
	Key     string  `json:"key,omitempty"`    // of Changed: the kind of key
	Was     string  `json:"was,omitempty"`
	Now     string  `json:"now,omitempty"`
	Count   int     `json:"count,omitempty"` // of logins
}

// Sentinels for errors.Is.
var (
	ErrNotMine         = &Cause{Problem: NotMine}
	ErrAway            = &Cause{Problem: NoAnswer}
	ErrMalformed       = &Cause{Problem: Malformed}
	ErrRefused         = &Cause{Problem: Refusal}
	ErrLoginRefused    = &Cause{Problem: BadLogin}
	ErrPlain           = &Cause{Problem: PlainLogin}
	ErrNewPassword     = &Cause{Problem: NewPassword}
	ErrNoRight         = &Cause{Problem: NoRight}
	ErrIdentityChanged = &Cause{Problem: Changed}
	ErrUnsupported     = &Cause{Problem: Unsupported}
	ErrOwnFault        = &Cause{Problem: OwnFault}
	ErrNotNow          = &Cause{Problem: NotNow}
	ErrNeedsPerson     = &Cause{Problem: NeedsPerson}
	ErrNotLeft         = &Cause{Problem: NotLeft}
)

// Because is a cause of that kind with a detail, which is cleaned.
func Because(p Problem, format string, args ...any) *Cause {
	return &Cause{Problem: p, Detail: text.Clean(fmt.Sprintf(format, args...))}
}

// IdentityChangedError is the cause for a key that is not the trusted one.
func IdentityChangedError(kind, was, is string) *Cause {
	return &Cause{Problem: Changed, Key: kind, Was: text.Clean(was), Now: text.Clean(is)}
}

var sentences = map[Problem]string{
	NotMine:        "speaks another protocol",
	NoAnswer:       "does not answer",
	Malformed:      "sent an invalid answer",
	Refusal:        "refused",
	BadLogin:       "refused the login",
	PlainLogin:     "accepts the password only in the clear, without TLS",
	NewPassword:    "requires a new password first",
	NoRight:        "shows its version only to an administrator",
	NoLogin:        "no login for it",
	NotRecognised:  "answers, but is not recognised",
	Mute:           "accepts connections, but sends no answer",
	OnlyAnnounced:  "was announced, but accepts no connections",
	MissedLastScan: "did not answer the last scan",
	Unsupported:    "Catena does not support that for this device",
	NeedsPerson:    "needs a person",
	NotLeft:        "was entered, but not left; the next command tries again",
	NotNow:         "must not be updated now",
	NoSecret:       "its login lacks a secret that its family requires",
	OwnFault:       "this machine could not send the request",
}

// HasSubject tells whether its sentence is about something else than the device, and so stands
// alone.
func (c *Cause) HasSubject() bool {
	switch c.Problem {
	case Changed, OwnFault, NoLogin, NoSecret, Unsupported:
		return true
	}
	return false
}

// Error is one sentence about the device, without its subject and without a remedy:
// the remedy depends on who asks.
func (c *Cause) Error() string {
	if c == nil {
		return ""
	}
	switch c.Problem {
	case Changed:
		if c.Key != KeyTLS && c.Key != KeySSH {
			return fmt.Sprintf("another device is at its address: its %s is %s, not %s", c.Key,
				c.Now, c.Was)
		}
		return fmt.Sprintf("its %s changed: was %s, now %s", c.Key, c.Was, c.Now)
	case RefusedBefore:
		return fmt.Sprintf("rejected %d of its logins before; they are not tried again "+
			"automatically, so that the device does not lock", c.Count)
	}
	s := sentences[c.Problem]
	if c.Detail != "" {
		s += ": " + c.Detail
	}
	if c.Count > 1 {
		s += fmt.Sprintf(" (%d logins were tried)", c.Count)
	}
	return s
}

// Is tells whether target is a cause of the same kind.
func (c *Cause) Is(target error) bool {
	t, ok := target.(*Cause)
	return ok && c != nil && t.Problem == c.Problem
}
