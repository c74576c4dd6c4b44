package bacnet

import (
	"context"
	"errors"
	"fmt"
)

// maxValues bounds the values of one property.
const maxValues = 4096

// Read reads a property: one value, or those of an array or a list.
func (c *Client) Read(ctx context.Context, p Property) ([]Value, error) {
	b := appendContext(nil, 0, p.Of.value())
	b = appendContext(b, 1, NumberOf(uint64(p.ID)))
	if p.Index >= 0 {
		b = appendContext(b, 2, NumberOf(uint64(p.Index)))
	}
	b, err := c.request(ctx, readProperty, b, false, 0)
	if err != nil {
		return nil, err
	}
	return property(b)
}

// property reads the values of a property that was asked for.
func property(b []byte) ([]Value, error) {
	for {
		t, err := readTag(b)
		switch {
		case err != nil || !t.context:
			return nil, errShort
		case t.number == 3 && t.opens:
			return readValues(t.following)
		case t.opens || t.closes:
			return nil, errShort
		}
		b = t.following[t.length:]
	}
}

// readValues reads the values up to the closing tag 3. Those that a constructed one holds follow
// each other; what is tagged for a context alone is left out.
func readValues(b []byte) (out []Value, err error) {
	for depth := 0; len(out) < maxValues; {
		t, err := readTag(b)
		switch {
		case err != nil:
			return out, err
		case t.opens:
			depth++
			b = t.following
		case t.closes && depth == 0:
			if t.number != 3 {
				return out, errShort
			}
			return out, nil
		case t.closes:
			depth--
			b = t.following
		case t.context:
			b = t.following[t.length:]
		default:
			var v Value
			if v, b, err = readValue(b); err != nil {
				return out, err
			}
			out = append(out, v)
		}
	}
	return out, fmt.Errorf("it has more than %d values", maxValues)
}

// Write writes a property. priority is that of a command, from 1 to 16; 0: none.
func (c *Client) Write(ctx context.Context, p Property, v Value, priority int) error {
	b := appendContext(nil, 0, p.Of.value())
	b = appendContext(b, 1, NumberOf(uint64(p.ID)))
	if p.Index >= 0 {
		b = appendContext(b, 2, NumberOf(uint64(p.Index)))
	}
	b = closing(appendValue(opening(b, 3), v), 3)
	if priority > 0 {
		b = appendContext(b, 4, NumberOf(uint64(priority)))
	}
	_, err := c.request(ctx, setProperty, b, true, c.WriteWithin)
	return err
}

// State is what a device is asked to do by Reinitialize (16.4).
type State uint64

// The states.
const (
	ColdStart State = iota
	WarmStart
	StartBackup
	EndBackup
	StartRestore
	EndRestore
	AbortRestore
	ActivateChanges
)

// States are those by which a family restarts a device.
var States = map[string]State{"coldstart": ColdStart, "warmstart": WarmStart,
	"activate-changes": ActivateChanges}

// Reinitialize asks a device to restart, or to start or end a backup. It is sent once. An empty
// password is not sent; any other goes in the clear.
func (c *Client) Reinitialize(ctx context.Context, s State, password string) error {
	b := appendContext(nil, 0, NumberOf(uint64(s)))
	if password != "" {
		b = appendContext(b, 1, TextOf(password))
	}
	_, err := c.request(ctx, reinitialize, b, true, c.WriteWithin)
	return err
}

// ReadFile reads up to count bytes of a file from an offset, in stream access (14.1). last: the
// file ends there.
func (c *Client) ReadFile(ctx context.Context, file ObjectID, offset int64, count int) (data []byte,
	last bool, err error) {
	b := opening(appendValue(nil, file.value()), 0)
	b = appendValue(b, Value{Type: Signed, Integer: offset})
	b = closing(appendValue(b, NumberOf(uint64(count))), 0)
	b, err = c.request(ctx, readFile, b, false, 0)
	if err != nil {
		return nil, false, err
	}
	end, b, err := readValue(b)
	if err != nil || end.Type != Boolean {
		return nil, false, errShort
	}
	t, err := readTag(b)
	if err != nil || !t.opens || t.number != 0 {
		return nil, false, errors.New("it does not answer in stream access")
	}
	at, b, err := readValue(t.following)
	if err != nil || at.Type != Signed || at.Integer != offset {
		return nil, false, errShort
	}
	part, _, err := readValue(b)
	if err != nil || part.Type != Octets || len(part.Raw) > count {
		return nil, false, errShort
	}
	return part.Raw, end.Number != 0, nil
}

