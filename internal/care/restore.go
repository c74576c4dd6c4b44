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

// Read returns a device's settings as they are now.
func (c Care) Read(ctx context.Context, d device.Device) (raw []byte, f settings.Format,
	err error) {
	session, err := c.Access.Session(d)
	if err != nil {
		return nil, "", err
	}
	defer func() { err = errors.Join(err, session.Close(context.WithoutCancel(ctx))) }()
	of, err := session.Settings()
	if err != nil {
		return nil, "", err
	}
	raw, err = of.Save(ctx)
	return raw, of.Format(), err
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
			var raw []byte
			if raw, r.Format, r.Err = c.Read(ctx, d); r.Err == nil {
				r.Save, r.Err = c.Store.Save(d, d.Version, r.Format, raw)
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

// Restore restores a save on a device: the same identity, healthy afterwards, with all of the
// settings. A save of another version is merged into what the device has now; decide returns what
// is sent of that, and an error to send nothing. renamed are the settings that another version
// names otherwise. What is being written is not interrupted. Its errors are an UnfitError, a
// job.BusyError, device.ErrUnsupported, dialect.ErrNotTaken, the error of decide, and what the
// device reports.
func (c Care) Restore(ctx context.Context, d device.Device, x Saved,
	renamed func(map[string]string) map[string]string,
	decide func(settings.Merged) ([]byte, error)) error {
	ctx = context.WithoutCancel(ctx)
	session, err := c.Access.Session(d)
	if err != nil {
		return err
	}
	defer func() { _ = session.Close(ctx) }()
	of, err := session.Settings()
	if err != nil {
		return err
	}
	if of.Format() != x.Format {
		return &UnfitError{Save: x.Save, Reason: fmt.Sprintf("was saved as %s, and %s has %s now",
			x.Format, d.Name, of.Format())}
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
	text, err := c.merge(ctx, d, x, of, renamed, decide)
	if err != nil {
		return err
	}
	return c.change(d, Change{What: SettingsRestored, To: x.Save}, func() error {
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
		}, func() bool {
			time.Sleep(time.Second)
			return time.Now().Before(over)
		})
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
