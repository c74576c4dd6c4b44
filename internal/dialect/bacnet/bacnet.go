// Package bacnet reads devices that speak BACnet/IP (ASHRAE 135, Annex J): their device object, and
// their settings by the standard's backup and restore (19.1). The standard leaves the update to the
// maker: a family with protocol: bacnet describes it.
//
// BACnet has no users. The password that a device may want for a restart or a backup is the secret
// PasswordSecret of its login, and goes in the clear.
package bacnet

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"strings"
	"time"

	"catena/internal/bacnet"
	"catena/internal/device"
	"catena/internal/dialect"
	"catena/internal/login"
	"catena/internal/wire"
)

// Name of the dialect.
const Name = "bacnet"

// PasswordSecret is the name of the secret of a login that is the password of ReinitializeDevice.
const PasswordSecret = "bacnet"

// Dialect is the dialect.
type Dialect struct{}

// About describes the dialect.
func (Dialect) About() dialect.About {
	return dialect.About{Name: Name, Rank: 50, Transport: "udp",
		Ports:  []uint16{bacnet.Port},
		Better: func(a, b device.Endpoint) bool { return a.Path != "" && b.Path == "" }}
}

// Probe asks whether such a device answers, and reads its device object.
func (d Dialect) Probe(ctx context.Context, at dialect.At) (device.Reading, error) {
	if _, err := netip.ParseAddrPort(at.Address); err != nil {
		return device.Reading{}, device.ErrNotMine
	}
	s := d.Open(at, login.Credential{})
	defer func() { _ = s.Close(ctx) }()
	return s.Read(ctx)
}

// Open starts a session.
func (Dialect) Open(at dialect.At, as login.Credential) dialect.Session {
	return &session{at: at, as: as}
}

type session struct {
	dialect.ReadOnly
	at      dialect.At
	as      login.Credential
	client  *bacnet.Client
	own     bacnet.ObjectID
	status  uint64
	refused bool // the password: it is not sent again, so that the device does not lock
}

// Close ends the conversation; nothing stays open at the device.
func (s *session) Close(context.Context) error {
	if s.client != nil {
		s.client.Close()
		s.client = nil
	}
	return nil
}

// talk opens the conversation, and asks what the device takes.
func (s *session) talk(ctx context.Context) (*bacnet.Client, error) {
	if s.client != nil {
		return s.client, nil
	}
	c, own, err := Dial(ctx, s.at.Endpoint)
	if err == nil {
		s.client, s.own = c, own
	}
	return c, err
}

// Endpoint is where a device is that was found: its path is its device object.
func Endpoint(f bacnet.Found) device.Endpoint {
	e := device.Endpoint{Dialect: Name, Address: f.Address.String(), Open: true}
	if f.Instance != bacnet.AnyInstance {
		e.Path = bacnet.ObjectID{Type: bacnet.TypeDevice, Instance: f.Instance}.String()
	}
	return e
}

// Dial opens a conversation with a device, and returns its device object. Its error is a
// device.Cause, or the end of ctx.
func Dial(ctx context.Context, at device.Endpoint) (*bacnet.Client, bacnet.ObjectID, error) {
	c, err := bacnet.Dial(ctx, at.Address)
	if err != nil {
		return nil, bacnet.OwnDevice, Because(err)
	}
	own, err := bacnet.ParseObject(at.Path)
	if err != nil || own.Type != bacnet.TypeDevice {
		own = bacnet.OwnDevice
	}
	own, err = c.Acquaint(ctx, own)
	if err != nil {
		c.Close()
		return nil, own, Because(err)
	}
	return c, own, nil
}

// Because says what an error of a request means: a device.Cause, or the end of a context.
func Because(err error) error {
	var refused *bacnet.RefusalError
	var network *net.OpError
	switch {
	case err == nil, errors.Is(err, context.Canceled), errors.Is(err, context.DeadlineExceeded):
		return err
	case errors.Is(err, bacnet.ErrSilent):
		return device.Because(device.NoAnswer, device.NotInTime)
	case wire.OwnFault(err):
		return device.Because(device.OwnFault, "%s", wire.OwnWords(err))
	case errors.Is(err, bacnet.ErrClosed):
		return device.Because(device.NoAnswer, "%v", err)
	case errors.As(err, &network):
		return device.Because(device.NoAnswer, "%v", network.Err)
	case errors.Is(err, bacnet.ErrTooLong):
		return device.Because(device.Refusal, "%v", err)
	case errors.Is(err, ErrRefusedBefore):
		return ErrRefusedBefore
	case errors.As(err, &refused) && refused.IsCode(bacnet.CodePassword):
		return device.Because(device.BadLogin, "it wants another password for this (%s)", refused)
	case errors.As(err, &refused) && refused.IsCode(bacnet.CodeReadDenied, bacnet.CodeWriteDenied,
		bacnet.CodeDenied):
		return device.Because(device.NoRight, "%v", refused)
	case refused != nil:
		return device.Because(device.Refusal, "%v", refused)
	}
	return device.Because(device.Malformed, "BACnet: %v", err)
}

