// Package onvif is the dialect "onvif": network video devices with the device
// service of the ONVIF Core Specification, SOAP 1.2 over HTTP.
//
// A login is a WS-UsernameToken with a password digest in the device's own time
// (ONVIF Core 5.9.4, OASIS WSS UsernameToken Profile 1.1); a device that asks for
// HTTP Digest (RFC 7616) instead gets that.
package onvif

import (
	"bytes"
	"context"
	"crypto/rand"
	"crypto/sha1"
	"encoding/base64"
	"encoding/xml"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"catena/internal/dialect"
	"catena/internal/firmware"
	"catena/internal/site"
)

// UsualPath is where the device service lives where nothing else was announced.
const UsualPath = "/onvif/device_service"

// Dialect is the dialect.
type Dialect struct{}

func (Dialect) Name() string { return "onvif" }

// Recognise asks for the device's clock, which every ONVIF device tells anybody.
// It says only that the dialect is spoken there.
func (d Dialect) Recognise(ctx context.Context, p dialect.Peer) (dialect.Facts, error) {
	t := d.Open(p).(*talk)
	e, err := t.call(ctx, `<tds:GetSystemDateAndTime/>`, false)
	switch {
	case errors.Is(err, dialect.ErrAway) || ctx.Err() != nil:
		return dialect.Facts{}, err
	case err != nil || e.Body.DateAndTime == nil:
		return dialect.Facts{}, dialect.ErrNotMine
	}
	return dialect.Facts{Path: t.peer.Path}, nil
}

// Open starts a talk.
func (d Dialect) Open(p dialect.Peer) dialect.Talk {
	if p.Path == "" {
		p.Path = UsualPath
	}
	return &talk{peer: p}
}

// Read is Open and Read in one.
func (d Dialect) Read(ctx context.Context, p dialect.Peer) (dialect.Facts, error) {
	return d.Open(p).Read(ctx)
}

type talk struct {
	peer  dialect.Peer
	ahead time.Duration // how far the device's clock is ahead of ours
	clock bool          // whether ahead is known
	http  dialect.HTTPLogin
}

// call sends one request; with login it carries the login. A device that asks for
// HTTP Digest is asked again, once, with that.
func (t *talk) call(ctx context.Context, body string, login bool) (envelope, error) {
	if login && !t.clock {
		if err := t.setClock(ctx); err != nil {
			return envelope{}, err
		}
	}
	for again := false; ; again = true {
		header := ""
		if login && !t.http.Challenged() {
			header = t.token(time.Now())
		}
		r, err := http.NewRequest(http.MethodPost, t.peer.URL(t.peer.Path), bytes.NewReader(wrap(header, body)))
		if err != nil {
			return envelope{}, err
		}
		r.Header.Set("Content-Type", "application/soap+xml; charset=utf-8")
		if login {
			if err := t.http.Sign(t.peer, r); err != nil {
				return envelope{}, err
			}
		}
		a, err := dialect.Ask(ctx, t.peer, r)
		if err != nil {
			return envelope{}, err
		}
		if a.Status == http.StatusUnauthorized {
			if !login || again {
				return envelope{}, dialect.ErrLoginRefused
			}
			if err := t.http.Take(t.peer, a.Header); err != nil {
				return envelope{}, err
			}
			continue
		}
		return understand(a)
	}
}

func understand(a dialect.Answer) (envelope, error) {
	var e envelope
	if err := xml.Unmarshal(a.Body, &e); err != nil {
		if a.Status != http.StatusOK {
			return e, dialect.Malformed("HTTP %d", a.Status)
		}
		return e, dialect.Malformed("no SOAP")
	}
	switch f := e.Body.Fault; {
	case f != nil && f.notAuthorized():
		return e, dialect.ErrLoginRefused
	case f != nil:
		return e, dialect.Refused(f.Reason)
	case a.Status != http.StatusOK:
		return e, dialect.Malformed("HTTP %d", a.Status)
	}
	return e, nil
}

