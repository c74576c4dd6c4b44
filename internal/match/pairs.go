package match

import (
	"fmt"
	"slices"

	"catena/internal/firmware"
	"catena/internal/firmware/version"
)

// result is the version that a component will run when its row is carried out.
func (r Row) result() string {
	if image := r.Image(); image != nil {
		return image.Version
	}
	return r.Version
}

// imageOf is the image of the version that a component will run, where the shelf has
// it.
func (m *Matcher) imageOf(r Row) *firmware.Image {
	if image := r.Image(); image != nil {
		return image
	}
	of := m.model(r.Device.Vendor, r.Device.Model)
	for _, c := range of.usable(r.Device, r.Component) {
		if of.order.Equal(c.Version, r.Version) {
			return c.Image
		}
	}
	return nil
}

// Agree looks whether versions that belong together would, once every row that has a
// path was carried out: those of one device's components, and those of devices in
// lockstep. Where they would not, none of them is changed, and each says why.
//
// A manifest says what its image goes with: pairs: {radio: ">= 5"}. It is held against the
// version that the other will run, which is the target of its path, or what it runs where it
// has none. For example, a main image 2.0 that goes with radio >= 5, on a device whose radio
// runs 4: with an image of radio 5 on the shelf both rows have a path, and agree; without
// one, the main image is not sent either.
func (m *Matcher) Agree(rows []Row) {
	together := map[string][]int{} // places of rows, by device
	var order []string
	for i, r := range rows {
		if together[r.Device.ID] == nil {
			order = append(order, r.Device.ID)
		}
		together[r.Device.ID] = append(together[r.Device.ID], i)
	}
	for _, id := range order {
		if len(together[id]) > 1 {
			m.agreeAt(rows, together[id])
		}
	}
	for _, set := range m.site.Lockstep {
		var at []int
		for i, r := range rows {
			if set.Has(r.Device) {
				at = append(at, i)
			}
		}
		m.agreeAt(rows, at)
	}
}

// agreeAt has the rows at these places agree.
func (m *Matcher) agreeAt(rows []Row, at []int) {
	var members []Row
	for _, i := range at {
		members = append(members, rows[i])
	}
	m.agree(members)
	for n, i := range at {
		rows[i] = members[n]
	}
}

// agree checks the pairs of every row against the others: by component within one
// device, by model between devices.
func (m *Matcher) agree(all []Row) {
	if !slices.ContainsFunc(all, func(r Row) bool { return len(r.Path) > 0 }) {
		return // nothing changes
	}
	for _, r := range all {
		image := m.imageOf(r)
		if image == nil {
			continue
		}
		for name, wants := range image.Pairs {
			c, err := version.ParseConstraint(wants)
			if err != nil {
				continue // the manifest was checked
			}
			for _, other := range all {
				beside := other.Device.ID == r.Device.ID && other.Component == name ||
					other.Device.ID != r.Device.ID && other.Component == firmware.Main &&
						other.Device.Model == name
				if beside && !c.Holds(m.Order(other.Device), other.result()) {
					refuse(all, fmt.Sprintf("%s %s requires %s %s, and %s would have %s",
						r.Component, image.Version, name, c, other.Device.Name, other.result()))
					return
				}
			}
		}
	}
}

// refuse takes the paths of rows away.
func refuse(rows []Row, why string) {
	for i := range rows {
		if len(rows[i].Path) > 0 {
			rows[i].Path, rows[i].Reason = nil, why
		}
	}
}

// Ordered is all that is to be sent to one device, in the order in which its
// components go: what an image comes after goes first.
func Ordered(rows []Row) []Hop {
	left := slices.DeleteFunc(slices.Clone(rows), func(r Row) bool { return len(r.Path) == 0 })
	var out []Hop
	for len(left) > 0 {
		next := 0 // in a circle, which manifests on a shelf cannot form, the first
		for i, r := range left {
			waits := slices.ContainsFunc(left, func(o Row) bool {
				return o.Component != r.Component && slices.ContainsFunc(r.Path, func(h Hop) bool {
					return slices.Contains(h.Image.After, o.Component)
				})
			})
			if !waits {
				next = i
				break
			}
		}
		out = append(out, left[next].Path...)
		left = slices.Delete(left, next, next+1)
	}
	return out
}
