package job

import (
	"context"
	"errors"

	"catena/internal/device"
	"catena/internal/dialect"
)

// readCarried reads the values that the update may lose, once, before the device is touched.
func (w *worker) readCarried(ctx context.Context) *Reason {
	c, err := w.session.Carry()
	if errors.Is(err, device.ErrUnsupported) {
		return nil
	}
	if err == nil {
		w.baseline.Carried, err = c.Read(ctx)
	}
	if err != nil {
		return (&Reason{Why: NotCarried, Step: Checking}).then(said(Checking, err))
	}
	return nil
}

// writeCarried writes those that are others now than before, in their order, once the device is
// where it stays and has its settings. Each is looked at after it.
func (w *worker) writeCarried(ctx context.Context) *Reason {
	if len(w.baseline.Carried) == 0 {
		return nil
	}
	c, err := w.session.Carry()
	if err != nil {
		return (&Reason{Why: NotCarried}).then(said("", err))
	}
	name, wrote, err := dialect.RestoreCarried(ctx, c, w.baseline.Carried)
	w.restored += wrote
	switch {
	case err == nil:
		return nil
	case errors.Is(err, dialect.ErrNotTaken):
		return (&Reason{Why: NotCarried, Want: name}).then(&Reason{Why: NotTaken, Want: name})
	}
	return (&Reason{Why: NotCarried, Want: name}).then(said("", err))
}
