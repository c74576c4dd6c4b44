package hand_test

import (
	"bytes"
	"context"
	"crypto/sha256"
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/device"
	"catena/internal/dialect"
	"catena/internal/dialect/hand"
	"catena/internal/firmware"
	"catena/internal/login"
)

var raw = bytes.Repeat([]byte("sluice "), 10_000)

func image(file string) dialect.Image {
	return dialect.Image{ReaderAt: bytes.NewReader(raw), Size: int64(len(raw)), File: file,
		SHA256: fmt.Sprintf("%x", sha256.Sum256(raw)), Version: "2.0"}
}

// start returns an update of a device that no one reads. ask is the person.
func start(t *testing.T, h dialect.Manual, ask func(context.Context, string, bool) error) (
	dialect.Session, dialect.Update) {
	h.Known = device.Reading{Identity: device.Identity{Model: "PB-1", Serial: "S-1"}, Version: "1.0"}
	session := hand.Dialect{}.Open(dialect.At{Caller: dialect.Caller{Manual: &h, Ask: ask}},
		login.Credential{})
	update, err := session.Update(firmware.Main)
	require.NoError(t, err)
	return session, update
}

func needsPerson(t *testing.T, err error) {
	var cause *device.Cause
	require.ErrorAs(t, err, &cause)
	assert.Equal(t, device.NeedsPerson, cause.Problem)
}

// The image is laid ready, whole and under its own name, before the person is asked; their word is
// what the device runs from then on.
func TestAPersonBringsIt(t *testing.T) {
	stick, asked := t.TempDir(), ""
	session, update := start(t, dialect.Manual{Stick: stick, Folder: "catena", How: "Turn the key."},
		func(_ context.Context, what string, _ bool) error {
			asked = what
			laid, err := os.ReadFile(filepath.Join(stick, "catena", "pb1.bin"))
			assert.NoError(t, err)
			assert.Equal(t, raw, laid)
			return nil
		})
	require.NoError(t, update.Ready(t.Context(), dialect.Image{}))
	last := int64(0)
	require.NoError(t, update.Transfer(t.Context(), image("pb1.bin"), func(n int64) { last = n }))
	assert.EqualValues(t, len(raw), last)
	for _, want := range []string{"2.0", filepath.Join(stick, "catena", "pb1.bin"), "Turn the key."} {
		assert.Contains(t, asked, want)
	}
	r, err := session.Read(t.Context())
	require.NoError(t, err)
	assert.Equal(t, "2.0", r.Version)
	_, err = update.Progress(t.Context())
	assert.ErrorIs(t, err, device.ErrUnsupported)
	assert.True(t, update.Traits().RestartsByItself, "no one restarts it over the network")
	assert.ErrorIs(t, update.Revert(t.Context()), device.ErrUnsupported)
	_, err = session.Update("modem")
	assert.ErrorIs(t, err, device.ErrUnsupported)
}

// Who says no, or nothing in time, leaves the version as it was known.
func TestAPersonDoesNot(t *testing.T) {
	for why, ask := range map[string]func(ctx context.Context, what string, busy bool) error{
		"says no": func(context.Context, string, bool) error {
			return device.Because(device.NeedsPerson, "the hut is locked")
		},
		"says nothing": func(ctx context.Context, _ string, _ bool) error {
			<-ctx.Done()
			return ctx.Err()
		},
	} {
		t.Run(why, func(t *testing.T) {
			folder := t.TempDir()
			synctest.Test(t, func(t *testing.T) {
				session, update := start(t, dialect.Manual{Folder: folder, Within: time.Hour}, ask)
				began := time.Now()
				err := update.Transfer(t.Context(), image("pb1.bin"), nil)
				needsPerson(t, err)
				assert.LessOrEqual(t, time.Since(began), time.Hour)
				r, err := session.Read(t.Context())
				require.NoError(t, err)
				assert.Equal(t, "1.0", r.Version)
			})
		})
	}
}

// Without the stick, or without anyone to ask, nothing starts.
func TestNothingStarts(t *testing.T) {
	ask := func(context.Context, string, bool) error { return nil }
	_, update := start(t, dialect.Manual{Stick: filepath.Join(t.TempDir(), "none")}, ask)
	assert.ErrorIs(t, update.Interlock(t.Context()), device.ErrNotNow)
	assert.ErrorIs(t, update.Ready(t.Context(), dialect.Image{}), device.ErrNotNow)
	_, update = start(t, dialect.Manual{}, nil)
	needsPerson(t, update.Ready(t.Context(), dialect.Image{}))
}

// The name of an image comes from others: it stays in its folder. What cannot be written there is
// an error before anyone is asked.
func TestNamesStayInTheFolder(t *testing.T) {
	for file, want := range map[string]string{"../../pb1.bin": "pb1.bin", "..": image("").SHA256,
		"": image("").SHA256, "/etc/pb1.bin": "pb1.bin"} {
		folder, asked := t.TempDir(), false
		_, update := start(t, dialect.Manual{Folder: filepath.Join(folder, "in")},
			func(context.Context, string, bool) error { asked = true; return nil })
		require.NoError(t, update.Transfer(t.Context(), image(file), nil))
		assert.FileExists(t, filepath.Join(folder, "in", want), file)
		assert.True(t, asked)
	}
	folder := filepath.Join(t.TempDir(), "file")
	require.NoError(t, os.WriteFile(folder, nil, 0o600))
	_, update := start(t, dialect.Manual{Folder: folder},
		func(context.Context, string, bool) error { t.Error("asked"); return nil })
	assert.Error(t, update.Transfer(t.Context(), image("pb1.bin"), nil))
}
