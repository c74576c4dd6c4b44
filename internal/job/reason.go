package job

import (
	"errors"
	"fmt"
	"strings"
	"time"

	"catena/internal/device"
	"catena/internal/order"
)

// Why is the kind of a Reason. Code compares it, never the wording.
type Why string

const (
	NotBegun     Why = "not-begun"     // Order says why
	Abandoned    Why = "abandoned"     // the job was abandoned while it was checked
	CannotUpdate Why = "cannot-update" // Catena can read it, and cannot send it an image yet
	NoLogin      Why = "no-login"      // no login is known for it
	DeviceSaid   Why = "device"        // a step failed; Device says why
	ThereAlready Why = "there-already" // it runs Want
	ChangedSince Why = "changed-since" // it runs Is, and was matched on Want
	Unhealthy    Why = "unhealthy"     // Device says what is wrong
	WrongVersion Why = "wrong-version" // it runs Is, not Want
	NotTogether  Why = "not-together"  // of its lockstep set Want is not ready
	StillWriting Why = "still-writing" // it writes the image for longer than Within
	// it may still write: whether it has restarted is not certain. Waits for Within
	MayWrite Why = "may-write"
	// an interlock forbids the component Want: the next reason says which
	Forbidden Why = "forbidden"
	ImageGone Why = "image-gone" // Want is not on the shelf any more
	// Want was changed on the shelf while it was sent
	ImageChanged Why = "image-changed"
	CannotStage  Why = "cannot-stage" // it restarts automatically once it has an image
	GaveUp       Why = "gave-up"      // a person gave the job up while it was at Step
	NotSettled   Why = "not-settled"  // it was well, and did not stay so for Within
	// Want, names: they are reached through it, and do not answer
	CutOff          Why = "cut-off"
	SettingsChanged Why = "settings-changed" // its settings are not as before
	SettingsLost    Why = "settings-lost"    // they could not be restored
	// values to preserve could not be read or written; Want: one
	NotCarried      Why = "not-carried"
	NotTaken        Why = "not-taken"         // the device did not keep Want
	SettingsLeft    Why = "settings-left"     // Want: settings that have no place in the new version
	SettingsNotKept Why = "settings-not-kept" // they could not be read or kept before
	NotRestarted    Why = "not-restarted"     // it was not seen to restart
	DidNotReturn    Why = "did-not-return"    // it did not come back within Within
	StillAway       Why = "still-away"        // it has not answered since
	StillRuns       Why = "still-runs"        // it runs Is, as before
	NoRollback      Why = "no-rollback"       // it cannot be rolled back: there is no image of Want
	VerifiedAnyway  Why = "verified-anyway"   // verified, although a step failed
	RollbackFailed  Why = "rollback-failed"   // during its rollback
	PersonsWord     Why = "persons-word"      // an operator confirmed it; it cannot be read
	NotLeft         Why = "not-left"          // Device says what must still be undone there
)

// Whys are all kinds that a device's end may have, those that people meet most first.
var Whys = []Why{WrongVersion, Unhealthy, NotSettled, DidNotReturn, StillAway, NotRestarted,
	StillWriting, MayWrite, CutOff, DeviceSaid, NoRollback,
	RollbackFailed, StillRuns, SettingsChanged, SettingsLost, SettingsLeft, SettingsNotKept,
	NotCarried, NotTaken, NotLeft,
	ChangedSince, ThereAlready, NotTogether, ImageGone, ImageChanged, CannotStage, CannotUpdate,
	NoLogin,
	NotBegun, Forbidden, Abandoned, GaveUp,
	VerifiedAnyway, PersonsWord}

// Reason states why a device ended as it did: a kind for code, fields for the sentence, and, where
// one thing led to another, what came next. It is an error.
type Reason struct {
	Why    Why           `json:"why"`
	Step   Step          `json:"step,omitempty"` // in which it happened
	Is     string        `json:"is,omitempty"`
	Want   string        `json:"want,omitempty"`
	Within time.Duration `json:"within,omitempty"` // ns
	Device *device.Cause `json:"device,omitempty"`
	Order  *order.Reason `json:"order,omitempty"`
	Then   *Reason       `json:"then,omitempty"`
}

// said is the reason for an error of a session at a step.
func said(step Step, err error) *Reason {
	var known *Reason
	if errors.As(err, &known) {
		return known
	}
	var cause *device.Cause
	if !errors.As(err, &cause) {
		cause = device.Because(device.NoAnswer, "%v", err)
	}
	return &Reason{Why: DeviceSaid, Step: step, Device: cause}
}

// then returns the reason with another one that followed from it.
func (r *Reason) then(next *Reason) *Reason {
	if r == nil {
		return next
	}
	c := *r
	c.Then = r.Then.then(next)
	return &c
}

// Away tells whether the reason is that the device did not come back.
func (r *Reason) Away() bool {
	return r != nil && (r.Why == DidNotReturn || r.Why == StillAway || r.Then.Away())
}

