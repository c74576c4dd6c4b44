package care

import (
	"context"
	"errors"
	"slices"
	"sync"

	"catena/internal/device"
	"catena/internal/dialect"
	"catena/internal/login"
	"catena/internal/record"
)

// Rotation is how changing the password of one device ended.
type Rotation struct {
	Device  device.Device
	User    string
	Outcome RotationOutcome
	Err     error // why it is not Changed
}

// RotationOutcome is how it ended.
type RotationOutcome string

// The outcomes.
const (
	Changed RotationOutcome = "changed" // the new password was verified by logging in
	Kept    RotationOutcome = "kept"    // the device has its old password
	// Unknown: the device may have either; both are stored.
	Unknown RotationOutcome = "unknown"
	// NotTried: another device failed before.
	NotTried RotationOutcome = "not tried"
)

// Keep changes the stored logins; it is called by several goroutines.
type Keep func(change func(*login.Book) error) error

// NewPassword is what devices are to get.
type NewPassword struct {
	Password string
	Plain    bool // it may be sent without TLS or SSH
}

// rotatedAtOnce is how many devices get their new password at the same time.
const rotatedAtOnce = 4

// Rotate gives devices a new password: the first one alone, and the others only if it has it.
// Before a password is sent it is stored, beside the old one; the old one is dropped once the new
// one was verified by logging in. The error is that of keep before anything was sent.
func (c Care) Rotate(ctx context.Context, devices []device.Device, n NewPassword, keep Keep,
	done func(Rotation)) ([]Rotation, error) {
	out := make([]Rotation, len(devices))
	entries := make([]login.Entry, len(devices))
	for i, d := range devices {
		_, as, _ := c.Access.Contact(d)
		out[i] = Rotation{Device: d, User: as.User, Outcome: NotTried}
	}
	one := func(i int) {
		d := devices[i]
		err := keep(func(b *login.Book) (err error) {
			_, as, _ := c.Access.Contact(d)
			entries[i], err = b.Prepare(d, as, n.Password)
			return err
		})
		if err != nil {
			out[i].Outcome, out[i].Err = Kept, err
		} else {
			out[i].Outcome, out[i].Err = c.rotate(ctx, d, entries[i], n.Plain, keep)
		}
		done(out[i])
	}
	if len(devices) == 0 {
		return out, nil
	}
	if one(0); out[0].Outcome != Changed {
		return out, nil
	}
	slots := make(chan struct{}, rotatedAtOnce)
	var group sync.WaitGroup
	for i := 1; i < len(devices); i++ {
		slots <- struct{}{}
		if ctx.Err() != nil {
			break
		}
		group.Go(func() {
			one(i)
			<-slots
		})
	}
	group.Wait()
	return out, nil
}

// rotate sends a stored password to a device, and verifies it.
func (c Care) rotate(ctx context.Context, d device.Device, e login.Entry, plain bool, keep Keep) (
	outcome RotationOutcome, failed error) {
	withdraw := func(why error) (RotationOutcome, error) {
		return Kept, errors.Join(why, keep(func(b *login.Book) error { b.Drop(e.ID); return nil }))
	}
	sent := false
	err := c.change(d, Change{What: PasswordSet}, func() error {
		// nothing of what was started is broken off: the answer tells which password it has
		ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), askWithin)
		defer cancel()
		_, as, _ := c.Access.Contact(d)
		as.PlainBasic = plain
		session, err := c.Access.SessionAs(d, as)
		if err != nil {
			return err
		}
		defer func() { _ = session.Close(ctx) }()
		if _, err := session.Read(ctx); err != nil { // its old password works now
			return err
		}
		refusal := dialect.SetPassword(ctx, session, e.Password)
		if errors.Is(refusal, device.ErrUnsupported) || errors.Is(refusal, device.ErrPlain) {
			return refusal // nothing was sent
		}
		// Whatever it answered: of several steps, the first one may have changed the password.
		sent = true
		outcome, failed = c.settle(ctx, d, e, keep)
		switch {
		case outcome == Kept && failed == nil && refusal != nil:
			failed = refusal
		case outcome == Kept && failed == nil:
			failed = ErrOldPassword
		}
		return failed
	})
	if !sent {
		return withdraw(err)
	}
	return outcome, errors.Join(failed, notOf(err, failed))
}

