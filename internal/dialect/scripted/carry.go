package scripted

import (
	"context"
	"encoding/json"

	"catena/internal/device"
	"catena/internal/dialect"
)

// Carry are the family's values that an update may lose.
func (s *session) Carry() (dialect.Carry, error) {
	if len(s.program.Carry) == 0 {
		return nil, device.ErrUnsupported
	}
	return carried{s}, nil
}

type carried struct{ *session }

// maxCarried bounds one value, in bytes of JSON.
const maxCarried = 4 << 10

func (c carried) Read(ctx context.Context) (out []device.Value, err error) {
	if err := c.enter(ctx); err != nil {
		return nil, err
	}
	if err := c.arrive(ctx, false); err != nil { // it is only read
		return nil, err
	}
	for _, one := range c.program.Carry {
		c.forget(one.Read)
		if err := c.take(ctx, one.Read); err != nil {
			return nil, err
		}
		raw, err := json.Marshal(c.v[one.Name])
		switch {
		case err != nil:
			return nil, err
		case len(raw) > maxCarried:
			return nil, device.Because(device.Malformed, "%s has %d bytes", one.Name, len(raw))
		case c.v[one.Name] != nil: // else the device has none
			out = append(out, device.Value{Name: one.Name, Value: raw})
		}
	}
	return out, nil
}

func (c carried) Write(ctx context.Context, v device.Value) error {
	for _, one := range c.program.Carry {
		if one.Name != v.Name {
			continue
		}
		typed := c.program.Typed(map[string]json.RawMessage{v.Name: v.Value})
		if typed[v.Name] == nil {
			return device.Because(device.Unsupported, "its family now gives %s another type",
				v.Name)
		}
		c.v[v.Name] = typed[v.Name]
		return c.inside(ctx, one.Write)
	}
	return device.Because(device.Unsupported, "its family no longer carries %s", v.Name)
}
