package scripted

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
	"time"

	"catena/internal/bacnet"
	"catena/internal/device"
	dialect "catena/internal/dialect/bacnet"
	"catena/internal/family"
)

// bacnetCarrier sends steps as BACnet (ASHRAE 135). What reads, and what writes a part of a file,
// may be sent again automatically; what sets a property or restarts the device never is.
type bacnetCarrier struct {
	session *session
	place   *place
	client  *bacnet.Client
	own     bacnet.ObjectID
	refused bool // the password: it is not sent again
}

// The time that a device may take to store something, and the limit of a file that is read.
const (
	bacnetStores  = 10 * time.Second
	bacnetLongest = 16 << 20 // bytes
)

func (c *bacnetCarrier) close() {
	if c.client != nil {
		c.client.Close()
		c.client = nil
	}
}

func (c *bacnetCarrier) ask(ctx context.Context, step *family.Step, f family.Filled, image *cargo) (
	a family.Answer, err error) {
	if c.client == nil {
		if c.client, c.own, err = dialect.Dial(ctx, c.place.at.Endpoint); err != nil {
			return a, err
		}
		c.client.WriteWithin = bacnetStores
	}
	switch {
	case image != nil:
		err = c.upload(ctx, f.Command, image)
	case step.Word == "reinitialise":
		if c.refused {
			return a, dialect.ErrRefusedBefore
		}
		state, password, _ := strings.Cut(f.Command, " ")
		err = c.client.Reinitialize(ctx, bacnet.States[state], password)
		defer c.close() // it may take requests of other lengths after it
	case step.Word == "set":
		err = c.set(ctx, step, f.Objects)
	default:
		a, err = c.get(ctx, step)
	}
	var refused *bacnet.RefusalError
	c.refused = errors.As(err, &refused) && refused.IsCode(bacnet.CodePassword) || c.refused
	if refused != nil && refused.How == "error" && !refused.IsCode(bacnet.CodePassword) {
		return family.Answer{Status: max(1, int(refused.Code)), Body: []byte(refused.Error())}, nil
	}
	if err = dialect.Because(err); errors.Is(err, device.ErrAway) {
		c.close()
	}
	return a, err
}

// property is a property as a family names it, of the device object that the device has.
func (c *bacnetCarrier) property(named string) (bacnet.Property, error) {
	p, err := bacnet.ParseProperty(named)
	if p.Of == bacnet.OwnDevice {
		p.Of = c.own
	}
	return p, err
}

// get reads the properties and the files of a step. What the device does not have is left out.
func (c *bacnetCarrier) get(ctx context.Context, step *family.Step) (family.Answer, error) {
	a := family.Answer{Objects: map[string]any{}}
	for _, o := range step.Objects {
		got, err := c.value(ctx, o)
		var refused *bacnet.RefusalError
		if errors.As(err, &refused) && refused.IsCode(bacnet.CodeUnknownObject, bacnet.CodeUnknownProp) {
			continue
		}
		if err != nil {
			return a, err
		}
		a.Objects[o.Name] = got
	}
	return a, nil
}

func (c *bacnetCarrier) value(ctx context.Context, o family.Object) (any, error) {
	if o.Whole() {
		file, err := bacnet.ParseObject(o.OID)
		if err != nil {
			return nil, err
		}
		raw, err := c.client.ReadAll(ctx, file, bacnetLongest)
		return string(raw), err
	}
	p, err := c.property(o.OID)
	if err != nil {
		return nil, err
	}
	got, err := c.client.Read(ctx, p)
	if err != nil {
		return nil, err
	}
	if o.Tail {
		all := map[string]string{}
		for i, v := range got {
			all[strconv.Itoa(i+1)] = v.String()
		}
		return all, nil
	}
	if len(got) == 0 {
		return "", nil
	}
	return got[0].String(), nil
}

// set writes the properties of a step, one after the other.
func (c *bacnetCarrier) set(ctx context.Context, step *family.Step, values []string) error {
	for i, o := range step.Objects {
		p, err := c.property(o.OID)
		if err != nil {
			return c.session.mistaken(err)
		}
		v, err := bacnet.ParseValue(o.Type, values[i])
		if err != nil {
			return c.session.mistaken(fmt.Errorf("%s: %w", o.OID, err))
		}
		if err := c.client.Write(ctx, p, v, 0); err != nil {
			return err
		}
	}
	return nil
}

// upload writes an image, or a part of it, to a file object: as much in one request as one message
// holds, or with chunks: in segments.
func (c *bacnetCarrier) upload(ctx context.Context, to string, image *cargo) error {
	file, err := bacnet.ParseObject(to)
	if err != nil || file.Type != bacnet.TypeFile {
		return c.session.mistaken(fmt.Errorf("%q is not a file object", to))
	}
	part := make([]byte, c.client.PartOf(image.pieces))
	for at := image.from; at < image.to; {
		n, err := image.ReadAt(part[:min(int64(len(part)), image.to-at)], at)
		if n == 0 && err != nil && !errors.Is(err, io.EOF) {
			return device.Because(device.OwnFault, "%v", err)
		}
		if err := c.client.WriteFile(ctx, file, at, part[:n]); err != nil {
			return err
		}
		at += int64(n)
		if image.sent != nil {
			image.sent(at)
		}
	}
	return nil
}
