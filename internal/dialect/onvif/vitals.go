package onvif

import (
	"context"
	"time"

	"catena/internal/dialect"
)

// Vitals reads the device's time: GetSystemDateAndTime (ONVIF Core, 8.2.4), which needs no login.
func (t *session) Vitals(ctx context.Context) (dialect.Vitals, error) {
	e, err := t.call(ctx, `<tds:GetSystemDateAndTime/>`, false)
	if err != nil || e.Body.DateAndTime == nil {
		return dialect.Vitals{}, err
	}
	return dialect.Vitals{Clock: true, Ahead: time.Until(e.Body.DateAndTime.time())}, nil
}
