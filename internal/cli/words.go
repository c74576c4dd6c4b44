package cli

import (
	"errors"
	"fmt"
	"io/fs"
	"strings"
	"syscall"
	"time"

	"catena/internal/advice"
	"catena/internal/bundle"
	"catena/internal/care"
	"catena/internal/cli/jobview"
	"catena/internal/device"
	"catena/internal/family"
	"catena/internal/job"
	"catena/internal/ledger"
	"catena/internal/order"
	"catena/internal/plan"
	"catena/internal/record"
	"catena/internal/scan/discover"
	"catena/internal/shelf"
	"catena/internal/site"
	"catena/internal/workspace"
	"catena/internal/yamldoc"
)

// What to do next stands here and nowhere else: the core says what happened, as typed
// causes, and knows no command.

// restoreCut is what to do about a ledger that lacks entries.
const restoreCut = "Copy the folder " + ledger.Folder + " again with all its files (also " +
	"ledger.db-wal), or restore it from a backup; to continue without those entries, remove " +
	ledger.Head

// withAdvice adds to an error of the core what to do next, and the exit code that it means.
func withAdvice(err error) error {
	var (
		done        exit
		noSite      *workspace.NoSiteError
		noDevice    *record.UnknownDeviceError
		ambiguous   *record.AmbiguousError
		where       *workspace.WhereError
		column      *workspace.ColumnError
		noJob       *plan.UnknownJobError
		noPart      *plan.ComponentError
		disagree    *plan.DisagreeError
		unresolved  *plan.UnresolvedError
		lost        *ledger.LostError
		adapter     *discover.NoAdapterError
		member      *plan.UnknownMemberError
		untraceable *care.UntraceableError
	)
	switch {
	case err == nil || errors.As(err, &done):
		return err
	case isWrongInput(err):
		return usage("%w", err)
	case errors.As(err, &noSite) && noSite.Upwards:
		return usage("%w; go to one, name one with -C, or make one with: catena new NAME", err)
	case errors.As(err, &noSite):
		return usage("%w; make one with: catena new NAME", err)
	case errors.As(err, &noDevice):
		return usage("%w; list them: catena list", err)
	case errors.As(err, &ambiguous):
		return usage("%w; name one", err)
	case errors.As(err, &where):
		return usage("--where: %w\nwrite for example: model == \"WX-40\" && version < \"3.2\", or: "+
			"meets(version, \">= 2.0, < 4\")", err)
	case errors.As(err, &column):
		return usage("--sort: %w", err)
	case errors.As(err, &noJob):
		return usage("%w; list them: catena jobs", err)
	case errors.As(err, &member):
		return usage("%w; see its devices: catena track %s --once", err, member.Job)
	case errors.As(err, &untraceable):
		return refused("%w; nothing was changed", err)
	case errors.Is(err, shelf.ErrNoneChosen):
		return usage("%w; see: catena shelf list", err)
	case errors.As(err, &noPart):
		return usage("%w; show them: catena show %s", err, advice.Quoted(noPart.Device))
	case errors.As(err, &unresolved):
		return refused("%w; nothing was changed. Correct %s and %s, or find the devices: catena scan",
			err, site.File, site.TargetsFile)
	case errors.As(err, &disagree):
		return refused("%w", err)
	case errors.As(err, &adapter):
		return usage("%w; see them: catena scan --adapters", err)
	case errors.As(err, &lost):
		return fmt.Errorf("%w. Restore it from a backup; to start a new one, remove %s", err,
			lost.Head)
	}
	return wordedShared(err)
}

// wordedShared is worded for what others are doing at the site.
func wordedShared(err error) error {
	var (
		busy     *job.BusyError
		unmerged *record.UnmergedError
	)
	switch {
	case errors.As(err, &busy) && strings.Contains(busy.Job, "/"):
		return refused("%w, as of the last sync; nothing was changed. Sync again when that laptop has: "+
			"catena sync PLACE. If it can no longer end it: catena stop %s --give-up --accept unseen", err,
			busy.Job)
	case errors.As(err, &busy) && busy.Job == "":
		return refused("%w; nothing was changed", err)
	case errors.Is(err, care.ErrUnseen):
		return refused("%w; nothing was changed. To change it despite that: --accept unseen", err)
	case errors.As(err, &busy):
		return refused("%w; nothing was changed. Wait for that job: catena track %s", err, busy.Job)
	case errors.As(err, &unmerged):
		return refused("%w; nothing was changed. See both: catena sync. Then choose: catena sync choose "+
			"FILE mine|NAME|edited", err)
	}
	return wordedOrder(err)
}

