// Package redfish talks to devices with a Redfish service (DMTF DSP0266): what they are, what
// firmware they run, and how it is updated through the UpdateService.
//
// A login is a session token (DSP0266, 13.3.4) over TLS, HTTP Digest where the service
// asks for that, and HTTP Basic at last, over TLS or where a family allows it.
package redfish

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"path"
	"slices"
	"strings"

	"catena/internal/device"
	"catena/internal/dialect"
	"catena/internal/firmware"
	"catena/internal/login"
	"catena/internal/text"
	"catena/internal/wire"
)

// UsualPath is the service root: DSP0266, 6.3.
const UsualPath = "/redfish/v1/"

// Dialect is the dialect.
type Dialect struct{}

// About describes the dialect.
func (Dialect) About() dialect.About {
	return dialect.About{Name: "redfish", Rank: 30, Transport: "tcp", Ports: []uint16{443, 8443}}
}

// ref points to another resource.
type ref struct {
	ID string `json:"@odata.id"`
}

// root is the ServiceRoot.
type root struct {
	RedfishVersion string `json:"RedfishVersion"`
	UUID           string `json:"UUID"`
	Vendor         string `json:"Vendor"`
	Product        string `json:"Product"`
	Name           string `json:"Name"`
	Systems        ref    `json:"Systems"`
	Managers       ref    `json:"Managers"`
	Chassis        ref    `json:"Chassis"`
	Update         ref    `json:"UpdateService"`
	Tasks          ref    `json:"Tasks"`
	Registries     ref    `json:"Registries"`
	Accounts       ref    `json:"AccountService"`
	Sessions       struct {
		Sessions ref `json:"Sessions"`
	} `json:"Links"`
}

type collection struct {
	Members []ref `json:"Members"`
}

// resource has what ComputerSystem, Manager, Chassis and SoftwareInventory have of it.
type resource struct {
	Manufacturer    string `json:"Manufacturer"`
	Model           string `json:"Model"`
	SerialNumber    string `json:"SerialNumber"`
	PartNumber      string `json:"PartNumber"`
	HostName        string `json:"HostName"`
	DateTime        string `json:"DateTime"`
	FirmwareVersion string `json:"FirmwareVersion"`
	BiosVersion     string `json:"BiosVersion"`
	ID              string `json:"Id"`
	Version         string `json:"Version"`
	ODataID         string `json:"@odata.id"`
	Indicator       *bool  `json:"LocationIndicatorActive"`
	Updateable      *bool  `json:"Updateable"`
	Ethernet        ref    `json:"EthernetInterfaces"`
	Bios            ref    `json:"Bios"`
	Status          struct {
		Health string `json:"Health"`
	} `json:"Status"`
	Links struct {
		Active ref   `json:"ActiveSoftwareImage"`
		Images []ref `json:"SoftwareImages"`
	} `json:"Links"`
	Actions struct {
		Reset  reset `json:"#Manager.Reset"`
		System reset `json:"#ComputerSystem.Reset"`
	} `json:"Actions"`
}

// reset is an action that restarts something.
type reset struct {
	Target string   `json:"target"`
	Types  []string `json:"ResetType@Redfish.AllowableValues"`
}

// Probe asks for the service root, which is open to all (DSP0266, 13.3.1).
func (d Dialect) Probe(ctx context.Context, at dialect.At) (device.Reading, error) {
	r, err := d.open(at, login.Credential{}).root(ctx)
	if err != nil {
		return device.Reading{}, err
	}
	return r.reading().Clean(), nil
}

func (r root) reading() device.Reading {
	return device.Reading{Identity: device.Identity{Vendor: r.Vendor, Model: r.Product,
		UUID: uuid(r.UUID)}}
}

func uuid(text string) string {
	if text == "" {
		return ""
	}
	return "urn:uuid:" + strings.ToLower(text)
}

// Open starts a session.
func (d Dialect) Open(at dialect.At, as login.Credential) dialect.Session { return d.open(at, as) }

func (Dialect) open(at dialect.At, as login.Credential) *session {
	if at.Path == "" {
		at.Path = UsualPath
	}
	return &session{at: at, as: as, http: wire.NewHTTP(at.Trust).With(as),
		auth: wire.HTTPAuth{As: as, Secure: at.Secure()}}
}

