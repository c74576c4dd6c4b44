package plan

import (
	"cmp"
	"errors"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"catena/internal/device"
	"catena/internal/firmware"
	"catena/internal/firmware/version"
	"catena/internal/job"
	"catena/internal/ledger"
	"catena/internal/match"
	"catena/internal/record"
	"catena/internal/shelf"
	"catena/internal/site"
	"catena/internal/text"
	"catena/internal/workspace"
)

// DisagreeError is returned where the chosen devices cannot be worked on without others:
// their versions belong together.
type DisagreeError struct{ Device, Reason string }

func (e *DisagreeError) Error() string {
	return e.Device + " cannot be worked on as chosen: " + e.Reason
}

// UnresolvedError is returned where the site's files name devices that are not there: a hold that
// is spelt wrong holds no one.
type UnresolvedError struct{ References []site.Reference }

func (e *UnresolvedError) Error() string {
	var all []string
	for _, r := range e.References {
		all = append(all, r.String())
	}
	return strings.Join(all, "; ")
}

// UnresolvedReferences returns the references of the site's files that mean none of the known
// devices; none while no device is known.
func (w *Site) UnresolvedReferences() []site.Reference {
	known := w.Devices()
	if len(known) == 0 {
		return nil
	}
	gone, _ := w.RetiredDevices() // those that cannot be read are not meant
	for _, r := range gone {
		known = append(known, r.Device)
	}
	return w.Site.Unresolved(known, w.Models())
}

// Models returns the models of the shelf's images and of the families.
func (w *Site) Models() (all []string) {
	for _, i := range w.Images() {
		all = append(all, i.Models...)
	}
	for _, f := range w.Families.Families() {
		all = append(all, f.Models...)
	}
	slices.Sort(all)
	return slices.Compact(all)
}

// UnknownTargetError is returned for a target that names what does not exist.
type UnknownTargetError struct{ Reason string }

func (e *UnknownTargetError) Error() string { return e.Reason }

// CheckTarget refuses a target for a model that does not exist, and an exact version that no image
// of the shelf has and no device runs, if the shelf has any for the model. Its error is an
// UnknownTargetError. While no device is known, every target passes.
func (w *Site) CheckTarget(t site.Target) error {
	known := w.Devices()
	if len(known) == 0 || t.Check() != nil {
		return nil
	}
	only := site.Site{Targets: []site.Target{t}}
	if unknown := only.Unresolved(known, w.Models()); len(unknown) > 0 {
		return &UnknownTargetError{unknown[0].String()}
	}
	v, exact := t.Exact()
	if !exact || t.Group != "" && t.Model == "" {
		return nil
	}
	model, component := t.Model, cmp.Or(t.Component, firmware.Main)
	have, images := map[string]bool{}, 0
	for _, d := range known {
		if t.Device != "" && d.Answers(t.Device) {
			model = d.Model
		}
	}
	of := cmp.Or(model, "kind "+t.Kind)
	is := func(m string) bool {
		return model != "" && strings.EqualFold(m, model) || t.Kind != "" && slices.ContainsFunc(known,
			func(d device.Device) bool { return d.Kind == t.Kind && strings.EqualFold(m, d.Model) })
	}
	for _, d := range known {
		if is(d.Model) {
			have[d.Of(component)] = true
		}
	}
	for _, i := range w.Images() {
		if i.Component == component && slices.ContainsFunc(i.Models, is) {
			have[i.Version] = true
			images++
		}
	}
	delete(have, "")
	if have[v] || images == 0 {
		return nil
	}
	all := slices.Sorted(maps.Keys(have))
	reason := fmt.Sprintf("no image on the shelf has the version %s of %s, and no device runs it", v,
		of)
	if like := text.Nearest(v, all); like != "" {
		reason += "; did you mean " + like + "?"
	} else {
		reason += "; there are " + strings.Join(all, ", ") + ". If its image will come later: " +
			"catena target set --missing"
	}
	return &UnknownTargetError{reason}
}

// UnknownJobError is returned for a word that is not a job's ID.
type UnknownJobError struct{ Word string }

func (e *UnknownJobError) Error() string { return "there is no job " + e.Word + " in the ledger" }