// isWrongInput reports whether an error says all there is to say of a file or a word that is wrong.
func isWrongInput(err error) bool {
	var (
		file      *yamldoc.Error
		families  *family.ConflictError
		sameName  *family.SameNameError
		name      *workspace.NameError
		line      *care.LineError
		wrongSite *workspace.WrongSiteError
		check     *job.UnknownCheckError
	)
	return errors.As(err, &file) || errors.As(err, &families) || errors.As(err, &sameName) ||
		errors.As(err, &name) || errors.As(err, &line) || errors.As(err, &wrongSite) ||
		errors.As(err, &check)
}

// wordedOrder is worded for errors of orders.
func wordedOrder(err error) error {
	var (
		term     *plan.TermError
		closed   *plan.ClosedError
		stale    *plan.StaleError
		empty    plan.EmptyError
		noTime   *plan.NoTimeError
		noOrder  *plan.UnknownOrderError
		taken    *record.NameTakenError
		unsigned *plan.UnsignedError
		wrong    *order.Contradictions
		pack     *bundle.Error
		cut      *ledger.CutError
	)
	switch {
	case errors.As(err, &cut):
		return refused("%w.\n%s", err, restoreCut)
	case errors.As(err, &term):
		return usage("%w", err)
	case errors.As(err, &closed):
		return refused("no window of the site is open %s; the next one is from %s to %s: use "+
			"--start window. Nothing was changed",
			jobview.When(closed.Start, time.Now()), closed.Opens.Format("Mon 2006-01-02 15:04"),
			closed.Closes.Format("15:04 MST"))
	case errors.As(err, &stale), errors.As(err, &noTime), errors.As(err, &wrong):
		return refused("%w", err)
	case errors.Is(err, plan.ErrForStation):
		return refused("%w; it does so once. For a person, make another one: catena order new", err)
	case errors.As(err, &empty):
		return exit{exitFailed, err}
	case errors.As(err, &pack):
		return usage("%w; nothing was made", err)
	case errors.As(err, &unsigned) && unsigned.Name == "":
		return refused("%w; nothing was changed. Make an order and have it signed: catena "+
			"order new, catena order sign", err)
	case errors.As(err, &unsigned):
		return refused("%w; nothing was changed. Sign it: catena order sign %s --key FILE", err,
			unsigned.Name)
	case errors.As(err, &noOrder):
		return usage("%w; list them: catena order list", err)
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
		return usage("%w. Use the later version here", err)
	case errors.Is(err, ledger.ErrInUse):
		return fmt.Errorf("%w; end that program (a copy, a backup, a virus scanner), then run this again",
			err)
	case errors.Is(err, ledger.ErrFull):
		return fmt.Errorf("%w; free some space on it: catena shelf tidy", err)
	case errors.Is(err, fs.ErrPermission):
		return fmt.Errorf("%w; it belongs to another user: run Catena as that user, or get the "+
			"permission",
			err)
	case errors.Is(err, syscall.EADDRINUSE), errors.Is(err, windowsInUse):
		return fmt.Errorf("%w; end the program that listens there, or choose another address", err)
	case errors.Is(err, syscall.ENOSPC):
		return fmt.Errorf("%w; free some space on that disk: catena shelf tidy", err)
	}
	return err
}

// noLogin says why there is no login to use with a device, and what to do.
func noLogin(d device.Device) error {
	if len(d.Refused) > 0 {
		return refused("%s rejected every stored login; add the right one: catena login add "+
			"--device %[2]s, or try them again: catena login test %[2]s", d.Name, advice.Quoted(d.Name))
	}
	return refused("no login for %s; add one with catena login add, set "+
		"CATENA_LOGIN=user:password, or run this in a terminal", d.Name)
}
