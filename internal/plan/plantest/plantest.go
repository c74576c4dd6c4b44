// Package plantest makes site folders with devices, a shelf and jobs of the past, for tests of what
// is decided about them. No device is talked to.
package plantest

import (
	"crypto/sha256"
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"catena/internal/device"
	"catena/internal/firmware"
	"catena/internal/job"
	"catena/internal/ledger"
	"catena/internal/order"
	"catena/internal/plan"
	"catena/internal/record"
	"catena/internal/shelf"
	"catena/internal/workspace"
)

// Evening is when the tests take place.
var Evening = time.Date(2026, 11, 27, 20, 0, 0, 0, time.UTC)

// Hill is a site folder with some devices, and a shelf.
type Hill struct {
	Dir   string
	Shelf *shelf.Shelf
	Now   time.Time
}

// New returns a site folder with that site.yaml, and a shelf with these versions for model WX-40.
func New(t *testing.T, siteFile string, versions ...string) *Hill {
	h := &Hill{Dir: t.TempDir(), Now: Evening}
	h.File(t, "site.yaml", siteFile)
	images := t.TempDir()
	for _, v := range versions {
		body := "image " + v
		require.NoError(t, os.WriteFile(filepath.Join(images, v+".bin"), []byte(body), 0o600))
		require.NoError(t, os.WriteFile(filepath.Join(images, v+".yaml"), fmt.Appendf(nil,
			"manifest: 1\nvendor: Wexcombe\nmodels: [WX-40]\nversion: %s\nfile: %s.bin\nsha256: %x\n",
			v, v, sha256.Sum256([]byte(body))), 0o600))
	}
	var err error
	h.Shelf, err = shelf.Open(filepath.Join(t.TempDir(), "shelf"))
	require.NoError(t, err)
	if len(versions) > 0 {
		_, err = h.Shelf.Import(t.Context(), []string{images}, shelf.Options{})
		require.NoError(t, err)
	}
	return h
}

// File writes a file of the site folder.
func (h *Hill) File(t *testing.T, name, text string) {
	require.NoError(t, os.WriteFile(filepath.Join(h.Dir, name), []byte(text), 0o600))
}

// Open opens the site and matches it.
func (h *Hill) Open(t *testing.T) *plan.Site {
	w, err := plan.Open(h.Dir, func() time.Time { return h.Now }, ledger.Writer{})
	require.NoError(t, err)
	t.Cleanup(w.Close)
	require.NoError(t, w.Match(h.Shelf))
	return w
}

// Sees records devices by name with the version that each one runs.
func (h *Hill) Sees(t *testing.T, versions map[string]string) {
	w, err := plan.Open(h.Dir, func() time.Time { return h.Now }, ledger.Writer{})
	require.NoError(t, err)
	defer w.Close()
	known, err := record.Devices(w.Ledger)
	require.NoError(t, err)
	for name, v := range versions {
		d := device.Device{Name: name, Named: true, Access: device.OK,
			Endpoint: device.Endpoint{Address: name + ":80", Dialect: "onvif"},
			Reading: device.Reading{Identity: device.Identity{Vendor: "Wexcombe", Model: "WX-40",
				Serial: "WX4-" + name}, Version: v}}
		for _, k := range known {
			if k.Name == name {
				d.ID = k.ID
			}
		}
		require.NoError(t, record.Update(w.Ledger, "", &d))
	}
}

// Order makes an order of the devices named.
func (h *Hill) Order(t *testing.T, w *plan.Site, request plan.Request,
	names ...string) (order.Order,
	[]plan.Row) {
	rows, err := w.Choose(workspace.Choice{Names: names})
	require.NoError(t, err)
	request.Purpose = order.Forward
	o, skipped, err := w.Order(request, rows, h.Now)
	require.NoError(t, err)
	return o, skipped
}

// Runs records a job that has just started with an order.
func (h *Hill) Runs(t *testing.T, w *plan.Site, id string, o order.Order) {
	require.NoError(t, w.Ledger.Append(job.Started, id, "", o))
}

// Ran records a job that brought devices from a version to another one, or failed with it.
func (h *Hill) Ran(t *testing.T, w *plan.Site, id string, end job.Step, from, to string,
	devices ...string) {
	o := order.Order{Format: order.FileFormat, Name: id, Site: w.Name(), Purpose: order.Forward,
		Made: h.Now}
	var entries []ledger.Entry
	for _, name := range devices {
		_, d, err := w.Device(name)
		require.NoError(t, err)
		hop := order.Hop{Component: firmware.Main, From: from, To: to}
		o.Devices = append(o.Devices, order.Device{ID: d.ID, Name: d.Name, From: from,
			Path: []order.Hop{hop}})
		stepStarted, err := ledger.NewEntry(job.StepStarted, id, d.ID, job.Effect{Step: job.Sending,
			Component: firmware.Main, From: from, Version: to, Direction: job.Forward})
		require.NoError(t, err)
		ended, err := ledger.NewEntry(job.Ended, id, d.ID, map[string]any{"end": end, "version": to})
		require.NoError(t, err)
		entries = append(entries, stepStarted, ended)
	}
	started, err := ledger.NewEntry(job.Started, id, "", o)
	require.NoError(t, err)
	closed, err := ledger.NewEntry(job.Closed, id, "", struct{}{})
	require.NoError(t, err)
	require.NoError(t, w.Ledger.Extend(nil, func([]ledger.Entry) ([]ledger.Entry, error) {
		return append(append([]ledger.Entry{started}, entries...), closed), nil
	}))
}
