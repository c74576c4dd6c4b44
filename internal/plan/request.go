package plan

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"catena/internal/contact"
	"catena/internal/device"
	"catena/internal/family"
	"catena/internal/firmware"
	"catena/internal/job"
	"catena/internal/match"
	"catena/internal/order"
	"catena/internal/site"
)

// Request is what a person asks of an order, besides the devices.
type Request struct {
	Purpose order.Purpose
	Named   bool // the devices were named: one that failed on the same way before is taken, too

	Name, Note string
	Again      bool // they get what they run already
	GiveUp     time.Duration
	Parallel   int // 0: as the site says; where both say, the smaller number
	NoPilot    bool
	StopAfter  order.StopAfter // zero: as the site says
}

// Order makes an order of the chosen rows, as it would start at a time. It takes those that have a
// path and whose dialect can send images. One that has failed on the same way before is taken only
// where a person named it, and so is a spare. skipped are the rows of devices of which nothing is
// taken. Its errors are an UnresolvedError and a DisagreeError.
func (w *Site) Order(request Request, chosen []Row, now time.Time) (o order.Order, skipped []Row,
	err error) {
	if nobody := w.UnresolvedReferences(); len(nobody) > 0 {
		return o, nil, &UnresolvedError{References: nobody}
	}
	taken := map[string][]match.Row{} // by device
	var rows []Row                    // the first row taken of each device
	for _, r := range chosen {
		if len(r.Match.Path) == 0 || !r.Sendable() ||
			(r.FailedIn != "" || r.ParkedIn != "" || r.Spare) && !request.Named {
			continue
		}
		if taken[r.ID] == nil {
			rows = append(rows, r)
		}
		taken[r.ID] = append(taken[r.ID], r.Match)
	}
	for _, r := range chosen {
		if taken[r.ID] == nil {
			skipped = append(skipped, r)
		}
	}
	if err := w.agree(taken); err != nil {
		return o, skipped, err
	}
	o = order.Order{Format: order.FileFormat, Name: request.Name, Note: request.Note,
		Site:    w.Site.Name,
		Purpose: request.Purpose, Made: now.UTC().Truncate(time.Second), GiveUp: request.GiveUp}
	for _, r := range rows {
		d := r.Match.Device
		row := order.Device{ID: d.ID, Name: d.Name, Model: d.Model, Kind: d.Kind, Serial: d.Serial,
			From: d.Version, Through: w.Ways().Through[d.ID], Again: request.Again,
			Parent: d.Through, First: request.Purpose == order.Backward} // back: in the opposite sequence
		if contact.ByHand(w.Site, d) {
			row.By = order.ByHand
		}
		path := match.Ordered(taken[r.ID])
		for _, h := range path {
			row.Path = append(row.Path, hop(h))
		}
		if err := w.expect(&row, path); err != nil {
			return o, skipped, err
		}
		o.Devices = append(o.Devices, row)
	}
	w.orderFamilies(&o)
	o.Cautions, o.Checks = w.cautions(rows, taken), w.checks(rows)
	o.Rules = w.rules(request, o.Devices)
	w.FillAtStart(&o, now)
	o.Names = w.names(o)
	return o, skipped, nil
}

// orderFamilies decides whether parents or their children go first, as their family specifies; a
// rollback reverses that.
func (w *Site) orderFamilies(o *order.Order) {
	at := map[string]int{}
	for i, d := range o.Devices {
		at[d.ID] = i
	}
	for i, d := range o.Devices {
		p, both := at[d.Parent]
		of := w.behind(d.ID)
		switch {
		case !both || of == nil || !of.Last: // before its parent, like all that is reached through it
		case o.Purpose == order.Backward:
			o.Devices[p].After = append(o.Devices[p].After, d.ID)
		default:
			o.Devices[i].After = append(o.Devices[i].After, d.Parent)
		}
	}
}

// behind is what a child's family says of children; nil: the device is none.
func (w *Site) behind(id string) *family.ParentRoute {
	r, _ := w.Main(id)
	if f := w.Families.Of(r.Vendor, r.Model); r.Match.Device.Through != "" && f.Program != nil {
		return f.Program.ParentRoute
	}
	return nil
}

