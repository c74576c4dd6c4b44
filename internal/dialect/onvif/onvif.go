// Package onvif is the dialect "onvif": network video devices with the device
// service of the ONVIF Core Specification, SOAP 1.2 over HTTP.
//
// A login is a WS-UsernameToken with a password digest in the device's own time
// (ONVIF Core 5.9.4, OASIS WSS UsernameToken Profile 1.1), or HTTP Digest (RFC 7616). Which
// one a device requires it says when it is asked without a login, so that none is tried in
// vain; for the upload of an image it may require another one.
package onvif

import (
	"bytes"
	"context"
	"crypto/rand"
	"crypto/sha1"
	"encoding/base64"
	"encoding/xml"
	"errors"
	"io"
	"mime/multipart"
	"net/http"
	"net/textproto"
	"net/url"
	"slices"
	"strings"
	"time"

	"catena/internal/device"
	"catena/internal/dialect"
	"catena/internal/firmware"
	"catena/internal/login"
	"catena/internal/text"
	"catena/internal/wire"
)

// UsualPath is where the device service lives where nothing else was announced.
const UsualPath = "/onvif/device_service"

// Name of the dialect.
const Name = "onvif"

// Dialect is the dialect.
type Dialect struct{}

// About describes the dialect.
func (Dialect) About() dialect.About {
	return dialect.About{Name: Name, Rank: 10, Transport: "tcp",
		Ports: []uint16{80, 443, 8080, 8443}}
}

// Probe asks for the device's clock, which every ONVIF device tells anybody. It says
// only that the dialect is spoken there.
func (d Dialect) Probe(ctx context.Context, at dialect.At) (device.Reading, error) {
	e, err := d.open(at, login.Credential{}).call(ctx, `<tds:GetSystemDateAndTime/>`, false)
	switch {
	case errors.Is(err, device.ErrAway), errors.Is(err, device.ErrIdentityChanged),
		ctx.Err() != nil:
		return device.Reading{}, err
	case err != nil || e.Body.DateAndTime == nil:
		return device.Reading{}, device.ErrNotMine
	}
	return device.Reading{}, nil
}

// Open starts a session.
func (d Dialect) Open(at dialect.At, as login.Credential) dialect.Session { return d.open(at, as) }

func (Dialect) open(at dialect.At, as login.Credential) *session {
	if at.Path == "" {
		at.Path = UsualPath
	}
	return &session{at: at, as: as, http: wire.NewHTTP(at.Trust).With(as),
		soap:   wire.HTTPAuth{As: as, Secure: at.Secure()},
		upload: wire.HTTPAuth{As: as, Secure: at.Secure()}}
}

type session struct {
	dialect.NoChildren
	dialect.NoCarry
	at           dialect.At
	as           login.Credential
	http         *wire.HTTP
	soap, upload wire.HTTPAuth // the challenges in use, by purpose
	how          loginBy
	accepted     bool          // the device accepted the login in this way
	ahead        time.Duration // how far the device's clock is ahead of ours
	clock        bool          // whether ahead is known
}

// loginBy is how a device wants the login with a request.
type loginBy int

const (
	notAsked loginBy = iota // it was not asked yet
	byToken                 // WS-UsernameToken
	byHTTP                  // HTTP Digest, or Basic where that is allowed
)

// call sends one request; with login it carries the login in the way that the device asks
// for. A refusal of a request that carried it is final.
func (t *session) call(ctx context.Context, body string, login bool) (envelope, error) {
	_, e, err := t.exchange(ctx, login, strings.HasPrefix(body, "<tds:Get"), plainly(body),
		func(r *http.Request) (wire.Answer, error) { return t.http.Ask(ctx, r) })
	return e, err
}

// composer makes the body of a message with that header, and says of which type it is.
type composer func(header string) (kind string, body []byte, err error)

// plainly composes a message without attachments.
func plainly(body string) composer {
	return func(header string) (string, []byte, error) {
		return "application/soap+xml; charset=utf-8", wrap(header, body), nil
	}
}

// exchange sends a message to the device service, with a header or a signature that holds the login
// in the way that the device asks for, as often as it takes to find that. What only reads and is
// broken off is sent once more, with its own token.
func (t *session) exchange(ctx context.Context, login, reads bool, compose composer,
	send func(*http.Request) (wire.Answer, error)) (wire.Answer, envelope, error) {
	for {
		a, err := t.once(ctx, login, compose, send)
		if reads && wire.BrokenOff(err) && ctx.Err() == nil {
			reads = false
			continue
		}
		if err != nil {
			return a, envelope{}, err
		}
		e, err := understand(a)
		if !login {
			return a, e, err
		}
		if !errors.Is(err, device.ErrLoginRefused) {
			t.accepted = true
			t.soap.Accepted()
			return a, e, err
		}
		if err := t.next(a); err != nil {
			return a, envelope{}, err
		}
	}
}

