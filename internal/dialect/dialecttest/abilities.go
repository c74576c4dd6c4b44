package dialecttest

import (
	"errors"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/device"
	"catena/internal/dialect"
	"catena/internal/firmware"
)

// Abilities are the functions of a subject's device besides being read and updated. The suite holds
// the session to both sides: a listed ability works, and any other is device.ErrUnsupported.
type Abilities struct {
	Settings bool     // they are saved and restored
	Foreign  []byte   // settings that it refuses; empty: none are tried
	Carry    []string // the names of the values that are preserved, in order
	Shows    bool     // it shows itself, and has no outputs to name
	// Children are the serial numbers of the devices behind it. Child is how one of them is talked
	// to.
	Children []string
	Child    func(parent dialect.At, c device.Child) (dialect.Dialect, dialect.At)
	// Moves returns where in its network the device is to go, and how it is then talked to; nil: it
	// cannot be moved.
	Moves func(at dialect.At) (dialect.NetworkConfig, dialect.At)
	// Permission is whether it shows, without a change, that its login may update it.
	Permission bool
	// Password is whether the password of its login can be changed.
	Password bool
	// Clock is whether it reports its time.
	Clock bool
	Ahead time.Duration // how far its clock is ahead
	// Slots starts a device with two slots, of which the other one holds 0.9; nil: it has one.
	Slots func(t *testing.T) dialect.At
	// Interlocked starts a device that forbids the update of a component; nil: nothing does.
	Interlocked func(t *testing.T) (at dialect.At, component string)
}

func (s Subject) abilities(t *testing.T) {
	t.Run("settings", s.settings)
	t.Run("carry", s.carry)
	t.Run("show itself", s.shows)
	t.Run("children", s.children)
	t.Run("move", s.moves)
	t.Run("sessions end", s.sessionsEnd)
	t.Run("permission", s.permission)
	t.Run("password", s.password)
	t.Run("vitals", s.vitals)
	if s.Good != nil {
		t.Run("slots", s.slots)
		t.Run("interlocks", s.interlocks)
	}
}

// settle waits until a device that may have restarted is read again.
func settle(t *testing.T, session dialect.Session) (r device.Reading) {
	require.Eventually(t, func() bool {
		var err error
		r, err = session.Read(t.Context())
		return err == nil
	}, within, 20*time.Millisecond)
	return r
}

// Settings that are saved are accepted again, and are then the same. Foreign ones are refused, and
// change nothing.
func (s Subject) settings(t *testing.T) {
	session := s.open(t, s.Start(t, Faults{}))
	of, err := session.Settings()
	if !s.Can.Settings {
		assert.ErrorIs(t, err, device.ErrUnsupported)
		return
	}
	require.NoError(t, err)
	_, err = session.Read(t.Context())
	require.NoError(t, err)
	saved, err := of.Save(t.Context())
	require.NoError(t, err)
	require.NotEmpty(t, saved)
	same := func() {
		settle(t, session)
		var again []byte
		require.Eventually(t, func() bool {
			again, err = of.Save(t.Context())
			return err == nil
		}, within, 20*time.Millisecond)
		assert.Equal(t, string(saved), string(again))
	}
	if len(s.Can.Foreign) > 0 {
		assert.ErrorIs(t, of.Restore(t.Context(), s.Can.Foreign), device.ErrRefused)
		same()
	}
	require.NoError(t, of.Restore(t.Context(), saved))
	same()
}

// Values that are carried are read in their order, and are the same after they were written back.
func (s Subject) carry(t *testing.T) {
	session := s.open(t, s.Start(t, Faults{}))
	of, err := session.Carry()
	if len(s.Can.Carry) == 0 {
		assert.ErrorIs(t, err, device.ErrUnsupported)
		return
	}
	require.NoError(t, err)
	update, err := session.Update(firmware.Main)
	require.NoError(t, err)
	// They are written while the device is ready.
	require.NoError(t, update.Ready(t.Context(), dialect.Image{}))
	before, err := of.Read(t.Context())
	require.NoError(t, err)
	var names []string
	for _, v := range before {
		names = append(names, v.Name)
		assert.NotEmpty(t, v.Value)
		assert.NoError(t, of.Write(t.Context(), v))
	}
	assert.Equal(t, s.Can.Carry, names)
	after, err := of.Read(t.Context())
	require.NoError(t, err)
	assert.Equal(t, before, after)
}