func wrap(header, body string) []byte {
	return []byte(`<?xml version="1.0" encoding="UTF-8"?><s:Envelope xmlns:s="http://www.w3.org/2003/05/soap-envelope"` +
		` xmlns:tds="http://www.onvif.org/ver10/device/wsdl" xmlns:tt="http://www.onvif.org/ver10/schema">` +
		`<s:Header>` + header + `</s:Header><s:Body>` + body + `</s:Body></s:Envelope>`)
}

// token is a WS-UsernameToken: the digest is Base64(SHA-1(nonce + created +
// password)), created is now in the device's time.
func (t *talk) token(now time.Time) string {
	nonce := make([]byte, 16)
	_, _ = rand.Read(nonce) // never fails, by its contract
	created := now.Add(t.ahead).UTC().Format("2006-01-02T15:04:05.000Z")
	sum := sha1.Sum(slices.Concat(nonce, []byte(created), []byte(t.peer.Login.Password)))
	var user bytes.Buffer
	_ = xml.EscapeText(&user, []byte(t.peer.Login.User)) // a buffer takes everything
	b64 := base64.StdEncoding.EncodeToString
	return `<wsse:Security s:mustUnderstand="true"` +
		` xmlns:wsse="http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-wssecurity-secext-1.0.xsd"` +
		` xmlns:wsu="http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-wssecurity-utility-1.0.xsd"><wsse:UsernameToken>` +
		`<wsse:Username>` + user.String() + `</wsse:Username>` +
		`<wsse:Password Type="http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-username-token-profile-1.0#PasswordDigest">` + b64(sum[:]) + `</wsse:Password>` +
		`<wsse:Nonce EncodingType="http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-soap-message-security-1.0#Base64Binary">` + b64(nonce) + `</wsse:Nonce>` +
		`<wsu:Created>` + created + `</wsu:Created></wsse:UsernameToken></wsse:Security>`
}

// setClock learns how far the device's clock is ahead of ours.
func (t *talk) setClock(ctx context.Context) error {
	e, err := t.call(ctx, `<tds:GetSystemDateAndTime/>`, false)
	if err != nil {
		return err
	}
	if d := e.Body.DateAndTime; d != nil {
		t.ahead = time.Until(d.time())
	}
	t.clock = true
	return nil
}

func (t *talk) services(ctx context.Context) ([]string, error) {
	e, err := t.call(ctx, `<tds:GetServices><tds:IncludeCapability>false</tds:IncludeCapability></tds:GetServices>`, false)
	if err != nil {
		return nil, err
	}
	var out []string
	for _, s := range e.Body.Services {
		out = append(out, strings.TrimSpace(s.Namespace))
	}
	slices.Sort(out)
	return slices.Compact(out), nil
}

func (t *talk) Read(ctx context.Context) (dialect.Facts, error) {
	t.clock = false // a restart may have set it
	f := dialect.Facts{Path: t.peer.Path}
	e, err := t.call(ctx, `<tds:GetDeviceInformation/>`, true)
	if err != nil {
		return f, err
	}
	i := e.Body.Information
	if i == nil || i.Model == "" || i.FirmwareVersion == "" {
		return f, dialect.Malformed("device information without a model or a version")
	}
	f.Vendor, f.Model, f.Hardware, f.Serial, f.Version = i.Manufacturer, i.Model, i.HardwareID, i.SerialNumber, i.FirmwareVersion
	if f.Services, err = t.services(ctx); err != nil {
		return f, err
	}
	if e, err = t.call(ctx, `<tds:GetScopes/>`, true); err == nil {
		var items []string
		for _, s := range e.Body.Scopes {
			items = append(items, s.Item)
		}
		f.Name, _ = Scopes(items)
	} else if !errors.Is(err, dialect.ErrRefused) {
		return f, err
	}
	return f.Clean(), nil
}