type session struct {
	dialect.NoChildren
	dialect.NoCarry
	at     dialect.At
	as     login.Credential
	http   *wire.HTTP
	auth   wire.HTTPAuth
	token  string
	opened string // the resource of the session that the token is of

	// What was read last.
	systems, managers, tasks ref
	registries               ref
	lockout                  *int                         // nil: not read yet
	words                    map[string]map[string]string // of messages, by registry and name
	looking                  bool                         // for those
	updates                  ref                          // the UpdateService
	service                  service
	manages                  resource            // the first manager
	parts                    map[string]resource // the firmware inventory, by component
}

// root reads the service root. It is open to all (DSP0266, 13.3.1), so it is read without the
// login: a service may reject a token that its restart or a timeout has ended even here, and a
// rejected token does not mean that something else answers.
func (t *session) root(ctx context.Context) (root, error) {
	var r root
	a, err := t.plainly(ctx, http.MethodGet, t.at.Path, nil)
	if err == nil {
		err = decode(a, &r)
	}
	switch {
	case errors.Is(err, device.ErrAway), errors.Is(err, device.ErrIdentityChanged),
		ctx.Err() != nil:
		return r, err
	case err != nil || r.RedfishVersion == "":
		return r, device.ErrNotMine
	}
	t.registries = r.Registries
	return r, nil
}

// get reads one resource.
func (t *session) get(ctx context.Context, at string, into any) error {
	a, err := t.ask(ctx, http.MethodGet, at, nil, nil)
	if err != nil {
		return err
	}
	return decode(a, into)
}

func decode(a wire.Answer, into any) error {
	if err := json.Unmarshal(a.Body, into); err != nil {
		return device.Because(device.Malformed, "unexpected JSON")
	}
	return nil
}

// request returns a request. An authenticated one carries the session's token, or the answer to
// the service's challenge.
func (t *session) request(as access, method, at string, body []byte) (*http.Request, error) {
	if !strings.HasPrefix(at, "/") || strings.HasPrefix(at, "//") || len(at) > 512 {
		return nil, device.Because(device.Malformed, "a link that leads elsewhere: %q", text.Clean(at))
	}
	r, err := http.NewRequest(method, t.at.URL(at), bytes.NewReader(body))
	if err != nil {
		return nil, device.Because(device.Malformed, "an invalid link")
	}
	r.Header.Set("Accept", "application/json")
	r.Header.Set("OData-Version", "4.0")
	switch {
	case as == anonymous:
	case t.token != "":
		r.Header.Set("X-Auth-Token", t.token)
	default:
		err = t.auth.Sign(r)
	}
	return r, err
}

// plainly sends one request without the login.
func (t *session) plainly(ctx context.Context, method, at string, body any) (wire.Answer, error) {
	return t.exchange(ctx, anonymous, method, at, nil, body)
}

// ask sends one request with the login.
func (t *session) ask(ctx context.Context, method, at string, header http.Header,
	body any) (wire.Answer, error) {
	return t.exchange(ctx, authenticated, method, at, header, body)
}

// access is whether a request carries the login.
type access bool

const (
	anonymous     access = false
	authenticated access = true
)

// exchange sends a request, and once more with the login where the service challenges it.
// Only paths on the device itself are requested. A rejected token is final here; inside logs in
// again.
func (t *session) exchange(ctx context.Context, as access, method, at string, header http.Header,
	body any) (wire.Answer, error) {
	raw, err := json.Marshal(body)
	if err != nil {
		return wire.Answer{}, err
	}
	for again := false; ; again = true {
		r, err := t.request(as, method, at, raw)
		if err != nil {
			return wire.Answer{}, err
		}
		for k, v := range header {
			r.Header[k] = v
		}
		if body != nil {
			r.Header.Set("Content-Type", "application/json")
		} else {
			r.Body, r.ContentLength = http.NoBody, 0
		}
		ask := t.http.Ask
		if method == http.MethodGet {
			ask = t.http.Read
		}
		a, err := ask(ctx, r)
		if err != nil {
			return a, err
		}
		challenged := a.Status == http.StatusUnauthorized
		if challenged && as == authenticated && t.token == "" && !again {
			if err := t.auth.Take(a.Header); err != nil {
				return a, err
			}
			continue
		}
		if as == authenticated && !challenged {
			t.auth.Accepted()
		}
		return a, t.understand(ctx, a)
	}
}

