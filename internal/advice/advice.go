// Package advice says what a person does next about a trouble: the command to type (Remedy, Next),
// and the table of all troubles with what each means (Each). Everything else says what happened, as
// typed causes, and knows no command.
package advice

import (
	"catena/internal/device"
	"catena/internal/job"
	"strings"
)

// Quoted writes a name so that a shell takes it as one word, whatever is in it.
func Quoted(name string) string {
	plain := func(r rune) bool {
		return r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' ||
			strings.ContainsRune("_@%+=:,./~-", r)
	}
	if name != "" && name[0] != '-' && name[0] != '~' &&
		strings.IndexFunc(name, func(r rune) bool { return !plain(r) }) < 0 {
		return name
	}
	return "'" + strings.ReplaceAll(name, "'", `'\''`) + "'"
}

// Remedy is what to do about a device that cannot be talked to.
func Remedy(d device.Device) string {
	if d.Trouble == nil {
		return ""
	}
	switch d.Trouble.Problem {
	case device.Changed:
		return "if the exchange was intended: catena login accept " + d.Host()
	case device.Mute:
		return "if it is only slow: catena scan --patience 5s"
	case device.NoAnswer:
		if d.Trouble.Detail == device.NotInTime {
			return "if it is only slow: catena scan --patience 5s"
		}
	case device.BadLogin, device.NoLogin:
		return "add its login: catena login add --device " + Quoted(d.Name)
	case device.NoSecret:
		return "add its login once more, with --secret " + d.Trouble.Detail +
			": catena login add --device " + Quoted(d.Name)
	case device.RefusedBefore:
		return "try them again: catena login test " + Quoted(d.Name)
	case device.PlainLogin:
		return "if that is acceptable, its family file allows it with plain_basic: true"
	case device.NewPassword:
		return "set a new password on the device, then add it: catena login add --device " +
			Quoted(d.Name)
	case device.NoRight:
		return "add the login of an administrator: catena login add --device " + Quoted(d.Name)
	}
	return ""
}

// Troubled is what is wrong with a device, and what to do about it.
func Troubled(d device.Device) string {
	if next := Remedy(d); next != "" {
		return d.Why() + "; " + next
	}
	return d.Why()
}

// Next is what to do about a device of a job that did not end well.
func Next(d job.DeviceState) string {
	onSite := "visit it: switch it off and on; when it answers: catena scan, then catena flash " +
		"or catena rollback"
	if d.Cause == nil {
		return ""
	}
	switch d.Step {
	case job.Stranded:
		if d.Cause.IdentityChanged() {
			return Exchanged(d.Name)
		}
		if last(d.Cause).Why == job.NoRollback {
			from := last(d.Cause).Want
			return "add an image of " + from +
				" to the shelf (catena shelf add), then: catena rollback --to " + Quoted(
				from) + " " + Quoted(d.Name)
		}
		return onSite
	case job.Returned:
		return "find out why before you try it again, by name: catena flash " + Quoted(d.Name)
	case job.Failed:
	default:
		return ""
	}
	switch d.Cause.Why {
	case job.CannotUpdate:
		return "update it with its maker's own tool"
	case job.NoLogin:
		return "add a login, then flash it again: catena login add --device " + Quoted(d.Name)
	case job.ChangedSince:
		return "check the match: catena match"
	case job.Unhealthy:
		return "fix that first, then flash it again"
	case job.SettingsNotKept:
		return "settings are stored encrypted, with a key that the first login creates: catena " +
			"login add; to see why they cannot be read: catena settings save " + Quoted(d.Name)
	}
	if c := d.Cause.Device; c != nil {
		next := Remedy(device.Device{Name: d.Name, Trouble: c})
		switch {
		case c.Problem == device.Changed:
			return Exchanged(d.Name)
		case next != "":
			return next + "; then flash it again"
		case c.Problem == device.NotNow:
			return "resolve that, then: catena retry, or flash it with --wait-for 30m"
		case c.Problem == device.Refusal && d.Cause.Step == job.Checking:
		case d.Cause.Step == job.Checking:
			return "check its power and its network, then: catena scan"
		}
	}
	return "fix the cause, then flash it again"
}

// Exchanged is what to do where another device, or another key, is at an address.
func Exchanged(name string) string {
	return "find out what was exchanged: catena scan; if it was intended: catena login accept " +
		Quoted(name)
}

// last is the end of a chain of reasons.
func last(r *job.Reason) *job.Reason {
	for r.Then != nil {
		r = r.Then
	}
	return r
}
