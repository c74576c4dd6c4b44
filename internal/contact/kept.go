package contact

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"time"

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
	// the device was entered, and must be left
	Entered bool `json:"entered,omitempty"`
}

// Entered returns when each device was entered, by its ID, of those that were not left and that no
// running job works on. Its errors are those of the ledger.
func Entered(l *ledger.Ledger) (map[string]time.Time, error) {
	last, err := l.Entries(ledger.Filter{Kind: Kept, Newest: true})
	if err != nil || len(last) == 0 {
		return nil, err
	}
	working, err := job.Working(l)
	if err != nil {
		return nil, err
	}
	out := map[string]time.Time{}
	for _, e := range last {
		var body keptBody
		if json.Unmarshal(e.Body, &body) == nil && body.Entered && !l.Held(working[e.Device]) {
			out[e.Device] = e.At
		}
	}
	return out, nil
}

// callerOfJob returns what a session of a job may ask of the site. What is started at the device is
// kept with it, and taken over by the next session.
func (x *Access) callerOfJob(d device.Device) dialect.Caller {
	a := dialect.Caller{TrustAt: x.TrustFirst, Other: x.other, Manual: x.manual(d)}
	if d.ID != "" { // one that is not known has nothing to be kept with
		a.Keep = func(k dialect.Kept) error { return x.keep(d.ID, k) }
		a.Kept = func() ([]byte, error) { return x.kept(d.ID) }
	}
	return a
}

// caller is that of every other session. A device that a job works on, or on a child of, is not its
// to enter, nor to leave.
func (x *Access) caller(d device.Device) dialect.Caller {
	a := x.callerOfJob(d)
	if a.Keep == nil {
		return a
	}
	working := func() error {
		held, err := job.Working(x.ledger)
		if of := held[d.ID]; of != "" {
			return device.Because(device.OwnFault, "job %s is updating it, or a child of it", of)
		}
		return err
	}
	keep, kept := a.Keep, a.Kept
	a.Keep = func(k dialect.Kept) error {
		if err := working(); err != nil {
			return err
		}
		return keep(k)
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

func (x *Access) keep(id string, k dialect.Kept) error {
	body := keptBody{Plain: k.Raw, Entered: k.Entered}
	if len(k.Raw) > 0 && (k.Secret || x.Book.Own != "") {
		sealed, err := x.Book.Seal(k.Raw)
		if err != nil {
			return device.Because(device.OwnFault, "%v", err)
		}
		body.Plain, body.Sealed = nil, sealed
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
		return nil, fmt.Errorf("%s of the ledger cannot be read: %w", last[0], err)
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
