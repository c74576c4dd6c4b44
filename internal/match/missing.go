package match

import (
	"cmp"
	"slices"
	"strings"

	"catena/internal/device"
	"catena/internal/firmware"
	"catena/internal/firmware/version"
)

// Purpose is what a missing image is for.
type Purpose string

const (
	ForUpdate   Purpose = "update"   // to bring a device to its target
	ForRollback Purpose = "rollback" // to roll it back from there
)

// Missing is an image that devices would need and that the shelf does not have.
type Missing struct {
	Purpose   Purpose  `json:"for"`
	Vendor    string   `json:"vendor"`
	Model     string   `json:"model"`
	Hardware  string   `json:"hardware"`
	Component string   `json:"component"`
	Version   string   `json:"version"` // which; newest: any that is later than what runs
	Why       string   `json:"why"`
	Devices   []string `json:"devices"` // the names of those that would need it
	// From is the maker's page with its images; empty: it is not known.
	From string `json:"from,omitempty"`
}

// MissingOf are the images to obtain before one leaves for the site: those that lead to the
// targets, and those that devices would return with. Devices that cannot be read, or are held,
// need none. Each image is listed once, those for updates first. from returns the maker's page for
// a device.
func MissingOf(rows []Row, from func(device.Device) string) []Missing {
	var out []Missing
	add := func(m Missing, r Row) {
		d := r.Device
		m.Vendor, m.Model, m.Hardware, m.Component = d.Vendor, d.Model, d.Hardware, r.Component
		at := slices.IndexFunc(out, func(o Missing) bool {
			return o.Purpose == m.Purpose && o.Vendor == m.Vendor && o.Model == m.Model &&
				o.Hardware == m.Hardware && o.Component == m.Component && o.Version == m.Version
		})
		if at < 0 {
			m.From = from(d)
			at, out = len(out), append(out, m)
		}
		out[at].Devices = append(out[at].Devices, d.Name)
	}
	for _, r := range rows {
		if r.Device.Model == "" || r.Device.Vendor == "" || r.Version == "" || r.Brought {
			continue
		}
		switch r.Status {
		case NoImage:
			add(Missing{Purpose: ForUpdate, Version: cmp.Or(r.Wanted, "newest"), Why: r.Reason}, r)
		case Outdated, Unsafe:
			if len(r.Path) == 0 {
				add(Missing{Purpose: ForUpdate, Version: cmp.Or(r.Target, "newest"), Why: r.Reason}, r)
			}
		}
		for _, h := range r.Path {
			if h.lost() {
				add(Missing{Purpose: ForRollback, Version: h.From, Why: "to roll back from " + h.Image.Version},
					r)
			}
		}
	}
	slices.SortStableFunc(out, func(a, b Missing) int {
		return cmp.Or(-strings.Compare(string(a.Purpose), string(b.Purpose)),
			strings.Compare(a.Vendor, b.Vendor),
			strings.Compare(a.Model, b.Model), strings.Compare(mainFirst(a), mainFirst(b)),
			version.Compare(a.Version, b.Version))
	})
	return out
}

// mainFirst sorts the main component first.
func mainFirst(m Missing) string {
	if m.Component == firmware.Main {
		return ""
	}
	return m.Component
}
