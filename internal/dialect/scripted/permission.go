package scripted

import (
	"context"
	"errors"

	"catena/internal/device"
	"catena/internal/dialect"
	"catena/internal/firmware"
)

// Permission takes the steps of the family's permission. A refusal of any kind counts as a missing
// right. Over SNMP a wrong community gets no answer at all (RFC 3584): if the device still answers
// to reading then, that is a missing right, too.
func (s *session) Permission(ctx context.Context) error {
	switch {
	case len(s.program.Permission) == 0 && s.base != nil:
		return dialect.Permission(ctx, s.base)
	case len(s.program.Permission) == 0:
		return device.ErrUnsupported
	}
	if err := s.look(ctx); err != nil {
		return err
	}
	err := s.inside(ctx, s.program.Permission)
	switch {
	case err == nil || ctx.Err() != nil || errors.Is(err, device.ErrIdentityChanged) ||
		errors.Is(err, device.ErrOwnFault):
		return err
	case errors.Is(err, device.ErrAway) && (s.program.Protocol != "snmp" || s.look(ctx) != nil):
		return err
	}
	return &dialect.NotPermittedError{Why: err.Error()}
}

// forbids evaluates the interlocks on the values that were read last.
func (s *session) forbids(r device.Reading) (out map[string]string) {
	before := s.v["component"]
	defer func() { s.v["component"] = before }()
	components := []string{firmware.Main}
	for name := range r.Components {
		components = append(components, name)
	}
	for _, c := range components {
		s.v["component"] = c
		for _, i := range s.program.Of(c).Interlocks {
			holds, err := i.Holds.Holds(s.v, nil)
			if err != nil {
				continue // the check before the update reports it
			}
			if out == nil {
				out = map[string]string{}
			}
			if !holds && out[c] == "" {
				out[c] = i.Else
			} else if holds && out[c] == "" {
				out[c] = ""
			}
		}
	}
	return out
}
