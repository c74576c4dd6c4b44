package dialect_test

import (
	"context"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"

	"catena/internal/device"
	"catena/internal/dialect"
	"catena/internal/settings"
)

// writes are the settings of a device that needs time to apply them. It counts the writes that arrive,
// and those that arrive while it still applies the ones before.
type writes struct {
	format      settings.Format
	applies     time.Duration // how long it does not answer after a write
	lost        int           // how many first requests do not arrive
	answerLost  int           // how many first answers do not arrive
	count       int
	interrupted int
	busyUntil   time.Time
	has         []byte
	needs       bool // it answers that it is not well until it has them and has applied them
}

func (w *writes) Format() settings.Format              { return w.format }
func (w *writes) Renamed() map[string]string           { return nil }
func (w *writes) Steady() bool                         { return true }
func (w *writes) Save(context.Context) ([]byte, error) { return w.has, nil }

func (w *writes) Restore(_ context.Context, saved []byte) error {
	if w.lost > 0 {
		w.lost--
		return device.ErrAway
	}
	if time.Now().Before(w.busyUntil) {
		w.interrupted++
	}
	w.count, w.has, w.busyUntil = w.count+1, saved, time.Now().Add(w.applies)
	if w.answerLost > 0 {
		w.answerLost--
		return device.ErrAway
	}
	return nil
}

func (w *writes) answers() error {
	if w.needs && (w.has == nil || time.Now().Before(w.busyUntil)) {
		return device.ErrRefused
	}
	if time.Now().Before(w.busyUntil) {
		return device.ErrAway
	}
	return nil
}

func TestSettingsAreNotSentIntoAWrite(t *testing.T) {
	for name, c := range map[string]struct {
		of    writes
		count int
		err   error
	}{
		"a quick device": {writes{format: settings.KeyValue}, 1, nil},
		"a device that applies them for two minutes": {
			writes{format: settings.KeyValue, applies: 2 * time.Minute}, 1, nil},
		"opaque settings, applied for two minutes": {
			writes{format: settings.Opaque, applies: 2 * time.Minute}, 1, nil},
		"a lost answer": {
			writes{format: settings.KeyValue, applies: time.Minute, answerLost: 1}, 1, nil},
		"a lost request": {writes{format: settings.KeyValue, lost: 1}, 1, nil},
		"a lost request to one that is not well without them": {
			writes{format: settings.KeyValue, lost: 1, needs: true}, 1, nil},
		"a lost answer of one that is not well while it applies them": {writes{format: settings.KeyValue,
			answerLost: 1, needs: true, applies: 4 * time.Minute}, 1, nil},
		// No one can compare them: without an acceptance they are sent until there is one.
		"opaque settings and a lost request": {writes{format: settings.Opaque, lost: 1}, 1, nil},
		"opaque settings and a lost answer":  {writes{format: settings.Opaque, answerLost: 1}, 2, nil},
		"opaque settings and no answer at all": {writes{format: settings.Opaque, lost: 9}, 0,
			dialect.ErrNotTaken},
	} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				of, end := c.of, time.Now().Add(10*time.Minute)
				err := dialect.RestoreSettings(t.Context(), &of, []byte("a = 1\n"), of.answers, func(bool) bool {
					time.Sleep(time.Second)
					return time.Now().Before(end)
				})
				assert.ErrorIs(t, err, c.err)
				assert.Equal(t, c.count, of.count)
				assert.Zero(t, of.interrupted, "settings were sent while the device applied them")
			})
		})
	}
}
