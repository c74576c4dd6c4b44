package plan

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"catena/internal/atomicfile"
	"catena/internal/device"
	"catena/internal/files"
	"catena/internal/firmware"
	"catena/internal/job"
	"catena/internal/match"
	"catena/internal/order"
	"catena/internal/record"
	"catena/internal/signature"
	"catena/internal/workspace"
)

// OrdersFolder is where a site folder keeps its orders.
const OrdersFolder = "orders"

// OrderPath is the file of an order.
func (w *Site) OrderPath(name string) string {
	return filepath.Join(w.Dir, OrdersFolder, name+".yaml")
}

// IsOrder tells whether a word is an order's name. Its error is a record.NameTakenError where it is
// a device's, too.
func (w *Site) IsOrder(word string) (bool, error) {
	if order.CheckName(word) != nil {
		return false, nil
	}
	_, err := os.Stat(w.OrderPath(word))
	if err != nil {
		return false, nil
	}
	if w.Means(word) == nil {
		return false, &record.NameTakenError{Name: word, Device: true}
	}
	return true, nil
}

// SaveOrder writes a new order's file. Its error is a record.NameTakenError where the name is in
// use.
func (w *Site) SaveOrder(o order.Order) (path string, err error) {
	return w.saveOrder(o, nil)
}

// SaveSigned is SaveOrder for an order that is signed: its signature is there before it is.
func (w *Site) SaveSigned(o order.Order, key ssh.Signer) error {
	_, err := w.saveOrder(o, key)
	return err
}

func (w *Site) saveOrder(o order.Order, key ssh.Signer) (path string, err error) {
	if w.Means(o.Name) == nil {
		return "", &record.NameTakenError{Name: o.Name, Device: true}
	}
	path = w.OrderPath(o.Name)
	if _, err := os.Stat(path); err == nil {
		return "", &record.NameTakenError{Name: o.Name}
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return "", err
	}
	raw, err := o.File()
	if err != nil {
		return "", err
	}
	raw = append([]byte(workspace.ForEditors(w.Dir, "order", "../")), raw...)
	if key != nil {
		signed, err := signature.Sign(bytes.NewReader(raw), key, OrderSignature)
		if err == nil {
			err = atomicfile.Replace(path+signature.Ending, signed, 0o644)
		}
		if err != nil {
			return path, err
		}
	}
	return path, atomicfile.Replace(path, raw, 0o644)
}

// KeepOrder keeps an order that was made on the fly under its job's ID, or, where an order or a
// device is called so already, the ID with a number.
func (w *Site) KeepOrder(o order.Order, job string) (name string, err error) {
	o.Name = job
	for n := 2; ; n++ {
		var taken *record.NameTakenError
		if _, err = w.SaveOrder(o); !errors.As(err, &taken) {
			return o.Name, err
		}
		o.Name = fmt.Sprintf("%s-%d", job, n)
	}
}

// ReadOrder reads an order's file. Its error is an UnknownOrderError where there is none.
func (w *Site) ReadOrder(name string) (order.Order, error) {
	o, _, err := w.readOrder(name)
	return o, err
}

// readOrder returns the bytes, too, that the order was read from.
func (w *Site) readOrder(name string) (o order.Order, data []byte, err error) {
	if order.CheckName(name) != nil {
		return o, nil, &UnknownOrderError{Name: name}
	}
	path := w.OrderPath(name)
	data, err = files.Read(path, files.Order)
	if errors.Is(err, os.ErrNotExist) {
		err = &UnknownOrderError{Name: name}
	}
	if err == nil {
		o, err = order.Parse(path, data)
	}
	return o, data, err
}

// UnknownOrderError is returned for a word that is not an order's name.
type UnknownOrderError struct{ Name string }

func (e *UnknownOrderError) Error() string { return "there is no order " + e.Name }

