package wire

import (
	"context"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"

	"catena/internal/device"
)

// On a slow link the system holds a part of the image for minutes: as long as it drains, the
// transfer continues; when it does not, it is given up after a minute.
func TestASlowLinkIsNotAStall(t *testing.T) {
	for name, c := range map[string]struct {
		perSecond int64
		lasts     time.Duration // until it is given up; 0: it is not
	}{
		"1,500 bytes a second": {1500, 0},
		"nothing":              {0, stallAfter},
	} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				const held = sendBuffer
				began := time.Now()
				var told atomic.Int64
				o := &outgoing{body: Body{Size: 2 * held, Sent: told.Store}}
				o.read.Store(held)
				queued := func() int64 {
					return max(0, held-c.perSecond*int64(time.Since(began).Seconds()))
				}
				o.queued.Store(&queued)
				ctx, cancel := context.WithCancelCause(t.Context())
				ended := make(chan struct{})
				go o.watch(ended, cancel)
				time.Sleep(2 * time.Minute)
				if c.lasts == 0 {
					assert.NoError(t, ctx.Err())
					assert.InDelta(t, 2*60*1500, told.Load(), 2*1500,
						"the progress is what has left")
				} else {
					assert.ErrorIs(t, context.Cause(ctx), device.ErrAway)
				}
				close(ended)
				synctest.Wait()
				cancel(nil)
			})
		})
	}
}
