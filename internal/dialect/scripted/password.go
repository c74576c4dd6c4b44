package scripted

import (
	"context"

	"catena/internal/device"
	"catena/internal/dialect"
	"catena/internal/family"
)

// SetPassword takes the steps of the family's password, or asks the standard that the device speaks
// as well.
func (s *session) SetPassword(ctx context.Context, fresh string) error {
	if len(s.program.Password) == 0 {
		if s.base != nil {
			return dialect.SetPassword(ctx, s.base, fresh)
		}
		return device.ErrUnsupported
	}
	if err := s.look(ctx); err != nil {
		return err
	}
	s.v["new"] = family.NewValues{Password: fresh}
	defer delete(s.v, "new")
	return s.inside(ctx, s.program.Password)
}
