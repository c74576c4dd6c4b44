package job

import (
	"bytes"
	"context"
	"errors"
	"maps"
	"strings"

	"catena/internal/device"
	"catena/internal/dialect"
	"catena/internal/order"
	"catena/internal/settings"
	"catena/internal/text"
)

// What becomes of a device's settings in a job:
//
//	before the first byte      they are read once and kept, with time and version
//	after each restart         they must be as before, where no image alters them
//	after the last restart     where an image clears or converts them, they are restored, whatever
//	                           the end: on the new version, and on the earlier one
//	in a rollback              what was lost is restored in any case
//
// A device whose settings cannot be read is still flashed, unless an image alters them.

// readTries is how often settings are read where the answer is lost: a device that is flashed
// without them gets none back.
const readTries = 3

// readSettings reads the device's settings before it is touched.
func (w *worker) readSettings(ctx context.Context) *Reason {
	s, err := w.session.Settings()
	if err == nil {
		w.saved, err = s.Save(ctx)
		for try := 1; try < readTries && errors.Is(err, device.ErrAway); try++ {
			w.saved, err = s.Save(ctx)
		}
	}
	switch {
	case err == nil:
		w.baseline.Settings = settings.Digest(s.Format(), w.saved)
	case !w.known.Alters || errors.Is(err, device.ErrUnsupported): // the image's caution tells
	default:
		return (&Reason{Why: SettingsNotKept, Step: Checking}).then(said(Checking, err))
	}
	return nil
}

// keepSettings keeps what was read, before anything is changed.
func (w *worker) keepSettings() *Reason {
	store := w.job.engine.Settings
	if w.baseline.Settings == "" && len(w.baseline.Carried) == 0 || store == nil {
		return nil
	}
	format := settings.Opaque
	if w.baseline.Settings == "" {
		format = settings.None
	} else if s, err := w.session.Settings(); err == nil {
		format = s.Format()
	}
	var err error
	w.baseline.Saved, err = store.Save(w.known.Device, w.last.Version, format, w.saved,
		w.baseline.Carried)
	if err == nil {
		w.saved = nil // a backup may be long: it is read again when it is restored
	}
	if err != nil && w.known.Alters {
		return (&Reason{Why: SettingsNotKept, Step: Checking}).then(said(Checking,
			device.Because(device.OwnFault, "%v", err)))
	}
	return nil // without them it can be flashed: they are not altered
}

// settingsChanged says that the device's settings are not as before, where they could be read then
// and no image of its path alters them.
func (w *worker) settingsChanged(ctx context.Context) *Reason {
	if w.known.Alters || w.returning {
		return nil
	}
	return w.settingsLost(ctx)
}

// losses returns what of the device's settings and carried values is not as before. It changes
// nothing.
func (w *worker) losses(ctx context.Context) *Reason {
	if reason := w.settingsLost(ctx); reason != nil || len(w.baseline.Carried) == 0 {
		return reason
	}
	c, err := w.session.Carry()
	var now []device.Value
	if err == nil {
		now, err = c.Read(ctx)
	}
	if err != nil {
		return (&Reason{Why: NotCarried}).then(said("", err))
	}
	for _, was := range w.baseline.Carried {
		if !was.Among(now) {
			return &Reason{Why: NotCarried, Want: was.Name}
		}
	}
	return nil
}

// settingsLost returns that the device's settings are not as before, if they could be read then.
func (w *worker) settingsLost(ctx context.Context) *Reason {
	if w.baseline.Settings == "" {
		return nil
	}
	s, err := w.session.Settings()
	if err != nil || !s.Steady() {
		return nil
	}
	same, err := w.asBefore(ctx, s)
	switch {
	case err != nil:
		return said(Proving, err)
	case !same:
		return &Reason{Why: SettingsChanged, Step: Proving}
	}
	return nil
}

// asBefore tells whether the device has all that was set on it. What the new version has besides
// does not count.
func (w *worker) asBefore(ctx context.Context, s dialect.Settings) (bool, error) {
	raw, err := s.Save(ctx)
	if err != nil || settings.Digest(s.Format(), raw) == w.baseline.Settings {
		return err == nil, err
	}
	saved, err := w.savedBefore()
	if err != nil || saved == nil {
		return false, nil // another digest is all that is known
	}
	lost, err := settings.Lost(s.Format(), saved, raw)
	return err == nil && len(lost) == 0, nil
}

// savedBefore are the settings as they were saved: a job holds no backups.
func (w *worker) savedBefore() ([]byte, error) {
	store := w.job.engine.Settings
	if w.saved != nil || store == nil {
		return w.saved, nil
	}
	return store.Load(w.known.Device, w.baseline.Saved)
}

// giveBack gives a device its settings and carried values on the version where it stays.
func (w *worker) giveBack(ctx context.Context, component, to string) *Reason {
	if !w.stays(component, to) {
		return nil
	}
	if reason := w.restoreSettings(ctx, component, to); reason != nil {
		return reason
	}
	return w.writeCarried(ctx)
}

