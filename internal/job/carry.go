package job

import (
	"bytes"
	"context"
	"errors"

	"catena/internal/device"
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
	for _, was := range w.baseline.Carried {
		for try := 0; ; try++ {
			now, err := c.Read(ctx)
			if err == nil && among(now, was) {
				break
			}
			if try > 0 && err == nil {
				return (&Reason{Why: NotCarried, Want: was.Name}).then(&Reason{Why: NotTaken, Want: was.Name})
			}
			if err == nil {
				err = c.Write(ctx, was)
			}
			if err != nil {
				return (&Reason{Why: NotCarried, Want: was.Name}).then(said("", err))
			}
		}
	}
	return nil
}

// among tells whether a value is among others.
func among(all []device.Value, v device.Value) bool {
	for _, o := range all {
		if o.Name == v.Name {
			return bytes.Equal(o.Value, v.Value)
		}
	}
	return false
}
