package care

import (
	"context"
	"errors"
	"fmt"
	"time"

	"catena/internal/device"
	"catena/internal/dialect"
	"catena/internal/settings"

	"golang.org/x/sync/errgroup"
)

// ErrNoSave is returned for a device of which nothing is saved, or no save of that name.
var ErrNoSave = errors.New("no such save")

// Newest returns the save of a device by its name; empty: the newest. Its errors are ErrNoSave, and
// of a save that cannot be read.
func (s Store) Newest(d device.Device, name string) (Saved, error) {
	all, err := s.All(d.ID)
	if err != nil {
		return Saved{}, err
	}
	for _, x := range all {
		if name == "" || x.Save == name {
			return x, nil
		}
	}
	return Saved{}, ErrNoSave
}

// Read returns a device's settings and carried values as they are now, as a save without a name.
// Its error is device.ErrUnsupported for a device that has neither.
func (c Care) Read(ctx context.Context, d device.Device) (x Saved, err error) {
	session, err := c.Access.Session(d)
	if err != nil {
		return x, err
	}
	defer func() { err = errors.Join(err, session.Close(context.WithoutCancel(ctx))) }()
	x.Format = settings.None
	of, none := session.Settings()
	carry, noCarry := session.Carry()
	switch {
	case none == nil:
		x.Format = of.Format()
		x.Data, err = of.Save(ctx)
	case noCarry != nil || !errors.Is(none, device.ErrUnsupported):
		return Saved{}, none
	}
	if err == nil && noCarry == nil {
		x.Carried, err = carry.Read(ctx)
	}
	return x, err
}

// SaveResult is how saving the settings of one device ended.
type SaveResult struct {
	Device device.Device
	Save   string // the name of the save
	Format settings.Format
	Err    error // device.ErrUnsupported: it cannot report them
}

// savesAtOnce is how many devices are read at the same time.
const savesAtOnce = 8

// SaveAll reads and saves the settings of devices, and returns a result for each, in their order.
func (c Care) SaveAll(ctx context.Context, devices []device.Device) []SaveResult {
	out := make([]SaveResult, len(devices))
	var group errgroup.Group
	group.SetLimit(savesAtOnce)
	for i, d := range devices {
		group.Go(func() error {
			r := &out[i]
			r.Device = d
			x, err := c.Read(ctx, d)
			if r.Format, r.Err = x.Format, err; err == nil {
				r.Save, r.Err = c.Store.Save(d, d.Version, x.Format, x.Data, x.Carried)
			}
			return nil
		})
	}
	_ = group.Wait() // nothing in it fails
	return out
}

// UnfitError is returned for a save that must not be restored on a device as it is.
type UnfitError struct {
	Save   string
	Reason string
	// Version: only because the device runs another version.
	Version bool
}

func (e *UnfitError) Error() string { return e.Save + " " + e.Reason + "; nothing was changed" }

// Fits returns an UnfitError for a save of another device, or, unless anyVersion, of another
// version.
func Fits(x Saved, d device.Device, anyVersion bool) error {
	switch {
	case x.Identity.Other(d.Identity) != nil || x.Identity.Model != d.Model:
		return &UnfitError{Save: x.Save, Reason: fmt.Sprintf("was saved from another device, %s %s",
			x.Identity.Model, x.Identity.Serial)}
	case x.Version != d.Version && !anyVersion:
		return &UnfitError{Save: x.Save, Version: true,
			Reason: fmt.Sprintf("was saved on %s, and %s runs %s", x.Version, d.Name, d.Version)}
	}
	return nil
}

// Restored settings are compared for so long until the device has them.
const restoreWithin = 5 * time.Minute

// ValueError is the error of one carried value that was not restored.
type ValueError struct {
	Name string
	Err  error
}

func (e *ValueError) Error() string { return "the value " + e.Name + ": " + e.Err.Error() }
func (e *ValueError) Unwrap() error { return e.Err }

// Restore restores a save on a device: the same identity, healthy afterwards, with all of the
// settings; after them the carried values. A save of another version is merged into what the device
// has now; decide returns what is sent of that, and an error to send nothing. renamed are the
// settings that another version names otherwise. What is being written is not interrupted. Its
// errors are an UnfitError, a job.BusyError, device.ErrUnsupported, dialect.ErrNotTaken, the error
// of decide, and what the device reports; of a carried value they are in a ValueError.
func (c Care) Restore(ctx context.Context, d device.Device, x Saved,
	renamed func(map[string]string) map[string]string,
	decide func(settings.Merged) ([]byte, error)) error {
	ctx = context.WithoutCancel(ctx)
	session, err := c.Access.Session(d)
	if err != nil {
		return err
	}
	defer func() { _ = session.Close(ctx) }()
	var of dialect.Settings
	if x.Format != settings.None {
		if of, err = session.Settings(); err != nil {
			return err
		}
		if of.Format() != x.Format {
			return &UnfitError{Save: x.Save, Reason: fmt.Sprintf("was saved as %s, and %s has %s now",
				x.Format, d.Name, of.Format())}
		}
	}
	before, err := session.Read(ctx)
	if err == nil {
		if other := d.Identity.Other(before.Identity); other != nil {
			err = other
		}
	}
	if err != nil {
		return err
	}
	if before.Version != x.Version && before.Version != d.Version {
		return &UnfitError{Save: x.Save, Version: true,
			Reason: fmt.Sprintf("was saved on %s, and %s runs %s now; scan it first", x.Version, d.Name,
				before.Version)}
	}
	var text []byte
	if of != nil {
		if text, err = c.merge(ctx, d, x, of, renamed, decide); err != nil {
			return err
		}
	}
	return c.change(d, Change{What: SettingsRestored, To: x.Save}, func() error {
		if of != nil {
			if err := send(ctx, session, of, text, before); err != nil {
				return err
			}
		}
		if len(x.Carried) == 0 {
			return nil
		}
		carry, err := session.Carry()
		name := x.Carried[0].Name
		if err == nil {
			name, _, err = dialect.RestoreCarried(ctx, carry, x.Carried)
		}
		if err != nil {
			return &ValueError{name, err}
		}
		return nil
	})
}

// send sends settings to a device and waits until it has them, and is as well as before.
func send(ctx context.Context, session dialect.Session, of dialect.Settings, text []byte,
	before device.Reading) error {
	over := time.Now().Add(restoreWithin)
	return dialect.RestoreSettings(ctx, of, text, func() error {
		now, err := session.Read(ctx)
		if err == nil {
			err = session.Healthy(ctx, before)
		}
		if err == nil && now.Version != before.Version {
			err = fmt.Errorf("it now runs %s, not %s", now.Version, before.Version)
		}
		return err
	}, func(bool) bool {
		time.Sleep(time.Second)
		return time.Now().Before(over)
	})
}

// merge returns what is sent of a save.
func (c Care) merge(ctx context.Context, d device.Device, x Saved, of dialect.Settings,
	renamed func(map[string]string) map[string]string, decide func(settings.Merged) ([]byte, error)) (
	[]byte, error) {
	m := settings.Merged{Text: x.Data}
	if x.Version != d.Version && x.Format != settings.Opaque {
		now, err := of.Save(ctx)
		if err != nil {
			return nil, err
		}
		base, _ := c.Store.Defaults(d, x.Version) // without them two are merged
		if m, err = settings.Merge(x.Format, base, x.Data, now, renamed(of.Renamed())); err != nil {
			return nil, &UnfitError{Save: x.Save, Reason: fmt.Sprintf("cannot be merged into what %s has "+
				"now: %v", d.Name, err)}
		}
	}
	return decide(m)
}
