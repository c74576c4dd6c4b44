package cli

import (
	"catena/internal/device"
	"catena/internal/job"
)

// What to do next stands here and nowhere else: the core says what happened, as typed
// causes, and knows no command.

// remedy is what to do about a device that cannot be talked to.
func remedy(d device.Device) string {
	if d.Trouble == nil {
		return ""
	}
	switch d.Trouble.Problem {
	case device.Changed:
		return "if it was exchanged on purpose: catena login accept " + d.Host()
	case device.BadLogin, device.NoLogin:
		return "add its login: catena login add --device " + d.Name
	case device.RefusedBefore:
		return "try them again: catena login test " + d.Name
	case device.PlainLogin:
		return "if that is acceptable, its family file allows it with plain_basic: true"
	case device.NewPassword:
		return "set a new password on the device, then add it: catena login add --device " + d.Name
	case device.NoRight:
		return "add the login of an administrator: catena login add --device " + d.Name
	}
	return ""
}

// troubled is what is wrong with a device, and what to do about it.
func troubled(d device.Device) string {
	if next := remedy(d); next != "" {
		return d.Why() + "; " + next
	}
	return d.Why()
}

// advice is what to do about a device of a job that did not end well.
func advice(d job.DeviceState) string {
	onSite := "look at it on site: switch it off and on; when it answers: catena scan, then catena flash or catena rollback"
	if d.Cause == nil {
		return ""
	}
	switch d.Step {
	case job.Stranded:
		if last(d.Cause).Why == job.NoRollback {
			from := last(d.Cause).Want
			return "add an image of " + from + " to the shelf (catena shelf add), then: catena rollback --to " + from + " " + d.Name
		}
		return onSite
	case job.Failed:
	default:
		return ""
	}
	switch d.Cause.Why {
	case job.CannotUpdate:
		return "flash it by its maker's own means"
	case job.NoLogin:
		return "add a login, then flash it again: catena login add --device " + d.Name
	case job.AnotherDevice:
		return "find out what was exchanged: catena scan"
	case job.ChangedSince:
		return "match again: catena match"
	case job.Unhealthy:
		return "mend that first, then flash it again"
	}
	if c := d.Cause.Device; c != nil {
		if next := remedy(device.Device{Name: d.Name, Trouble: c}); next != "" && c.Problem != device.Changed {
			return next + "; then flash it again"
		}
		switch {
		case c.Problem == device.Changed:
			return "find out what was exchanged: catena scan"
		case d.Cause.Step == job.Checking:
			return "look whether it has power and network, then: catena scan"
		}
	}
	return "mend the cause, then flash it again"
}

// last is the end of a chain of reasons.
func last(r *job.Reason) *job.Reason {
	for r.Then != nil {
		r = r.Then
	}
	return r
}