// cautions are those of the families and of the images, and that a device cannot be returned.
func (w *Site) cautions(rows []Row, taken map[string][]match.Row) []order.Caution {
	var out []order.Caution
	add := func(name, text string, d device.Device) { out = withCaution(out, name, text, d.Name) }
	for _, r := range rows {
		d := r.Match.Device
		for _, q := range w.Site.Before {
			if w.Site.About(q, d) && len(taken[r.ID]) > 0 {
				add(q.Name, q.Text, d)
			}
		}
		family := w.Families.Of(d.Vendor, d.Model)
		for _, name := range slices.Sorted(maps.Keys(family.Cautions)) {
			add(name, family.Cautions[name], d)
		}
		for _, h := range match.Ordered(taken[r.ID]) {
			for _, name := range slices.Sorted(maps.Keys(h.Image.Cautions)) {
				add(name, fmt.Sprintf("%s %s: %s", d.Model, h.Image.Version,
					h.Image.Cautions[name]), d)
			}
			for _, name := range slices.Sorted(maps.Keys(h.Image.Requires)) {
				add(name, fmt.Sprintf("%s %s requires: %s", d.Model, h.Image.Version,
					h.Image.Requires[name]), d)
			}
			if h.ForRollback == nil && !h.Slots {
				add(firmware.NoRollback, fmt.Sprintf(
					"%s cannot be rolled back: the shelf has no image of %s %s that may be sent to it",
					h.Image.Version, d.Model, h.From), d)
			}
		}
	}
	return out
}

// withCaution adds a device to the caution of that name and text.
func withCaution(all []order.Caution, name, text, device string) []order.Caution {
	at := slices.IndexFunc(all, func(c order.Caution) bool { return c.Name == name && c.Text == text })
	if at < 0 {
		at, all = len(all), append(all, order.Caution{Name: name, Text: text})
	}
	if of := &all[at].Devices; !slices.Contains(*of, device) {
		*of = append(*of, device)
	}
	return all
}

// checks are what a person checks after the work on these devices.
func (w *Site) checks(rows []Row) (out []order.Caution) {
	for _, q := range w.Site.After {
		for _, r := range rows {
			if w.Site.About(q, r.Match.Device) {
				out = withCaution(out, q.Name, q.Text, r.Name)
			}
		}
	}
	return out
}

// Renewed is an order under the site's rules as they are now, with the names and the time of
// now. Of its own rules stay how many at a time, the pilot, and when it stops.
func (w *Site) Renewed(o order.Order, now time.Time) order.Order {
	for i := range o.Devices {
		o.Devices[i].Through = w.Ways().Through[o.Devices[i].ID]
	}
	o.Format = order.FileFormat
	o.Site, o.Made = w.Site.Name, now.UTC().Truncate(time.Second)
	o.Rules = w.rules(Request{Parallel: o.Rules.Parallel, Purpose: o.Purpose, NoPilot: !o.Rules.Pilot,
		StopAfter: o.Rules.StopAfter}, o.Devices)
	w.FillAtStart(&o, now)
	o.Names = w.names(o)
	return o
}

// Job is an order ready to be carried out.
func (w *Site) Job(o order.Order) job.Plan {
	plan := job.Plan{Order: o, Devices: map[string]job.Known{},
		Downstream: map[string][]device.Device{}}
	in := map[string]bool{}
	patience := map[string]firmware.Patience{} // as the manifests of a device's images say
	alters := map[string]bool{}                // one of those clears or converts its settings
	clears := map[string]bool{}
	restarts, failed := map[string]int{}, map[string]bool{}
	for _, r := range w.MainRows() {
		failed[r.ID] = r.FailedIn != ""
	}
	interlocks, renamed := map[string][]firmware.Interlock{}, map[string]map[string]string{}
	take := func(id string, i *order.Image) {
		if i == nil {
			return
		}
		on := w.Images()[i.SHA256]
		patience[id] = patience[id].Longest(on.Patience)
		alters[id] = alters[id] || on.Settings == firmware.Cleared ||
			on.Settings == firmware.Converted
		clears[id] = clears[id] || on.Settings == firmware.Cleared
		restarts[id] = max(restarts[id], on.Restarts)
		if len(on.Renamed) > 0 {
			if renamed[id] == nil {
				renamed[id] = map[string]string{}
			}
			maps.Copy(renamed[id], on.Renamed)
		}
	}
	for _, d := range o.Devices {
		in[d.ID] = true
		for _, h := range d.Path {
			take(d.ID, &h.Image)
			interlocks[d.ID] = append(interlocks[d.ID], w.Images()[h.Image.SHA256].Interlocks...)
			take(d.ID, h.Back)
		}
	}
	for _, d := range w.Devices() {
		if in[d.ID] {
			plan.Devices[d.ID] = job.Known{Device: d, Versions: w.Matcher().Order(d),
				Alters:     alters[d.ID],
				Clears:     clears[d.ID],
				Resend:     failed[d.ID],
				Restarts:   restarts[d.ID],
				Interlocks: interlocks[d.ID], Renamed: renamed[d.ID],
				Patience: patience[d.ID].Over(w.Families.Of(d.Vendor, d.Model).Patience)}
		}
		for _, up := range w.Ways().Through[d.ID] {
			if in[up] && d.Access == device.OK {
				plan.Downstream[up] = append(plan.Downstream[up], d)
			}
		}
	}
	return plan
}

