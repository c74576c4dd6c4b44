package job

import (
	"errors"
	"fmt"
	"strings"
	"time"

	"catena/internal/device"
	"catena/internal/order"
)

// Why is the kind of a Reason. Code asks for it; nobody reads the wording.
type Why string

const (
	NotBegun     Why = "not-begun"     // Order says why
	Stopped      Why = "stopped"       // the job was stopped before Want was sent to it
	Abandoned    Why = "abandoned"     // the job was abandoned while it was checked
	CannotUpdate Why = "cannot-update" // Catena can read it, and cannot send it an image yet
	NoLogin      Why = "no-login"      // no login is known for it
	DeviceSaid   Why = "device"        // a step failed; Device says why
	ThereAlready Why = "there-already" // it runs Want
	ChangedSince Why = "changed-since" // it runs Is, and was matched on Want
	Unhealthy    Why = "unhealthy"     // Device says what is wrong
	WrongVersion Why = "wrong-version" // it runs Is, not Want
	NotTogether  Why = "not-together"  // of its lockstep set Want is not ready
	NotWritten   Why = "not-written"   // it has not written the image within Within
	ImageGone    Why = "image-gone"    // Want is not on the shelf any more
	CannotStage  Why = "cannot-stage"  // it restarts by itself once it has an image
	GaveUp       Why = "gave-up"       // a person gave the job up while it was at Step
	NotSettled   Why = "not-settled"   // it was well, and did not stay so for Within
	// Want, names: they are reached through it, and do not answer
	CutOff          Why = "cut-off"
	SettingsChanged Why = "settings-changed"  // its settings are not as before
	SettingsLost    Why = "settings-lost"     // they could not be given back
	NotCarried      Why = "not-carried"       // values that are carried over could not be read or written; Want: one
	NotTaken        Why = "not-taken"         // the device did not keep Want
	SettingsLeft    Why = "settings-left"     // Want: settings that have no place in the new version
	SettingsNotKept Why = "settings-not-kept" // they could not be read or kept before
	NotRestarted    Why = "not-restarted"     // it was not seen to restart
	DidNotReturn    Why = "did-not-return"    // it did not come back within Within
	StillAway       Why = "still-away"        // it has not answered since
	StillRuns       Why = "still-runs"        // it runs Is, as before
	NoRollback      Why = "no-rollback"       // it cannot be rolled back: there is no image of Want
	ProvenAnyway    Why = "proven-anyway"     // proven, although a step failed
	RollbackFailed  Why = "rollback-failed"   // on its way back
	PersonsWord     Why = "persons-word"      // a person said that it is so; nobody can read it
	NotLeft         Why = "not-left"          // Device says what must still be undone there
)

// Whys are all kinds that a device's end may have, those that people meet most first.
var Whys = []Why{WrongVersion, Unhealthy, NotSettled, DidNotReturn, StillAway, NotRestarted,
	NotWritten, CutOff, DeviceSaid, NoRollback,
	RollbackFailed, StillRuns, SettingsChanged, SettingsLost, SettingsLeft, SettingsNotKept,
	NotCarried, NotTaken, NotLeft,
	ChangedSince, ThereAlready, NotTogether, ImageGone, CannotStage, CannotUpdate, NoLogin,
	NotBegun, Stopped, Abandoned, GaveUp,
	ProvenAnyway, PersonsWord}

// Reason says why a device ended as it did: a kind for code, fields for the sentence,
// and, where one thing led to another, what came next. It is an error.
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

func (r *Reason) sentence() string {
	prefix := map[Step]string{Proving: "after its restart: "}[r.Step]
	switch r.Why {
	case NotBegun:
		return r.Order.Error()
	case Stopped:
		return "the job was stopped before " + r.Want + " was sent to it"
	case Abandoned:
		if r.Step == Sending {
			return "the job was abandoned before the image was sent to it"
		}
		return "the job was abandoned while it was checked"
	case CannotUpdate:
		return "Catena can read it, and cannot send it an image yet"
	case NoLogin:
		return "no login is known for it"
	case DeviceSaid:
		if r.Device.HasSubject() {
			return strings.TrimSuffix(during[r.Step], "it ") + r.Device.Error()
		}
		return during[r.Step] + r.Device.Error()
	case ThereAlready:
		return "it runs " + r.Want + " already"
	case ChangedSince:
		return "it runs " + r.Is + ", not " + r.Want + " as when it was matched"
	case Unhealthy:
		return prefix + "it is not healthy: " + r.Device.Error()
	case WrongVersion:
		return prefix + "it runs " + r.Is + ", not " + r.Want
	case NotTogether:
		return "its lockstep set does not begin without " + r.Want
	case NotWritten:
		return fmt.Sprintf("it has not written the image within %s", r.Within)
	case ImageGone:
		return "the image " + r.Want + " is not on the shelf any more"
	case CannotStage:
		return "it restarts by itself once it has an image: it cannot be parked"
	case GaveUp:
		return "the job was given up while it was " + string(r.Step)
	case NotSettled:
		return fmt.Sprintf("after its restart: it was well, and did not stay so for %s", r.Within)
	case CutOff:
		return prefix + r.Want + ", reached through it, no longer answers"
	case SettingsChanged:
		return prefix + "its settings are not as before"
	case SettingsLost:
		return "its settings could not be given back"
	case NotCarried:
		if r.Want == "" {
			return "the values that are carried over the update could not be read"
		}
		return "its " + r.Want + " could not be carried over the update"
	case NotTaken:
		return "it was written, and the device has another one"
	case PersonsWord:
		return "by a person's word: nobody can read it"
	case SettingsLeft:
		return "settings that this version has no place for were left out: " + r.Want
	case SettingsNotKept:
		return "the image alters its settings, and they could not be kept before"
	case NotRestarted:
		return "it was not seen to restart"
	case DidNotReturn:
		return fmt.Sprintf("it did not come back within %s after its restart", r.Within)
	case StillAway:
		return "it has not answered since"
	case StillRuns:
		return "it still runs " + r.Is
	case NoRollback:
		return "it cannot be rolled back: no image of " + r.Want
	case ProvenAnyway:
		return "it is proven all the same"
	case RollbackFailed:
		return "on its way back"
	case NotLeft:
		return "it " + r.Device.Error()
	}
	return string(r.Why)
}
