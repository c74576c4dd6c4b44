package care

import (
	"context"
	"errors"
	"maps"
	"slices"
	"time"

	"catena/internal/device"
	"catena/internal/dialect"
	"catena/internal/firmware"
	"catena/internal/job"
	"catena/internal/record"
	"catena/internal/scan"
)

// Question asks a device whether it can be updated now.
type Question struct {
	Device     device.Device
	Components []string             // that are to be updated; none: the interlocks are not read
	Interlocks []firmware.Interlock // of the images that they are to get
	ForChange  bool                 // test the right of its login to change it
}

// Answer is what a device answered. Device has what is new of it.
type Answer struct {
	Device  device.Device
	At      time.Time
	Trouble error // why it could not be asked, or that it is not healthy; nil: it answered
	read    bool  // it was read
}

// Bounds of asking: each device costs one login.
const (
	askedAtOnce = 16
	askWithin   = 2 * time.Minute // one device
)

// Ask asks devices, at most 16 at a time and the children of one parent one after the other, and
// records what is new of them. Nothing is changed. A device that a job or another command has is
// left alone: its Trouble is a job.BusyError. The error is the ledger's, or that of ctx.
func (c Care) Ask(ctx context.Context, all []Question, done func(n int)) ([]Answer, error) {
	out := make([]Answer, len(all))
	devices := make([]device.Device, len(all))
	for i := range all {
		devices[i] = all[i].Device
	}
	err := apart(ctx, devices, done, func(ctx context.Context, i int) (err error) {
		out[i], err = c.ask(ctx, all[i])
		return err
	})
	note := record.Scan{
		New:      []string{},
		Changed:  []scan.Change{},
		Gone:     []string{},
		Warnings: []string{},
	}
	for _, a := range out {
		if a.read {
			note.Read = append(note.Read, a.Device.ID)
		}
	}
	if note.Found = len(note.Read); note.Found > 0 {
		err = errors.Join(err, c.Ledger.Append(record.Scanned, "", "", note))
	}
	return out, err
}

// ask asks one device.
func (c Care) ask(ctx context.Context, q Question) (Answer, error) {
	a := Answer{Device: q.Device, At: c.Now()}
	release, err := job.Lease(c.Ledger, q.Device)
	if errors.As(err, new(*job.BusyError)) {
		a.Trouble = err
		return a, nil
	}
	if err != nil {
		return a, err
	}
	defer release()
	if !q.ForChange {
		err = c.asked(ctx, q, &a)
	} else {
		what := Change{What: PermissionTested}
		if err := c.Ledger.Append(ChangeBegun, "", q.Device.ID, what); err != nil {
			return a, err
		}
		err = c.asked(ctx, q, &a)
		if err == nil && a.Trouble != nil {
			what.Problem = a.Trouble.Error()
		}
		err = errors.Join(err, c.Ledger.Append(ChangeOver, "", q.Device.ID, what))
	}
	if err != nil {
		return a, err
	}
	return a, record.Update(c.Ledger, "", &a.Device)
}

// asked talks to one device; its error is that of ctx.
func (c Care) asked(ctx context.Context, q Question, a *Answer) (err error) {
	within, cancel := context.WithTimeout(ctx, askWithin)
	defer cancel()
	if q.Device.Access == device.LoginRefused { // it is not tried again, so that it does not lock
		a.Trouble = device.ErrLoginRefused
		if q.Device.Trouble != nil {
			a.Trouble = q.Device.Trouble
		}
		return nil
	}
	session, err := c.Access.SessionFor(q.Device, q.Interlocks)
	if err != nil {
		a.Trouble = err
		return nil
	}
	// what could not be left is for the next session
	defer func() { _ = session.Close(context.WithoutCancel(ctx)) }()
	r, err := session.Read(within)
	if err == nil {
		err = session.Healthy(within, q.Device.Reading)
		r, a.read = r.Over(q.Device.Reading), true
		c.interlocks(within, session, q.Components, &r)
		a.Device.Reading, a.Device.Access, a.Device.Trouble = r, device.OK, nil
	}
	if err == nil && q.ForChange {
		var right *device.Right
		if right, err = rightOf(within, session); right != nil {
			right.Login, right.At = q.Device.Login, a.At.UTC()
			a.Device.Right = right
		}
	}
	a.Trouble = err
	c.rejected(&a.Device, err)
	return ctx.Err()
}

// rejected notes that a device rejected its login, so that nothing sends it there again unasked.
func (c Care) rejected(d *device.Device, err error) {
	var cause *device.Cause
	if !errors.Is(err, device.ErrLoginRefused) || !errors.As(err, &cause) {
		return
	}
	d.Access, d.Trouble = device.LoginRefused, cause
	if _, as, _ := c.Access.Contact(*d); as.RefusedAs() != "" &&
		!slices.Contains(d.Refused, as.RefusedAs()) {
		d.Refused = append(slices.Clone(d.Refused), as.RefusedAs())
	}
}

// interlocks reads what forbids the update of components now into a reading.
func (c Care) interlocks(ctx context.Context, s dialect.Session, components []string,
	r *device.Reading) {
	for _, name := range components {
		update, err := s.Update(name)
		if err == nil {
			err = update.Interlock(ctx)
		}
		var cause *device.Cause
		if errors.Is(err, device.ErrNotNow) && errors.As(err, &cause) {
			r.Forbids = maps.Clone(r.Forbids)
			if r.Forbids == nil {
				r.Forbids = map[string]string{}
			}
			r.Forbids[name] = cause.Detail
		}
	}
}

// rightOf tests the right of the login that a session uses.
func rightOf(ctx context.Context, s dialect.Session) (*device.Right, error) {
	err := dialect.Permission(ctx, s)
	var not *dialect.NotPermittedError
	switch {
	case err == nil:
		return &device.Right{Result: device.Yes}, nil
	case errors.As(err, &not):
		return &device.Right{Result: device.Denied, Why: not.Why}, nil
	case errors.Is(err, device.ErrUnsupported):
		return &device.Right{Result: device.Untested}, nil
	}
	return nil, err
}
