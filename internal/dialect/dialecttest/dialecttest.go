// Package dialecttest is the one suite that every dialect must pass. It knows no
// implementation: a Subject brings the dialect, a way to start a device that speaks it,
// and images for that device. A new dialect is one call of Run in a test.
package dialecttest

import (
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/device"
	"catena/internal/dialect"
	"catena/internal/firmware"
	"catena/internal/login"
)

// Faults are the faults that the suite asks of a device.
type Faults struct {
	Silent    bool  // it takes what comes and never answers
	DropAfter int64 // it cuts a connection after this number of bytes
	Sick      bool  // it comes back on another image, but is not healthy
	Rate      int64 // bytes per second that its link carries
	Flaps     bool  // it cuts one connection of six off
	NewKey    bool  // it comes back with another certificate or host key
	ReadsOnly bool  // its login may read, and change nothing
}

// Subject is a dialect and a device that speaks it.
type Subject struct {
	Dialect dialect.Dialect
	// Start starts a device with these faults, which runs version 1.0, and stops it when
	// the test ends.
	Start func(t *testing.T, f Faults) dialect.At
	// Other starts something that answers in another dialect; nil: nothing of the kind can
	// be at such an address.
	Other func(t *testing.T) dialect.At
	Login login.Credential
	Want  device.Reading // the expected reading; empty fields are not compared
	// Good is an image of version 2.0 for the device; nil: the dialect only reads.
	Good []byte
	// Keyed says that it has a certificate or a host key.
	Keyed bool
	// Open says that it is read without a login: one that it has is not sent for that.
	Open bool
	// HTTP says that it speaks HTTP.
	HTTP bool
	// Datagrams says that the image goes over no connection with the device that could be cut.
	Datagrams bool
	// Bad are images that the device must refuse, by words of its refusal.
	Bad map[string][]byte
	Can Abilities
	// Rejected returns how many logins the device at an address has rejected; nil: it cannot be
	// asked.
	Rejected func(at dialect.At) int
}

// Run tests a dialect with its subject.
func Run(t *testing.T, s Subject) {
	t.Run("recognises its own", s.recognises)
	t.Run("knows what is not its own", s.notMine)
	t.Run("reads", s.reads)
	t.Run("tries a wrong password once", s.wrongPassword)
	if s.HTTP {
		t.Run("sends a login once, whatever the challenge", s.challenges)
	}
	t.Run("says that no one is there", s.away)
	t.Run("ends with its context", s.ends)
	t.Run("can do what it says, and no more", s.abilities)
	if s.Good == nil {
		t.Run("says that it cannot update", s.cannotUpdate)
		return
	}
	t.Run("sends, restarts, proves", s.sends)
	t.Run("hears refusals", s.refusals)
	t.Run("hears that a device is not healthy", s.sick)
	if !s.Datagrams {
		t.Run("ends when the connection is cut", s.cut)
		t.Run("sends over a slow link", s.slow)
		t.Run("gets there over a link that flaps", s.flaps)
	}
	if s.Keyed {
		t.Run("tells another key after the restart", s.another)
	}
}

// within is how long a device of the suite may take for a restart, on the busiest machine.
const within = time.Minute

func (s Subject) open(t *testing.T, at dialect.At) dialect.Session {
	session := s.Dialect.Open(at, s.Login)
	t.Cleanup(func() { _ = session.Close(context.Background()) }) // the device may be gone by then
	return session
}

func image(raw []byte) dialect.Image {
	return dialect.Image{ReaderAt: bytes.NewReader(raw), Size: int64(len(raw)),
		SHA256: fmt.Sprintf("%x", sha256.Sum256(raw))}
}

func (s Subject) recognises(t *testing.T) {
	_, err := s.Dialect.Probe(t.Context(), s.Start(t, Faults{}))
	assert.NoError(t, err)
}

func (s Subject) notMine(t *testing.T) {
	if s.Other == nil {
		t.Skip("nothing else answers at such an address")
	}
	_, err := s.Dialect.Probe(t.Context(), s.Other(t))
	assert.ErrorIs(t, err, device.ErrNotMine)
}

