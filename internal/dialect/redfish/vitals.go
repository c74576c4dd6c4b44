package redfish

import (
	"context"
	"time"

	"catena/internal/dialect"
)

// Vitals reads the time of the first manager: DateTime of the Manager schema (DSP8010), which has
// an offset from UTC.
func (t *session) Vitals(ctx context.Context) (v dialect.Vitals, err error) {
	err = t.inside(ctx, func() error {
		manager, err := t.first(ctx, t.managers)
		if at, bad := time.Parse(time.RFC3339, manager.DateTime); err == nil && bad == nil {
			v.Clock, v.Ahead = true, time.Until(at)
		}
		return err
	})
	return v, err
}