// understand finds the error that an answer stands for: DSP0266, 8.6.
func (t *session) understand(ctx context.Context, a wire.Answer) error {
	var e struct {
		Error struct {
			Message  string    `json:"message"`
			Extended []message `json:"@Message.ExtendedInfo"`
		} `json:"error"`
		Extended []message `json:"@Message.ExtendedInfo"`
	}
	_ = json.Unmarshal(a.Body, &e) // the status says enough where there is none
	all := append(e.Extended, e.Error.Extended...)
	for _, m := range all {
		if strings.HasSuffix(m.ID, ".PasswordChangeRequired") {
			return device.ErrNewPassword
		}
	}
	switch {
	case a.Status >= 200 && a.Status < 300:
		return nil
	case a.Status == http.StatusUnauthorized:
		return device.ErrLoginRefused
	case a.Status == http.StatusForbidden:
		return device.ErrNoRight
	}
	if len(all) == 0 && e.Error.Message == "" {
		e.Error.Message = fmt.Sprintf("HTTP %d", a.Status)
	}
	return t.refusal(ctx, all, e.Error.Message)
}

// logIn opens a session where that does not show the password. Where there are no
// sessions, the service's own challenge names the method.
func (t *session) logIn(ctx context.Context, r root) error {
	if !t.at.Secure() || r.Sessions.Sessions.ID == "" {
		return nil
	}
	a, err := t.plainly(ctx, http.MethodPost, r.Sessions.Sessions.ID,
		map[string]string{"UserName": t.as.User, "Password": t.as.Password})
	switch {
	case errors.Is(err, device.ErrRefused) &&
		(a.Status == http.StatusNotFound || a.Status == http.StatusMethodNotAllowed):
		return nil
	case errors.Is(err, device.ErrNoRight):
		return device.ErrLoginRefused
	case err != nil:
		return err
	}
	t.token = a.Header.Get("X-Auth-Token")
	t.opened = pathOf(a.Header.Get("Location"))
	return nil
}

// Close ends the session at the service, which allows only a few: DSP0266, 13.3.4.4.
func (t *session) Close(ctx context.Context) error {
	if t.token == "" || t.opened == "" {
		return nil
	}
	_, err := t.ask(ctx, http.MethodDelete, t.opened, nil, nil)
	t.token, t.opened = "", ""
	return err
}

// Read logs in and asks the first system, chassis and manager, and the firmware
// inventory (DSP0266; schemas in DSP8010).
func (t *session) Read(ctx context.Context) (device.Reading, error) {
	r, err := t.root(ctx)
	if err != nil {
		return device.Reading{}, err
	}
	f := r.reading()
	t.systems, t.managers, t.tasks, t.updates = r.Systems, r.Managers, r.Tasks, r.Update
	err = t.inside(ctx, func() error { return t.readInside(ctx, r, &f) })
	return f.Clean(), err
}

// inside does what requires a login, and does it once more where the session was lost.
func (t *session) inside(ctx context.Context, do func() error) error {
	had := t.token != ""
	if !had {
		r, err := t.root(ctx)
		if err == nil {
			err = t.logIn(ctx, r)
		}
		if err != nil {
			return err
		}
	}
	err := do()
	if had && errors.Is(err, device.ErrLoginRefused) {
		t.token, t.opened = "", ""
		return t.inside(ctx, do)
	}
	return err
}

func (t *session) readInside(ctx context.Context, r root, f *device.Reading) (err error) {
	for _, c := range []ref{r.Systems, r.Chassis, r.Managers} {
		got, err := t.first(ctx, c)
		if err != nil {
			return err
		}
		if c == r.Managers {
			t.manages = got
			if f.Idle, err = t.idle(ctx, got); err != nil {
				return err
			}
		}
		for _, x := range []struct{ to, from *string }{
			{&f.Vendor, &got.Manufacturer}, {&f.Model, &got.Model}, {&f.Serial, &got.SerialNumber},
			{&f.Hardware, &got.PartNumber}, {&f.Called, &got.HostName},
			{&f.Version, &got.FirmwareVersion},
		} {
			if *x.to == "" {
				*x.to = *x.from
			}
		}
	}
	if err := t.readService(ctx); err != nil {
		return err
	}
	if f.Lockout, err = t.lockoutOf(ctx, r.Accounts); err != nil {
		return err
	}
	f.Components = map[string]string{}
	for name, part := range t.parts {
		if name != firmware.Main {
			f.Components[name] = part.Version
		}
	}
	if f.Version == "" {
		return device.Because(device.Malformed, "a manager without a firmware version")
	}
	return nil
}

