package onvif

import (
	"bytes"
	"context"
	"encoding/base64"
	"encoding/json"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"mime"
	"mime/multipart"
	"net/http"
	"strings"
	"time"

	"catena/internal/device"
	"catena/internal/dialect"
	"catena/internal/settings"
	"catena/internal/wire"
)

// Settings are the system backup of a camera, in a form of its maker's own (ONVIF Core 8.3.13 and
// 8.3.14): it is kept and restored, and cannot be looked into.
func (t *session) Settings() (dialect.Settings, error) { return backup{t}, nil }

type backup struct{ session *session }

func (backup) Format() settings.Format { return settings.Opaque }

// Renamed: the content is unknown.
func (backup) Renamed() map[string]string { return nil }

// Steady: two backups of the same differ by their time.
func (backup) Steady() bool { return false }

// Save fetches the backup from where GetSystemUris says. device.ErrUnsupported: it has none.
func (b backup) Save(ctx context.Context) ([]byte, error) {
	t := b.session
	e, err := t.call(ctx, `<tds:GetSystemUris/>`, true)
	switch {
	case e.Body.Fault != nil && e.Body.Fault.unsupported(),
		err == nil && (e.Body.SystemURIs == nil || e.Body.SystemURIs.Backup == ""):
		return b.saveOlder(ctx)
	case err != nil:
		return nil, err
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

// Restore has the camera open an upload, waits as long as it asks for, and sends the backup there;
// the camera restarts then automatically.
func (b backup) Restore(ctx context.Context, saved []byte) error {
	t := b.session
	e, err := t.call(ctx, `<tds:StartSystemRestore/>`, true)
	switch {
	case e.Body.Fault != nil && e.Body.Fault.unsupported():
		return b.restoreOlder(ctx, saved)
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

// file is one of the files of an older camera's backup (ONVIF Core 8.3.10 and 8.3.11).
type file struct {
	Name string `json:"name"`
	Data []byte `json:"data"`
}

// saveOlder asks for the files of a backup with GetSystemBackup; they come in the answer, or
// attached to it (MTOM, XOP 1.0). device.ErrUnsupported: it has none.
func (b backup) saveOlder(ctx context.Context) ([]byte, error) {
	t := b.session
	a, e, err := t.exchange(ctx, true, true, plainly(`<tds:GetSystemBackup/>`),
		func(r *http.Request) (wire.Answer, error) { return t.http.Fetch(ctx, r) })
	if e.Body.Fault != nil && e.Body.Fault.unsupported() {
		return nil, device.ErrUnsupported
	}
	if err != nil {
		return nil, err
	}
	_, attached, err := parts(a)
	if err != nil {
		return nil, err
	}
	var files []file
	for _, f := range e.Body.Backup {
		data := attached[strings.TrimPrefix(f.Data.Include.Href, "cid:")]
		if f.Data.Include.Href == "" {
			data, err = base64.StdEncoding.DecodeString(strings.Join(strings.Fields(f.Data.Text), ""))
		}
		if err != nil || len(data) == 0 {
			return nil, device.Because(device.Malformed, "a backup whose file %s is missing", f.Name)
		}
		files = append(files, file{f.Name, data})
	}
	if len(files) == 0 {
		return nil, device.Because(device.Malformed, "an empty backup")
	}
	return json.Marshal(files)
}

// restoreOlder gives the files back with RestoreSystem, attached.
func (b backup) restoreOlder(ctx context.Context, saved []byte) error {
	t := b.session
	var files []file
	if err := json.Unmarshal(saved, &files); err != nil {
		return device.Because(device.Refusal, "it was saved by another method than the device "+
			"accepts now")
	}
	var body []byte
	_, e, err := t.exchange(ctx, true, false, func(header string) (kind string, _ []byte, err error) {
		body, kind, err = withFiles(header, files)
		return kind, nil, err
	}, func(r *http.Request) (wire.Answer, error) {
		return t.http.Send(ctx, r, wire.Body{From: bytes.NewReader(body), Size: int64(len(body))})
	})
	if e.Body.Fault != nil && e.Body.Fault.unsupported() {
		return device.ErrUnsupported
	}
	return err
}

// withFiles is RestoreSystem with its files as one multipart/related body.
func withFiles(header string, files []file) (body []byte, kind string, err error) {
	var message, name strings.Builder
	var all []attachment
	for i, f := range files {
		name.Reset()
		if err := xml.EscapeText(&name, []byte(f.Name)); err != nil {
			return nil, "", err
		}
		id := fmt.Sprintf("file-%d", i)
		all = append(all, attachment{id, f.Data})
		fmt.Fprintf(&message,
			`<tds:BackupFiles><tt:Name>%s</tt:Name><tt:Data><xop:Include xmlns:xop="http://www.w3.org/2004/08/xop/include" href="cid:%s"/></tt:Data></tds:BackupFiles>`, &name, id)
	}
	before, after, kind, err := related(wrap(header, "<tds:RestoreSystem>"+message.String()+
		"</tds:RestoreSystem>"), all)
	return append(before, after...), kind, err
}

// maxParts is how many attachments an answer may have.
const maxParts = 64

// parts are the message of an answer and its attachments, by Content-ID (RFC 2387).
func parts(a wire.Answer) (message []byte, attached map[string][]byte, err error) {
	kind, params, _ := mime.ParseMediaType(a.Header.Get("Content-Type"))
	if kind != "multipart/related" {
		return a.Body, nil, nil
	}
	attached = map[string][]byte{}
	r := multipart.NewReader(bytes.NewReader(a.Body), params["boundary"])
	for n := 0; ; n++ {
		p, err := r.NextRawPart()
		if errors.Is(err, io.EOF) {
			return message, attached, nil
		}
		if err != nil || n == maxParts {
			return nil, nil, device.Because(device.Malformed, "attachments that cannot be read")
		}
		data, err := io.ReadAll(p) // it is in memory already
		if err != nil {
			return nil, nil, device.Because(device.Malformed, "attachments that cannot be read")
		}
		id := strings.Trim(p.Header.Get("Content-Id"), "<>")
		if start := strings.Trim(params["start"], "<>"); message == nil && (start == "" || start == id) {
			message = data
			continue
		}
		attached[id] = data
	}
}

// over sends a request beside SOAP, with the login in the way that the device asks for there.
func (t *session) over(ctx context.Context, send func(*http.Request) (wire.Answer, error), method,
	at string) (wire.Answer, error) {
	auth := &t.upload
	if t.how == byHTTP {
		auth = &t.soap // most ask for the same; its nonce count continues
	}
	for again := false; ; again = true {
		r, err := http.NewRequestWithContext(ctx, method, at, nil)
		if err != nil {
			return wire.Answer{}, err
		}
		if err := auth.Sign(r); err != nil {
			return wire.Answer{}, err
		}
		a, err := send(r)
		switch {
		case err != nil:
			return a, err
		case a.Status >= 200 && a.Status < 300:
			auth.Accepted()
			return a, nil
		case a.Status == http.StatusUnauthorized && again:
			return a, device.ErrLoginRefused
		case a.Status == http.StatusUnauthorized:
			if err := auth.Take(a.Header); err != nil {
				return a, err
			}
			continue
		}
		return a, device.Because(device.Refusal, "%s (HTTP %d)", a.Body[:min(len(a.Body), 200)], a.Status)
	}
}
