package plan

import (
	"cmp"
	"slices"
	"strings"

	"catena/internal/device"
	"catena/internal/firmware"
	"catena/internal/match"
	"catena/internal/text"
)

// Places where a version is known from, the one that counts most first.
const (
	OnShelf    = "shelf"
	InSlot     = "slot" // the other slot of the device has it
	InFeed     = "feed" // a feed offers it, and it was not pulled
	ByAdvisory = "advisory"
	ByParent   = "parent" // it comes with an image of the parent
	OnDevice   = "device" // the device runs it, and nothing else knows it
)

// Version is one that a component of a device runs, may be brought to, or is known to exist.
type Version struct {
	Component string   `json:"component"`
	Version   string   `json:"version"`
	Runs      bool     `json:"runs,omitempty"`
	Target    bool     `json:"target,omitempty"` // it is what the device should run
	Known     string   `json:"known"`            // shelf, slot, feed, advisory, parent or device
	Feed      string   `json:"feed,omitempty"`   // its name, for Known feed
	Path      []string `json:"path"`             // with the version itself; empty: it is not sent
	Rollback  string   `json:"rollback,omitempty"`
	Settings  string   `json:"settings,omitempty"` // kept, cleared or converted on the way
	Cautions  []string `json:"cautions,omitempty"` // their names
	Advice    string   `json:"advice,omitempty"`
	Because   string   `json:"because,omitempty"` // why it has that advice, or must not run
	Notes     string   `json:"notes,omitempty"`   // the first line of its release notes
	Reason    string   `json:"reason,omitempty"`  // why it is not sent
}

// Versions returns all versions that are known for the components of a device, the main one first,
// each from the latest to the earliest.
func (w *Site) Versions(d device.Device) (out []Version, err error) {
	for _, r := range w.Rows {
		if r.ID != d.ID {
			continue
		}
		of, err := w.versionsOf(r)
		if err != nil {
			return nil, err
		}
		out = append(out, of...)
	}
	return out, nil
}

// versionsOf are the versions of one component.
func (w *Site) versionsOf(r Row) (out []Version, err error) {
	d, component := r.Match.Device, r.Component
	order := w.Matcher().Order(d)
	at := func(v string) *Version {
		i := slices.IndexFunc(out, func(x Version) bool { return order.Equal(x.Version, v) })
		if i < 0 {
			i, out = len(out), append(out, Version{Component: component, Version: v, Path: []string{}})
		}
		return &out[i]
	}
	for _, i := range w.Matcher().For(d, component) {
		v := at(i.Version)
		if v.Known != "" && i.Advice == firmware.Withdrawn {
			continue // another image of the same version may be sent
		}
		v.Known, v.Advice, v.Because = OnShelf, string(i.Advice), i.Because
		notes, err := w.Shelf.Notes(*i)
		if err != nil {
			return nil, err
		}
		v.Notes = firstLine(notes)
	}
	if idle := d.Idle[component]; idle != "" && at(idle).Known == "" {
		at(idle).Known = InSlot
	}
	for _, o := range w.Offered() {
		m := firmware.Image{Manifest: o.Manifest}
		if cmp.Or(m.Component, firmware.Main) != component || !m.Fits(d.Vendor, d.Model, d.Hardware) {
			continue
		}
		if v := at(m.Version); v.Known == "" {
			v.Known, v.Feed, v.Advice, v.Because = InFeed, o.Feed, string(m.Advice), m.Because
			v.Notes = firstLine(o.Notes)
			v.Reason = "it was not pulled: catena shelf pull --image " + d.Model + "@" + m.Version
		}
	}
	for _, parent := range w.Rows {
		if parent.ID != d.Through || d.Through == "" || component != firmware.Main ||
			parent.Component != firmware.Main {
			continue
		}
		for _, i := range w.Matcher().BroughtTo(parent.Match.Device, d) {
			if v := at(i.BringsTo(d.Model)); v.Known == "" {
				v.Known, v.Reason = ByParent, "it comes with version "+i.Version+" of "+parent.Name
			}
		}
	}
	for _, v := range w.Matcher().Named(d, component) {
		if named := at(v); named.Known == "" {
			named.Known, named.Reason = ByAdvisory, "only an advisory or a feed names it"
		}
	}
	if runs := d.Of(component); runs != "" {
		v := at(runs)
		v.Runs, v.Known = true, cmp.Or(v.Known, OnDevice)
	}
	for i := range out {
		w.judge(&out[i], r)
	}
	slices.SortStableFunc(out, func(a, b Version) int { return order.Compare(b.Version, a.Version) })
	return out, nil
}

// judge says how a version is reached, or why it is not.
func (w *Site) judge(v *Version, r Row) {
	d := r.Match.Device
	v.Target = w.Matcher().Order(d).Equal(v.Version, r.Target.Text)
	if why := w.Matcher().Withdrawn(d, v.Component, v.Version); why != "" {
		v.Advice, v.Because = string(firmware.Withdrawn), why
	}
	if v.Runs || v.Known != OnShelf && v.Known != InSlot {
		return
	}
	to := w.Matcher().To(d, v.Component, v.Version)
	if len(to.Path) == 0 {
		v.Reason = to.Reason
		return
	}
	v.Rollback, v.Settings = string(to.Rollback()), string(firmware.Kept)
	for _, h := range to.Path {
		v.Path = append(v.Path, h.Image.Version)
		if s := h.Image.Settings; s == firmware.Cleared || s == firmware.Converted &&
			v.Settings != string(firmware.Cleared) {
			v.Settings = string(s)
		}
	}
	for _, c := range w.cautions([]Row{r}, map[string][]match.Row{r.ID: {to}}) {
		if !slices.Contains(v.Cautions, c.Name) {
			v.Cautions = append(v.Cautions, c.Name)
		}
	}
}

// firstLine is the first line of release notes that says something.
func firstLine(notes string) string {
	for line := range strings.Lines(notes) {
		if line = strings.TrimSpace(strings.TrimLeft(line, "#*- \t")); line != "" {
			return text.Clean(line)
		}
	}
	return ""
}

// UnreachableError is returned where no chosen device can be brought to a version that was named.
type UnreachableError struct {
	To       string
	Device   device.Device // the first one
	Reason   string        // why that one cannot
	Versions []Version     // of its main component
}

func (e *UnreachableError) Error() string {
	return e.Device.Name + " cannot be brought to " + e.To + ": " + e.Reason
}

// reachable returns an UnreachableError where none of the rows has a path to the version.
func (w *Site) reachable(rows []Row, to string) error {
	other := []string{string(match.Away), string(match.NoAccess), string(match.Held)}
	if len(rows) == 0 || slices.ContainsFunc(rows, func(r Row) bool {
		order, runs := w.Matcher().Order(r.Match.Device), r.Match.Version
		return len(r.Path) > 0 || slices.Contains(other, r.Status) || runs != "" && order.Equal(runs, to)
	}) {
		return nil
	}
	e := &UnreachableError{To: to, Device: rows[0].Match.Device, Reason: rows[0].Reason}
	all, err := w.Versions(e.Device)
	e.Versions = slices.DeleteFunc(all, func(v Version) bool { return v.Component != firmware.Main })
	if err != nil {
		return err
	}
	return e
}
