package rehearse_test

import (
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/device"
	"catena/internal/dialect"
	"catena/internal/firmware"
	"catena/internal/login"
	"catena/internal/order"
	"catena/internal/rehearse"
)

// act runs a test with a played device, d, which runs 1.0 and has 0.9 in its other slot, behind
// another one, up. An image takes a minute here instead of ten.
func act(t *testing.T, fault rehearse.Fault, do func(t *testing.T, d, up dialect.Session)) {
	synctest.Test(t, func(t *testing.T) {
		known := map[string]device.Device{}
		o := order.Order{}
		for _, id := range []string{"up", "d"} {
			known[id] = device.Device{ID: id, Name: id, Reading: device.Reading{
				Identity: device.Identity{Model: "M", Serial: "S-" + id}, Version: "1.0",
				Components: map[string]string{"modem": "7"}, Idle: map[string]string{"main": "0.9"}}}
			o.Devices = append(o.Devices, order.Device{ID: id, Name: id, Takes: 10 * time.Minute})
		}
		o.Devices[1].Through = []string{"up"}
		s, err := rehearse.NewStage(&o, known, nil, map[string]rehearse.Fault{"d": fault}, time.Minute)
		require.NoError(t, err)
		defer s.Close()
		assert.InDelta(t, 0.1, s.Scale(), 1e-9)
		assert.Equal(t, time.Minute, o.Devices[0].Takes, "as it is shown")
		open := func(id string) dialect.Session {
			at := s.Device(known[id]).Endpoint
			by, is := s.Dialects().Named(at.Dialect)
			require.True(t, is)
			return by.Open(dialect.At{Endpoint: at}, login.Credential{})
		}
		do(t, open("d"), open("up"))
	})
}

// send brings an image into the main component, up to its restart.
func send(t *testing.T, s dialect.Session, version string) dialect.Update {
	u, err := s.Update(firmware.Main)
	require.NoError(t, err)
	require.NoError(t, u.Ready(t.Context(), dialect.Image{}))
	last := int64(0)
	require.NoError(t, u.Transfer(t.Context(), dialect.Image{Size: 1000, Version: version},
		func(n int64) { last = n }))
	assert.EqualValues(t, 1000, last)
	percent, err := u.Progress(t.Context())
	require.NoError(t, err)
	assert.Less(t, percent, 100)
	time.Sleep(time.Minute)
	percent, err = u.Progress(t.Context())
	require.NoError(t, err)
	assert.Equal(t, 100, percent)
	return u
}

func version(t *testing.T, s dialect.Session) string {
	r, err := s.Read(t.Context())
	require.NoError(t, err)
	assert.Equal(t, map[string]string{"modem": "7"}, r.Components)
	return r.Version
}

// The version shows only after the restart, in which the device is away; so is what is behind it.
func TestAStageTakesItsTime(t *testing.T) {
	act(t, "", func(t *testing.T, d, up dialect.Session) {
		u := send(t, up, "2.0")
		assert.Equal(t, "1.0", version(t, up))
		require.NoError(t, u.Activate(t.Context()))
		for _, s := range []dialect.Session{up, d} {
			_, err := s.Read(t.Context())
			assert.ErrorIs(t, err, device.ErrAway)
		}
		time.Sleep(21 * time.Second)
		assert.Equal(t, "2.0", version(t, up))
		assert.Equal(t, "1.0", version(t, d))
		assert.NoError(t, up.Healthy(t.Context(), device.Reading{}))
	})
}

// A fault shows with what is new, and is gone with the version before, but for one that never comes
// back.
func TestAStagePlaysFaults(t *testing.T) {
	for fault, want := range map[rehearse.Fault]string{rehearse.KeepsVersion: "1.0",
		rehearse.Sick: "2.0", rehearse.NeverReturns: ""} {
		t.Run(string(fault), func(t *testing.T) {
			act(t, fault, func(t *testing.T, d, _ dialect.Session) {
				require.NoError(t, send(t, d, "2.0").Activate(t.Context()))
				time.Sleep(time.Hour)
				if want == "" {
					_, err := d.Read(t.Context())
					assert.ErrorIs(t, err, device.ErrAway)
					return
				}
				assert.Equal(t, want, version(t, d))
				assert.Equal(t, fault == rehearse.Sick, d.Healthy(t.Context(), device.Reading{}) != nil)
				require.NoError(t, send(t, d, "1.0").Activate(t.Context()))
				time.Sleep(21 * time.Second)
				assert.Equal(t, "1.0", version(t, d))
				assert.NoError(t, d.Healthy(t.Context(), device.Reading{}))
			})
		})
	}
}

// The other slot is switched to and back.
func TestAStageSwitchesSlots(t *testing.T) {
	act(t, "", func(t *testing.T, d, _ dialect.Session) {
		u, err := d.Update(firmware.Main)
		require.NoError(t, err)
		for _, want := range []string{"0.9", "1.0"} {
			require.NoError(t, u.Revert(t.Context()))
			time.Sleep(21 * time.Second)
			assert.Equal(t, want, version(t, d))
		}
	})
}

// Who asks for something that was cut short hears that, not a wrong end.
func TestAStageEndsWithItsContext(t *testing.T) {
	act(t, "", func(t *testing.T, d, up dialect.Session) {
		require.NoError(t, send(t, up, "2.0").Activate(t.Context()))
		u, err := d.Update(firmware.Main)
		require.NoError(t, err)
		err = u.Transfer(t.Context(), dialect.Image{Size: 1000, Version: "2.0"}, func(int64) {})
		assert.ErrorIs(t, err, device.ErrAway, "its uplink restarts")
	})
}
