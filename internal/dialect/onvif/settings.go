package onvif

import (
	"bytes"
	"context"
	"net/http"
	"time"

	"catena/internal/device"
	"catena/internal/dialect"
	"catena/internal/settings"
	"catena/internal/wire"
)

// Settings are the system backup of a camera, in a form of its maker's own (ONVIF Core 8.3.13 and
// 8.3.14): it is kept and given back, and cannot be looked into.
func (t *session) Settings() (dialect.Settings, error) { return backup{t}, nil }

type backup struct{ session *session }

func (backup) Format() settings.Format { return settings.Opaque }

// Save fetches the backup from where GetSystemUris says. device.ErrUnsupported: it has none.
func (b backup) Save(ctx context.Context) ([]byte, error) {
	t := b.session
	e, err := t.call(ctx, `<tds:GetSystemUris/>`, true)
	switch {
	case e.Body.Fault != nil && e.Body.Fault.unsupported():
		return nil, device.ErrUnsupported
	case err != nil:
		return nil, err
	case e.Body.SystemURIs == nil || e.Body.SystemURIs.Backup == "":
		return nil, device.ErrUnsupported
	}
	at, err := t.own(e.Body.SystemURIs.Backup)
	if err != nil {
		return nil, err
	}
	a, err := t.over(ctx, func(r *http.Request) (wire.Answer, error) { return t.http.Fetch(ctx, r) },
		http.MethodGet, at)
	if err == nil && len(a.Body) == 0 {
		err = device.Because(device.Malformed, "an empty backup")
	}
	return a.Body, err
}

// Restore has the camera open an upload, waits as long as it asks for, and sends the backup there; the
// camera restarts then by itself.
func (b backup) Restore(ctx context.Context, saved []byte) error {
	t := b.session
	e, err := t.call(ctx, `<tds:StartSystemRestore/>`, true)
	switch {
	case e.Body.Fault != nil && e.Body.Fault.unsupported():
		return device.ErrUnsupported
	case err != nil:
		return err
	case e.Body.Restore == nil:
		return device.Because(device.Malformed, "no restore was started")
	}
	at, err := t.own(e.Body.Restore.UploadURI)
	if err != nil {
		return err
	}
	select {
	case <-time.After(time.Duration(e.Body.Restore.UploadDelay)):
	case <-ctx.Done():
		return ctx.Err()
	}
	_, err = t.over(ctx, func(r *http.Request) (wire.Answer, error) {
		r.Header.Set("Content-Type", "application/octet-stream")
		return t.http.Send(ctx, r, wire.Body{From: bytes.NewReader(saved), Size: int64(len(saved))})
	}, http.MethodPost, at)
	return err
}

// over sends a request beside SOAP, with the login in the way that the device asks for there.
func (t *session) over(ctx context.Context, send func(*http.Request) (wire.Answer, error), method,
	at string) (wire.Answer, error) {
	if t.how == byHTTP {
		t.upload = t.soap // most ask for the same
	}
	for again := false; ; again = true {
		r, err := http.NewRequestWithContext(ctx, method, at, nil)
		if err != nil {
			return wire.Answer{}, err
		}
		if err := t.upload.Sign(r); err != nil {
			return wire.Answer{}, err
		}
		a, err := send(r)
		switch {
		case err != nil:
			return a, err
		case a.Status >= 200 && a.Status < 300:
			return a, nil
		case a.Status == http.StatusUnauthorized && again:
			return a, device.ErrLoginRefused
		case a.Status == http.StatusUnauthorized:
			if err := t.upload.Take(a.Header); err != nil {
				return a, err
			}
			continue
		}
		return a, device.Because(device.Refusal, "%s (HTTP %d)", a.Body[:min(len(a.Body), 200)], a.Status)
	}
}