// WriteFile writes a part of a file at an offset, in stream access (14.2). A request whose answer
// is lost is sent again: it writes the same bytes to the same place.
func (c *Client) WriteFile(ctx context.Context, file ObjectID, offset int64, data []byte) error {
	b := opening(appendValue(nil, file.value()), 0)
	b = appendValue(b, Value{Type: Signed, Integer: offset})
	b = closing(appendValue(b, Value{Type: Octets, Raw: data}), 0)
	b, err := c.request(ctx, writeFile, b, false, c.WriteWithin)
	if err != nil {
		return err
	}
	t, err := readTag(b)
	if err != nil || !t.context || t.number != 0 || t.opens || t.closes {
		return errShort
	}
	at := Value{Type: Signed}
	if err := at.decode(t.following[:t.length]); err != nil || at.Integer != offset {
		return errShort
	}
	return nil
}

// fileOverhead is how many bytes of a file request are not the file's.
const fileOverhead = 24

// PartOf is how many bytes of a file go into one request, in segments or not.
func (c *Client) PartOf(inSegments bool) int { return c.Room(inSegments) - fileOverhead }

// maxParts bounds how many requests a file is read by.
const maxParts = 200_000

// ReadAll reads a whole file of at most a number of bytes.
func (c *Client) ReadAll(ctx context.Context, file ObjectID, most int) ([]byte, error) {
	var out []byte
	for range maxParts {
		part, last, err := c.ReadFile(ctx, file, int64(len(out)), c.PartOf(false))
		if err != nil {
			return nil, err
		}
		out = append(out, part...)
		switch {
		case len(out) > most:
			return nil, fmt.Errorf("%s is longer than %d bytes", file, most)
		case last:
			return out, nil
		case len(part) == 0:
			return nil, fmt.Errorf("%s: %w", file, errShort)
		}
	}
	return nil, fmt.Errorf("%s is not read by %d requests", file, maxParts)
}

// Acquaint reads what a device takes, so that requests fit it, and returns its device object: the
// one that it was known by, or the one that the wildcard stands for (15.5.2). A device that knows
// neither is asked who it is.
func (c *Client) Acquaint(ctx context.Context, known ObjectID) (ObjectID, error) {
	own := known
	size, err := c.number(ctx, Property{own, propMaxAPDU, -1})
	if refused(err) && own != OwnDevice {
		own = OwnDevice
		size, err = c.number(ctx, Property{own, propMaxAPDU, -1})
	}
	if refused(err) {
		f, asked := c.whoIs(ctx)
		if asked != nil {
			return own, errors.Join(err, ctx.Err())
		}
		own = ObjectID{TypeDevice, f.Instance}
		size, err = uint64(f.MaxAPDU), nil
	}
	if err != nil {
		return own, err
	}
	segmentation, err := c.number(ctx, Property{own, propSegmentation, -1})
	if err != nil && !refused(err) {
		return own, err
	}
	takes, most := err == nil && (segmentation == 0 || segmentation == 2), uint64(0)
	if takes {
		if most, err = c.number(ctx, Property{own, propMaxSegments, -1}); err != nil && !refused(err) {
			return own, err
		}
	}
	c.Limits(int(min(size, MaxAPDU)), takes, int(min(most, maxSequence)))
	return own, nil
}

// number reads a property that is one number without a sign.
func (c *Client) number(ctx context.Context, p Property) (uint64, error) {
	v, err := c.Read(ctx, p)
	if err != nil {
		return 0, err
	}
	if len(v) != 1 || v[0].Type != Unsigned && v[0].Type != Enumerated {
		return 0, errShort
	}
	return v[0].Number, nil
}

func refused(err error) bool {
	var r *RefusalError
	return errors.As(err, &r)
}