// Orders are the names of the site's orders.
func (w *Site) Orders() ([]string, error) {
	found, err := files.In(filepath.Join(w.Dir, OrdersFolder), "*.yaml")
	var out []string
	for _, f := range found {
		out = append(out, strings.TrimSuffix(filepath.Base(f), ".yaml"))
	}
	return out, err
}

// Difference is what is not as it was when an order was made.
type Difference struct {
	Device string `json:"device,omitempty"` // its name; empty: it is about the whole order
	ID     string `json:"id,omitempty"`
	Text   string `json:"text"`
	// Refuses says that the order cannot be carried out; else the device is skipped.
	Refuses bool `json:"refuses"`
	// Now says that it is of the moment: the device was read so, and may be otherwise at night.
	Now bool `json:"now,omitempty"`
}

// Differences compare an order with the site as it is now. With again, devices that were away or
// refused the login when they were seen last are no difference: they are asked again.
func (w *Site) Differences(o order.Order, anew bool) []Difference {
	var out []Difference
	if o.Site != w.Site.Name {
		out = append(out, Difference{Text: fmt.Sprintf("it is an order of the site %q", o.Site),
			Refuses: true})
	}
	open := w.interrupted()
	for _, d := range o.Devices {
		differ := func(refuses bool, format string, args ...any) {
			out = append(out, Difference{Device: d.Name, ID: d.ID, Refuses: refuses,
				Text: fmt.Sprintf(format, args...)})
		}
		row, known := w.Main(d.ID)
		if !known {
			differ(true, "no device %s is known", d.ID)
			continue
		}
		if text := mistaken(d, row.Match.Device); text != "" {
			differ(true, "%s", text)
			continue
		}
		if text := w.moved(d, o, row, anew); text != "" {
			differ(false, "%s", text)
		}
		for _, i := range open {
			if slices.Contains(d.Through, i.ID) || slices.Contains(w.Ways().Through[i.ID], d.ID) {
				differ(false, "%s, which is on its path, was left open: %s", i.Name, i.Reason)
			}
		}
		for _, text := range imagesChanged(d, row.Match.Device, w.Images()) {
			differ(true, "%s", text)
		}
		// also what an advisory has withdrawn since, and what only the other slot holds
		for _, h := range d.Path {
			if why := w.Matcher().Withdrawn(row.Match.Device, h.Component, h.To); why != "" {
				differ(true, "%s must not run on this device: %s", job.Label(h.Component, h.To), why)
			}
		}
		if !order.Same(d.Through, w.Ways().Through[d.ID]) {
			differ(true, "its uplinks changed in site.yaml")
		}
	}
	return append(out, w.rulesChanged(o)...)
}

// mistaken says what of an entry's name, model and serial number is not that of the device of its
// ID; empty: all is. An order must not show one device and flash another.
func mistaken(d order.Device, now device.Device) string {
	var wrong []string
	for _, f := range [][3]string{{"name", d.Name, now.Name}, {"model", d.Model, now.Model},
		{"serial number", d.Serial, now.Serial}} {
		if !strings.EqualFold(f[1], f[2]) {
			wrong = append(wrong, fmt.Sprintf("its %s is %q, not %q", f[0], f[2], f[1]))
		}
	}
	if len(wrong) == 0 {
		return ""
	}
	return "the device " + d.ID + " of the order differs: " + strings.Join(wrong, ", ")
}

// Mistaken returns a StaleError for an order of which an entry's ID, name, model and serial number
// do not belong to one known device.
func (w *Site) Mistaken(o order.Order) error {
	var reasons []string
	for _, d := range o.Devices {
		row, known := w.Main(d.ID)
		if !known {
			reasons = append(reasons, fmt.Sprintf("%s: no device %s is known", d.Name, d.ID))
		} else if text := mistaken(d, row.Match.Device); text != "" {
			reasons = append(reasons, d.Name+": "+text)
		}
	}
	if len(reasons) > 0 {
		return &StaleError{reasons}
	}
	return nil
}