func (s Subject) reads(t *testing.T) {
	r, err := s.open(t, s.Start(t, Faults{})).Read(t.Context())
	require.NoError(t, err)
	want := s.Want.Over(r)
	want.Boot = r.Boot // of the moment
	assert.Equal(t, r, want, "as expected, and the rest as it was read")
	assert.Equal(t, "1.0", r.Version)
	assert.Equal(t, r, r.Clean(), "every text is clean")
}

func (s Subject) wrongPassword(t *testing.T) {
	at := s.Start(t, Faults{})
	wrong := s.Login
	wrong.Password = "mitre"
	session := s.Dialect.Open(at, wrong)
	_, err := session.Read(t.Context())
	if s.Open {
		require.NoError(t, err)
		assert.Zero(t, s.Rejected(at), "none was sent")
		assert.NoError(t, session.Close(t.Context()))
		return
	}
	assert.ErrorIs(t, err, device.ErrLoginRefused)
	assert.NotContains(t, fmt.Sprintf("%v %+v %#v", err, wrong, wrong), "mitre")
	if s.Rejected != nil {
		assert.Equal(t, 1, s.Rejected(at), "it was sent once")
	}
	assert.NoError(t, session.Close(t.Context()))
	_, err = s.open(t, at).Read(t.Context())
	assert.NoError(t, err)
}

func (s Subject) away(t *testing.T) {
	at := s.Start(t, Faults{})
	at.Address = "127.0.0.1:1"
	_, err := s.Dialect.Probe(t.Context(), at)
	assert.ErrorIs(t, err, device.ErrAway)
}

func (s Subject) ends(t *testing.T) {
	at := s.Start(t, Faults{Silent: true})
	ctx, cancel := context.WithTimeout(t.Context(), 100*time.Millisecond)
	defer cancel()
	_, err := s.Dialect.Probe(ctx, at)
	assert.Error(t, err)
	stopped, stop := context.WithCancel(t.Context())
	stop()
	_, err = s.open(t, at).Read(stopped)
	assert.Error(t, err)
}

func (s Subject) cannotUpdate(t *testing.T) {
	_, err := s.open(t, dialect.At{}).Update(firmware.Main)
	assert.ErrorIs(t, err, device.ErrUnsupported)
}

// run waits until a device that has the image runs it.
func (s Subject) run(t *testing.T, session dialect.Session, update dialect.Update) {
	require.Eventually(t, func() bool {
		percent, err := update.Progress(t.Context())
		return err == nil && percent == 100 || errors.Is(err, device.ErrUnsupported)
	}, within, 20*time.Millisecond)
	if !update.Traits().RestartsByItself {
		r, err := session.Read(t.Context())
		require.NoError(t, err)
		assert.Equal(t, "1.0", r.Version, "the version shows only after the restart")
		require.NoError(t, update.Activate(t.Context()))
	}
	require.Eventually(t, func() bool {
		r, err := session.Read(t.Context())
		return err == nil && r.Version == "2.0"
	}, within, 20*time.Millisecond)
}

// ready returns a session with a device that is healthy, and an update that was started.
func (s Subject) ready(t *testing.T, f Faults, raw []byte) (dialect.Session, dialect.Update,
	device.Reading) {
	session := s.open(t, s.Start(t, f))
	baseline, err := session.Read(t.Context())
	require.NoError(t, err)
	require.NoError(t, session.Healthy(t.Context(), baseline))
	update, err := session.Update(firmware.Main)
	require.NoError(t, err)
	require.NoError(t, update.Ready(t.Context(), image(raw)))
	return session, update, baseline
}

func (s Subject) sends(t *testing.T) {
	session, update, baseline := s.ready(t, Faults{}, s.Good)
	last := int64(0)
	require.NoError(t, update.Transfer(t.Context(), image(s.Good), func(n int64) {
		assert.Greater(t, n, last, "progress only rises")
		last = n
	}))
	assert.Equal(t, int64(len(s.Good)), last)
	s.run(t, session, update)
	assert.NoError(t, session.Healthy(t.Context(), baseline))
}

