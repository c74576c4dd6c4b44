package plan

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"catena/internal/atomicfile"
	"catena/internal/care"
	"catena/internal/device"
	"catena/internal/job"
	"catena/internal/lease"
	"catena/internal/ledger"
	"catena/internal/office"
	"catena/internal/order"
)

// OfficeFile has the credentials of a site that meets others at an office, within its folder.
var OfficeFile = filepath.Join(ledger.Folder, "site"+office.Ending)

// RememberOffice keeps the credentials with which a site folder has reached its office: from then
// on its jobs and those of other machines are kept apart there. first: it did not have them.
func RememberOffice(dir string, c office.Credentials) (first bool, err error) {
	path := filepath.Join(dir, OfficeFile)
	had, err := os.ReadFile(path)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return false, err
	}
	if bytes.Equal(had, c.Text()) {
		return false, nil
	}
	return had == nil, atomicfile.Replace(path, c.Text(), 0o600)
}

// MeetOthers has the jobs of this site kept apart from those of other machines, where it has an
// office, until the returned function is called. Where the office is not reached, no one can tell
// what others do, and Prepare adds the caution unseen. Its error is one of the credentials' file.
func (w *Site) MeetOthers(ctx context.Context) (done func(), err error) {
	w.board, w.unseen = nil, nil
	c, err := office.ReadCredentials(filepath.Join(w.Dir, OfficeFile))
	if errors.Is(err, fs.ErrNotExist) {
		return func() {}, nil
	}
	if err != nil {
		return func() {}, err
	}
	if err := w.Ledger.NameWriter(); err != nil {
		return func() {}, err
	}
	me := w.Ledger.Writer()
	w.board, w.unseen = lease.Open(ctx, c, lease.Machine{ID: me.ID(), Name: me.Name})
	if w.unseen != nil {
		w.board = nil
		return func() {}, nil
	}
	return w.board.Close, nil
}

// Unseen is why other machines cannot be seen; nil: they can, or the site has no office.
func (w *Site) Unseen() error { return w.unseen }

// apart says at the office that a device is changed outside of jobs, until end is called, where no
// other machine has it. A site says one such change at a time: the next one of this process waits,
// that of another one is refused. Its errors are a job.BusyError, care.ErrUnseen, and one of the
// credentials.
func (w *Site) apart(d device.Device, what string) (end func(), err error) {
	c, err := office.ReadCredentials(filepath.Join(w.Dir, OfficeFile))
	if errors.Is(err, fs.ErrNotExist) {
		return func() {}, nil
	}
	if err != nil {
		return nil, err
	}
	w.changing.Lock()
	unlock, ok, err := w.Ledger.Hold("change")
	if err == nil && !ok {
		err = &job.BusyError{Device: d.Name}
	}
	if err != nil {
		w.changing.Unlock()
		return nil, err
	}
	release := func() { unlock(); w.changing.Unlock() }
	me := lease.Machine{ID: w.Ledger.Writer().ID(), Name: w.Ledger.Writer().Name}
	b, err := lease.Open(context.Background(), c, me.ForChange())
	if err != nil {
		release()
		return nil, fmt.Errorf("%w: %w", care.ErrUnseen, err)
	}
	if err := w.holdAt(b, d, what); err != nil {
		b.Close()
		release()
		return nil, err
	}
	return func() {
		_, _, _ = b.Hold(nil) // if it cannot be said, it ends with the next sign of life that is missing
		b.Close()
		release()
	}, nil
}

// holdAt says that a device is changed. Where another machine says something at the same moment, it
// is read first.
func (w *Site) holdAt(b *lease.Board, d device.Device, what string) error {
	mine := []order.Foreign{
		{
			Job:    what,
			Change: true,
			Device: order.Device{ID: d.ID, Name: d.Name, Model: d.Model, Kind: d.Kind,
				Through: w.Through()[d.ID], Parent: d.Through},
		},
	}
	for range mostHolds {
		others, err := b.Others("")
		if err != nil {
			return fmt.Errorf("%w: %w", care.ErrUnseen, err)
		}
		for _, f := range others {
			theirs := []string{w.Ledger.Canonical(f.Device.ID), w.Ledger.Canonical(f.Device.Parent)}
			if slices.Contains(theirs, d.ID) || d.Through != "" && slices.Contains(theirs, d.Through) {
				busy := &job.BusyError{Device: d.Name, Job: f.Job}
				if name, _, _ := strings.Cut(f.Job, "/"); f.Change {
					busy.Job, busy.By = "", name
				}
				return busy
			}
		}
		if _, ok, err := b.Hold(mine); ok || err != nil {
			if err != nil {
				err = fmt.Errorf("%w: %w", care.ErrUnseen, err)
			}
			return err
		}
	}
	return &job.BusyError{Device: d.Name}
}

// mostHolds is how often a device is asked for while other machines say something.
const mostHolds = 20

// leases are those of the board; nil: the site has none.
func (w *Site) leases() job.Leases {
	switch {
	case w.board != nil:
		return leases{w.board}
	case w.unseen != nil:
		return leases{}
	}
	return nil
}

// leases is a board as the engine wants it; without one no one can be seen.
type leases struct{ board *lease.Board }

func (l leases) Others(job string) ([]order.Foreign, error) {
	if l.board == nil {
		return nil, lease.ErrUnseen
	}
	return l.board.Others(job)
}

func (l leases) Hold(mine []order.Foreign) (revision uint64, ok bool, err error) {
	if l.board == nil {
		return 0, false, lease.ErrUnseen
	}
	return l.board.Hold(mine)
}

func (leases) Taken(err error) bool { return errors.Is(err, lease.ErrTaken) }

// forgetJob takes a job that was given up out of what its machine says it has open.
func (w *Site) forgetJob(id string) error {
	if w.board == nil {
		return nil
	}
	name, local, elsewhere := strings.Cut(id, "/")
	if !elsewhere {
		name, local = w.Ledger.Writer().Name, id
	}
	_, err := w.board.GiveUp(name, local)
	return err
}