// restoreSettings restores the settings of a device that an image has altered, or that has lost
// them in a rollback, and checks that it has them. One that has them already is left alone.
func (w *worker) restoreSettings(ctx context.Context, component, to string) *Reason {
	if w.baseline.Settings == "" || !w.known.Alters && !w.returning {
		return nil
	}
	s, err := w.session.Settings()
	if err != nil {
		return w.notRestored(err)
	}
	if !w.known.Alters && !s.Steady() { // whether it has lost any cannot be told
		return nil
	}
	if same, err := w.asBefore(ctx, s); err == nil && same && s.Format() != settings.Opaque {
		return nil
	}
	saved, err := w.savedBefore()
	if err == nil && saved == nil {
		err = errors.New("they were not stored")
	}
	if err != nil {
		return w.notRestored(device.Because(device.OwnFault, "%v", err))
	}
	if !w.same(to, w.baseline.Of(component)) {
		has := false
		err := w.retryAway(func() (err error) {
			var whole []byte
			if whole, has, err = w.merged(ctx, s, saved, to); err == nil {
				saved = whole
			}
			return err
		})
		if err != nil || has {
			return w.notRestored(err)
		}
	}
	return w.sendSettings(ctx, s, saved, component, to)
}

// sendSettings sends settings to the device and awaits that it has them. It may restart to take
// them.
func (w *worker) sendSettings(ctx context.Context, s dialect.Settings, saved []byte, component,
	to string) *Reason {
	w.restored++
	var newest *Reason
	back, well := w.wait(w.patience().Restarting), w.wait(w.patience().Proving)
	err := dialect.RestoreSettings(ctx, s, saved, func() error {
		switch newest = w.probe(ctx, component, to); {
		case newest == nil:
			return nil
		case newest.IdentityChanged():
			return device.ErrIdentityChanged
		case errors.Is(newest.Device, device.ErrAway):
			return device.ErrAway
		}
		return newest
	}, func(accepted bool) bool {
		if !accepted || newest == nil || newest.Away() || errors.Is(newest.Device, device.ErrAway) {
			well = w.wait(w.patience().Proving)
			return back()
		}
		return well()
	})
	switch {
	case errors.Is(err, dialect.ErrNotTaken):
		return (&Reason{Why: SettingsLost}).then(&Reason{Why: SettingsChanged, Step: Proving})
	case newest != nil:
		return (&Reason{Why: SettingsLost}).then(newest)
	}
	return w.notRestored(err)
}

// retryAway repeats what a device did not answer, for as long as it may need after a restart.
func (w *worker) retryAway(do func() error) error {
	for wait := w.wait(w.patience().Proving); ; {
		if err := do(); err == nil || !errors.Is(err, device.ErrAway) || !wait() {
			return err
		}
	}
}

// merged brings the settings of before into those that the new version came with. A rollback takes
// those that belong to the version where it leads. What that version comes with is kept: it tells
// the next time what a person has set. has: the device has them so already.
func (w *worker) merged(ctx context.Context, s dialect.Settings, saved []byte,
	to string) (whole []byte, has bool,
	err error) {
	store := w.job.engine.Settings
	if store != nil && w.job.plan.Order.Purpose == order.Backward {
		if theirs, err := store.On(w.known.Device, to); err != nil || theirs != nil {
			return theirs, false, err
		}
	}
	if s.Format() == settings.Opaque {
		return saved, false, nil
	}
	now, err := s.Save(ctx)
	if err != nil {
		return nil, false, err
	}
	var base []byte
	if store != nil {
		base, _ = store.Defaults(w.known.Device, w.baseline.Version) // without them two are merged
	}
	m, err := settings.Merge(s.Format(), base, saved, now, w.renamed(s))
	if err != nil { // they are not what the family says they are: as they were
		return saved, false, nil
	}
	// where nothing has to be set, it may have kept them: then they are no defaults
	if w.known.Clears && len(m.Set) > 0 && store != nil {
		if err := store.SaveDefaults(w.known.Device, to, s.Format(), now); err != nil {
			return nil, false, device.Because(device.OwnFault, "%v", err)
		}
	}
	if len(m.Unplaced) > 0 {
		var paths []string
		for _, l := range m.Unplaced {
			paths = append(paths, l.Path)
		}
		w.remark = &Reason{Why: SettingsLeft, Want: text.Clean(strings.Join(paths, ", "))}
	}
	return m.Text, bytes.Equal(m.Text, now), nil
}

// renamed are the settings that are called otherwise, as the family and the images have it.
func (w *worker) renamed(s dialect.Settings) map[string]string {
	all := maps.Clone(w.known.Renamed)
	if all == nil {
		return s.Renamed()
	}
	maps.Copy(all, s.Renamed())
	return all
}

// notRestored is the reason for an error; nil: there is none.
func (w *worker) notRestored(err error) *Reason {
	if err == nil {
		return nil
	}
	return (&Reason{Why: SettingsLost}).then(said("", err))
}

// stays tells whether a device stays on a version of a component: at the two ends of its path, and
// where it was stopped between them.
func (w *worker) stays(component, version string) bool {
	if w.facts.Parked {
		return false
	}
	if w.facts.Declined {
		return true
	}
	first, last := "", ""
	for _, h := range w.row.Path {
		if h.Component == component {
			if first == "" {
				first = h.From
			}
			last = h.To
		}
	}
	return w.same(version, first) || w.same(version, last)
}
