package care

import (
	"context"
	"errors"
	"fmt"
	"time"

	"catena/internal/device"
)

// endWithin bounds the end of showing: the operator has gone by then.
const endWithin = 15 * time.Second

// Blink has a device show itself for a while, or until ctx ends; output names what of it, empty:
// what it shows itself by. shown is called once it does. Its errors are a job.BusyError,
// device.ErrUnsupported, and what the device reports.
func (c Care) Blink(ctx context.Context, d device.Device, output string, lasts time.Duration,
	shown func(what string)) error {
	session, err := c.Access.Session(d)
	if err != nil {
		return err
	}
	locator, err := session.Locate()
	if err != nil {
		return errors.Join(err, session.Close(context.WithoutCancel(ctx)))
	}
	return c.change(d, Change{What: Blinked, To: output}, func() error {
		what, err := locator.Show(ctx, true, output)
		if err != nil {
			// what was entered for it is left
			return errors.Join(err, session.Close(context.WithoutCancel(ctx)))
		}
		shown(what)
		select {
		case <-time.After(lasts):
		case <-ctx.Done():
		}
		ending, cancel := context.WithTimeout(context.WithoutCancel(ctx), endWithin)
		defer cancel()
		_, err = locator.Show(ending, false, output)
		if errors.Is(err, device.ErrAway) {
			err = nil
		}
		if err != nil {
			err = fmt.Errorf("the request to stop failed: %w", err)
		}
		return errors.Join(err, session.Close(ending))
	})
}
