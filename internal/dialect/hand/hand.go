// Package hand is the dialect of devices that only a person updates: with a cable, a stick or at a
// keyboard of their own. Catena lays the verified image ready, asks, and waits. One that can be
// read by another dialect proves itself; of one that no one reads a person's word is all there is.
package hand

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"time"

	"catena/internal/device"
	"catena/internal/dialect"
	"catena/internal/firmware"
	"catena/internal/login"
)

// Name is the dialect's.
const Name = "hand"

// UsualWithin is how long a person is waited for where the site does not say.
const UsualWithin = 8 * time.Hour

// Dialect is for devices that cannot be read: an operator declares what they run.
type Dialect struct{}

// About has no port and no transport: nothing finds such a device but the site's own file.
func (Dialect) About() dialect.About {
	return dialect.About{Name: Name, Protocol: "by hand", Rank: 1000, Transport: Name}
}

// Probe finds no one else: there is no one to ask.
func (Dialect) Probe(context.Context, dialect.At) (device.Reading, error) {
	return device.Reading{}, nil
}

// Open returns the operator's declaration.
func (Dialect) Open(at dialect.At, _ login.Credential) dialect.Session {
	s := reported{}
	if at.Manual != nil {
		s.known = at.Manual.Known
	}
	return Over(&s, at)
}

// reported is a session with a device that no one reads: a person reports its version.
type reported struct {
	dialect.ReadOnly
	known device.Reading
}

func (t *reported) Read(context.Context) (device.Reading, error) { return t.known, nil }

// Over is a session in which a person updates the device, whoever reads it.
func Over(by dialect.Session, at dialect.At) dialect.Session { return session{by, at} }

type session struct {
	dialect.Session
	at dialect.At
}

// Update is that of the main component: a person is asked for nothing else.
func (s session) Update(component string) (dialect.Update, error) {
	if component != firmware.Main {
		return nil, device.ErrUnsupported
	}
	return &update{of: s}, nil
}

type update struct {
	dialect.NoInterlocks
	dialect.OneSlot
	of session
}

// Traits: the person restarts it.
func (*update) Traits() dialect.Traits { return dialect.Traits{RestartsByItself: true} }

// Interlock is that the stick is in, where the images go to one.
func (u *update) Interlock(context.Context) error {
	h := u.of.at.Manual
	if h == nil || u.of.at.Ask == nil {
		return device.Because(device.NeedsPerson, "there is no operator to ask")
	}
	if h.Stick == "" {
		return nil
	}
	if i, err := os.Stat(h.Stick); err != nil || !i.IsDir() {
		return device.Because(device.NotNow, "the stick for it is not plugged in: there is no "+
			"folder %s", h.Stick)
	}
	return nil
}

func (u *update) Ready(ctx context.Context, _ dialect.Image) error { return u.Interlock(ctx) }

// Transfer lays the image ready, and returns when a person says that the device runs it.
func (u *update) Transfer(ctx context.Context, image dialect.Image, sent func(int64)) error {
	h := u.of.at.Manual
	path, err := lay(filepath.Join(h.Stick, h.Folder), image, sent)
	if err != nil {
		return device.Because(device.OwnFault, "%v", err)
	}
	within := h.Within
	if within == 0 {
		within = UsualWithin
	}
	what := fmt.Sprintf("bring it to %s by hand; the image is %s.", image.Version, path)
	if h.How != "" {
		what += " " + h.How
	}
	asking, cancel := context.WithTimeout(ctx, within)
	defer cancel()
	err = u.of.at.Ask(asking, what, false)
	if errors.Is(err, context.DeadlineExceeded) {
		return device.Because(device.NeedsPerson, "no operator confirmed within %s that it "+
			"runs %s", within,
			image.Version)
	}
	if t, is := u.of.Session.(*reported); is && err == nil {
		t.known.Version = image.Version
	}
	return err
}

// lay writes an image into a folder, reads it back from there, and returns where it is.
func lay(folder string, image dialect.Image, sent func(int64)) (path string, err error) {
	name := filepath.Base(image.File)
	if strings.Trim(name, `./\`) == "" {
		name = image.SHA256
	}
	path = filepath.Join(folder, name)
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return path, err
	}
	f, err := os.Create(path)
	if err != nil {
		return path, err
	}
	_, err = io.Copy(&counted{f, 0, sent}, io.NewSectionReader(image, 0, image.Size))
	if err := errors.Join(err, f.Sync(), f.Close()); err != nil {
		return path, err
	}
	back, err := os.Open(path)
	if err != nil {
		return path, err
	}
	defer func() { _ = back.Close() }() // only read from
	h := sha256.New()
	if _, err := io.Copy(h, back); err != nil {
		return path, err
	}
	if hex.EncodeToString(h.Sum(nil)) != image.SHA256 {
		return path, fmt.Errorf("%s differs from what was written: the stick is damaged", path)
	}
	return path, nil
}

type counted struct {
	to   io.Writer
	n    int64
	sent func(int64)
}

func (c *counted) Write(p []byte) (int, error) {
	n, err := c.to.Write(p)
	c.n += int64(n)
	if c.sent != nil {
		c.sent(c.n)
	}
	return n, err
}

// Progress cannot be asked for: who said that it is done has seen it.
func (*update) Progress(context.Context) (int, error) { return 0, device.ErrUnsupported }

// Activate has nothing to do.
func (*update) Activate(context.Context) error { return nil }
