package care

import (
	"bytes"
	"context"
	"crypto/x509"
	"errors"
	"fmt"
	"strings"
	"sync"

	"golang.org/x/sync/errgroup"

	"catena/internal/device"
	"catena/internal/dialect"
	"catena/internal/job"
	"catena/internal/login"
	"catena/internal/settings"
	"catena/internal/wire"
	"catena/internal/words"
)

// Checkup is what an audit checks on a device.
type Checkup struct {
	Device device.Device
	Save   *Saved // its newest save, to compare with; nil: none is compared
	// Default is the login that its maker publishes; nil: it is not tried.
	Default *login.Credential
	Roots   *x509.CertPool // who must have signed its certificate; nil: anyone
}

// Health is what an audit has read of a device.
type Health struct {
	Device      device.Device
	Trouble     error // why it could not be read; nil: it was
	Vitals      dialect.Vitals
	Certificate *x509.Certificate // nil: it was not reached over TLS
	Unsigned    string            // why the certificate does not lead to the Roots; empty: it does
	Saves       bool              // it can report its settings
	Plain       bool              // a login is sent to it without TLS, in whatever form
	Drift       string            // how its settings differ from the save; empty: they do not
	comparable  bool              // that they differ from a save says something
	HasDefault  bool              // the maker's login works
}

// Audit reads devices, at most 16 at a time and the children of one parent one after the other.
// Nothing is changed on them. A device that a job or another command has is left alone: its Trouble
// is a job.BusyError. The error is the ledger's, or that of ctx.
func (c Care) Audit(ctx context.Context, all []Checkup, done func(n int)) ([]Health, error) {
	out := make([]Health, len(all))
	devices := make([]device.Device, len(all))
	for i := range all {
		devices[i] = all[i].Device
	}
	err := apart(ctx, devices, done, func(ctx context.Context, i int) (err error) {
		out[i], err = c.audit(ctx, all[i])
		return err
	})
	return out, err
}

// apart does something with each of some devices: at most 16 at a time, and one after the other
// with the children of one parent.
func apart(ctx context.Context, devices []device.Device, done func(n int),
	do func(ctx context.Context, i int) error) error {
	chains := map[string][]int{} // places, by the device that they are reached through
	for i, d := range devices {
		by := d.Through
		if by == "" {
			by = d.ID
		}
		chains[by] = append(chains[by], i)
	}
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(askedAtOnce)
	var mu sync.Mutex // of count
	count := 0
	for _, chain := range chains {
		group.Go(func() error {
			for _, i := range chain {
				if err := do(ctx, i); err != nil {
					return err
				}
				mu.Lock()
				count++
				done(count)
				mu.Unlock()
			}
			return nil
		})
	}
	return group.Wait()
}

func (c Care) audit(ctx context.Context, q Checkup) (Health, error) {
	h := Health{Device: q.Device}
	release, err := job.Lease(c.Ledger, q.Device)
	if errors.As(err, new(*job.BusyError)) {
		h.Trouble = err
		return h, nil
	}
	if err != nil {
		return h, err
	}
	defer release()
	within, cancel := context.WithTimeout(ctx, askWithin)
	defer cancel()
	h.Trouble = c.vitals(within, q.Device, &h)
	if h.Trouble == nil {
		h.Trouble = c.certificate(within, q, &h)
	}
	if h.Trouble == nil && q.Save != nil && h.comparable { // others differ each time they are read
		h.Drift, h.Trouble = c.drift(within, q.Device, *q.Save)
	}
	if h.Trouble == nil && q.Default != nil {
		h.HasDefault, err = c.accepts(within, q.Device, *q.Default)
	}
	return h, errors.Join(err, ctx.Err())
}

