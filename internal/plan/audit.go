package plan

import (
	"context"
	"crypto/x509"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"catena/internal/audit"
	"catena/internal/care"
	"catena/internal/device"
	"catena/internal/firmware"
	"catena/internal/login"
	"catena/internal/match"
	"catena/internal/notify"
	"catena/internal/record"
	"catena/internal/workspace"
)

// AuditRequest says what an audit does besides.
type AuditRequest struct {
	Rows []Row
	// Defaults tries the login that the maker publishes, once, on devices that never lock.
	Defaults bool
	// Whole: the site is audited as well, not only these devices.
	Whole bool
}

// Audit reads devices and returns what it finds, the worst first. It changes nothing on them; the
// result is recorded. done reports how many devices were read. Its errors are those of the ledger,
// of the authority's file, and of ctx.
func (w *Site) Audit(ctx context.Context, c care.Care, r AuditRequest, done func(n, of int)) (
	[]audit.Finding, error) {
	roots, err := w.authority()
	if err != nil {
		return nil, err
	}
	var out []audit.Finding
	var checkups []care.Checkup
	saves := map[string][]care.Saved{} // by the ID of the device
	for _, row := range workspace.Mains(r.Rows) {
		found, reads := w.known(row)
		out = append(out, found...)
		if !reads {
			continue
		}
		d := row.Match.Device
		q := care.Checkup{Device: d, Roots: roots, Default: w.defaultLogin(d, r.Defaults)}
		saved, err := c.Store.All(d.ID)
		if err != nil {
			return nil, err
		}
		if saves[d.ID] = saved; len(saved) > 0 && saved[0].Version == d.Version {
			q.Save = &saved[0]
		}
		checkups = append(checkups, q)
	}
	read, err := c.Audit(ctx, checkups, func(n int) { done(n, len(checkups)) })
	if err != nil {
		return nil, err
	}
	for _, h := range read {
		out = append(append(out, w.found(h)...), noSave(h, saves[h.Device.ID])...)
	}
	if r.Whole {
		out = append(out, w.siteFindings()...)
	}
	if out, err = w.withAcceptances(out); err != nil {
		return nil, err
	}
	audit.Sort(out)
	if !r.Whole {
		return out, nil
	}
	return out, record.AddAudit(w.Ledger, out)
}

// LastAudit returns the findings of the newest audit of the whole site, and when it was made; the
// zero time: there was none.
func (w *Site) LastAudit() ([]audit.Finding, time.Time, error) { return record.LastAudit(w.Ledger) }

// AuthorityError is returned for a file of an authority that has no certificate.
type AuthorityError struct {
	File string
	Err  error
}

func (e *AuthorityError) Error() string {
	return "audit: authority: " + e.File + ": " + e.Err.Error()
}

// authority are the certificates that must have signed those of devices; nil: anyone may.
func (w *Site) authority() (*x509.CertPool, error) {
	name := w.Site.Audit.Authority
	if name == "" {
		return nil, nil
	}
	root, err := os.OpenRoot(w.Dir)
	if err != nil {
		return nil, err
	}
	defer func() { _ = root.Close() }()
	raw, err := root.ReadFile(name)
	if err != nil {
		return nil, &AuthorityError{name, err}
	}
	pool := x509.NewCertPool()
	if !pool.AppendCertsFromPEM(raw) {
		return nil, &AuthorityError{name, errors.New("it has no certificate in PEM")}
	}
	return pool, nil
}

// known are the findings that need no reading; reads tells whether the device can be read.
func (w *Site) known(row Row) (out []audit.Finding, reads bool) {
	d := row.Match.Device
	if row.Spare { // it lies in a cabinet
		return nil, d.Access == device.OK && match.Status(row.Status) != match.Away
	}
	for _, r := range w.Rows {
		if r.ID == d.ID && match.Status(r.Status) == match.Unsafe {
			why := r.Reason
			if r.Component != firmware.Main {
				why = r.Component + ": " + why
			}
			out = append(out, audit.Of(audit.Unsafe, d.Name, d.ID, "%s", why))
		}
	}
	switch d.Access {
	case device.OK:
		return out, d.Known() && match.Status(row.Status) != match.Away
	case device.IdentityChanged:
		return append(out, audit.Of(audit.Identity, d.Name, d.ID, "%s", d.Why())), false
	case device.Away:
		return append(out, audit.Of(audit.Away, d.Name, d.ID, "%s", d.Why())), false
	}
	return append(out, audit.Of(audit.NoAccess, d.Name, d.ID, "%s", d.Why())), false
}

// noSave is the finding for a device whose settings of today are not saved.
func noSave(h care.Health, saved []care.Saved) []audit.Finding {
	d := h.Device
	switch {
	case !h.Saves:
		return nil
	case len(saved) == 0:
		return []audit.Finding{audit.Of(audit.NoSave, d.Name, d.ID, "its settings were never saved")}
	case saved[0].Version != d.Version:
		return []audit.Finding{audit.Of(audit.NoSave, d.Name, d.ID, "its newest save is of %s, and it "+
			"runs %s", saved[0].Version, d.Version)}
	}
	return nil
}

// defaultLogin is the login that the maker of a device publishes, where it may be tried; nil: none.
func (w *Site) defaultLogin(d device.Device, wanted bool) *login.Credential {
	f := w.Families.Of(d.Vendor, d.Model)
	if !wanted || f.DefaultLogin == nil || f.Lockout > 0 || d.Lockout > 0 || d.Through != "" {
		return nil
	}
	return &login.Credential{User: f.DefaultLogin.User, Password: f.DefaultLogin.Password}
}

