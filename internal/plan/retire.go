package plan

import (
	"fmt"
	"slices"
	"strings"

	"catena/internal/care"
	"catena/internal/device"
	"catena/internal/job"
	"catena/internal/login"
	"catena/internal/record"
)

// Retired is a device that has left the site.
type Retired struct {
	record.Retirement
	Device device.Device
}

// RetiredDevices are those that have left the site, by name.
func (w *Site) RetiredDevices() (out []Retired, err error) {
	gone, err := record.Retirements(w.Ledger)
	if err != nil || len(gone) == 0 {
		return nil, err // most sites have none: their devices are not read once more
	}
	all, err := record.All(w.Ledger)
	for _, d := range all {
		if r, is := gone[d.ID]; is {
			out = append(out, Retired{r, d})
		}
	}
	return out, err
}

// Retire has a device leave the site, with those that are reached only through it as its children.
// It returns all of them. Its error is a job.BusyError while a job or another command has one of
// them.
func (w *Site) Retire(d device.Device, because string) (out []device.Device, err error) {
	known, err := record.Devices(w.Ledger)
	if err != nil {
		return nil, err
	}
	out = append(out, d)
	for _, child := range known {
		if child.Through == d.ID {
			out = append(out, child)
		}
	}
	for _, x := range out[1:] { // a child is leased together with its parent: one after the other
		free, err := job.Lease(w.Ledger, x)
		if err != nil {
			return nil, err
		}
		free()
	}
	release, err := w.leaseAll(d)
	if err != nil {
		return nil, err
	}
	defer release()
	for _, x := range out {
		r := record.Retirement{Retired: true, Because: because}
		if err := record.Retire(w.Ledger, x.ID, r); err != nil {
			return out, err
		}
	}
	return out, nil
}

// NotRetiredError is returned for a word that means no device that has left the site.
type NotRetiredError struct{ Word string }

func (e *NotRetiredError) Error() string { return e.Word + " does not match any retired device" }

// Return has a device that has left the site be there again, with its children. Its error is a
// NotRetiredError.
func (w *Site) Return(word string) (out []device.Device, err error) {
	gone, err := w.RetiredDevices()
	if err != nil {
		return nil, err
	}
	i := slices.IndexFunc(gone, func(r Retired) bool { return r.Device.Is(word) })
	if i < 0 {
		return nil, &NotRetiredError{word}
	}
	for _, r := range gone {
		if r.Device.ID != gone[i].Device.ID && r.Device.Through != gone[i].Device.ID {
			continue
		}
		if err := record.Retire(w.Ledger, r.Device.ID, record.Retirement{}); err != nil {
			return out, err
		}
		out = append(out, r.Device)
	}
	return out, nil
}

// ReplaceError is returned for two devices of which one cannot take the other's place.
type ReplaceError struct{ Reason string }

func (e *ReplaceError) Error() string { return e.Reason }

// Replaceable refuses a replacement before an operator is asked: its error is a ReplaceError.
func (w *Site) Replaceable(old, fresh device.Device) error {
	switch {
	case old.ID == fresh.ID:
		return &ReplaceError{old.Name + " cannot replace itself"}
	case old.Through != fresh.Through:
		return &ReplaceError{fresh.Name + " is not reached through the same device as " + old.Name}
	}
	return nil
}

// Replace has a known device take the place of another one, which leaves the site: its name, and
// with it what the files of the site say of that name, and what they say of the old serial number
// and MAC address. The history of both names the other. Its errors are those of Retire, a
// workspace.NameError, and those of the files.
func (w *Site) Replace(old, fresh device.Device, because string) error {
	release, err := w.leaseAll(old, fresh)
	if err != nil {
		return err
	}
	defer release()
	name := old.Name
	if because == "" {
		because = "replaced by " + fresh.Serial
	}
	left := old // first: until it has left, its name is taken
	left.Name, left.Named = w.freeName(old), true
	if err := record.Update(w.Ledger, "", &left); err != nil {
		return err
	}
	err = record.Retire(
		w.Ledger,
		old.ID,
		record.Retirement{Retired: true, Because: because, By: fresh.ID},
	)
	if err != nil {
		return err
	}
	err = record.Replace(w.Ledger, fresh.ID, record.Replacement{Of: old.ID, Serial: old.Serial})
	if err != nil {
		return err
	}
	// not its address: that also stands for itself, in ranges
	for _, x := range [][2]string{{old.Serial, fresh.Serial}, {old.MAC, fresh.MAC}} {
		if x[0] == "" || x[1] == "" || x[0] == x[1] {
			continue
		}
		if err := w.Rename(x[0], x[1]); err != nil {
			return err
		}
	}
	if err := w.Reread(); err != nil {
		return err
	}
	if err := w.inherit(old, fresh); err != nil {
		return err
	}
	known, err := record.Devices(w.Ledger)
	if err != nil {
		return err
	}
	return w.Call(known, fresh, name)
}

// leaseAll takes devices for a change, until the returned function is called.
func (w *Site) leaseAll(all ...device.Device) (release func(), err error) {
	var held []func()
	release = func() {
		for _, r := range held {
			r()
		}
	}
	for _, d := range all {
		r, err := job.Lease(w.Ledger, d)
		if err != nil {
			release()
			return nil, err
		}
		held = append(held, r)
	}
	return release, nil
}

// freeName is how a device is called that has left the site.
func (w *Site) freeName(d device.Device) string {
	all, _ := record.All(w.Ledger) // an error shows when the name is recorded
	for n := 1; ; n++ {
		name := d.Name + "-old"
		if n > 1 {
			name = fmt.Sprintf("%s-old-%d", d.Name, n)
		}
		if !slices.ContainsFunc(
			all,
			func(o device.Device) bool { return strings.EqualFold(o.Name, name) },
		) {
			return name
		}
	}
}

// HandOver gives the replacement the login of the device that it replaced, and its newest settings
// as a save. It returns the name of that save; empty: there is none, or the models differ.
func (w *Site) HandOver(b *login.Book, old, fresh device.Device) (save string, err error) {
	s := care.Store{Dir: w.Dir, Book: *b, Now: w.now}
	for i := range b.Entries {
		if e := &b.Entries[i]; e.Kind == login.Device && e.Of == old.ID {
			e.Of, e.Label = fresh.ID, old.Name
		}
	}
	all, err := s.All(old.ID)
	if err != nil || len(all) == 0 || !strings.EqualFold(old.Model, fresh.Model) {
		return "", err
	}
	return s.Save(fresh, all[0].Version, all[0].Format, all[0].Data, all[0].Carried)
}