// IdentityChanged tells whether the reason, or what it led to, is that another device, or one
// with another key, is at the address.
func (r *Reason) IdentityChanged() bool {
	return r != nil && (r.Device != nil && r.Device.Problem == device.Changed ||
		r.Then.IdentityChanged())
}

var during = map[Step]string{Sending: "while sending: it ", Writing: "while writing: it ",
	Restarting: "when told to restart: it ",
	Proving:    "after its restart: it "}

// Error is one sentence, without a remedy: the remedy depends on who asks.
func (r *Reason) Error() string {
	if r == nil {
		return ""
	}
	s := r.sentence()
	if r.Then != nil {
		s += "; "
		if r.Why == NotTogether && r.Then.Why == DeviceSaid {
			s += "it " // of the other one; what a device itself says has no subject
		}
		s += r.Then.Error()
	}
	return s
}

// fixed are the sentences that have no fields.
var fixed = map[Why]string{
	CannotUpdate:    "Catena can read it, but cannot send it an image yet",
	NoLogin:         "no stored login applies to it",
	CannotStage:     "it restarts automatically once it has an image, so it cannot be parked",
	SettingsLost:    "its settings could not be restored",
	NotTaken:        "it was written, but the device reports another value",
	PersonsWord:     "as confirmed by an operator: it cannot be read",
	SettingsNotKept: "the image alters its settings, and they could not be saved before",
	NotRestarted:    "no restart was observed",
	StillAway:       "it has not answered since",
	VerifiedAnyway:  "it was verified despite that",
	RollbackFailed:  "during rollback",
}

// sentences are those that consist of a field and words around it.
var sentences = map[Why]func(r *Reason) string{
	Forbidden:    func(r *Reason) string { return "its component " + r.Want + " was not updated" },
	ThereAlready: func(r *Reason) string { return "it already runs " + r.Want },
	ChangedSince: func(r *Reason) string {
		return "it runs " + r.Is + ", not " + r.Want +
			" as when it was matched"
	},
	NotTogether: func(r *Reason) string { return "its lockstep set does not start without " + r.Want },
	MayWrite: func(r *Reason) string {
		return fmt.Sprintf("may still be writing the image, and cannot report it: waiting up to %s",
			r.Within.Round(time.Second))
	},
	StillWriting: func(r *Reason) string {
		return fmt.Sprintf("still writing the image after %s",
			r.Within)
	},
	ImageChanged: func(r *Reason) string {
		return "the image " + r.Want + " was changed on the shelf while it was sent; the device did " +
			"not get all of it"
	},
	ImageGone: func(r *Reason) string { return "the image " + r.Want + " is no longer on the shelf" },
	GaveUp:    func(r *Reason) string { return "the job was given up while it was " + string(r.Step) },
	NotSettled: func(r *Reason) string {
		return fmt.Sprintf("after its restart: it was healthy, but did not stay so for %s", r.Within)
	},
	SettingsLeft: func(r *Reason) string {
		return "skipped settings that this version does not have: " + r.Want
	},
	DidNotReturn: func(r *Reason) string {
		return fmt.Sprintf("it did not come back within %s after its restart", r.Within)
	},
	StillRuns: func(r *Reason) string { return "it still runs " + r.Is },
	NoRollback: func(r *Reason) string {
		return "it cannot be rolled back: the shelf has no image of " + r.Want + " that may be sent to it"
	},
	NotLeft: func(r *Reason) string { return "it " + r.Device.Error() },
}

func (r *Reason) sentence() string {
	if s, ok := fixed[r.Why]; ok {
		return s
	}
	if words, ok := sentences[r.Why]; ok {
		return words(r)
	}
	prefix := map[Step]string{Proving: "after its restart: "}[r.Step]
	switch r.Why {
	case NotBegun:
		if r.Want != "" {
			return r.Want + " was not sent to it: " + r.Order.Error()
		}
		return r.Order.Error()
	case Abandoned:
		if r.Step == Sending {
			return "the job was abandoned before the image was sent to it"
		}
		return "the job was abandoned while it was being checked"
	case DeviceSaid:
		if r.Device.HasSubject() {
			return strings.TrimSuffix(during[r.Step], "it ") + r.Device.Error()
		}
		return during[r.Step] + r.Device.Error()
	case Unhealthy:
		return prefix + "it is not healthy: " + r.Device.Error()
	case WrongVersion:
		return prefix + "it runs " + r.Is + ", not " + r.Want
	case CutOff:
		return prefix + r.Want + ", which is downstream, no longer answers"
	case SettingsChanged:
		return prefix + "its settings changed during the update"
	case NotCarried:
		if r.Want == "" {
			return "the values that the update must preserve could not be read"
		}
		return "its " + r.Want + " could not be preserved during the update"
	}
	return string(r.Why)
}