// Renamed are the settings that versions of a device call otherwise, as its family and the images
// on the shelf have it.
func (w *Site) Renamed(d device.Device, family map[string]string) map[string]string {
	all := map[string]string{}
	for _, i := range w.Images() {
		if i.Fits(d.Vendor, d.Model, d.Hardware) {
			maps.Copy(all, i.Renamed)
		}
	}
	maps.Copy(all, family)
	return all
}

// FillAtStart fills in what is known only when an order starts: the window, and who is out of
// service then.
func (w *Site) FillAtStart(o *order.Order, at time.Time) {
	o.Closes, o.Window = time.Time{}, w.Site.LongestWindow(at)
	opens, closes, ok := w.Site.Window(at)
	if ok && !opens.After(at) {
		o.Closes = closes
	}
	o.Rules.Out = map[string]string{}
	for _, r := range w.MainRows() {
		switch match.Status(r.Status) {
		case match.Away:
			o.Rules.Out[r.ID] = "is away"
		case match.Stranded:
			o.Rules.Out[r.ID] = "is stranded"
		case match.Interrupted:
			o.Rules.Out[r.ID] = "was left open"
		}
	}
}

func hop(h match.Hop) order.Hop {
	out := order.Hop{Component: h.Image.Component, From: h.From, To: h.Image.Version,
		Image: image(h.Image), Slots: h.Slots}
	if h.ForRollback != nil {
		back := image(h.ForRollback)
		out.Back = &back
	}
	return out
}

func image(i *firmware.Image) order.Image {
	return order.Image{File: i.File, SHA256: i.SHA256, Size: i.Size}
}

// perModel returns the limits of models, by the names that the devices report: as everywhere else,
// case does not count.
func (w *Site) perModel() map[string]int {
	if len(w.Site.Limits.PerModel) == 0 {
		return nil
	}
	out := map[string]int{}
	for _, d := range w.Devices() {
		for model, limit := range w.Site.Limits.PerModel {
			if strings.EqualFold(model, d.Model) {
				out[d.Model] = limit
			}
		}
	}
	return out
}

// rules are those of the site, with what a person asks for: where two limits apply, the
// smaller one.
func (w *Site) rules(request Request, devices []order.Device) order.Rules {
	s := w.Site
	r := order.Rules{Parallel: smaller(s.Limits.Parallel, request.Parallel),
		PerModel: w.perModel(), PerKind: s.Limits.PerKind, PerUplink: s.Limits.PerUplink,
		Pilot: !request.NoPilot,
		StopAfter: order.StopAfter{
			Failures: smaller(s.StopAfter.Failures, request.StopAfter.Failures),
			Share:    smaller(s.StopAfter.Part(), request.StopAfter.Share)},
		Feeds: map[string][]string{}}
	for _, d := range devices {
		if fed := w.Ways().Feeds[d.ID]; len(fed) > 0 {
			r.Feeds[d.ID] = fed
		}
	}
	for _, d := range devices {
		if of := w.behind(d.ID); of != nil && of.Parallel > 0 {
			if r.PerParent == nil {
				r.PerParent = map[string]int{}
			}
			r.PerParent[d.Parent] = of.Parallel
		}
	}
	known := w.Devices()
	for _, c := range s.Cover {
		cover := order.Cover{Name: c.Name, Keep: c.Keep}
		for _, d := range known {
			if slices.ContainsFunc(c.Of, d.Answers) {
				cover.Of = append(cover.Of, d.ID)
			}
		}
		r.Cover = append(r.Cover, cover)
	}
	r.Lockstep = w.lockstep(devices, request.Purpose)
	return r
}

