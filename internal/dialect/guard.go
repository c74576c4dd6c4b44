package dialect

import (
	"context"
	"errors"
	"strings"

	"catena/internal/device"
)

// VerifyIdentity looks, without a login, whether the device at an address is still the one
// that is known, as far as it tells that openly. Its errors are a device.ErrIdentityChanged
// where it is another one, and whatever Probe returns where no one answers as it should:
// then no login must be sent either. Over UDP an agent may tell nothing openly; there only a
// changed identity is an error.
func VerifyIdentity(ctx context.Context, d Dialect, at At, known device.Identity) error {
	r, err := d.Probe(ctx, at)
	switch {
	case errors.Is(err, device.ErrIdentityChanged):
		return err
	case errors.Is(err, device.ErrNotMine) && known.Other(r.Identity) != nil:
	case err != nil && d.About().Transport != "udp":
		return err
	case err != nil:
		return nil
	}
	if other := known.Other(r.Identity); other != nil {
		if at.Trust != nil && r.Serial != "" && !strings.EqualFold(r.Serial, known.Serial) {
			_ = at.Trust(device.KeySerial, r.Serial) // so that a person can accept it
		}
		return other
	}
	switch {
	case at.Trust == nil || err != nil:
		return nil
	case r.Serial == "":
		return at.Trust(device.KeyShown, device.NotShown)
	}
	return at.Trust(device.KeyShown, device.Shown)
}

// Guard returns a session that verifies the identity of the device before each login and
// before each image: between two calls a device may restart, and another one may answer at
// its address. Every session with a known device is opened by it.
func Guard(d Dialect, at At, known device.Identity, s Session) Session {
	return &guard{Session: s, locks: len(at.Interlocks) > 0, verify: func(ctx context.Context) error {
		return VerifyIdentity(ctx, d, at, known)
	}}
}

type guard struct {
	Session
	locks  bool // the device's images have interlocks
	verify func(context.Context) error
}

func (g *guard) Read(ctx context.Context) (device.Reading, error) {
	if err := g.verify(ctx); err != nil {
		return device.Reading{}, err
	}
	return g.Session.Read(ctx)
}

func (g *guard) Healthy(ctx context.Context, baseline device.Reading) error {
	if err := g.verify(ctx); err != nil {
		return err
	}
	return g.Session.Healthy(ctx, baseline)
}

func (g *guard) Permission(ctx context.Context) error {
	if err := g.verify(ctx); err != nil {
		return err
	}
	return Permission(ctx, g.Session)
}

func (g *guard) SetPassword(ctx context.Context, fresh string) error {
	if err := g.verify(ctx); err != nil {
		return err
	}
	return SetPassword(ctx, g.Session, fresh)
}

func (g *guard) Vitals(ctx context.Context) (Vitals, error) {
	if err := g.verify(ctx); err != nil {
		return Vitals{}, err
	}
	return VitalsOf(ctx, g.Session)
}

func (g *guard) Children(ctx context.Context) ([]device.Child, error) {
	if err := g.verify(ctx); err != nil {
		return nil, err
	}
	return g.Session.Children(ctx)
}

func (g *guard) Update(component string) (Update, error) {
	u, err := g.Session.Update(component)
	if err != nil {
		return nil, err
	}
	if _, blind := u.(interface{ unseen() }); blind && g.locks {
		return nil, device.Because(device.Refusal,
			"its image has interlocks, and its protocol cannot check them")
	}
	return &guardedUpdate{Update: u, verify: g.verify}, nil
}

func (g *guard) Settings() (Settings, error) {
	s, err := g.Session.Settings()
	if err != nil {
		return nil, err
	}
	return guardedSettings{s, g.verify}, nil
}

func (g *guard) Network() (Network, error) {
	n, err := g.Session.Network()
	if err != nil {
		return nil, err
	}
	return guardedNetwork{n, g.verify}, nil
}

type guardedNetwork struct {
	Network
	verify func(context.Context) error
}

func (n guardedNetwork) Move(ctx context.Context, to NetworkConfig) error {
	if err := n.verify(ctx); err != nil {
		return err
	}
	return n.Network.Move(ctx, to)
}

func (g *guard) Carry() (Carry, error) {
	c, err := g.Session.Carry()
	if err != nil {
		return nil, err
	}
	return guardedCarry{c, g.verify}, nil
}

type guardedCarry struct {
	Carry
	verify func(context.Context) error
}

func (c guardedCarry) Write(ctx context.Context, v device.Value) error {
	if err := c.verify(ctx); err != nil {
		return err
	}
	return c.Carry.Write(ctx, v)
}

func (g *guard) Locate() (Locator, error) {
	l, err := g.Session.Locate()
	if err != nil {
		return nil, err
	}
	return guardedLocator{l, g.verify}, nil
}

type guardedUpdate struct {
	Update
	verify func(context.Context) error
	lost   bool // it did not answer a question: who answers the next one is not known
}

func (u *guardedUpdate) Interlock(ctx context.Context) error {
	if err := u.verify(ctx); err != nil {
		return err
	}
	return u.Update.Interlock(ctx)
}

func (u *guardedUpdate) Ready(ctx context.Context, image Image) error {
	if err := u.verify(ctx); err != nil {
		return err
	}
	return u.Update.Ready(ctx, image)
}

func (u *guardedUpdate) Transfer(ctx context.Context, image Image, sent func(int64)) error {
	if err := u.verify(ctx); err != nil {
		return err
	}
	err := u.Update.Transfer(ctx, image, sent)
	u.lost = err != nil
	return err
}

func (u *guardedUpdate) Progress(ctx context.Context) (int, error) {
	if u.lost {
		if err := u.verify(ctx); err != nil {
			return 0, err
		}
	}
	percent, err := u.Update.Progress(ctx)
	u.lost = err != nil
	return percent, err
}

func (u *guardedUpdate) Activate(ctx context.Context) error {
	if err := u.verify(ctx); err != nil {
		return err
	}
	return u.Update.Activate(ctx)
}

func (u *guardedUpdate) Revert(ctx context.Context) error {
	if err := u.verify(ctx); err != nil {
		return err
	}
	return u.Update.Revert(ctx)
}

type guardedSettings struct {
	Settings
	verify func(context.Context) error
}

func (s guardedSettings) Save(ctx context.Context) ([]byte, error) {
	if err := s.verify(ctx); err != nil {
		return nil, err
	}
	return s.Settings.Save(ctx)
}

func (s guardedSettings) Restore(ctx context.Context, saved []byte) error {
	if err := s.verify(ctx); err != nil {
		return err
	}
	return s.Settings.Restore(ctx, saved)
}

type guardedLocator struct {
	Locator
	verify func(context.Context) error
}

func (l guardedLocator) Show(ctx context.Context, on bool, output string) (string, error) {
	if err := l.verify(ctx); err != nil {
		return "", err
	}
	return l.Locator.Show(ctx, on, output)
}
