package cli

import (
	"errors"
	"fmt"
	"io/fs"
	"strings"
	"syscall"

	"catena/internal/bundle"
	"catena/internal/device"
	"catena/internal/family"
	"catena/internal/job"
	"catena/internal/ledger"
	"catena/internal/order"
	"catena/internal/record"
	"catena/internal/scan/discover"
	"catena/internal/site"
	"catena/internal/workspace"
	"catena/internal/yamldoc"
)

// quoted writes a name so that a shell takes it as one word, whatever is in it.
func quoted(name string) string {
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

// What to do next stands here and nowhere else: the core says what happened, as typed
// causes, and knows no command.

// withAdvice adds to an error of the core what to do next, and the exit code that it means.
func withAdvice(err error) error {
	var (
		done       exit
		file       *yamldoc.Error
		families   *family.ConflictError
		sameName   *family.SameNameError
		noSite     *workspace.NoSiteError
		noDevice   *record.UnknownDeviceError
		ambiguous  *workspace.AmbiguousError
		where      *workspace.WhereError
		column     *workspace.ColumnError
		noJob      *workspace.UnknownJobError
		noPart     *workspace.ComponentError
		disagree   *workspace.DisagreeError
		busy       *job.BusyError
		unresolved *workspace.UnresolvedError
		lost       *ledger.LostError
		adapter    *discover.NoAdapterError
	)
	switch {
	case err == nil || errors.As(err, &done):
		return err
	case errors.As(err, &file), errors.As(err, &families), errors.As(err, &sameName):
		return usage("%w", err)
	case errors.As(err, &noSite) && noSite.Upwards:
		return usage("%w; go to one, name one with -C, or make one with: catena new NAME", err)
	case errors.As(err, &noSite):
		return usage("%w; make one with: catena new NAME", err)
	case errors.As(err, &noDevice):
		return usage("%w; see them with: catena list", err)
	case errors.As(err, &ambiguous):
		return usage("%w; name one", err)
	case errors.As(err, &where):
		return usage("--where: %w\nwrite for example: model == \"WX-40\" && version < \"3.2\", or: meets(version, \">= 2.0, < 4\")", err)
	case errors.As(err, &column):
		return usage("--sort: %w", err)
	case errors.As(err, &noJob):
		return usage("%w; see them with: catena jobs", err)
	case errors.As(err, &noPart):
		return usage("%w; see them with: catena show %s", err, quoted(noPart.Device))
	case errors.As(err, &unresolved):
		return refused("%w; nothing was touched. Fix %s and %s, or look for the devices: catena scan", err, site.File, site.TargetsFile)
	case errors.As(err, &disagree):
		return refused("%w", err)
	case errors.As(err, &adapter):
		return usage("%w; see them: catena scan --adapters", err)
	case errors.As(err, &lost):
		return fmt.Errorf("%w. Take it back from a backup; to start a new one, remove %s", err,
			lost.Head)
	case errors.As(err, &busy):
		return refused("%w; nothing was touched. Wait for that job: catena track %s", err, busy.Job)
	}
	return wordedOrder(err)
}

// wordedOrder is worded for errors of orders.
func wordedOrder(err error) error {
	var (
		noOrder  *workspace.UnknownOrderError
		taken    *workspace.NameTakenError
		unsigned *workspace.UnsignedError
		wrong    *order.Contradictions
		pack     *bundle.Error
	)
	switch {
	case errors.As(err, &wrong):
		return refused("%w", err)
	case errors.As(err, &pack):
		return usage("%w; nothing was made", err)
	case errors.As(err, &unsigned) && unsigned.Name == "":
		return refused("%w; nothing was touched. Make an order and have it signed: catena order new, catena order sign", err)
	case errors.As(err, &unsigned):
		return refused("%w; nothing was touched. Sign it: catena order sign %s --key FILE", err,
			unsigned.Name)
	case errors.As(err, &noOrder):
		return usage("%w; see them with: catena order list", err)
	case errors.As(err, &taken):
		return usage("%w; choose another name", err)
	}
	return wordedSystem(err)
}

// windowsInUse is WSAEADDRINUSE; no other system has an error of this number.
const windowsInUse = syscall.Errno(10048)

// wordedSystem is worded for what this machine refuses.
func wordedSystem(err error) error {
	var format *ledger.FormatError
	switch {
	case errors.As(err, &format) && format.Found > format.Known:
		return usage("%w. Use that later Catena here", err)
	case errors.Is(err, ledger.ErrInUse):
		return fmt.Errorf("%w; end that program (a copy, a backup, a virus scanner), then run this again", err)
	case errors.Is(err, ledger.ErrFull):
		return fmt.Errorf("%w; make room on it: catena shelf tidy", err)
	case errors.Is(err, fs.ErrPermission):
		return fmt.Errorf("%w; it belongs to another user: work as that one, or give yourself the right", err)
	case errors.Is(err, syscall.EADDRINUSE), errors.Is(err, windowsInUse):
		return fmt.Errorf("%w; end the program that listens there, or choose another address", err)
	case errors.Is(err, syscall.ENOSPC):
		return fmt.Errorf("%w; make room on that disk: catena shelf tidy", err)
	}
	return err
}

// noLogin says why there is no login to use with a device, and what to do.
func noLogin(d device.Device) error {
	if len(d.Refused) > 0 {
		return refused("%s refused every login that is kept for it; add the right one: catena login add --device %[2]s, or try them again: catena login test %[2]s", d.Name, quoted(d.Name))
	}
	return refused("no login is known for %s; add one with catena login add, set CATENA_LOGIN=user:password, or run this in a terminal to be asked", d.Name)
}

// remedy is what to do about a device that cannot be talked to.
func remedy(d device.Device) string {
	if d.Trouble == nil {
		return ""
	}
	switch d.Trouble.Problem {
	case device.Changed:
		return "if it was exchanged on purpose: catena login accept " + d.Host()
	case device.Mute:
		return "if it is only slow: catena scan --patience 5s"
	case device.NoAnswer:
		if d.Trouble.Detail == device.NotInTime {
			return "if it is only slow: catena scan --patience 5s"
		}
	case device.BadLogin, device.NoLogin:
		return "add its login: catena login add --device " + quoted(d.Name)
	case device.NoSecret:
		return "add its login once more, with --secret " + d.Trouble.Detail + ": catena login add --device " + quoted(d.Name)
	case device.RefusedBefore:
		return "try them again: catena login test " + quoted(d.Name)
	case device.PlainLogin:
		return "if that is acceptable, its family file allows it with plain_basic: true"
	case device.NewPassword:
		return "set a new password on the device, then add it: catena login add --device " +
			quoted(d.Name)
	case device.NoRight:
		return "add the login of an administrator: catena login add --device " + quoted(d.Name)
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
		if d.Cause.IdentityChanged() {
			return exchanged(d.Name)
		}
		if last(d.Cause).Why == job.NoRollback {
			from := last(d.Cause).Want
			return "add an image of " + from +
				" to the shelf (catena shelf add), then: catena rollback --to " + quoted(
				from) + " " + quoted(d.Name)
		}
		return onSite
	case job.Returned:
		return "find out why before you try it again, by name: catena flash " + quoted(d.Name)
	case job.Failed:
	default:
		return ""
	}
	switch d.Cause.Why {
	case job.CannotUpdate:
		return "flash it by its maker's own means"
	case job.NoLogin:
		return "add a login, then flash it again: catena login add --device " + quoted(d.Name)
	case job.ChangedSince:
		return "match again: catena match"
	case job.Unhealthy:
		return "fix that first, then flash it again"
	case job.SettingsNotKept:
		return "settings are kept encrypted, with a key that is made with the first login: catena login add; see why they cannot be read: catena settings save " + quoted(d.Name)
	}
	if c := d.Cause.Device; c != nil {
		next := remedy(device.Device{Name: d.Name, Trouble: c})
		switch {
		case c.Problem == device.Changed:
			return exchanged(d.Name)
		case next != "":
			return next + "; then flash it again"
		case c.Problem == device.NotNow:
			return "see to that, then: catena retry, or flash it with --wait-for 30m"
		case c.Problem == device.Refusal && d.Cause.Step == job.Checking:
		case d.Cause.Step == job.Checking:
			return "look whether it has power and network, then: catena scan"
		}
	}
	return "fix the cause, then flash it again"
}

// exchanged is what to do where another device, or another key, is at an address.
func exchanged(name string) string {
	return "find out what was exchanged: catena scan; if it was on purpose: catena login accept " +
		quoted(name)
}

// last is the end of a chain of reasons.
func last(r *job.Reason) *job.Reason {
	for r.Then != nil {
		r = r.Then
	}
	return r
}