// smaller is the smaller of two limits, of which 0 is none.
func smaller[N int | float64](a, b N) N {
	if a == 0 || b == 0 {
		return max(a, b)
	}
	return min(a, b)
}

// lockstep are the sets of the site, with those of their members that should move with the
// others and do not. Forward, those that are where they should be need not move; backward, all
// must.
func (w *Site) lockstep(devices []order.Device, p order.Purpose) (out []order.Set) {
	taken := map[string]bool{}
	for _, d := range devices {
		taken[d.ID] = true
	}
	for _, l := range w.Site.Lockstep {
		out = append(out, w.lockstepSet(l, taken, p))
	}
	return out
}

func (w *Site) lockstepSet(l site.Lockstep, taken map[string]bool, p order.Purpose) order.Set {
	set := order.Set{Name: l.Name, Missing: map[string]string{}}
	for _, r := range w.MainRows() {
		if !l.Has(r.Match.Device) {
			continue
		}
		set.Of = append(set.Of, r.ID)
		switch status := match.Status(r.Status); {
		case taken[r.ID] || status == match.Current && p == order.Forward:
		case p == order.Backward:
			set.Missing[r.ID] = "is not rolled back with it"
		case status == match.Outdated || status == match.Unsafe || status == match.Ahead:
			set.Missing[r.ID] = "is " + r.Status + " and is not chosen"
		default:
			set.Missing[r.ID] = "is " + r.Status
		}
	}
	return set
}

// names are those of the devices that an order means and does not work on.
func (w *Site) names(o order.Order) map[string]string {
	meant := map[string]bool{}
	add := func(ids []string) {
		for _, id := range ids {
			meant[id] = true
		}
	}
	for _, d := range o.Devices {
		add(d.Through)
	}
	for _, c := range o.Rules.Cover {
		add(c.Of)
	}
	for _, l := range o.Rules.Lockstep {
		add(l.Of)
	}
	for _, fed := range o.Rules.Feeds {
		add(fed)
	}
	for _, d := range o.Devices {
		delete(meant, d.ID)
	}
	out := map[string]string{}
	for _, d := range w.Devices() {
		if meant[d.ID] {
			out[d.ID] = d.Name
		}
	}
	return out
}

// What is assumed of an image of which nothing else is known: how fast it goes over the wire,
// in bytes per second, and how long all else takes. Real devices are between a third and three
// times of it; after the first job their own history counts.
const (
	assumedRate = 1 << 20
	assumedRest = 3 * time.Minute
)

// expect says how long a device takes, and by what: the history of its model and images at
// this site, else the manifests, else the size of the images.
func (w *Site) expect(row *order.Device, path []match.Hop) error {
	took, ok, err := w.History().Took(row.ModelAndImages())
	if err != nil {
		return err
	}
	row.Because = "manifest"
	for _, h := range path {
		forth, told := takes(h.Image)
		if !told {
			row.Because = "size"
		}
		row.Takes += forth
		if h.ForRollback != nil {
			back, _ := takes(h.ForRollback)
			row.Returns = max(row.Returns, back)
		}
	}
	if ok {
		row.Takes, row.Because = took, "history"
		if row.Returns > 0 {
			row.Returns = took
		}
	}
	return nil
}

// Past is how long devices like one of an order took at this site before; none: nothing is known.
func (w *Site) Past(d order.Device) []time.Duration {
	past, err := w.History().Past(d.ModelAndImages())
	if err != nil { // the forecast has told it
		return nil
	}
	return past
}

// takes is how long an update with an image takes, and whether its manifest says so.
func takes(i *firmware.Image) (time.Duration, bool) {
	seconds := time.Duration(i.Size/assumedRate) * time.Second // divided first: images may be huge
	return cmp.Or(i.Takes, seconds+assumedRest), i.Takes > 0
}