// notOf is an error that is not the other one already.
func notOf(err, other error) error {
	if errors.Is(err, other) {
		return nil
	}
	return err
}

// ErrOldPassword is returned where a device took a new password and still has the old one.
var ErrOldPassword = errors.New("it accepted the new password, and still has the old one")

// settle finds out which password a device has, by at most one login with each, and keeps that one.
func (c Care) settle(ctx context.Context, d device.Device, e login.Entry, keep Keep) (
	RotationOutcome, error) {
	err := c.logsIn(ctx, d, e.Credential())
	if err == nil {
		d.Login = e.ID
		d.Refused = slices.DeleteFunc(slices.Clone(d.Refused), func(r string) bool { return r == e.ID })
		if err := record.Update(c.Ledger, "", &d); err != nil {
			return Unknown, err
		}
		return Changed, keep(func(b *login.Book) error { b.Confirm(e.ID); return nil })
	}
	if !errors.Is(err, device.ErrLoginRefused) {
		return Unknown, err
	}
	_, old, ok := c.Access.Contact(d)
	if !ok || old.ID == e.ID {
		return Unknown, err
	}
	if err := c.logsIn(ctx, d, old); err != nil {
		return Unknown, err
	}
	return Kept, keep(func(b *login.Book) error { b.Drop(e.ID); return nil })
}

// logsIn reads a device with a login.
func (c Care) logsIn(ctx context.Context, d device.Device, as login.Credential) error {
	session, err := c.Access.SessionAs(d, as)
	if err != nil {
		return err
	}
	defer func() { _ = session.Close(context.WithoutCancel(ctx)) }()
	_, err = session.Read(ctx)
	return err
}

// Settle finds out which password devices have whose change did not end, after a crash or while
// they did not answer.
func (c Care) Settle(ctx context.Context, devices []device.Device, pending []login.Entry, keep Keep,
	done func(Rotation)) []Rotation {
	var out []Rotation
	for _, e := range pending {
		r := Rotation{User: e.User, Outcome: Unknown, Err: ctx.Err()}
		at := slices.IndexFunc(devices, func(d device.Device) bool { return d.ID == e.Of })
		if at < 0 {
			continue
		}
		r.Device = devices[at]
		if r.Err == nil {
			err := c.change(r.Device, Change{What: PasswordSet}, func() error {
				within, cancel := context.WithTimeout(ctx, askWithin)
				defer cancel()
				r.Outcome, r.Err = c.settle(within, r.Device, e, keep)
				return r.Err
			})
			r.Err = errors.Join(r.Err, notOf(err, r.Err))
		}
		out = append(out, r)
		done(r)
	}
	return out
}

// Rotatable tells why the password of a device cannot be changed; nil: as far as is known, it can.
// plain allows a new password to be sent without TLS.
func (c Care) Rotatable(d device.Device, plain bool) error {
	_, as, ok := c.Access.Contact(d)
	switch {
	case d.Through != "":
		return errors.New("it is reached through another device")
	case d.Access != device.OK:
		return d.Trouble
	case !ok || as.User == "" || as.Password == "":
		return errors.New("its login has no user with a password")
	case as.Keyed(): // a login would work with the key, whatever the password
		return errors.New("its login has a key, so a login would not verify the password")
	case !plain && !c.encrypted(d):
		return ErrInTheClear
	}
	return nil
}

// ErrInTheClear is returned for a device that would get its new password without TLS or SSH.
var ErrInTheClear = errors.New("the new password would be readable on the network: it is reached " +
	"without TLS")
