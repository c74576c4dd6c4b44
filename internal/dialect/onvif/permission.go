package onvif

import (
	"context"
	"errors"

	"catena/internal/device"
	"catena/internal/dialect"
)

// Permission reads the level of the login's user. Only an administrator may start an update (access
// class UNRECOVERABLE), and only one may read the users (READ_SYSTEM_SECRET): ONVIF Core 5.9.4.3.
func (t *session) Permission(ctx context.Context) error {
	if _, err := t.call(ctx, `<tds:GetDeviceInformation/>`, true); err != nil {
		return err
	}
	e, err := t.call(ctx, `<tds:GetUsers/>`, true)
	switch {
	case errors.Is(err, device.ErrLoginRefused), errors.Is(err, device.ErrNoRight):
		return &dialect.NotPermittedError{Why: "it does not show its users to this one"}
	case errors.Is(err, device.ErrAway), errors.Is(err, device.ErrIdentityChanged):
		return err
	case err != nil, e.Body.Users == nil: // it does not know the call, or answers otherwise
		return device.ErrUnsupported
	}
	for _, u := range e.Body.Users.User {
		switch {
		case u.Name != t.as.User:
		case u.Level == "Administrator":
			return nil
		case u.Level == "Operator", u.Level == "User", u.Level == "Anonymous":
			return &dialect.NotPermittedError{Why: "its user level is " + u.Level}
		}
	}
	return device.ErrUnsupported
}
