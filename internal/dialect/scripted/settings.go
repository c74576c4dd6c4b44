package scripted

import (
	"context"
	"errors"

	"catena/internal/device"
	"catena/internal/dialect"
	"catena/internal/settings"
)

// Settings are the device's own, where the family says how they are told.
func (s *session) Settings() (dialect.Settings, error) {
	if s.program.Settings == nil && s.base != nil {
		return s.base.Settings()
	}
	if s.program.Settings == nil {
		return nil, device.ErrUnsupported
	}
	return config{s}, nil
}

type config struct{ *session }

func (c config) Format() settings.Format { return c.program.Settings.Format }

func (c config) Renamed() map[string]string { return c.program.Settings.Renamed }

// Steady: those that are opaque may have a time in them.
func (c config) Steady() bool { return c.Format() != settings.Opaque }

func (c config) Save(ctx context.Context) ([]byte, error) {
	s := c.session
	defer delete(s.v, "settings") // a secret is not kept longer than it is needed
	if err := s.enter(ctx); err != nil {
		return nil, err
	}
	if err := s.arrive(ctx, false); err != nil {
		return nil, err
	}
	if err := s.take(ctx, s.program.Settings.Save); err != nil {
		return nil, err
	}
	text, _ := s.v["settings"].(string)
	if text == "" {
		return nil, device.Because(device.Malformed, "no settings")
	}
	return []byte(text), nil
}

func (c config) Restore(ctx context.Context, saved []byte) error {
	s := c.session
	if len(s.program.Settings.Restore) == 0 {
		return device.ErrUnsupported
	}
	s.v["settings"] = string(saved)
	defer delete(s.v, "settings")
	err := s.inside(ctx, s.program.Settings.Restore)
	if errors.Is(err, device.ErrAway) { // it may restart now, and must be read again
		s.in = false
	}
	return err
}
