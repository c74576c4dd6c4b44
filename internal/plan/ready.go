package plan

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"catena/internal/care"
	"catena/internal/device"
	"catena/internal/firmware"
	"catena/internal/order"
)

// Questions are those to the devices of an order: whether they can be updated now.
func (w *Site) Questions(o order.Order) (out []care.Question) {
	known := w.Job(o).Devices
	for _, d := range o.Devices {
		k, ok := known[d.ID]
		if !ok || !k.Device.Known() {
			continue
		}
		q := care.Question{Device: k.Device, Interlocks: k.Interlocks, ForChange: true}
		for _, h := range d.Path {
			if !slices.Contains(q.Components, h.Component) {
				q.Components = append(q.Components, h.Component)
			}
		}
		out = append(out, q)
	}
	return out
}

// Obstacles are what the last readings show to be in the way of an order's devices, and how many of
// them have a right to update that was not tested.
func (w *Site) Obstacles(o order.Order) (out []Difference, untested int) {
	for _, d := range o.Devices {
		row, known := w.Main(d.ID)
		if !known {
			continue
		}
		now := row.Match.Device
		add := func(format string, args ...any) {
			out = append(out, Difference{Device: d.Name, ID: d.ID, Now: true,
				Text: fmt.Sprintf(format, args...)})
		}
		told := map[string]bool{}
		for _, h := range d.Path {
			if why := now.Forbids[h.Component]; why != "" && !told[why] {
				told[why] = true
				add("%s (read %s)", why, clock(row.Seen))
			}
		}
		switch right := w.right(now); {
		case right == nil || right.Result == device.Untested:
			untested++
		case right.Result == device.Denied:
			add("its login may not update it: %s (tested %s)", right.Why, clock(right.At))
		}
	}
	return out, untested
}

// right is what is known of the right to update a device: of a child that was not tested, that of
// its parent, whose login it is.
func (w *Site) right(d device.Device) *device.Right {
	if r := d.MayChange(); r != nil && r.Result != device.Untested || d.Through == "" {
		return r
	}
	if parent, known := w.Main(d.Through); known {
		return parent.Match.Device.MayChange()
	}
	return nil
}

// clock is a time in the words of a sentence.
func clock(t time.Time) string {
	if t.IsZero() {
		return "before"
	}
	return t.Local().Format("2006-01-02 15:04")
}

// Unready are the troubles of devices that were asked, as differences of an order.
func Unready(answers []care.Answer) (out []Difference) {
	for _, a := range answers {
		if a.Trouble != nil {
			out = append(out, Difference{Device: cmp.Or(a.Device.Name, a.Device.Address), ID: a.Device.ID,
				Now: true, Text: a.Trouble.Error()})
		}
	}
	return out
}

// MayNotChange are the names of devices whose logins may not update them, and of those where that
// was not tested although they are behind.
func (w *Site) MayNotChange() (denied, untested []string) {
	for _, r := range w.Rows {
		if r.Component != firmware.Main || len(r.Path) == 0 {
			continue
		}
		switch right := w.right(r.Match.Device); {
		case right == nil:
			untested = append(untested, r.Name)
		case right.Result == device.Denied:
			denied = append(denied, r.Name)
		}
	}
	return denied, untested
}