// lockoutOf is the number of wrong logins after which the service locks an account (the
// AccountService's AccountLockoutThreshold, DSP8010); 0: it never does, or does not report it.
func (t *session) lockoutOf(ctx context.Context, accounts ref) (int, error) {
	switch {
	case t.lockout != nil:
		return *t.lockout, nil
	case accounts.ID == "":
		return 0, nil
	}
	var policy struct {
		Threshold int `json:"AccountLockoutThreshold"`
	}
	switch err := t.get(ctx, accounts.ID, &policy); {
	case errors.Is(err, device.ErrAway), errors.Is(err, device.ErrLoginRefused):
		return 0, err
	case err != nil || policy.Threshold < 0: // it keeps that to itself
		policy.Threshold = 0
	}
	t.lockout = &policy.Threshold
	return policy.Threshold, nil
}

// idle is the version of the manager's other image, where it has two.
func (t *session) idle(ctx context.Context, manager resource) (map[string]string, error) {
	other := manager.other()
	if other == "" {
		return nil, nil
	}
	var image resource
	switch err := t.get(ctx, other, &image); {
	case errors.Is(err, device.ErrAway), errors.Is(err, device.ErrLoginRefused):
		return nil, err
	case err != nil: // it keeps that to itself
		return nil, nil
	}
	return map[string]string{firmware.Main: image.Version}, nil
}

// first reads the first member of a collection; where there is none, nothing.
func (t *session) first(ctx context.Context, c ref) (resource, error) {
	var list collection
	var got resource
	if c.ID == "" {
		return got, nil
	}
	if err := t.get(ctx, c.ID, &list); err != nil || len(list.Members) == 0 {
		return got, err
	}
	return got, t.get(ctx, list.Members[0].ID, &got)
}

// maxInventory is how many parts' versions are asked for.
const maxInventory = 16

// readService reads the update service, and the firmware inventory: the versions of the parts.
func (t *session) readService(ctx context.Context) error {
	t.service, t.parts = service{}, map[string]resource{}
	if t.updates.ID == "" {
		return nil
	}
	var list collection
	if err := t.get(ctx, t.updates.ID, &t.service); err != nil || t.service.Firmware.ID == "" {
		return err
	}
	if err := t.get(ctx, t.service.Firmware.ID, &list); err != nil {
		return err
	}
	for _, m := range list.Members[:min(len(list.Members), maxInventory)] {
		var part resource
		if err := t.get(ctx, m.ID, &part); err != nil {
			return err
		}
		part.ODataID = m.ID
		name := part.ID
		if name == "" {
			name = path.Base(m.ID)
		}
		links := t.manages.Links
		switch {
		case m == links.Active || links.Active.ID == "" && strings.EqualFold(name, "BMC"):
			name = firmware.Main // the manager's own
		case slices.Contains(links.Images, m): // in its other slot
			continue
		}
		t.parts[name] = part
	}
	return nil
}

// Locate is LocationIndicatorActive of the first chassis or system that has it.
func (t *session) Locate() (dialect.Locator, error) { return indicator{t}, nil }

type indicator struct{ session *session }

func (i indicator) Show(ctx context.Context, on bool, output string) (string, error) {
	if output != "" {
		return "", device.Because(device.Refusal, "it has no outputs to name; leave the output out")
	}
	what := ""
	err := i.session.inside(ctx, func() (err error) {
		what, err = i.set(ctx, on)
		return err
	})
	return what, err
}

// set lights the first indicator that there is, or switches it off.
func (i indicator) set(ctx context.Context, on bool) (string, error) {
	t := i.session
	r, err := t.root(ctx)
	if err != nil {
		return "", err
	}
	for _, c := range []ref{r.Chassis, r.Systems} {
		var list collection
		if c.ID == "" {
			continue
		}
		if err := t.get(ctx, c.ID, &list); err != nil {
			return "", err
		}
		for _, m := range list.Members[:min(len(list.Members), maxInventory)] {
			a, err := t.ask(ctx, http.MethodGet, m.ID, nil, nil)
			var got resource
			if err != nil || json.Unmarshal(a.Body, &got) != nil || got.Indicator == nil {
				continue
			}
			header := http.Header{}
			if tag := a.Header.Get("ETag"); tag != "" {
				header.Set("If-Match", tag) // DSP0266, 6.5: not over someone else's change
			}
			_, err = t.ask(ctx, http.MethodPatch, m.ID, header,
				map[string]bool{"LocationIndicatorActive": on})
			return "its location indicator is lit", err
		}
	}
	return "", device.Because(device.Refusal, "it has no location indicator")
}