// found are the findings about a device that was read.
func (w *Site) found(h care.Health) (out []audit.Finding) {
	d := h.Device
	add := func(f audit.Finding, is bool) {
		if is {
			out = append(out, f)
		}
	}
	switch {
	case errors.Is(h.Trouble, device.ErrIdentityChanged):
		add(audit.Of(audit.Identity, d.Name, d.ID, "%v", h.Trouble), true)
	case h.Trouble != nil:
		add(audit.Of(audit.Unread, d.Name, d.ID, "%v", h.Trouble), true)
	}
	add(audit.Of(audit.DefaultPassword, d.Name, d.ID, "it accepts the login that its maker publishes"),
		h.HasDefault)
	add(audit.Of(audit.Plain, d.Name, d.ID, "it is reached without TLS"), h.Plain)
	if h.Vitals.Clock {
		add(audit.ClockOf(d.Name, d.ID, h.Vitals.Ahead))
	}
	if h.Vitals.Storage {
		add(audit.StorageOf(d.Name, d.ID, h.Vitals.Free))
	}
	if h.Certificate != nil {
		add(audit.CertificateOf(d.Name, d.ID, h.Certificate.NotBefore, h.Certificate.NotAfter, w.now()))
	}
	add(audit.Of(audit.Unsigned, d.Name, d.ID, "%s", h.Unsigned), h.Unsigned != "")
	add(audit.Of(audit.Drift, d.Name, d.ID, "%s", h.Drift), h.Drift != "")
	return out
}

// siteFindings are those about the site's files.
func (w *Site) siteFindings() (out []audit.Finding) {
	for _, r := range w.UnresolvedReferences() {
		switch {
		case r.Where == "hold":
			out = append(out, audit.Of(audit.Hold, r.Word, "", "%s", r))
		case strings.HasPrefix(r.Where, "targets"):
			out = append(out, audit.Of(audit.Target, r.Word, "", "%s", r))
		}
	}
	if w.SecondPlace() == "" {
		out = append(out, audit.Of(audit.NoSecondPlace, "", "", "saved settings are kept in this folder "+
			"only"))
	}
	return out
}

// key is what a finding is accepted by besides its kind: its device, or a word of the site's files.
func acceptKey(f audit.Finding) string {
	if f.ID != "" {
		return f.ID
	}
	return f.Device
}

func (w *Site) withAcceptances(all []audit.Finding) ([]audit.Finding, error) {
	accepted, err := record.Accepted(w.Ledger, w.now(), w.Zone())
	for i, f := range all {
		if a, is := accepted[f.Kind][acceptKey(f)]; is {
			all[i].Accepted, all[i].Until = a.Because+" ("+a.By+")", a.Until
		}
	}
	if all == nil {
		all = []audit.Finding{}
	}
	return all, err
}

// AcceptError is returned for a finding that cannot be accepted.
type AcceptError struct{ Reason string }

func (e *AcceptError) Error() string { return e.Reason }

// AcceptFinding records that a finding is accepted until a day, or, with Dropped, that it is not
// any more. word means a device, or is a word of the site's files. Its error is an AcceptError.
func (w *Site) AcceptFinding(a record.Acceptance, word string) error {
	if !slices.Contains(audit.Kinds, a.Kind) {
		return &AcceptError{fmt.Sprintf("there is no finding %q", a.Kind)}
	}
	ends, err := time.ParseInLocation(time.DateOnly, a.Until, w.Zone())
	switch {
	case a.Dropped:
	case err != nil:
		return &AcceptError{fmt.Sprintf("%q is not a day, such as 2027-03-01", a.Until)}
	case !ends.After(w.now()):
		return &AcceptError{a.Until + " is over"}
	case strings.TrimSpace(a.Because) == "":
		return &AcceptError{"a reason is missing"}
	}
	key := word
	if word != "" {
		if _, d, err := w.Device(word); err == nil {
			key = d.ID
		} else if a.Kind != audit.Hold && a.Kind != audit.Target {
			return err
		}
	}
	return record.Accept(w.Ledger, key, a)
}

// Audited tells, once, of open findings that no one was told of. What someone could not be told is
// told again the next time.
func (t Teller) Audited(all []audit.Finding) error {
	var said []string
	for _, f := range all {
		if f.Accepted == "" {
			said = append(said, strings.TrimSpace(f.Device+": ")+" "+f.Text)
		}
	}
	_, err := t.tellNew(notify.Audit, "Audit of "+t.Site.Name()+": ", said)
	return err
}

// tellNew tells of what no one was told of, as one event, and returns it.
func (t Teller) tellNew(kind notify.Kind, heading string, all []string) (news []string, err error) {
	news, err = record.FreshNews(t.Site.Ledger, all)
	if err != nil || len(news) == 0 {
		return nil, err
	}
	var failed atomic.Bool
	sender := notify.New(t.Targets(), t.Bell, func(target notify.Target, err error) {
		failed.Store(failed.Load() || !errors.Is(err, notify.ErrNotAllowed))
		t.Failed(target, err)
	})
	sender.Tell(notify.Event{Kind: kind, At: t.Site.now().UTC(), Site: t.Site.Name(),
		Text: heading + strings.Join(news, "; ")})
	sender.Close(tellAtMost)
	if failed.Load() {
		return nil, nil
	}
	return news, record.Told(t.Site.Ledger, news)
}
