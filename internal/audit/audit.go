// Package audit knows what an audit of a site can find: how severe each finding is, what it means
// and what to do about it. It is pure.
package audit

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"catena/internal/firmware/version"
)

// Kind is what was found.
type Kind string

// The kinds, the most severe first.
const (
	Identity        Kind = "identity"            // another device, or one with another key, is there
	DefaultPassword Kind = "default-password"    // it accepts the login that its maker publishes
	Unsafe          Kind = "unsafe"              // its version was withdrawn, or an advisory names it
	Expired         Kind = "certificate-expired" // its certificate is not valid any more, or not yet
	Expires         Kind = "certificate-expires" // it will not be soon
	Unsigned        Kind = "certificate-unsigned"
	Clock           Kind = "clock"
	Storage         Kind = "storage"
	Away            Kind = "away"
	NoAccess        Kind = "no-access"
	Unread          Kind = "unread" // it could not be read during the audit
	Drift           Kind = "settings-changed"
	NoSave          Kind = "no-save"
	Plain           Kind = "no-tls"
	Hold            Kind = "hold-without-device"
	Target          Kind = "target-without-device"
	NoSecondPlace   Kind = "no-second-place"
)

// Severity is how urgent a finding is.
type Severity string

// The severities, the most urgent first.
const (
	Bad  Severity = "bad"
	Look Severity = "look"
)

// Finding is one thing that was found.
type Finding struct {
	Kind     Kind     `json:"finding"`
	Severity Severity `json:"severity"`
	Device   string   `json:"device"` // its name; empty: the site
	ID       string   `json:"id"`
	Text     string   `json:"text"` // the details, in words
	Meaning  string   `json:"meaning"`
	Remedy   string   `json:"remedy"`
	// Accepted is why it is accepted, and Until the day on which that ends; both empty: it is open.
	Accepted string `json:"accepted"`
	Until    string `json:"until"`
}

// knowledge is what is known of a kind: %s is the name of the device.
var knowledge = map[Kind]struct {
	severity        Severity
	meaning, remedy string
}{
	Identity: {Bad, "its key or serial number is not the known one: it was exchanged, or someone " +
		"answers in its place", "catena login accept %s, if you know why"},
	DefaultPassword: {Bad, "whoever reads its manual can control it",
		"change it: catena login rotate %s"},
	Unsafe: {Bad, "its version was withdrawn, or has a known weakness",
		"catena match shows why; catena flash %s"},
	Expired: {
		Bad,
		"programs that check certificates reject it",
		"renew its certificate on the device",
	},
	Expires: {Look, "programs that check certificates will reject it",
		"renew its certificate on the device"},
	Unsigned: {Look, "the site requires certificates of its own authority (audit: in site.yaml)",
		"install a certificate of that authority on the device"},
	Clock: {Look, "its recordings and logs have wrong times, and it may reject valid certificates " +
		"and logins", "set its clock, or its time server"},
	Storage: {Look, "an update or a recording may not fit", "free space on it"},
	Away:    {Look, "it does not answer", "check its power and its cable; catena scan"},
	NoAccess: {Look, "no login works, so its version is not known",
		"catena login add --device %s"},
	Unread: {Look, "it answered the last scan, and could not be read now", "catena scan %s"},
	Drift: {Look, "someone changed its settings since the last save, or the device did",
		"catena settings diff %s; to keep them: catena settings save %[1]s"},
	NoSave: {Look, "if it fails, its settings are lost", "catena settings save %s"},
	Plain: {Look, "its login and its images can be read on the network",
		"switch on TLS on the device; catena scan"},
	Hold:   {Look, "the hold has no effect", "correct or drop it: catena hold %s --drop"},
	Target: {Look, "the target has no effect", "correct it in targets.yaml, or: catena target drop"},
	NoSecondPlace: {Look, "the saves are lost with this folder",
		"second_place: in site.yaml"},
}

// Kinds are all kinds, the most severe first.
var Kinds = []Kind{
	Identity,
	DefaultPassword,
	Unsafe,
	Expired,
	Expires,
	Unsigned,
	Clock,
	Storage,
	Away,
	NoAccess,
	Unread,
	Drift,
	NoSave,
	Plain,
	Hold,
	Target,
	NoSecondPlace,
}

// Of makes a finding about a device, or, without a name, about the site.
func Of(kind Kind, name, id, format string, args ...any) Finding {
	k := knowledge[kind]
	remedy := k.remedy
	if strings.Contains(remedy, "%") {
		remedy = fmt.Sprintf(remedy, name)
	}
	return Finding{Kind: kind, Severity: k.severity, Device: name, ID: id,
		Text: fmt.Sprintf(format, args...), Meaning: k.meaning, Remedy: remedy}
}

// Limits beyond which a finding is made, and beyond which it is bad.
const (
	clockOff    = 2 * time.Minute
	clockFarOff = time.Hour
	expiresSoon = 30 * 24 * time.Hour
	freeLittle  = 10 // percent
	freeVeryFew = 2
)

// about is a length of time in minutes.
func about(d time.Duration) string {
	minutes := int(d.Round(time.Minute) / time.Minute)
	switch hours := minutes / 60; {
	case hours == 0:
		return fmt.Sprintf("%d min", minutes)
	case minutes%60 == 0:
		return fmt.Sprintf("%d h", hours)
	default:
		return fmt.Sprintf("%d h %d min", hours, minutes%60)
	}
}

// ClockOf is the finding for a clock that is so far ahead; false: it is right.
func ClockOf(name, id string, ahead time.Duration) (Finding, bool) {
	way := "ahead"
	off := ahead
	if ahead < 0 {
		off, way = -ahead, "behind"
	}
	f := Of(Clock, name, id, "its clock is %s %s", about(off), way)
	if off >= clockFarOff {
		f.Severity = Bad
	}
	return f, off > clockOff
}

// StorageOf is the finding for a device with so much free storage, in percent; false: it has
// enough.
func StorageOf(name, id string, free float64) (Finding, bool) {
	f := Of(Storage, name, id, "%.0f %% of its storage is free", free)
	if free < freeVeryFew {
		f.Severity = Bad
	}
	return f, free < freeLittle
}

// CertificateOf is the finding for a certificate that is valid from and until a time; false: it is
// valid for long enough.
func CertificateOf(name, id string, from, until, now time.Time) (Finding, bool) {
	switch {
	case now.After(until):
		return Of(Expired, name, id, "its certificate expired on %s", until.Format(time.DateOnly)), true
	case now.Before(from):
		return Of(Expired, name, id, "its certificate is not valid before %s",
			from.Format(time.DateOnly)), true
	case until.Sub(now) < expiresSoon:
		return Of(Expires, name, id, "its certificate expires on %s", until.Format(time.DateOnly)), true
	}
	return Finding{}, false
}

// Sort sorts findings: open ones first, then the worst, then by kind and device.
func Sort(all []Finding) {
	rank := func(f Finding) int {
		r := slices.Index(Kinds, f.Kind)
		if f.Severity != Bad {
			r += 100
		}
		if f.Accepted != "" {
			r += 1000
		}
		return r
	}
	slices.SortStableFunc(all, func(a, b Finding) int {
		return cmp.Or(rank(a)-rank(b), version.Compare(a.Device, b.Device),
			strings.Compare(a.Text, b.Text))
	})
}

// Worst is the severity of the worst open finding; empty: none is open.
func Worst(all []Finding) (worst Severity) {
	for _, f := range all {
		if f.Accepted == "" && (worst == "" || f.Severity == Bad) {
			worst = f.Severity
		}
	}
	return worst
}
