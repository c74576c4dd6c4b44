package workspace

import (
	"catena/internal/ledger"
	"io"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"catena/internal/atomicfile"
	"catena/internal/device"
	"catena/internal/record"
	"catena/internal/shelf"
	"catena/internal/site"
)

// Name returns the name of the site.
func (w *Workspace) Name() string { return w.Site.Name }

// Zone returns the time zone of the site.
func (w *Workspace) Zone() *time.Location { return w.Site.Zone() }

// Targets returns which versions devices of the site should run.
func (w *Workspace) Targets() []site.Target { return w.Site.Targets }

// Groups returns the patterns of each group of the site.
func (w *Workspace) Groups() map[string][]string { return w.Site.Groups }

// SecondPlace returns where saved settings are copied to; empty: nowhere.
func (w *Workspace) SecondPlace() string { return w.Site.SecondPlace }

// ReadOnly returns why the ledger cannot be written to; nil: it can.
func (w *Workspace) ReadOnly() error { return w.Ledger.ReadOnly() }

// Summaries returns what is known of each device in short: faster than a match.
func (w *Workspace) Summaries() ([]record.Summary, error) { return record.Summaries(w.Ledger) }

// Keys returns the keys that are trusted, and those that were met in the place of one.
func (w *Workspace) Keys() (trusted, changed []device.Key,
	err error) {
	return record.Keys(w.Ledger)
}

// LastEntry returns when the newest entry of the ledger was written; the zero time: it has none.
func (w *Workspace) LastEntry() (time.Time, error) {
	last, err := w.Ledger.Entries(ledger.Filter{Last: 1})
	if err != nil || len(last) == 0 {
		return time.Time{}, err
	}
	return last[0].At, nil
}

// Offered are the images that feeds offer and the shelf does not have.
func (w *Workspace) Offered() []shelf.Offer { return w.offered }

// Chains returns who has written to the ledger, this writer first.
func (w *Workspace) Chains() ([]ledger.Chain, error) { return w.Ledger.Chains() }

// Export writes all entries of the ledger, one on each line, and returns how many there are.
func (w *Workspace) Export(to io.Writer) (count int, err error) { return w.Ledger.Export(to) }

// HoldError is returned for a hold that cannot be set or dropped.
type HoldError struct{ Device, Reason string }

func (e *HoldError) Error() string { return e.Device + " " + e.Reason }

// Hold writes into the site file that what a hold is for must not be updated. Its error is a
// HoldError.
func (w *Workspace) Hold(h site.Hold) error {
	for _, d := range w.Devices() {
		if held, is := w.Site.Held(d); is && d.Name == h.Device {
			return &HoldError{d.Name, "is held already: " + held.Why()}
		}
	}
	if slices.ContainsFunc(w.Site.Hold, func(x site.Hold) bool { return x.Of() == h.Of() }) {
		return &HoldError{h.Of(), "is held already"}
	}
	return w.change(func(path string, old []byte) ([]byte, error) {
		return site.AddHold(path, old, h)
	})
}

// DropHold takes a hold out of the site file: of a device, or as it is written there. Its error is
// a HoldError.
func (w *Workspace) DropHold(word string) error {
	written := func(h site.Hold) bool { return h.Of() == word }
	drop := word
	if !slices.ContainsFunc(w.Site.Hold, written) {
		_, d, err := w.Device(word)
		if err != nil {
			return err
		}
		held, is := w.Site.Held(d)
		switch {
		case !is:
			return &HoldError{d.Name, "is not held"}
		case held.Group != "" || !d.Is(held.Device):
			return &HoldError{d.Name, "is held with others, as \"" + held.Of() + "\"; drop that hold, or " +
				"change it in " + site.File}
		}
		drop = held.Device
	}
	return w.change(func(path string, old []byte) ([]byte, error) {
		return site.DropHold(path, old, drop)
	})
}

// change writes the site file again.
func (w *Workspace) change(as func(path string, old []byte) ([]byte, error)) error {
	path := filepath.Join(w.Dir, site.File)
	return atomicfile.Transform(path, 0o644, func(old []byte) ([]byte, error) { return as(path, old) })
}

// NameError is returned for a name that a device cannot get.
type NameError struct{ Reason string }

func (e *NameError) Error() string { return e.Reason }

// Call gives a device another name, wherever the site has the old one. known are all devices. Its
// error is a NameError.
func (w *Workspace) Call(known []device.Device, d device.Device, name string) error {
	for _, other := range known {
		if other.ID != d.ID && strings.EqualFold(other.Name, name) {
			return &NameError{other.Host() + " is called " + other.Name + " already"}
		}
	}
	if fixed, ok := w.Site.Fixed(d); ok && fixed != name && fixed != d.Name {
		return &NameError{site.File + " calls it " + fixed + " (names:); change it there"}
	}
	was := d.Name
	d.Name, d.Named = name, true
	if err := w.Rename(was, name); err != nil {
		return err
	}
	if item, is := w.Site.Inventory.Find(d); is && item.Name != "" && item.Name != name {
		changed, err := w.Site.Inventory.Rename(item.Key, name)
		if err == nil {
			err = w.WriteInventory(changed)
		}
		if err != nil {
			return err
		}
	}
	return record.Update(w.Ledger, "", &d)
}
