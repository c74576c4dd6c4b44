package plan

import (
	"cmp"
	"slices"
	"strings"
	"time"

	"catena/internal/firmware"
	"catena/internal/firmware/version"
	"catena/internal/order"
	"catena/internal/report"
)

// Notice returns what people on site need to know of an order that starts at a time: by place, in
// the order in which the places are walked to. Devices that would not be started are left out. Its
// error is that of the forecast.
func (w *Site) Notice(o order.Order, start time.Time) (report.Notice, error) {
	w.FillAtStart(&o, start)
	p, err := order.Forecast(o, start)
	n := report.Notice{Site: w.Site.Name, Order: o.Name, Note: o.Note, Engineer: w.Site.Engineer,
		Made: w.now().UTC(), Start: p.Start, End: p.End, Zone: w.Zone(),
		Places: []report.NoticePlace{}, Cautions: []string{}}
	if err != nil {
		return n, err
	}
	at := map[string]int{} // places in n.Places, by name
	rank := map[string]int{}
	for _, s := range p.Spans {
		row, known := w.Main(s.Device)
		if !known || s.Why != nil {
			continue
		}
		d := row.Match.Device
		walk, where := w.Site.Place(d)
		i, has := at[where]
		if !has {
			i = len(n.Places)
			at[where], rank[where] = i, walk
			n.Places = append(n.Places, report.NoticePlace{Place: where, Start: s.Start, End: s.End})
		}
		place := &n.Places[i]
		place.Start, place.End = earlier(place.Start, s.Start), later(place.End, s.End)
		place.Devices = append(place.Devices, report.NoticeDevice{Name: d.Name,
			What:  strings.TrimSpace(row.Kind + " " + cmp.Or(d.Model, "device")),
			Start: s.Start, End: s.End, CutOff: w.cutOff(d.ID)})
	}
	slices.SortStableFunc(n.Places, func(a, b report.NoticePlace) int {
		return cmp.Compare(rank[a.Place], rank[b.Place])
	})
	for _, c := range o.Cautions {
		if c.Name == firmware.NoRollback || c.Name == Unseen { // of the work, not of the devices
			continue
		}
		n.Cautions = append(n.Cautions, c.Text+" ("+strings.Join(c.Devices, ", ")+")")
	}
	return n, nil
}

// cutOff are the names of the devices that are reached only through a device.
func (w *Site) cutOff(id string) (names []string) {
	for _, d := range w.Devices() {
		if slices.Contains(w.Ways().Through[d.ID], id) {
			names = append(names, d.Name)
		}
	}
	slices.SortFunc(names, version.Compare)
	return names
}

func earlier(a, b time.Time) time.Time {
	if b.Before(a) {
		return b
	}
	return a
}

func later(a, b time.Time) time.Time {
	if b.After(a) {
		return b
	}
	return a
}
