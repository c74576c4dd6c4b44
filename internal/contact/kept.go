package contact

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"

	"catena/internal/device"
	"catena/internal/dialect"
	"catena/internal/job"
	"catena/internal/ledger"
	"catena/internal/record"
	"catena/internal/wire"
)

// Kept is the kind of an entry of what was started at a device and must be ended, by whoever talks
// to it next; the body is a keptBody.
const Kept ledger.Kind = "device-kept"

// keptBody is the body of a Kept entry; without any of it, what was started is ended.
type keptBody struct {
	Sealed []byte          `json:"sealed,omitempty"` // for the site's own key
	Plain  json.RawMessage `json:"plain,omitempty"`  // where nothing of it is secret
}

// callerOfJob returns what a session of a job may ask of the site. What is started at the device is
// kept with it, and taken over by the next session.
func (x *Access) callerOfJob(d device.Device) dialect.Caller {
	a := dialect.Caller{TrustAt: x.TrustFirst, Other: x.other, Manual: x.manual(d)}
	if d.ID != "" { // one that is not known has nothing to be kept with
		a.Keep = func(raw []byte, secret bool) error { return x.keep(d.ID, raw, secret) }
		a.Kept = func() ([]byte, error) { return x.kept(d.ID) }
	}
	return a
}

// caller is that of every other session. A device that a job works on is not its to enter, nor to
// leave.
func (x *Access) caller(d device.Device) dialect.Caller {
	a := x.callerOfJob(d)
	if a.Keep == nil {
		return a
	}
	working := func() error {
		held, err := job.Held(x.ledger, false)
		if of := held[d.ID]; of != "" {
			return device.Because(device.OwnFault, "job %s is updating it", of)
		}
		return err
	}
	keep, kept := a.Keep, a.Kept
	a.Keep = func(raw []byte, secret bool) error {
		if err := working(); err != nil {
			return err
		}
		return keep(raw, secret)
	}
	a.Kept = func() ([]byte, error) {
		raw, err := kept()
		if len(raw) > 0 && working() != nil { // asked last: it reads whole jobs
			return nil, nil
		}
		return raw, err
	}
	return a
}

func (x *Access) keep(id string, raw []byte, secret bool) error {
	body := keptBody{Plain: raw}
	if len(raw) > 0 && (secret || x.Book.Own != "") {
		sealed, err := x.Book.Seal(raw)
		if err != nil {
			return device.Because(device.OwnFault, "%v", err)
		}
		body = keptBody{Sealed: sealed}
	}
	return x.ledger.Append(Kept, "", id, body)
}

func (x *Access) kept(id string) ([]byte, error) {
	last, err := x.ledger.Entries(ledger.Filter{Kind: Kept, Device: id, Newest: true})
	if err != nil || len(last) == 0 {
		return nil, err
	}
	var body keptBody
	if err := json.Unmarshal(last[0].Body, &body); err != nil {
		return nil, fmt.Errorf("entry %d of the ledger cannot be read: %w", last[0].Seq, err)
	}
	if body.Sealed == nil {
		return body.Plain, nil
	}
	raw, err := x.Book.Unseal(body.Sealed)
	if err != nil {
		return nil, device.Because(device.OwnFault, "the record of a started change cannot be "+
			"read: %v", err)
	}
	return raw, nil
}

// TrustFirst trusts the key that a device shows at another of its ports when it is first met, and
// only that from then on.
func (x *Access) TrustFirst(address string) wire.Trust {
	return func(kind, fingerprint string) error {
		x.mu.Lock()
		defer x.mu.Unlock()
		if err := x.trust(address)(kind, fingerprint); err != nil {
			return err
		}
		met := device.Key{Address: address, Kind: kind, Fingerprint: fingerprint}
		if slices.Contains(x.Keys, met) {
			return nil
		}
		x.Keys = append(slices.Clone(x.Keys), met)
		return record.Trust(x.ledger, []device.Key{met})
	}
}

// other is how another device of the site is talked to, once it is seen to be the same.
func (x *Access) other(ctx context.Context, name string) (c dialect.Contact, err error) {
	known, err := record.Devices(x.ledger)
	if err != nil {
		return c, err
	}
	i := slices.IndexFunc(known, func(d device.Device) bool { return d.Answers(name) })
	if i < 0 {
		return c, device.Because(device.Unsupported, "the site has no device %s", name)
	}
	d := known[i]
	speaks, ok := x.Dialects.Named(d.Dialect)
	has := false
	if c.At, c.As, has = x.Contact(d); !ok || !has {
		return c, device.Because(device.NoLogin, "of %s", name)
	}
	c.Protocol = x.Dialects.Protocol(d.Dialect)
	return c, dialect.VerifyIdentity(ctx, speaks, c.At, d.Identity)
}
