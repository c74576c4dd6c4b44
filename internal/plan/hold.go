package plan

import (
	"path/filepath"

	"catena/internal/device"
	"catena/internal/files"
	"catena/internal/order"
	"catena/internal/site"
)

// HeldNow returns why a device is on hold at this moment, as the site file says now; empty: it is
// not. A job asks right before a device's first byte. If the file cannot be read, what it said when
// it was opened counts.
func (w *Site) HeldNow(d device.Device) string {
	now := w.Site
	path := filepath.Join(w.Dir, site.File)
	if raw, err := files.Read(path, files.Site); err == nil {
		if s, err := site.Parse(path, raw); err == nil {
			now.Hold, now.Groups = s.At(w.now()).Hold, s.Groups
		}
	}
	hold, held := now.Held(d)
	if held && hold.Because == "" {
		return "site.yaml"
	}
	return hold.Why()
}

// Recheck returns, by ID, why devices of an order must not start although it was checked when it
// was scheduled.
func (w *Site) Recheck(o order.Order) (map[string]string, error) {
	if err := w.Renew(); err != nil {
		return nil, err
	}
	out := map[string]string{}
	for _, d := range w.Differences(o, true) {
		switch {
		case d.ID != "":
			out[d.ID] = d.Text
		case d.Refuses:
			for _, device := range o.Devices {
				out[device.ID] = d.Text
			}
		}
	}
	return out, nil
}
