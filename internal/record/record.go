// Package record reads and writes what a site knows: its devices as they were found last, the keys
// that they showed, and when they were scanned. Everything is derived from the ledger's entries;
// nothing is stored twice.
//
// Its central functions are Devices, which returns the known devices, and Update, which records
// what was found of them. It never contacts a device.
package record

import (
	"catena/internal/firmware/version"
	"catena/internal/site"
	"catena/internal/text"
	"crypto/rand"
	"crypto/sha256"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"catena/internal/device"
	"catena/internal/ledger"
	"catena/internal/scan"
)

// Kinds of the entries of a site, apart from those of its jobs.
const (
	founded ledger.Kind = "founded" // the site folder was created; the body is an Origin
	Found   ledger.Kind = "seen"    // something about a device is new; the body is a device.Device
	Scanned ledger.Kind = "scanned" // a scan ended
	key     ledger.Kind = "key"     // the body is a keyEntry
)

// Origin says which site a ledger is of. All copies of its history have the same ID.
type Origin struct {
	ID      string `json:"id"`
	Site    string `json:"site"` // its name, when the folder was made
	Because string `json:"because,omitempty"`
}

// Start writes the first entry of a new ledger. An origin without an ID gets one.
func Start(l *ledger.Ledger, o Origin) error {
	if o.ID == "" {
		o.ID = strings.ToLower(rand.Text()[:12])
	}
	return l.Append(founded, "", "", o)
}

// OriginOf returns which site a ledger is of: what its writer recorded last.
func OriginOf(l *ledger.Ledger) (o Origin, err error) {
	all, err := l.Entries(ledger.Filter{Kind: founded, Mine: true, Last: 1})
	if err == nil && len(all) == 0 {
		all, err = l.Entries(ledger.Filter{Kind: founded, Last: 1})
	}
	switch {
	case err != nil:
		return o, err
	case len(all) == 0:
		return o, errors.New("the entry that says which site this is, is missing")
	}
	err = json.Unmarshal(all[0].Body, &o)
	o.ID, o.Site = text.Name(o.ID), text.Clean(o.Site)
	return o, err
}

// Devices returns the known devices of the site, each as it was found last, sorted by name.
func Devices(l *ledger.Ledger) ([]device.Device, error) {
	all, err := All(l)
	if err != nil {
		return nil, err
	}
	return withoutRetired(l, all)
}

// All is Devices with those that have left the site.
func All(l *ledger.Ledger) ([]device.Device, error) {
	entries, err := l.Entries(ledger.Filter{Kind: Found, Newest: true})
	if err != nil {
		return nil, err
	}
	return devices(l, entries)
}

func devices(l *ledger.Ledger, entries []ledger.Entry) ([]device.Device, error) {
	var out []device.Device
	for _, e := range entries {
		var d device.Device
		if err := json.Unmarshal(e.Body, &d); err != nil {
			return nil, fmt.Errorf("%s of the ledger is not a device: %w", e, err)
		}
		d = d.Clean() // the folder may be someone else's
		d.ID, d.Through = e.Device, l.Canonical(d.Through)
		out = append(out, d)
	}
	version.SortBy(out, func(d *device.Device) string { return d.Name },
		func(a, b *device.Device) int { return strings.Compare(a.ID, b.ID) })
	return out, nil
}

// Summary is the part of a device that is read quickly.
type Summary struct {
	Name    string        `json:"name"`
	Access  device.Access `json:"access"`
	Reading struct {
		Model   string `json:"model"`
		Version string `json:"version"`
	} `json:"reading"`
}

// Summaries returns the known devices, sorted by name. It costs less than Devices: a shell that
// completes a word waits for it.
func Summaries(l *ledger.Ledger) ([]Summary, error) {
	entries, err := l.Entries(ledger.Filter{Kind: Found, Newest: true})
	if err != nil {
		return nil, err
	}
	gone, err := Retirements(l)
	if err != nil {
		return nil, err
	}
	entries = slices.DeleteFunc(entries, func(e ledger.Entry) bool { return gone[e.Device].Retired })
	out := make([]Summary, len(entries))
	for i, e := range entries {
		if err := json.Unmarshal(e.Body, &out[i]); err != nil {
			return nil, fmt.Errorf("%s of the ledger is not a device: %w", e, err)
		}
	}
	version.SortBy(out, func(s *Summary) string { return s.Name }, nil)
	return out, nil
}

