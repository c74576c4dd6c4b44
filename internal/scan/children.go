package scan

import (
	"fmt"
	"slices"
	"strings"

	"catena/internal/device"
)

// listing is a parent's list of its children.
type listing struct {
	children []device.Child
	err      error
}

// Unnumbered is what stands before the name of a parent in Endpoint.Through as long as it has no
// ID: whoever gives it one puts that in its place.
const Unnumbered = "name "

// addChildren adds the children that the parents found have listed, each as the known one that it
// is, and the known ones that are not listed any more. A child is known by its identity and its
// family, first behind the same parent, then behind another one that does not list it: a handset
// may have been taken to the next hub.
func (r *Result) addChildren(s *Scanner, known []device.Device) {
	parents := len(r.Devices)
	byID := map[string]device.Device{}
	for _, d := range r.Devices {
		byID[d.ID] = d
	}
	listed := map[string]bool{} // the parents that have told theirs, by ID
	lists := make([][]device.Child, parents)
	for i, p := range r.Devices {
		l, asked := r.listed[p.Address]
		if !asked {
			continue
		}
		if l.err != nil {
			r.Warnings = append(r.Warnings, fmt.Sprintf("%s does not list its children: %v", p.Name,
				l.err))
			continue
		}
		listed[p.ID] = p.ID != ""
		lists[i] = r.distinct(p, l.children)
	}
	taken := map[string]bool{}
	for _, near := range []bool{true, false} {
		for i := range lists {
			p := r.Devices[i]
			lists[i] = slices.DeleteFunc(lists[i], func(c device.Child) bool {
				at := slices.IndexFunc(known, func(k device.Device) bool {
					return k.Through != "" && !taken[k.ID] && c.Dialect == k.Dialect && strings.EqualFold(c.Unit,
						k.Unit) &&
						(near && k.Through == p.ID || !near && listed[k.Through])
				})
				if at < 0 && near {
					return false // looked for once more, further away
				}
				var was *device.Device
				if at >= 0 {
					was = &known[at]
					taken[was.ID] = true
				}
				d := s.child(p, c, was)
				if len(r.Devices) < maxDevices {
					r.Devices = append(r.Devices, d)
				}
				return true
			})
		}
	}
	for _, k := range known {
		p, looked := byID[k.Through]
		if k.Through == "" || taken[k.ID] || !looked {
			continue
		}
		k.Access, k.Trouble = device.Away, device.Because(device.NoAnswer, "%s does not list it", p.Name)
		if !listed[p.ID] {
			k.Trouble = device.Because(device.NoAnswer, "its parent %s does not answer",
				p.Name)
		}
		r.Devices = append(r.Devices, k)
	}
}

// distinct are the children of a list that can be told from each other, and from their parent.
// Those that share an identity are one, with that as its trouble.
func (r *Result) distinct(p device.Device, all []device.Child) (out []device.Child) {
	count := map[string]int{}
	for _, c := range all {
		count[strings.ToLower(c.Unit)]++
	}
	nameless := 0
	for _, c := range all {
		key := strings.ToLower(c.Unit)
		n := count[key]
		switch {
		case c.Unit == "":
			nameless++
			continue
		case strings.EqualFold(c.Model, p.Model) && strings.EqualFold(c.Unit, p.Serial):
			r.Warnings = append(r.Warnings, p.Name+" lists itself as one of its children; that "+
				"entry was skipped")
			continue
		case n == 0: // told already
			continue
		case n > 1:
			c.Trouble = device.Because(device.Malformed, "%s lists %d with its identity %s", p.Name, n,
				c.Unit)
			count[key] = 0
		}
		out = append(out, c)
	}
	if nameless > 0 {
		r.Warnings = append(r.Warnings, fmt.Sprintf("%s lists %d without an identity; they "+
			"were skipped", p.Name, nameless))
	}
	return out
}

// number puts the names of parents that are new in the place of their addresses: by then they have
// one that no other has.
func (r *Result) number() {
	for i := range r.Devices {
		address, is := strings.CutPrefix(r.Devices[i].Through, Unnumbered)
		if !is {
			continue
		}
		at := slices.IndexFunc(r.Devices, func(p device.Device) bool { return p.Address == address })
		r.Devices[i].Through = Unnumbered + r.Devices[at].Name
	}
}

// child returns a child that a parent has listed, as a device; was is the known one that it is,
// nil: it is new.
func (s *Scanner) child(p device.Device, c device.Child, was *device.Device) device.Device {
	d := device.Device{Endpoint: device.Endpoint{Dialect: c.Dialect, Through: p.ID, Unit: c.Unit},
		Reading: c.Reading, FoundVia: []string{"parent"}, Access: device.OK}
	if p.ID == "" {
		d.Through = Unnumbered + p.Address
	}
	switch {
	case c.Trouble != nil:
		d.Access, d.Trouble = device.Silent, c.Trouble
	case c.Dialect == "":
		d.Access, d.Trouble = device.Unreadable, device.Because(device.NotRecognised, "")
	}
	if was != nil {
		d = remember(d, owner{*was, placed}, s.Refers != nil && s.Refers(*was))
	}
	if s.Names != nil {
		if name, ok := s.Names(d); ok {
			d.Name = name
		}
	}
	return d
}