// imagesChanged says what of a device's images is not on the shelf as the order has it.
func imagesChanged(d order.Device, now device.Device, shelf map[string]firmware.Image) (
	out []string) {
	differ := func(format string, args ...any) { out = append(out, fmt.Sprintf(format, args...)) }
	for _, h := range d.Path {
		for _, i := range []*order.Image{&h.Image, h.Back} {
			if i == nil || *i == (order.Image{}) {
				continue
			}
			on, there := shelf[i.SHA256]
			switch {
			case !there:
				differ("the image %s (%.12s…) is not on the shelf", i.File, i.SHA256)
			case on.Component != h.Component || i == &h.Image && on.Version != h.To:
				differ("the image %s is %s %s, not %s", i.File, on.Component, on.Version, h.To)
			case !on.Fits(now.Vendor, now.Model, now.Hardware):
				differ("the image %s is not for %s %s", i.File, now.Vendor, now.Model)
			}
		}
	}
	return out
}

// interrupted are the devices that are open in a job that died.
func (w *Site) interrupted() (out []Row) {
	for _, r := range w.MainRows() {
		if r.Status == string(match.Interrupted) {
			out = append(out, r)
		}
	}
	return out
}

// Interrupted are the jobs whose Catena died and that no one has gone on with.
func (w *Site) Interrupted() ([]job.State, error) {
	return job.Interrupted(w.Ledger)
}

// moved says why a device of an order is skipped now; empty: it is not.
func (w *Site) moved(d order.Device, o order.Order, row Row, anew bool) string {
	now := row.Match.Device
	versions := w.Matcher().Order(now)
	if hold, held := w.Site.Held(now); held {
		return "it is held: " + hold.Why()
	}
	switch status := match.Status(row.Status); {
	case status == match.Interrupted, !anew && (status == match.Away || status == match.NoAccess):
		return fmt.Sprintf("it is %s: %s", row.Status, row.Reason)
	}
	first, last := map[string]string{}, map[string]string{}
	for _, h := range d.Path {
		if first[h.Component] == "" {
			first[h.Component] = h.From
		}
		last[h.Component] = h.To
	}
	arrived := !d.Again && !d.Parked
	for c, from := range first {
		runs := now.Of(c)
		if versions.Equal(runs, last[c]) {
			continue
		}
		arrived = false
		on := slices.ContainsFunc(d.Path, func(h order.Hop) bool {
			return h.Component == c && versions.Equal(runs, h.To)
		})
		if !on && !versions.Equal(runs, from) {
			return fmt.Sprintf("it runs %s, not %s", runs, from)
		}
	}
	if arrived {
		return "it already runs " + d.To()
	}
	return w.triedSince(d, o, last)
}

// triedSince returns why a device must be named to get a version of an order: a job that ended
// after the order was made has failed with it, or has rolled it back. An order is not repeated
// silently.
func (w *Site) triedSince(d order.Device, o order.Order, last map[string]string) string {
	if o.Purpose != order.Forward || d.Again || d.Parked || o.Made.IsZero() {
		return ""
	}
	for c, to := range last {
		// its file has whole seconds
		of, back, err := w.History().LeftAloneSince(d.ID, c, to, o.Made.Add(time.Second))
		switch {
		case err != nil || of == "":
		case back:
			return fmt.Sprintf("%s was rolled back in %s, after this order was made; to try again, name "+
				"it: catena flash %s", to, of, d.Name)
		default:
			return fmt.Sprintf("%s failed in %s, after this order was made; to try again, name it: "+
				"catena flash %s", to, of, d.Name)
		}
	}
	return ""
}

// rulesChanged names the rules of the site that an order does not keep.
func (w *Site) rulesChanged(o order.Order) (out []Difference) {
	site := w.rules(Request{NoPilot: true}, o.Devices)
	for _, text := range o.Rules.Looser(site, w.NameOf) {
		out = append(out, Difference{Text: text, Refuses: true})
	}
	return out
}