// A device that shows itself does so until it is stopped, and refuses an output that it does not
// have.
func (s Subject) shows(t *testing.T) {
	session := s.open(t, s.Start(t, Faults{}))
	locator, err := session.Locate()
	if errors.Is(err, device.ErrUnsupported) {
		assert.False(t, s.Can.Shows)
		return
	}
	require.NoError(t, err)
	for _, on := range []bool{true, false} {
		_, err := locator.Show(t.Context(), on, "")
		if !s.Can.Shows { // only asking it shows that it has nothing of the kind
			assert.ErrorIs(t, err, device.ErrRefused)
			continue
		}
		assert.NoError(t, err)
	}
	_, err = locator.Show(t.Context(), true, "no such output")
	assert.ErrorIs(t, err, device.ErrRefused)
}

// A parent lists its children once each, with clean texts. A child reports in its own session
// what its parent reported of it; one that is not there is not mistaken for another one.
func (s Subject) children(t *testing.T) {
	at := s.Start(t, Faults{})
	session := s.open(t, at)
	_, err := session.Read(t.Context())
	require.NoError(t, err)
	all, err := session.Children(t.Context())
	if s.Can.Child == nil {
		if err != nil {
			assert.ErrorIs(t, err, device.ErrUnsupported)
		}
		assert.Empty(t, all)
		return
	}
	require.NoError(t, err)
	var serials []string
	units := map[string]bool{}
	for _, c := range all {
		serials = append(serials, c.Serial)
		assert.False(t, units[c.Unit], "unit %s twice", c.Unit)
		units[c.Unit] = true
		assert.Equal(t, c.Reading, c.Clean())
		dialect, place := s.Can.Child(at, c)
		child := dialect.Open(place, s.Login)
		r, err := child.Read(t.Context())
		if assert.NoError(t, err) {
			assert.Equal(t, c.Serial+" "+c.Version, r.Serial+" "+r.Version)
		}
		assert.NoError(t, child.Close(t.Context()))
	}
	assert.Equal(t, s.Can.Children, serials)
	gone := all[0]
	gone.Unit = "S-of-no-one"
	dialect, place := s.Can.Child(at, gone)
	child := dialect.Open(place, s.Login)
	_, err = child.Read(t.Context())
	assert.Error(t, err)
	assert.NoError(t, child.Close(t.Context()))
}

// A device that is moved answers at its new address, as the same one.
func (s Subject) moves(t *testing.T) {
	at := s.Start(t, Faults{})
	session := s.open(t, at)
	network, err := session.Network()
	if s.Can.Moves == nil {
		assert.ErrorIs(t, err, device.ErrUnsupported)
		return
	}
	require.NoError(t, err)
	before, err := session.Read(t.Context())
	require.NoError(t, err)
	to, there := s.Can.Moves(at)
	if err := network.Move(t.Context(), to); err != nil {
		require.ErrorIs(t, err, device.ErrAway) // that it went away is no failure
	}
	r := settle(t, s.open(t, there))
	assert.Equal(t, before.Serial, r.Serial)
	_, err = s.Dialect.Probe(t.Context(), at)
	assert.Error(t, err, "it is not at its former address any more")
}

// A session that is closed leaves nothing open at the device: however many are opened one after the
// other, the next one works. Devices allow few at the same time.
func (s Subject) sessionsEnd(t *testing.T) {
	at := s.Start(t, Faults{})
	for n := range 20 {
		session := s.Dialect.Open(at, s.Login)
		_, err := session.Read(t.Context())
		require.NoError(t, err, "session %d", n+1)
		require.NoError(t, session.Close(t.Context()))
	}
}