// Read reads the device object (12.11).
func (s *session) Read(ctx context.Context) (r device.Reading, err error) {
	c, err := s.talk(ctx)
	if err != nil {
		return r, err
	}
	software := ""
	for _, p := range []struct {
		name string
		to   *string
	}{{"vendor-name", &r.Vendor}, {"model-name", &r.Model}, {"object-name", &r.Called},
		{"serial-number", &r.Serial}, {"firmware-revision", &r.Version},
		{"application-software-version", &software}, {"description", &r.Says}} {
		if *p.to, err = s.text(ctx, c, p.name); err != nil {
			return r, err
		}
	}
	if r.Version == "" {
		r.Version, software = software, ""
	}
	if software != "" && software != r.Version { // it is loaded apart, and no image brings it
		r.Says = strings.TrimPrefix(r.Says+", application "+software, ", ")
	}
	if s.status, err = s.number(ctx, c, "system-status"); err != nil {
		return r, err
	}
	started, err := s.values(ctx, c, "time-of-device-restart")
	if err != nil {
		return r, err
	}
	if len(started) == 2 { // by its own clock: that it is later than before is what counts
		if at, ok := bacnet.Moment(started[0], started[1]); ok {
			r.Boot = &device.Boot{Count: at.UnixMilli()}
		}
	}
	return r.Clean(), nil
}

// text reads a property of the device object as text; one that it does not have is empty.
func (s *session) text(ctx context.Context, c *bacnet.Client, name string) (string, error) {
	v, err := s.values(ctx, c, name)
	if len(v) == 0 {
		return "", err
	}
	return v[0].String(), nil
}

func (s *session) number(ctx context.Context, c *bacnet.Client, name string) (uint64, error) {
	v, err := s.values(ctx, c, name)
	if len(v) == 0 {
		return 0, err
	}
	return v[0].Number, nil
}

// values reads a property of the device object; nil where it does not have it.
func (s *session) values(ctx context.Context, c *bacnet.Client, name string) ([]bacnet.Value,
	error) {
	v, err := c.Read(ctx, s.own.Property(name))
	switch {
	case errors.As(err, new(*bacnet.RefusalError)):
		return nil, nil
	case err != nil:
		return nil, Because(err)
	case v == nil:
		v = []bacnet.Value{}
	}
	return v, nil
}

// statuses are what a device object reports of the device (BACnetDeviceStatus).
var statuses = []string{"operational", "operational, read only", "download required",
	"download in progress", "not operational", "backup in progress"}

// Healthy returns the fault that the status of the device tells.
func (s *session) Healthy(ctx context.Context, _ device.Reading) error {
	if _, err := s.Read(ctx); err != nil {
		return err
	}
	switch s.status {
	case 0, 1, 5:
		return nil
	}
	return device.Because(device.Refusal, "it reports a fault: %s", status(s.status))
}

func status(n uint64) string {
	if n < uint64(len(statuses)) {
		return statuses[n]
	}
	return fmt.Sprintf("status %d", n)
}

// Permission tests the password of ReinitializeDevice by the end of a backup that has not started:
// a device verifies the password first (16.4), and has nothing to end. One in a backup or a restore
// of someone else, or that does not tell whether it is, is left alone.
func (s *session) Permission(ctx context.Context) error {
	c, err := s.talk(ctx)
	if err != nil {
		return err
	}
	switch v, err := s.values(ctx, c, "backup-and-restore-state"); {
	case err != nil:
		return err
	case len(v) == 0 || v[0].Number != 0:
		return device.ErrUnsupported
	}
	word, err := s.password()
	if err != nil {
		return err
	}
	err = s.reinitialize(ctx, bacnet.EndBackup, word)
	var refused *bacnet.RefusalError
	switch {
	case errors.Is(err, ErrRefusedBefore):
		return &dialect.NotPermittedError{Why: err.Error()}
	case !errors.As(err, &refused):
		return Because(err)
	case refused.IsCode(bacnet.CodePassword) && word == "":
		return &dialect.NotPermittedError{Why: "it wants a password: add the secret " + PasswordSecret +
			" to its login"}
	case refused.IsCode(bacnet.CodePassword):
		return &dialect.NotPermittedError{
			Why: "it refuses the secret " + PasswordSecret + " of its login",
		}
	case refused.How != "error" || refused.IsCode(bacnet.CodeServiceDenied):
		return device.ErrUnsupported // it knows no backups, or takes none from here
	}
	return nil
}

// Vitals reads its clock (local-date and local-time), which is in its own time zone: utc-offset
// says which one.
func (s *session) Vitals(ctx context.Context) (v dialect.Vitals, err error) {
	c, err := s.talk(ctx)
	if err != nil {
		return v, err
	}
	of := map[string]bacnet.Value{}
	for _, name := range []string{"local-date", "local-time", "utc-offset"} {
		got, err := s.values(ctx, c, name)
		if err != nil || len(got) == 0 {
			return v, err
		}
		of[name] = got[0]
	}
	summer, err := s.number(ctx, c, "daylight-savings-status")
	if err != nil {
		return v, err
	}
	at, ok := bacnet.Moment(of["local-date"], of["local-time"])
	if !ok {
		return v, nil
	}
	west := time.Duration(of["utc-offset"].Integer) * time.Minute // of UTC (12.11.24)
	at = at.Add(west)
	if summer != 0 {
		at = at.Add(-time.Hour)
	}
	v.Clock, v.Ahead = true, time.Until(at)
	return v, nil
}