// once sends a message once.
func (t *session) once(ctx context.Context, login bool, compose composer,
	send func(*http.Request) (wire.Answer, error)) (a wire.Answer, err error) {
	token := ""
	if login && t.how == byToken {
		if err := t.setClock(ctx); err != nil {
			return a, err
		}
		token = t.token(time.Now())
	}
	kind, body, err := compose(token)
	if err != nil {
		return a, err
	}
	r, err := http.NewRequest(http.MethodPost, t.at.URL(t.at.Path), bytes.NewReader(body))
	if err != nil {
		return a, err
	}
	r.Header.Set("Content-Type", kind)
	if login && t.how == byHTTP {
		if err := t.soap.Sign(r); err != nil {
			return a, err
		}
	}
	return send(r)
}

// next chooses how to log in after a rejection; its error is that there is no other way. A device
// that rejects a token is sent the login in another way only if it accepted the token before: new
// firmware may ask for it differently.
func (t *session) next(a wire.Answer) error {
	challenged := a.Status == http.StatusUnauthorized && a.Header.Get("WWW-Authenticate") != ""
	accepted := t.accepted
	t.accepted = false
	if t.how == byToken && !(challenged && accepted) {
		return device.ErrLoginRefused
	}
	if challenged {
		err := t.soap.Take(a.Header)
		if err == nil {
			t.how = byHTTP
			return nil
		}
		if t.how != notAsked {
			return err
		}
	}
	if t.how == byHTTP {
		return device.ErrLoginRefused
	}
	t.how = byToken
	return nil
}