// A component with one slot cannot be switched. One with two starts the version that the other slot
// holds, which is then the version that ran.
func (s Subject) slots(t *testing.T) {
	if s.Can.Slots == nil {
		update, err := s.open(t, s.Start(t, Faults{})).Update(firmware.Main)
		require.NoError(t, err)
		if err := update.Revert(t.Context()); !errors.Is(err, device.ErrUnsupported) {
			assert.ErrorIs(t, err, device.ErrRefused, "the other slot is empty")
		}
		return
	}
	session := s.open(t, s.Can.Slots(t))
	r, err := session.Read(t.Context())
	require.NoError(t, err)
	require.Equal(t, "0.9", r.Idle[firmware.Main])
	for range 2 { // there and back again
		was := r
		update, err := session.Update(firmware.Main)
		require.NoError(t, err)
		if err := update.Revert(t.Context()); err != nil {
			require.ErrorIs(t, err, device.ErrAway)
		}
		require.Eventually(t, func() bool {
			r, err = session.Read(t.Context())
			return err == nil && r.Version == was.Idle[firmware.Main]
		}, within, 20*time.Millisecond)
		assert.Equal(t, was.Version, r.Idle[firmware.Main])
	}
}

// What forbids an update is device.ErrNotNow, from the look that changes nothing and from getting
// ready. Where nothing does, both pass.
func (s Subject) interlocks(t *testing.T) {
	update, err := s.open(t, s.Start(t, Faults{})).Update(firmware.Main)
	require.NoError(t, err)
	assert.NoError(t, update.Interlock(t.Context()))
	if s.Can.Interlocked == nil {
		return
	}
	at, component := s.Can.Interlocked(t)
	update, err = s.open(t, at).Update(component)
	require.NoError(t, err)
	assert.ErrorIs(t, update.Interlock(t.Context()), device.ErrNotNow)
	assert.ErrorIs(t, update.Ready(t.Context(), dialect.Image{}), device.ErrNotNow)
}

// permission is tested without a change, and a login that may only read is found by it.
func (s Subject) permission(t *testing.T) {
	session := s.open(t, s.Start(t, Faults{}))
	before, err := session.Read(t.Context())
	require.NoError(t, err)
	err = dialect.Permission(t.Context(), session)
	if !s.Can.Permission {
		require.ErrorIs(t, err, device.ErrUnsupported)
		return
	}
	require.NoError(t, err)
	after, err := session.Read(t.Context())
	require.NoError(t, err)
	after.Boot, before.Boot = nil, nil
	assert.Equal(t, before, after, "nothing was changed")

	session = s.open(t, s.Start(t, Faults{ReadsOnly: true}))
	_, err = session.Read(t.Context())
	require.NoError(t, err)
	var not *dialect.NotPermittedError
	require.ErrorAs(t, dialect.Permission(t.Context(), session), &not)
	assert.NotEmpty(t, not.Why)
}

// A new password opens the device, and the old one does not any more.
func (s Subject) password(t *testing.T) {
	const fresh = "weir-of-stone"
	at := s.Start(t, Faults{})
	s.Login.PlainBasic = true
	session := s.open(t, at)
	_, err := session.Read(t.Context())
	require.NoError(t, err)
	err = dialect.SetPassword(t.Context(), session, fresh)
	if !s.Can.Password {
		require.ErrorIs(t, err, device.ErrUnsupported)
		_, err = s.open(t, at).Read(t.Context())
		require.NoError(t, err)
		return
	}
	require.NoError(t, err)
	changed := s.Login
	changed.Password = fresh
	other := s.Dialect.Open(at, changed)
	_, err = other.Read(t.Context())
	require.NoError(t, err)
	require.NoError(t, other.Close(t.Context()))
	_, err = s.open(t, at).Read(t.Context())
	require.ErrorIs(t, err, device.ErrLoginRefused)
}

// A device's time is read as it is, and nothing is changed by that.
func (s Subject) vitals(t *testing.T) {
	session := s.open(t, s.Start(t, Faults{}))
	_, err := session.Read(t.Context())
	require.NoError(t, err)
	v, err := dialect.VitalsOf(t.Context(), session)
	require.NoError(t, err)
	assert.Equal(t, s.Can.Clock, v.Clock)
	if v.Clock {
		assert.InDelta(t, s.Can.Ahead.Seconds(), v.Ahead.Seconds(), 30)
	}
}
