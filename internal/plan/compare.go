package plan

import (
	"cmp"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"catena/internal/device"
	"catena/internal/files"
	"catena/internal/firmware"
	"catena/internal/firmware/version"
	"catena/internal/record"
	"catena/internal/text"
)

// Point is what was known of the devices of a site at a time, or in a saved list.
type Point struct {
	Called  string // a time, or the file
	Devices []PointDevice
	keys    bool // the keys of the devices are known
}

// PointDevice is one device at a point.
type PointDevice struct {
	ID, Name, Model, Serial, Address string
	Away                             bool
	Versions                         map[string]string // by component
	Keys                             map[string]string // fingerprints, by kind
}

// Change is a difference between two points.
type Change struct {
	Device string `json:"device"` // its name at the later point, or at the only one that has it
	ID     string `json:"id"`
	Model  string `json:"model"`
	Serial string `json:"serial"`
	What   string `json:"what"` // new, gone, away, back, version, address, name, serial number, or a key's kind
	Was    string `json:"was"`
	Is     string `json:"is"`
}

// PointAt returns what the site knew at a time.
func (w *Site) PointAt(at time.Time) (Point, error) {
	p := Point{Called: at.In(w.Zone()).Format("2006-01-02 15:04"), keys: true}
	past, err := record.PastAt(w.Ledger, at)
	if err != nil {
		return p, err
	}
	for _, d := range past.Devices {
		x := PointDevice{ID: d.ID, Name: d.Name, Model: d.Model, Serial: d.Serial, Address: d.Address,
			Away: d.Access == device.Away, Versions: map[string]string{}, Keys: map[string]string{}}
		if d.Version != "" {
			x.Versions[firmware.Main] = d.Version
		}
		maps.Copy(x.Versions, d.Components)
		for _, k := range past.Keys {
			if k.Host() == d.Host() && (k.Kind == device.KeyTLS || k.Kind == device.KeySSH) {
				x.Keys[k.Kind] = k.Fingerprint
			}
		}
		p.Devices = append(p.Devices, x)
	}
	return p, nil
}

// PointIn reads a saved list: what catena list --format json has printed. Its error says what is
// wrong with the file.
func PointIn(path string) (Point, error) {
	p := Point{Called: path}
	raw, err := files.Read(path, files.List)
	if err != nil {
		return p, err
	}
	var rows []struct {
		ID, Name, Model, Serial, Address, Version, Component, Access string
	}
	if err := json.Unmarshal(raw, &rows); err != nil {
		return p, fmt.Errorf(
			"%s is not a list of devices as catena list --format json prints it: %w",
			path,
			err,
		)
	}
	at := map[string]int{}
	for i, r := range rows {
		for _, s := range []*string{&r.ID, &r.Name, &r.Model, &r.Serial, &r.Address, &r.Version,
			&r.Component} {
			*s = text.Clean(*s)
		}
		if r.ID == "" {
			return p, fmt.Errorf("%s: entry %d has no id", path, i+1)
		}
		n, has := at[r.ID]
		if !has {
			n = len(p.Devices)
			at[r.ID] = n
			p.Devices = append(p.Devices, PointDevice{ID: r.ID, Name: r.Name, Model: r.Model,
				Serial: r.Serial, Address: r.Address, Away: r.Access == string(device.Away),
				Versions: map[string]string{}})
		}
		if r.Version != "" && r.Version != "?" {
			p.Devices[n].Versions[cmp.Or(r.Component, firmware.Main)] = r.Version
		}
	}
	return p, nil
}

// Compare returns what differs between two points, by the names of the devices.
func Compare(from, to Point) []Change {
	before := map[string]PointDevice{}
	for _, d := range from.Devices {
		before[d.ID] = d
	}
	out := []Change{}
	add := func(d PointDevice, what, was, is string) {
		out = append(out, Change{cmp.Or(d.Name, d.Address), d.ID, d.Model, d.Serial, what, was, is})
	}
	for _, d := range to.Devices {
		old, known := before[d.ID]
		delete(before, d.ID)
		if !known {
			add(d, "new", "", d.Versions[firmware.Main])
			continue
		}
		compareDevice(old, d, from.keys && to.keys, func(what, was, is string) { add(d, what, was, is) })
	}
	for _, d := range before {
		add(d, "gone", d.Versions[firmware.Main], "")
	}
	version.SortBy(out, func(c *Change) string { return c.Device },
		func(a, b *Change) int { return strings.Compare(a.ID+a.What, b.ID+b.What) })
	return out
}

// compareDevice reports what differs of one device.
func compareDevice(old, now PointDevice, keys bool, differs func(what, was, is string)) {
	switch {
	case now.Away && !old.Away:
		differs("away", "", "")
	case old.Away && !now.Away:
		differs("back", "", "")
	}
	for _, x := range [][3]string{{"name", old.Name, now.Name}, {"address", old.Address, now.Address},
		{"model", old.Model, now.Model}, {"serial number", old.Serial, now.Serial}} {
		if x[1] != x[2] {
			differs(x[0], x[1], x[2])
		}
	}
	parts := slices.Sorted(maps.Keys(old.Versions))
	for name := range now.Versions {
		if !slices.Contains(parts, name) {
			parts = append(parts, name)
		}
	}
	for _, name := range parts {
		what := "version"
		if name != firmware.Main {
			what = "version of " + name
		}
		if old.Versions[name] != now.Versions[name] {
			differs(what, old.Versions[name], now.Versions[name])
		}
	}
	if !keys {
		return
	}
	for _, kind := range []string{device.KeyTLS, device.KeySSH} {
		if old.Keys[kind] != now.Keys[kind] {
			differs(kind, old.Keys[kind], now.Keys[kind])
		}
	}
}