func (s Subject) refusals(t *testing.T) {
	for why, raw := range s.Bad {
		t.Run(why, func(t *testing.T) {
			session, update, _ := s.ready(t, Faults{}, raw)
			err := update.Transfer(t.Context(), image(raw), nil)
			for startedAt := time.Now(); err == nil && time.Since(startedAt) < within; { // it tells later
				_, err = update.Progress(t.Context())
			}
			assert.ErrorIs(t, err, device.ErrRefused)
			assert.ErrorContains(t, err, why)
			r, err := session.Read(t.Context())
			require.NoError(t, err)
			assert.Equal(t, "1.0", r.Version)
		})
	}
}

func (s Subject) sick(t *testing.T) {
	session, update, baseline := s.ready(t, Faults{Sick: true}, s.Good)
	require.NoError(t, update.Transfer(t.Context(), image(s.Good), nil))
	s.run(t, session, update)
	assert.Error(t, session.Healthy(t.Context(), baseline))
}

func (s Subject) cut(t *testing.T) {
	session, update, _ := s.ready(t, Faults{DropAfter: 100_000}, s.Good)
	assert.ErrorIs(t, update.Transfer(t.Context(), image(s.Good), nil), device.ErrAway)
	r, err := session.Read(t.Context())
	require.NoError(t, err)
	assert.Equal(t, "1.0", r.Version)
}

// A slow link carries the image whole; its progress is reported.
func (s Subject) slow(t *testing.T) {
	session, update, _ := s.ready(t, Faults{Rate: 600_000}, s.Good)
	told := 0
	require.NoError(t, update.Transfer(t.Context(), image(s.Good), func(int64) { told++ }))
	assert.Greater(t, told, 1)
	s.run(t, session, update)
}

// A link that flaps breaks this or that off, and says so; whoever tries as often as a job does gets
// there, and the device is never in doubt.
func (s Subject) flaps(t *testing.T) {
	session := s.open(t, s.Start(t, Faults{Flaps: true}))
	retry := func(what string, do func() error) {
		var err error
		for range 10 {
			if err = do(); err == nil {
				return
			}
			require.ErrorIs(t, err, device.ErrAway, what)
		}
		require.NoError(t, err, what)
	}
	retry("read", func() error { _, err := session.Read(t.Context()); return err })
	update, err := session.Update(firmware.Main)
	require.NoError(t, err)
	retry("send", func() error {
		if err := update.Ready(t.Context(), image(s.Good)); err != nil {
			return err
		}
		return update.Transfer(t.Context(), image(s.Good), nil)
	})
	require.Eventually(t, func() bool {
		percent, err := update.Progress(t.Context())
		return err == nil && percent == 100 || errors.Is(err, device.ErrUnsupported)
	}, within, 20*time.Millisecond)
	if !update.Traits().RestartsByItself {
		retry("restart", func() error { return update.Activate(t.Context()) })
	}
	require.Eventually(t, func() bool {
		r, err := session.Read(t.Context())
		return err == nil && r.Version == "2.0"
	}, within, 20*time.Millisecond)
}

// A device that comes back with another key is another one: no login goes there.
func (s Subject) another(t *testing.T) {
	at, first := s.Start(t, Faults{NewKey: true}), ""
	at.Trust = func(kind, fingerprint string) error {
		if first == "" {
			first = fingerprint
		}
		if fingerprint != first {
			return device.IdentityChangedError(kind, first, fingerprint)
		}
		return nil
	}
	session := s.open(t, at)
	_, err := session.Read(t.Context())
	require.NoError(t, err)
	update, err := session.Update(firmware.Main)
	require.NoError(t, err)
	require.NoError(t, update.Ready(t.Context(), dialect.Image{}))
	require.NoError(t, update.Transfer(t.Context(), image(s.Good), nil))
	require.Eventually(t, func() bool {
		percent, err := update.Progress(t.Context())
		return err == nil && percent == 100 || errors.Is(err, device.ErrUnsupported)
	}, within, 20*time.Millisecond)
	if !update.Traits().RestartsByItself {
		require.NoError(t, update.Activate(t.Context()))
	}
	require.Eventually(t, func() bool {
		_, err = session.Read(t.Context())
		return errors.Is(err, device.ErrIdentityChanged)
	}, within, 20*time.Millisecond)
}
