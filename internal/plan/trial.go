package plan

import (
	"context"
	"errors"

	"catena/internal/contact"
	"catena/internal/device"
	"catena/internal/dialect"
	"catena/internal/dialect/scripted"
	"catena/internal/job"
	"catena/internal/login"
)

// Trial is how a device is reached that a family is tried with. Close gives it free again.
type Trial struct {
	Dialect scripted.Dialect // for a child, that of the family's children
	At      dialect.At
	As      login.Credential
	Logged  bool // there is a login for it; else a person gives one
	known   device.Device
	release func()
}

// ErrNoChildren is returned for a child that is tried with a family that has none.
var ErrNoChildren = errors.New("is a child, and the file says nothing of children")

// Trial takes a device for a trial: a known one of the site, which no job and no other command
// works on then, or an address. Its errors are a job.BusyError, ErrNoChildren, and those of the
// ledger.
func (w *Site) Trial(ctx context.Context, x *contact.Access, d scripted.Dialect, where string) (
	Trial,
	error) {
	t := Trial{Dialect: d, release: func() {}}
	_, known, err := w.Device(where)
	if err != nil {
		known = device.Device{Endpoint: d.Find(ctx, where)}
	} else {
		if t.release, err = job.Lease(w.Ledger, known); err != nil {
			return t, err
		}
		t.known = known
		if known.Through != "" {
			if !d.HasChildren() {
				t.release()
				return t, ErrNoChildren
			}
			t.Dialect = d.Children(0)
		}
	}
	known.Dialect = t.Dialect.About().Name
	t.At, t.As, t.Logged = x.Contact(known)
	return t, nil
}

// Verify verifies that a known device is still the same, before any login.
func (t Trial) Verify(ctx context.Context) error {
	if t.known.ID == "" {
		return nil
	}
	return dialect.VerifyIdentity(ctx, t.Dialect, t.At, t.known.Identity)
}

// Close ends the trial.
func (t Trial) Close() { t.release() }