// agree refuses work after which versions that belong together would not: where only a part
// of them was taken.
func (w *Site) agree(taken map[string][]match.Row) error {
	var all []match.Row
	for _, r := range w.Rows {
		row := r.Match
		row.Path = nil
		for _, c := range taken[r.ID] {
			if c.Component == r.Component {
				row = c
			}
		}
		all = append(all, row)
	}
	want := slices.Clone(all)
	w.Matcher().Agree(all)
	for i := range all {
		if len(want[i].Path) > 0 && len(all[i].Path) == 0 {
			return &DisagreeError{Device: all[i].Device.Name, Reason: all[i].Reason}
		}
	}
	return nil
}

// JobState is how far a job is. Its error is an UnknownJobError.
func (w *Site) JobState(id string) (job.State, error) {
	exists, err := job.Exists(w.Ledger, id)
	if err == nil && !exists {
		err = &UnknownJobError{Word: id}
	}
	if err != nil {
		return job.State{}, err
	}
	return job.Load(w.Ledger, id)
}

// AnswerCheck records what a person found by a check after a job. Its errors are a
// job.UnknownCheckError and those of the ledger.
func (w *Site) AnswerCheck(s job.State, name string, holds bool, because, by string) error {
	return job.AnswerCheck(w.Ledger, s, name, holds, because, by)
}

// Retarget says how the main components of the chosen rows get to a version.
func (w *Site) Retarget(chosen []Row, v string) ([]Row, error) {
	return w.remade(chosen, func(d device.Device) match.Row {
		return w.Matcher().To(d, firmware.Main,
			v)
	})
}

// Again says how the main components of the chosen rows get what they run, once more.
func (w *Site) Again(chosen []Row) ([]Row, error) {
	return w.remade(chosen, w.Matcher().Again)
}

func (w *Site) remade(chosen []Row, as func(device.Device) match.Row) (out []Row, err error) {
	for _, r := range workspace.Mains(chosen) {
		row, err := w.Row(as(r.Match.Device))
		if err != nil {
			return nil, err
		}
		out = append(out, row)
	}
	return out, nil
}

// Rollback says how a component of the chosen rows returns: to the version given, or else to what
// they ran before the last job that changed them. of is the job whose changes are to be undone;
// empty: the last one of each device. With of, devices that it did not change are left out.
func (w *Site) Rollback(chosen []Row, component, to, of string) ([]Row, error) {
	if of != "" {
		exists, err := job.Exists(w.Ledger, of)
		if err != nil {
			return nil, err
		}
		if !exists {
			return nil, &UnknownJobError{Word: of}
		}
	}
	var out []Row
	has := false
	for _, r := range chosen {
		if r.Component != component {
			continue
		}
		has = true
		earlier, err := w.History().Earlier(r.ID, component, of)
		if err != nil {
			return nil, err
		}
		if of != "" && earlier == "" {
			continue
		}
		back := r.Match
		back.Path = nil
		switch {
		case to != "":
			back = w.Matcher().To(back.Device, component, to)
		case earlier != "" &&
			w.Matcher().Order(back.Device).Compare(earlier, back.Version) > 0:
			back.Reason = fmt.Sprintf(
				"it ran %s before, which is later than %s; to install that version, name it",
				earlier, back.Version)
		case earlier != "":
			back = w.Matcher().To(back.Device, component, earlier)
		default:
			back.Reason = "no job has updated it, and no version was named"
		}
		row, err := w.Row(back)
		if err != nil {
			return nil, err
		}
		out = append(out, row)
	}
	if !has && len(chosen) > 0 {
		return nil, &ComponentError{Component: component, Device: chosen[0].Name}
	}
	return out, nil
}

// ComponentError is returned for a component that none of the chosen devices has.
type ComponentError struct{ Component, Device string } // one of the devices

func (e *ComponentError) Error() string {
	return e.Device + " has no component " + e.Component
}

// NeededBy names the devices, of all sites that have used the shelf and of the site here
// (empty: none), that run an image or ran it before their last job: it is what they would
// be returned to. Another image of the same version would do as well.
func NeededBy(
	s *shelf.Shelf, image firmware.Image, here string, now func() time.Time, by ledger.Writer,
) ([]string, error) {
	images, err := s.List()
	if err != nil {
		return nil, err
	}
	dirs, err := sites(s, here)
	if err != nil {
		return nil, err
	}
	var out []string
	for _, dir := range dirs {
		names, err := neededAt(dir, images, image, now, by)
		if err != nil {
			return nil, err
		}
		out = append(out, names...)
	}
	return out, nil
}

