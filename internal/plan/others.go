package plan

import (
	"bytes"
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"catena/internal/atomicfile"
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
	name, local, elsewhere := strings.Cut(id, "/")
	if w.board == nil || !elsewhere {
		return nil
	}
	_, err := w.board.GiveUp(name, local)
	return err
}
