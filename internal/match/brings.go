package match

import (
	"fmt"

	"catena/internal/device"
	"catena/internal/firmware"
)

// bring gives the children whose versions come with an image of their parent the version that it
// brings as their target. An image of their own on the shelf counts before that.
func (m *Matcher) bring(rows []Row) {
	if !m.brings {
		return
	}
	parents := map[string][]Row{}
	for _, r := range rows {
		parents[r.Device.ID] = append(parents[r.Device.ID], r)
	}
	for i := range rows {
		r := &rows[i]
		if r.Device.Through == "" || r.Status != NoImage || r.Component != firmware.Main ||
			r.Wanted != "" || r.Device.Access == device.Unreadable {
			continue
		}
		for _, parent := range parents[r.Device.Through] {
			image := m.imageOf(parent)
			if image == nil {
				continue
			}
			if v := image.BringsTo(r.Device.Model); v != "" {
				m.brought(r, parent, image, v)
			}
		}
	}
}

// brought has a child expect the version v, which an image of its parent brings.
func (m *Matcher) brought(r *Row, parent Row, image *firmware.Image, v string) {
	r.Target, r.Brought = v, true
	name := parent.Device.Name
	with := fmt.Sprintf("%s comes with version %s of %s", v, image.Version, name)
	switch c := m.Order(r.Device).Compare(r.Version, v); {
	case c == 0:
		r.Status, r.Reason = Current, with
	case c > 0:
		r.Status, r.Reason = Ahead, with
	case parent.Image() != nil:
		r.Status, r.Reason = Outdated, with+"; update "+name
	default:
		r.Status, r.Reason = Outdated, with+", which has not updated it"
	}
}

// BroughtTo are the versions that images on the shelf bring to a child, each with its image, by the
// model of the parent.
func (m *Matcher) BroughtTo(parent, child device.Device) (out []*firmware.Image) {
	of := m.model(parent.Vendor, parent.Model)
	for component := range of.images {
		for _, c := range of.usable(parent, component) {
			if c.BringsTo(child.Model) != "" {
				out = append(out, c.Image)
			}
		}
	}
	return out
}
