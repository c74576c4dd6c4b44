package care_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/care"
	"catena/internal/contact"
	"catena/internal/device"
	"catena/internal/family"
	"catena/internal/job"
	"catena/internal/ledger"
	"catena/internal/login"
	"catena/internal/order"
	"catena/internal/site"
)

// A change takes the device's lease: no job and no other change starts on it before it ends, and it
// does not start on a device that a job has.
func TestTheLease(t *testing.T) {
	dir := t.TempDir()
	l, err := ledger.Create(dir, time.Now, ledger.Writer{})
	require.NoError(t, err)
	t.Cleanup(func() { _ = l.Close() })
	cam := device.Device{ID: "d1", Name: "cam-11"}
	release, err := job.Lease(l, cam)
	require.NoError(t, err)

	x, err := contact.New(l, dir, site.Site{}, family.Set{}, login.Book{})
	require.NoError(t, err)
	c := care.Care{Ledger: l, Access: x, Now: time.Now}
	var busy *job.BusyError
	require.ErrorAs(t, c.Free(cam), &busy)
	assert.Equal(t, "cam-11: another command is changing it", busy.Error())

	plan := job.Plan{Order: order.Order{Name: "night-1", Purpose: order.Forward,
		Devices: []order.Device{{ID: "d1", Name: "cam-11", From: "1.0",
			Path: []order.Hop{{Component: "main", From: "1.0", To: "2.0"}}}}},
		Devices: map[string]job.Known{"d1": {Device: cam}}}
	engine := &job.Engine{Ledger: l, Now: time.Now}
	_, err = engine.Start(plan)
	require.ErrorAs(t, err, &busy)
	assert.Empty(t, busy.Job)

	release()
	require.NoError(t, c.Free(cam))
	j, err := engine.Start(plan)
	require.NoError(t, err)
	defer j.Release()
	require.ErrorAs(t, c.Free(cam), &busy)
	assert.Equal(t, "j1", busy.Job)
}

// A save is restored on its own device alone, and on another version only if that is asked for.
func TestFits(t *testing.T) {
	cam := device.Device{ID: "d1", Name: "cam-11", Reading: device.Reading{Version: "3.2.1",
		Identity: device.Identity{Model: "WX-40", Serial: "WX4-10011"}}}
	x := care.Saved{Save: "20261127T190000Z_3.2.1", Version: "3.2.1", Identity: cam.Identity}
	require.NoError(t, care.Fits(x, cam, false))
	x.Version = "3.1.0"
	var unfit *care.UnfitError
	require.ErrorAs(t, care.Fits(x, cam, false), &unfit)
	assert.True(t, unfit.Version)
	require.NoError(t, care.Fits(x, cam, true))
	x.Identity.Serial = "WX4-10012"
	require.ErrorAs(t, care.Fits(x, cam, true), &unfit)
	assert.False(t, unfit.Version)
}