// Device returns the device of that ID, as it was found last.
func Device(l *ledger.Ledger, id string) (device.Device, error) {
	entries, err := l.Entries(ledger.Filter{Kind: Found, Device: id, Newest: true})
	if err != nil {
		return device.Device{}, err
	}
	found, err := devices(l, entries)
	if err == nil && len(found) == 0 {
		err = &UnknownDeviceError{Word: id}
	}
	if err != nil {
		return device.Device{}, err
	}
	return found[0], nil
}

// Update records what was found of devices, in one commit. Only what differs from what is known is
// written. A device without an ID gets one.
func Update(l *ledger.Ledger, job string, seen ...*device.Device) error {
	return UpdateSince(l, job, time.Time{}, seen...)
}

// UpdateSince is Update for a scan that started at a time: what a job has verified of a device
// since then is not overwritten.
func UpdateSince(l *ledger.Ledger, job string, startedAt time.Time, seen ...*device.Device) error {
	filter := &ledger.Filter{Kind: Found, Newest: true}
	if len(seen) == 1 {
		filter.Device = seen[0].ID // empty: all, for the next ID
	}
	return l.Extend(filter, func(last []ledger.Entry) ([]ledger.Entry, error) {
		known, err := devices(l, last)
		if err != nil {
			return nil, err
		}
		byID := map[string]device.Device{}
		proven := map[string]bool{} // by a job, since then
		for _, e := range last {
			proven[e.Device] = !startedAt.IsZero() && e.Job != "" && e.At.After(startedAt)
		}
		for _, d := range known {
			byID[d.ID] = d
		}
		var added []ledger.Entry
		numbered := map[string]string{} // IDs by name, of those that are new
		for _, d := range seen {
			if parent, is := strings.CutPrefix(d.Through, scan.Unnumbered); is {
				d.Through = numbered[parent]
			}
			if d.ID == "" {
				d.ID = newID(*d, byID)
				byID[d.ID], numbered[d.Name] = *d, d.ID
			} else if old, ok := byID[d.ID]; ok && (proven[d.ID] || old.Equal(*d)) {
				continue
			}
			e, err := ledger.NewEntry(Found, job, d.ID, d)
			if err != nil {
				return nil, err
			}
			added = append(added, e)
		}
		return added, nil
	})
}

// newID derives the ID of a device that is new from the surest that is known of it, so that two
// laptops that find it independently call it the same: its model and serial number, its MAC
// address, its UUID, the name that site.yaml declares for it, its place at its parent, or its
// address. It is "d" and nine digits.
func newID(d device.Device, taken map[string]device.Device) string {
	is := "at " + d.Address
	switch {
	case d.Serial != "":
		is = "serial number " + strings.ToLower(d.Serial) + " of " + d.Model
	case d.MAC != "":
		is = "MAC address " + d.MAC
	case d.UUID != "":
		is = "UUID " + strings.ToLower(d.UUID)
	case d.Address == "" && d.Through == "":
		is = "called " + d.Name
	case d.Through != "":
		is = "child " + d.Unit + " of " + d.Through
	}
	for n := 1; ; n++ {
		sum := sha256.Sum256(fmt.Appendf(nil, "%s %d", is, n))
		id := fmt.Sprintf("d%09d", binary.BigEndian.Uint64(sum[:])%1_000_000_000)
		if _, is := taken[id]; !is {
			return id
		}
	}
}

// LastScans is when a scan last read each of the known devices, by ID. The scans are gone
// through from the newest one back until all are found, at most recentScans of them: a device
// that no scan has read for so long has an entry that says that it is away.
func LastScans(l *ledger.Ledger, known []device.Device) (map[string]time.Time, error) {
	out := map[string]time.Time{}
	for last := 4; ; last *= 8 {
		entries, err := l.Entries(ledger.Filter{Kind: Scanned, Last: last})
		if err != nil {
			return nil, err
		}
		for _, e := range slices.Backward(entries) {
			var body Scan
			if err := json.Unmarshal(e.Body, &body); err != nil {
				return nil, fmt.Errorf("%s of the ledger is not a scan: %w", e, err)
			}
			for _, id := range body.Read {
				id = l.Canonical(id)
				if _, later := out[id]; !later {
					out[id] = e.At
				}
			}
		}
		all := !slices.ContainsFunc(known, func(d device.Device) bool { return out[d.ID].IsZero() })
		if all || len(entries) < last || last > recentScans {
			return out, nil
		}
	}
}

const recentScans = 200