// Scopes takes the name and the hardware, which is the model, from a list of
// scopes (ONVIF Core 7.3.2.2).
func Scopes(items []string) (name, hardware string) {
	for _, item := range items {
		item = strings.TrimSpace(item)
		for prefix, into := range map[string]*string{"name/": &name, "hardware/": &hardware} {
			if rest, ok := strings.CutPrefix(item, "onvif://www.onvif.org/"+prefix); ok && *into == "" {
				if plain, err := url.PathUnescape(rest); err == nil {
					rest = plain
				}
				*into = site.Clean(rest)
			}
		}
	}
	return name, hardware
}

// Send does a firmware upgrade over HTTP: ONVIF Core 8.3.9.
func (t *talk) Send(ctx context.Context, u dialect.Upload) (dialect.Traits, error) {
	none := dialect.Traits{}
	if u.Component != firmware.Main {
		return none, dialect.Refused("it has no component " + u.Component)
	}
	e, err := t.call(ctx, `<tds:StartFirmwareUpgrade/>`, true)
	if err != nil {
		return none, err
	}
	up := e.Body.Upgrade
	if up == nil {
		return none, dialect.Malformed("no upgrade was started")
	}
	target, err := t.own(up.UploadURI)
	if err != nil {
		return none, err
	}
	select {
	case <-time.After(time.Duration(up.UploadDelay)):
	case <-ctx.Done():
		return none, ctx.Err()
	}
	for again := false; ; again = true {
		r, err := http.NewRequest(http.MethodPost, target, nil)
		if err != nil {
			return none, err
		}
		r.Header.Set("Content-Type", "application/octet-stream")
		if err := t.http.Sign(t.peer, r); err != nil {
			return none, err
		}
		a, err := dialect.Transfer(ctx, t.peer, r, u)
		switch {
		case err != nil:
			return none, err
		case a.Status >= 200 && a.Status < 300:
			return dialect.Traits{RestartsAlone: true, Down: time.Duration(up.ExpectedDownTime)}, nil
		case a.Status == http.StatusUnauthorized && again:
			return none, dialect.ErrLoginRefused
		case a.Status == http.StatusUnauthorized:
			if err := t.http.Take(t.peer, a.Header); err != nil {
				return none, err
			}
			continue
		}
		return none, dialect.Refused(fmt.Sprintf("%s (HTTP %d)", a.Body[:min(len(a.Body), 200)], a.Status))
	}
}

// own checks that an address which the device named is its own: an image goes to
// the device that was checked, and to no other.
func (t *talk) own(uri string) (string, error) {
	u, err := url.Parse(strings.TrimSpace(uri))
	if err != nil || u.Scheme != t.peer.Scheme() || u.Host == "" {
		return "", dialect.Malformed("an upload address that is none: %q", site.Clean(uri))
	}
	self, err := url.Parse(t.peer.URL(""))
	if err != nil || u.Hostname() != self.Hostname() {
		return "", dialect.Malformed("an upload address on another host: %q", site.Clean(u.Host))
	}
	return u.String(), nil
}

// Writing returns 100: ONVIF has no way to ask; the device writes what it has
// answered for, then restarts.
func (t *talk) Writing(context.Context) (int, error) { return 100, nil }

func (t *talk) Restart(ctx context.Context) error {
	_, err := t.call(ctx, `<tds:SystemReboot/>`, true)
	return err
}

// Healthy wants every service that was offered before to be offered again, and the
// capabilities to be told.
func (t *talk) Healthy(ctx context.Context, before dialect.Facts) error {
	now, err := t.services(ctx)
	if err != nil {
		return err
	}
	for _, s := range before.Services {
		if !slices.Contains(now, s) {
			return fmt.Errorf("it no longer offers %s", s)
		}
	}
	e, err := t.call(ctx, `<tds:GetCapabilities><tds:Category>Device</tds:Category></tds:GetCapabilities>`, false)
	if err == nil && e.Body.Capabilities == nil {
		err = dialect.Malformed("no capabilities")
	}
	return err
}
