package dialect

import (
	"context"
	"errors"
	"time"

	"catena/internal/device"
	"catena/internal/settings"
)

// ErrNotTaken is returned for a device that does not have all that was restored in time.
var ErrNotTaken = errors.New("its settings differ from those sent")

// A device that is ready and does not have its settings a while after they were sent gets them
// again: the request was lost. What it accepted and does not keep is sent fewer times than what it
// never answered, since a network that loses answers says nothing about the device. One that is not
// ready may still be applying them, and gets nothing; only if it answers, and has not answered the
// request, it may lack just them, and gets them again after longer than any device applies them.
const (
	restoreTries = 3 // where it accepted the last one
	restoreLost  = 8 // where it did not answer the last one
	restoreAgain = 30 * time.Second
	restoreLate  = 5 * time.Minute
)

// RestoreSettings sends settings to a device, and waits until it has them; it may restart for that.
// Further settings of the device do not count. Opaque ones cannot be compared: there the device's
// acceptance counts. check is called before each comparison; while it returns an error the device
// is not ready. wait pauses before the next one and reports whether there is time left; accepted
// says that the device has answered the request. Its errors are ErrNotTaken, the device's
// rejection, and the last error of check; one that is a device.ErrIdentityChanged ends it at once.
func RestoreSettings(ctx context.Context, s Settings, saved []byte, check func() error,
	wait func(accepted bool) bool) error {
	var sent time.Time
	accepted := false
	for tries, send := 0, true; ; {
		if send {
			tries, sent, send = tries+1, time.Now(), false
			err := s.Restore(ctx, saved)
			if err != nil && !errors.Is(err, device.ErrAway) {
				return err
			}
			accepted = err == nil
		}
		err := check()
		if err == nil {
			if has(ctx, s, saved, accepted) {
				return nil
			}
			err = ErrNotTaken
			most := restoreTries
			if !accepted {
				most = restoreLost
			}
			send = tries < most && time.Since(sent) > restoreAgain
		} else if !accepted && !errors.Is(err, device.ErrAway) {
			send = tries < restoreTries && time.Since(sent) > restoreLate
		}
		if errors.Is(err, device.ErrIdentityChanged) || !wait(accepted) {
			return err
		}
	}
}

// RestoreCarried writes the values that differ from those that a device has now, in their order,
// and reads each back. wrote is how many it wrote. failed is the name of the value that failed with
// the error: ErrNotTaken for one that reads back differently, and those of Read and Write.
func RestoreCarried(ctx context.Context, c Carry, values []device.Value) (failed string, wrote int,
	err error) {
	for _, v := range values {
		now, err := c.Read(ctx)
		if err == nil && v.Among(now) {
			continue
		}
		if err == nil {
			err = c.Write(ctx, v)
			wrote++
		}
		if err == nil {
			now, err = c.Read(ctx)
		}
		if err == nil && !v.Among(now) {
			err = ErrNotTaken
		}
		if err != nil {
			return v.Name, wrote, err
		}
	}
	return "", wrote, nil
}

// has reports whether a device that is ready has its settings.
func has(ctx context.Context, s Settings, saved []byte, accepted bool) bool {
	if s.Format() == settings.Opaque {
		return accepted
	}
	raw, err := s.Save(ctx)
	if err != nil {
		return false
	}
	lost, err := settings.Lost(s.Format(), saved, raw)
	return err == nil && len(lost) == 0
}