// Scan is the body of a Scanned entry: what a scan brought.
type Scan struct {
	Asked   int           `json:"asked"` // addresses
	Found   int           `json:"found"` // devices
	New     []string      `json:"new"`
	Read    []string      `json:"read"` // the IDs of the devices that were read
	Changed []scan.Change `json:"changed"`
	Gone    []string      `json:"gone"`
	Outside int           `json:"outside"`
	// Silent are addresses that were named one by one, and at which nothing answered.
	Silent   []string `json:"silent,omitempty"`
	Warnings []string `json:"warnings"`
	Seconds  float64  `json:"seconds"`
}

// keyEntry is a device's key, as trusted at the first contact or by a person, or as met
// in the place of the trusted one.
type keyEntry struct {
	device.Key
	Trusted bool `json:"trusted"`
}

// Keys returns the devices' keys that are trusted, and those that were met in the place
// of one and not accepted since.
func Keys(l *ledger.Ledger) (trusted, changed []device.Key, err error) {
	entries, err := l.Entries(ledger.Filter{Kind: key})
	if err != nil {
		return nil, nil, err
	}
	return keys(entries)
}

func keys(entries []ledger.Entry) (trusted, changed []device.Key, err error) {
	var order []device.Key // slots: keys without fingerprints
	met, other := map[device.Key]string{}, map[device.Key]string{}
	for _, e := range entries {
		var k keyEntry
		if err := json.Unmarshal(e.Body, &k); err != nil {
			return nil, nil, fmt.Errorf("%s of the ledger is not a key: %w", e, err)
		}
		slot := device.Key{Address: k.Address, Kind: k.Kind}
		if !k.Trusted {
			other[slot] = k.Fingerprint
			continue
		}
		if _, known := met[slot]; !known {
			order = append(order, slot)
		}
		met[slot] = k.Fingerprint
		delete(other, slot)
	}
	for _, slot := range order {
		trusted = append(trusted, device.Key{Address: slot.Address, Kind: slot.Kind,
			Fingerprint: met[slot]})
		if f, ok := other[slot]; ok {
			changed = append(changed,
				device.Key{Address: slot.Address, Kind: slot.Kind, Fingerprint: f})
		}
	}
	return trusted, changed, nil
}

// Trust records keys as trusted.
func Trust(l *ledger.Ledger, list []device.Key) error { return addKeys(l, list, true) }

// Distrust records keys that were met in the place of trusted ones.
func Distrust(l *ledger.Ledger, list []device.Key) error { return addKeys(l, list, false) }

// addKeys writes the keys that are not known so already.
func addKeys(l *ledger.Ledger, list []device.Key, trust bool) error {
	if len(list) == 0 {
		return nil
	}
	return l.Extend(&ledger.Filter{Kind: key},
		func(entries []ledger.Entry) ([]ledger.Entry, error) {
			known, changed, err := keys(entries)
			if err != nil {
				return nil, err
			}
			if !trust {
				known = changed
			}
			var added []ledger.Entry
			for _, k := range list {
				if slices.Contains(known, k) {
					continue
				}
				e, err := ledger.NewEntry(key, "", "", keyEntry{k, trust})
				if err != nil {
					return nil, err
				}
				added = append(added, e)
			}
			return added, nil
		})
}

// UnknownDeviceError is returned for a word that means no known device.
type UnknownDeviceError struct {
	Word string
	Like string // the name of a device that may have been meant; empty: none is like it
}

func (e *UnknownDeviceError) Error() string {
	if e.Like != "" {
		return fmt.Sprintf("no device %q is known, did you mean %s?", e.Word, e.Like)
	}
	return fmt.Sprintf("no device %q is known", e.Word)
}

// Meant returns the devices that a word means; its error is an UnknownDeviceError.
func Meant(known []device.Device, word string) ([]device.Device, error) {
	found := site.Meant(known, word)
	if len(found) > 0 {
		return found, nil
	}
	var names []string
	for _, d := range known {
		names = append(names, d.Name)
	}
	return nil, &UnknownDeviceError{Word: word, Like: text.Nearest(word, names)}
}

// AmbiguousError is returned for a word that means several devices where one is needed.
type AmbiguousError struct {
	Word  string
	Count int
}

func (e *AmbiguousError) Error() string {
	return fmt.Sprintf("%s matches %d devices", e.Word, e.Count)
}

// NameTakenError is returned where an order may not be called so.
type NameTakenError struct {
	Name   string
	Device bool // a device is called so; else an order is
}

func (e *NameTakenError) Error() string {
	if e.Device {
		return e.Name + " is the name of a device, and cannot be the name of an order"
	}
	return "there is an order " + e.Name + " already"
}