func understand(a wire.Answer) (envelope, error) {
	var e envelope
	message, _, err := parts(a)
	if err == nil {
		err = xml.Unmarshal(message, &e)
	}
	if err != nil {
		if a.Status == http.StatusUnauthorized {
			return e, device.ErrLoginRefused
		}
		if a.Status != http.StatusOK {
			return e, device.Because(device.Malformed, "HTTP %d", a.Status)
		}
		return e, device.Because(device.Malformed, "no SOAP")
	}
	switch f := e.Body.Fault; {
	case a.Status == http.StatusUnauthorized, f != nil && f.notAuthorized():
		return e, device.ErrLoginRefused
	case f != nil:
		return e, device.Because(device.Refusal, "%s", f.Reason)
	case a.Status != http.StatusOK:
		return e, device.Because(device.Malformed, "HTTP %d", a.Status)
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
func (t *session) token(now time.Time) string {
	nonce := make([]byte, 16)
	_, _ = rand.Read(nonce) // never fails, by its contract
	created := now.Add(t.ahead).UTC().Format("2006-01-02T15:04:05.000Z")
	sum := sha1.Sum(slices.Concat(nonce, []byte(created), []byte(t.as.Password)))
	var user bytes.Buffer
	_ = xml.EscapeText(&user, []byte(t.as.User)) // a buffer takes everything
	b64 := base64.StdEncoding.EncodeToString
	return `<wsse:Security s:mustUnderstand="true"` +
		` xmlns:wsse="http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-wssecurity-secext-1.0.xsd"` +
		` xmlns:wsu="http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-wssecurity-utility-1.0.xsd"><wsse:UsernameToken>` +
		`<wsse:Username>` + user.String() + `</wsse:Username>` +
		`<wsse:Password Type="http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-username-token-profile-1.0#PasswordDigest">` + b64(sum[:]) + `</wsse:Password>` +
		`<wsse:Nonce EncodingType="http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-soap-message-security-1.0#Base64Binary">` + b64(nonce) + `</wsse:Nonce>` +
		`<wsu:Created>` + created + `</wsu:Created></wsse:UsernameToken></wsse:Security>`
}

// setClock learns how far the device's clock is ahead of ours, once.
func (t *session) setClock(ctx context.Context) error {
	if t.clock {
		return nil
	}
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

func (t *session) services(ctx context.Context) ([]string, error) {
	e, err := t.call(ctx,
		`<tds:GetServices><tds:IncludeCapability>false</tds:IncludeCapability></tds:GetServices>`, false)
	if e.Body.Fault != nil && e.Body.Fault.unsupported() {
		return t.categories(ctx)
	}
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

// categories are the services of an older device, which only tells them by category.
func (t *session) categories(ctx context.Context) ([]string, error) {
	e, err := t.call(ctx,
		`<tds:GetCapabilities><tds:Category>All</tds:Category></tds:GetCapabilities>`, false)
	if err != nil || e.Body.Capabilities == nil {
		return nil, errors.Join(err, device.Because(device.Malformed, "no capabilities"))
	}
	var out []string
	for _, c := range e.Body.Capabilities.Categories {
		if c.XAddr != "" {
			out = append(out, c.XMLName.Local)
		}
	}
	slices.Sort(out)
	return slices.Compact(out), nil
}

func (t *session) Read(ctx context.Context) (device.Reading, error) {
	t.clock = false // a restart may have set it
	var f device.Reading
	e, err := t.call(ctx, `<tds:GetDeviceInformation/>`, true)
	if err != nil {
		return f, err
	}
	i := e.Body.Information
	if i == nil || i.Model == "" || i.FirmwareVersion == "" {
		return f, device.Because(device.Malformed,
			"device information without a model or a version")
	}
	f.Vendor, f.Model, f.Hardware, f.Serial, f.Version = i.Manufacturer, i.Model, i.HardwareID,
		i.SerialNumber, i.FirmwareVersion
	f.Services, err = t.services(ctx)
	if err != nil {
		return f, err
	}
	if e, err = t.call(ctx, `<tds:GetScopes/>`, true); err == nil {
		var items []string
		for _, s := range e.Body.Scopes {
			items = append(items, s.Item)
		}
		f.Called, _ = Scopes(items)
	} else if !errors.Is(err, device.ErrRefused) {
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
			if rest, ok := strings.CutPrefix(item, "onvif://www.onvif.org/"+prefix); ok &&
				*into == "" {
				if plain, err := url.PathUnescape(rest); err == nil {
					rest = plain
				}
				*into = text.Clean(rest)
			}
		}
	}
	return name, hardware
}

// Update is a firmware upgrade over HTTP: ONVIF Core 8.3.9.
func (t *session) Update(component string) (dialect.Update, error) {
	if component != firmware.Main {
		return nil, device.Because(device.Refusal, "it has no component %s", component)
	}
	return &update{session: t, traits: dialect.Traits{RestartsByItself: true}}, nil
}

type update struct {
	dialect.OneSlot
	dialect.NoInterlocks
	session *session
	traits  dialect.Traits
	target  string        // where the image goes
	older   bool          // it only knows UpgradeSystemFirmware
	down    time.Duration // as the device announced it
}

func (u *update) Traits() dialect.Traits { return u.traits }

// Ready has the device open an upload, and waits as long as it asks for. Nothing is sent
// yet: who gives up here leaves the device as it was.
func (u *update) Ready(ctx context.Context, _ dialect.Image) error {
	t := u.session
	e, err := t.call(ctx, `<tds:StartFirmwareUpgrade/>`, true)
	u.older = e.Body.Fault != nil && e.Body.Fault.unsupported()
	if err != nil && !u.older {
		return err
	}
	if u.older { // the image goes with the call itself, when it is sent
		return nil
	}
	up := e.Body.Upgrade
	if up == nil {
		return device.Because(device.Malformed, "no upgrade was started")
	}
	u.target, err = t.own(up.UploadURI)
	if err != nil {
		return err
	}
	u.down = time.Duration(up.ExpectedDownTime)
	select {
	case <-time.After(time.Duration(up.UploadDelay)):
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

func (u *update) Transfer(ctx context.Context, image dialect.Image, sent func(int64)) error {
	t := u.session
	if u.target == "" && !u.older {
		if err := u.Ready(ctx, image); err != nil {
			return err
		}
	}
	if u.older {
		return u.attach(ctx, image, sent)
	}
	_, err := t.over(ctx, func(r *http.Request) (wire.Answer, error) {
		r.Header.Set("Content-Type", "application/octet-stream")
		return t.http.Send(ctx, r, wire.Body{From: image, Size: image.Size, Sent: sent})
	}, http.MethodPost, u.target)
	if err == nil {
		u.traits.Down = u.down
	}
	return err
}

// attach sends the image with UpgradeSystemFirmware (ONVIF Core 8.3.8), as an attachment that the
// message includes (MTOM, XOP 1.0; RFC 2387).
func (u *update) attach(ctx context.Context, image dialect.Image, sent func(int64)) error {
	t := u.session
	const body = `<tds:UpgradeSystemFirmware><tds:Firmware><xop:Include xmlns:xop="http://www.w3.org/2004/08/xop/include" href="cid:image"/></tds:Firmware></tds:UpgradeSystemFirmware>`
	var e wire.Envelope
	_, _, err := t.exchange(ctx, true, false, func(header string) (kind string, _ []byte, err error) {
		before, after, kind, err := related(wrap(header, body), []attachment{{"image", nil}})
		e = wire.Envelope{Before: before, Image: io.NewSectionReader(image, 0, image.Size), After: after}
		return kind, nil, err
	}, func(r *http.Request) (wire.Answer, error) {
		return t.http.Send(ctx, r, wire.Body{From: e, Size: e.Size(), Sent: e.Counts(sent)})
	})
	return err
}

// attachment is a part included in a message, by its Content-ID.
type attachment struct {
	id   string
	data []byte
}

// related is a message and its attachments as one multipart/related body (MTOM, XOP 1.0; RFC 2387),
// cut behind the last attachment, so that its data may also be put there.
func related(message []byte, all []attachment) (before, after []byte, kind string, err error) {
	var out bytes.Buffer
	w := multipart.NewWriter(&out)
	add := func(a attachment, kind, encoding string) {
		part, failed := w.CreatePart(textproto.MIMEHeader{"Content-Type": {kind},
			"Content-Id": {"<" + a.id + ">"}, "Content-Transfer-Encoding": {encoding}})
		if failed == nil {
			_, failed = part.Write(a.data)
		}
		err = errors.Join(err, failed)
	}
	add(attachment{"message", message}, xopKind, "8bit")
	for _, a := range all {
		add(a, "application/octet-stream", "binary")
	}
	before = bytes.Clone(out.Bytes())
	out.Reset()
	err = errors.Join(err, w.Close())
	return before, out.Bytes(), relatedKind(w.Boundary()), err
}

// The types of a message with attachments, and of the message in it (XOP 1.0, 4).
const xopKind = `application/xop+xml; charset=UTF-8; type="application/soap+xml"`

func relatedKind(boundary string) string {
	return `multipart/related; type="application/xop+xml"; start="<message>"; start-info="application/soap+xml"; boundary="` +
		boundary + `"`
}

// own checks that an address which the device named is its own: on its host, at the port
// where it is talked to or the usual one of the scheme. An image goes to the device that was
// checked, and to no other.
func (t *session) own(uri string) (string, error) {
	self, err := url.Parse(t.at.URL(""))
	if err != nil {
		return "", err
	}
	u, err := url.Parse(strings.TrimSpace(uri))
	if err != nil || u.Scheme != self.Scheme || u.Host == "" {
		return "", device.Because(device.Malformed, "an invalid upload address: %q",
			text.Clean(uri))
	}
	shown := u.Port() == self.Port() ||
		slices.Contains(map[string][]string{"http": {"", "80"}, "https": {"", "443"}}[u.Scheme],
			u.Port())
	if !shown { // another service may be there, which is none of the device's
		return "", device.Because(device.Malformed,
			"an upload address at a port that it did not show: %q",
			text.Clean(u.Host))
	}
	if u.Hostname() != self.Hostname() {
		return "", device.Because(device.Malformed, "an upload address on another host: %q",
			text.Clean(u.Host))
	}
	return u.String(), nil
}

// Progress is device.ErrUnsupported: ONVIF has no way to ask; the device writes what it has
// answered for, then restarts.
func (*update) Progress(context.Context) (int, error) { return 0, device.ErrUnsupported }

func (u *update) Activate(ctx context.Context) error {
	_, err := u.session.call(ctx, `<tds:SystemReboot/>`, true)
	return err
}

// Healthy requires every service of the baseline to be offered again, and the
// capabilities to be told.
func (t *session) Healthy(ctx context.Context, before device.Reading) error {
	now, err := t.services(ctx)
	if err != nil {
		return err
	}
	for _, s := range before.Services {
		if !slices.Contains(now, s) {
			return device.Because(device.Refusal, "it no longer offers %s", s)
		}
	}
	e, err := t.call(ctx,
		`<tds:GetCapabilities><tds:Category>Device</tds:Category></tds:GetCapabilities>`, false)
	if err == nil && e.Body.Capabilities == nil {
		err = device.Because(device.Malformed, "no capabilities")
	}
	return err
}

// Close has nothing to end: each request carries its own login.
func (t *session) Close(context.Context) error { return nil }
