package wire

import (
	"context"
	"time"
)

// Pause waits for d, or until ctx ends; its error is that of ctx.
func Pause(ctx context.Context, d time.Duration) error {
	t := time.NewTimer(d)
	defer t.Stop()
	select {
	case <-t.C:
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}