// Without takes devices out of an order.
func (w *Site) Without(o order.Order, out func(order.Device) bool) order.Order {
	o.Devices = slices.DeleteFunc(slices.Clone(o.Devices), out)
	var cautions []order.Caution
	in := map[string]bool{}
	for _, d := range o.Devices {
		in[d.Name] = true
	}
	for _, c := range o.Cautions {
		c.Devices = slices.DeleteFunc(slices.Clone(c.Devices), func(name string) bool {
			return !in[name]
		})
		if len(c.Devices) > 0 {
			cautions = append(cautions, c)
		}
	}
	o.Cautions, o.Rules.Lockstep = cautions, w.lockstep(o.Devices, o.Purpose)
	o.Names = w.names(o)
	return o
}

// Fit selects the devices of an order that can be updated, and rolled back, until a time: those
// that are unsafe first. It returns the names of the others. A lockstep set is selected as a whole.
//
// Whether some devices fit is known only from the forecast of all of them together, since they
// share slots and uplinks. So the units (devices, or sets) are sorted by urgency and tried in
// halves: a half that fits beside what was selected is selected, another one is split. For example,
// with 40 minutes, one at a time, and 15 minutes for each of a to d:
//
//	a b c d   60 min, split    a b   30 min, selected    c d   60 min, split
//	c         45 min, left     d     45 min, left
//
// If all fit, that is one forecast; in the worst case it is two for each unit.
func (w *Site) Fit(o order.Order, now, until time.Time) (fits order.Order, left []string) {
	sequence, err := order.Forecast(o, now)
	if err != nil {
		return o, nil // it is told when the whole of it is looked at
	}
	units := w.units(o, sequence)
	var taken []string
	try := func(ids []string) (order.Order, bool) {
		part := w.Without(o, func(d order.Device) bool { return !slices.Contains(ids, d.ID) })
		part.Closes = until
		p, err := order.Forecast(part, now)
		return part, err == nil && !slices.ContainsFunc(p.Spans, func(s order.Span) bool {
			return s.Task == order.Skip
		})
	}
	// Halves: where a half fits it is taken as it is, so that a few tries are enough.
	var add func(units [][]string)
	add = func(units [][]string) {
		if len(units) == 0 {
			return
		}
		ids := slices.Concat(append([][]string{taken}, units...)...)
		if _, ok := try(ids); ok {
			taken = ids
			return
		}
		if len(units) > 1 {
			add(units[:len(units)/2])
			add(units[len(units)/2:])
		}
	}
	add(units)
	fits, _ = try(taken)
	fits.Closes = o.Closes
	for _, d := range o.Devices {
		if !slices.Contains(taken, d.ID) {
			left = append(left, d.Name)
		}
	}
	return fits, left
}

// units are the devices of an order that go together: the unsafe ones first, then in the
// sequence in which they would start.
func (w *Site) units(o order.Order, p order.Schedule) [][]string {
	unit := map[string]int{}
	var out [][]string
	for _, urgent := range []bool{true, false} {
		for _, s := range p.Spans {
			row, _ := w.Main(s.Device)
			if _, in := unit[s.Device]; in || (row.Status == string(match.Unsafe)) != urgent {
				continue
			}
			of := []string{s.Device}
			for _, l := range w.Site.Lockstep {
				if l.Has(row.Match.Device) {
					of = append(of, w.others(l.Has, o, s.Device)...)
				}
			}
			for _, id := range of {
				unit[id] = len(out)
			}
			out = append(out, of)
		}
	}
	return out
}

// others are the devices of an order, but one, for which has holds.
func (w *Site) others(has func(device.Device) bool, o order.Order, but string) (out []string) {
	for _, d := range o.Devices {
		if row, _ := w.Main(d.ID); d.ID != but && has(row.Match.Device) {
			out = append(out, d.ID)
		}
	}
	return out
}
