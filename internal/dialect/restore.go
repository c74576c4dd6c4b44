package dialect

import (
	"context"
	"errors"
	"time"

	"catena/internal/device"
	"catena/internal/settings"
)

// ErrNotTaken is returned by RestoreSettings for a device that does not have all of its settings in
// time.
var ErrNotTaken = errors.New("its settings differ from those sent")

// A device that does not have its settings a while after they were sent gets them again: the
// request was lost.
const (
	restoreTries = 3
	restoreAgain = 30 * time.Second
)

// RestoreSettings sends settings to a device, and awaits that it has them; it may restart for that.
// Settings that it has besides do not count. Opaque ones cannot be compared: there the device's
// acceptance counts. check is called before each comparison; while it returns an error the device
// is not ready. wait pauses before the next one and reports whether there is time left. Its errors
// are ErrNotTaken, the device's rejection, and the last error of check; one that is a
// device.ErrIdentityChanged ends it at once.
func RestoreSettings(ctx context.Context, s Settings, saved []byte, check func() error,
	wait func() bool) error {
	var sent time.Time
	for tries := 0; ; {
		if time.Since(sent) > restoreAgain && tries < restoreTries {
			tries, sent = tries+1, time.Now()
			if err := s.Restore(ctx, saved); err != nil && !errors.Is(err, device.ErrAway) {
				return err
			}
		}
		err := check()
		if err == nil {
			if s.Format() == settings.Opaque {
				return nil
			}
			raw, readErr := s.Save(ctx)
			lost, compareErr := settings.Lost(s.Format(), saved, raw)
			if readErr == nil && compareErr == nil && len(lost) == 0 {
				return nil
			}
			err = ErrNotTaken
		}
		if errors.Is(err, device.ErrIdentityChanged) || !wait() {
			return err
		}
	}
}