// vitals reads a device with its own login.
func (c Care) vitals(ctx context.Context, d device.Device, h *Health) error {
	_, as, ok := c.Access.Contact(d)
	if !ok {
		return device.Because(device.NoLogin, "")
	}
	sends := as.Password != "" || as.Keyed()
	h.Plain = sends && d.Through == "" && !c.encrypted(d)
	session, err := c.Access.Session(d)
	if err != nil {
		return err
	}
	defer func() { _ = session.Close(context.WithoutCancel(ctx)) }()
	if _, err := session.Read(ctx); err != nil {
		return err
	}
	of, err := session.Settings()
	h.Saves = err == nil
	h.comparable = err == nil && (of.Steady() || of.Format() != settings.Opaque)
	h.Vitals, err = dialect.VitalsOf(ctx, session)
	return err
}

// encrypted tells whether what is sent to a device is: over TLS or SSH, or with SNMPv3, whose
// logins say themselves how.
func (c Care) encrypted(d device.Device) bool {
	if d.Scheme == "https" || d.ProtocolVersion == "v3" {
		return true
	}
	speaks, ok := c.Access.Dialects.Named(d.Dialect)
	return ok && speaks.About().Protocol == "ssh"
}

// certificate looks at the certificate of a device that is reached over TLS.
func (c Care) certificate(ctx context.Context, q Checkup, h *Health) error {
	if q.Device.Scheme != "https" || q.Device.Through != "" {
		return nil
	}
	at, _, _ := c.Access.Contact(q.Device)
	shown, err := wire.Certificates(ctx, q.Device.Address, at.Trust)
	if err != nil || len(shown) == 0 {
		return err
	}
	h.Certificate = shown[0]
	if q.Roots == nil {
		return nil
	}
	between := x509.NewCertPool()
	for _, s := range shown[1:] {
		between.AddCert(s)
	}
	_, err = shown[0].Verify(x509.VerifyOptions{Roots: q.Roots, Intermediates: between,
		CurrentTime: shown[0].NotBefore, KeyUsages: []x509.ExtKeyUsage{x509.ExtKeyUsageAny}})
	switch {
	case err == nil:
	case bytes.Equal(shown[0].RawIssuer, shown[0].RawSubject):
		h.Unsigned = "it signed its certificate itself"
	default:
		h.Unsigned = "its certificate was signed by " + shown[0].Issuer.String()
	}
	return nil
}

// drift compares the settings of a device with a save, in words.
func (c Care) drift(ctx context.Context, d device.Device, was Saved) (string, error) {
	now, err := c.Read(ctx, d)
	switch {
	case errors.Is(err, device.ErrUnsupported):
		return "", nil
	case err != nil:
		return "", err
	case now.Format != was.Format:
		return fmt.Sprintf("its settings are %s, and those of %s are %s", now.Format, was.Save,
			was.Format), nil
	case bytes.Equal(now.Data, was.Data):
		return "", nil
	}
	changes, err := settings.Diff(was.Format, was.Data, now.Data)
	switch {
	case err != nil: // they are not what their format says
		return "its settings are not those of " + was.Save, nil
	case len(changes) == 0:
		return "", nil
	}
	var paths []string
	for _, x := range changes {
		paths = append(paths, x.Path)
	}
	return fmt.Sprintf("%s since %s: %s", words.Plural(len(changes), "setting")+" changed", was.Save,
		words.FewOf(paths, 4)), nil
}

// accepts tells whether a device accepts the login that its maker publishes: by comparison with the
// login that it is reached with, or else by one attempt, which is recorded before it is made.
func (c Care) accepts(ctx context.Context, d device.Device, as login.Credential) (bool, error) {
	if _, own, ok := c.Access.Contact(d); ok && own.Password == as.Password &&
		strings.EqualFold(own.User, as.User) {
		return true, nil
	}
	session, err := c.Access.SessionAs(d, as)
	if err != nil {
		return false, nil
	}
	defer func() { _ = session.Close(context.WithoutCancel(ctx)) }()
	what := Change{What: DefaultTried}
	if err := c.Ledger.Append(ChangeBegun, "", d.ID, what); err != nil {
		return false, err
	}
	_, err = session.Read(ctx)
	if err != nil {
		what.Problem = err.Error()
	}
	return err == nil, c.Ledger.Append(ChangeOver, "", d.ID, what)
}