// sites are the folders of all sites that have used a shelf, and of the site here.
func sites(s *shelf.Shelf, here string) ([]string, error) {
	dirs, err := s.Sites()
	if err != nil || here == "" {
		return dirs, err
	}
	abs, err := filepath.Abs(here)
	if err == nil && !slices.Contains(dirs, abs) {
		dirs = append(dirs, abs)
	}
	return dirs, err
}

// neededAt is NeededBy for one site. A site folder that is gone needs nothing.
func neededAt(dir string, images []firmware.Image, image firmware.Image,
	now func() time.Time, by ledger.Writer) ([]string, error) {
	l, err := ledger.Open(dir, now, by)
	if errors.Is(err, ledger.ErrNone) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	defer func() { _ = l.Close() }()
	devices, err := record.Devices(l)
	if err != nil {
		return nil, err
	}
	history, err := job.ReadHistory(l)
	if err != nil {
		return nil, err
	}
	var out []string
	for _, d := range devices {
		is := func(i firmware.Image, v string) bool {
			return v != "" && i.Component == firmware.Main &&
				i.Fits(d.Vendor, d.Model, d.Hardware) && version.Equal(i.Version, v)
		}
		earlier, err := history.Earlier(d.ID, firmware.Main, "")
		if err != nil {
			return nil, err
		}
		for _, v := range []string{d.Version, earlier} {
			another := func(i firmware.Image) bool { return i.SHA256 != image.SHA256 && is(i, v) }
			if is(image, v) && !slices.ContainsFunc(images, another) {
				out = append(out, fmt.Sprintf("%s (%s)", d.Name, filepath.Base(dir)))
				break
			}
		}
	}
	return out, nil
}

// Unneeded are the images of a shelf that no known device of any site that has used it, nor
// of the site here (empty: none), runs, would be brought to, or would be returned to. Its
// error names a site that cannot be read: then no one knows what it needs.
func Unneeded(s *shelf.Shelf, here string, now func() time.Time, by ledger.Writer) (
	[]firmware.Image, error) {
	images, err := s.List()
	if err != nil {
		return nil, err
	}
	dirs, err := sites(s, here)
	if err != nil {
		return nil, err
	}
	needed := map[string]bool{}
	for _, dir := range dirs {
		if !workspace.IsSite(dir) {
			continue // it is gone
		}
		if err := need(s, dir, images, now, by, needed); err != nil {
			return nil, fmt.Errorf("the requirements of %s are unknown: %w", dir, err)
		}
	}
	return slices.DeleteFunc(images, func(i firmware.Image) bool { return needed[i.SHA256] }), nil
}

// need marks what the devices of one site need.
func need(s *shelf.Shelf, dir string, images []firmware.Image, now func() time.Time,
	by ledger.Writer, needed map[string]bool) error {
	w, err := Open(dir, now, by)
	if err != nil {
		return err
	}
	defer w.Close()
	if err := w.Match(s); err != nil {
		return err
	}
	saved, err := w.Orders()
	if err != nil {
		return err
	}
	for _, name := range saved { // an order that was made may be carried out at any time
		o, err := w.ReadOrder(name)
		if err != nil {
			return err
		}
		for _, d := range o.Devices {
			for _, h := range d.Path {
				needed[h.Image.SHA256] = true
				if h.Back != nil {
					needed[h.Back.SHA256] = true
				}
			}
		}
	}
	for _, r := range w.Rows {
		for _, h := range r.Match.Path {
			needed[h.Image.SHA256] = true
			if h.ForRollback != nil {
				needed[h.ForRollback.SHA256] = true
			}
		}
		earlier, err := w.History().Earlier(r.ID, r.Component, "")
		if err != nil {
			return err
		}
		for _, i := range images {
			d := r.Match.Device
			runs := version.Equal(i.Version, r.Version.Text) || earlier != "" &&
				version.Equal(i.Version, earlier)
			if i.Component == r.Component && runs && i.Fits(d.Vendor, d.Model, d.Hardware) {
				needed[i.SHA256] = true
			}
		}
	}
	return nil
}
