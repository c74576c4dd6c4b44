// Package export makes the report and the picture of a site: it gathers what the ledger, the shelf
// and the site file know, and report draws it.
//
// Its functions are Report and Tree.
package export

import (
	"cmp"
	"encoding/base64"
	"fmt"
	"maps"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"catena/internal/firmware/version"
	"catena/internal/job"
	"catena/internal/match"
	"catena/internal/order"
	"catena/internal/plan"
	"catena/internal/rehearse"
	"catena/internal/report"
	"catena/internal/site"
	"catena/internal/words"
)

// ReportsFolder is where a site folder keeps its reports.
const ReportsFolder = "reports"

// maxLogo bounds the picture on a report, in bytes: it is in every one of them.
const maxLogo = 512 << 10

// LogoError is returned by Report where the site's logo cannot be shown.
type LogoError struct{ Path, Why string }

func (e *LogoError) Error() string { return "logo: " + e.Path + " " + e.Why }

// Report tells of some jobs. advice says what to do about a device that did not end well. The
// devices of the site must have been matched.
func Report(w *plan.Site, jobs []job.State, now time.Time, program string,
	advice func(job.DeviceState) string) (report.Report, error) {
	r := report.Report{Format: report.Format, Site: w.Site.Name, Engineer: w.Site.Engineer,
		Note: w.Site.Note,
		Made: now.UTC().Truncate(time.Second), Program: program, Zone: w.Site.Zone(),
		Visits:    []report.Visit{},
		Untouched: []report.Untouched{}, Tree: Tree(w), Jobs: []report.Job{}}
	var err error
	if r.Logo, err = logo(w); err != nil {
		return r, err
	}
	worked := map[string]bool{}
	needs := map[string]report.Visit{} // by ID: the last word is of the newest job
	for _, s := range jobs {
		j, err := reportJob(w, s, advice)
		if err != nil {
			return r, err
		}
		for _, d := range j.Devices {
			worked[d.ID] = true
			delete(needs, d.ID)
			if report.Needs(d.End) && s.Ended.IsZero() == s.Interrupted() {
				needs[d.ID] = report.Visit{ID: d.ID, Name: d.Name, Place: d.Place, Model: d.Model,
					Serial: d.Serial, Cause: d.Cause,
					Why: cmp.Or(d.Reason, "its job was interrupted while it was "+string(d.End)), Next: d.Next}
			}
		}
		r.Jobs = append(r.Jobs, j)
	}
	for _, row := range w.MainRows() {
		if !worked[row.ID] {
			r.Untouched = append(r.Untouched, report.Untouched{Name: row.Name, Model: row.Model,
				Place: row.Place, Serial: row.Serial, Spare: row.Spare,
				Runs:   row.Version.Text,
				Status: row.Status, Why: row.Reason})
		}
	}
	walk := func(a, b string) int { return walking(w, a, b) }
	for _, id := range slices.SortedFunc(maps.Keys(needs), walk) {
		r.Visits = append(r.Visits, needs[id])
	}
	slices.SortStableFunc(r.Untouched, func(a, b report.Untouched) int {
		return slices.Index(match.Statuses, match.Status(a.Status)) - slices.Index(match.Statuses,
			match.Status(b.Status))
	})
	if r.Missing, r.Unlisted, err = listed(w); err != nil {
		return r, err
	}
	if r.Findings, r.Audited, err = w.LastAudit(); err != nil {
		return r, err
	}
	count, last, err := w.Check()
	r.Ledger = report.Ledger{Entries: count, Last: fmt.Sprintf("%x", last)}
	return r, err
}

// Since adds to a report what differs between a point in time and now.
func Since(r *report.Report, from, now plan.Point) {
	r.Since, r.Changes = from.Called, nil
	for _, c := range plan.Compare(from, now) {
		r.Changes = append(r.Changes, report.Change{Device: c.Device, Model: c.Model, Serial: c.Serial,
			What: c.What, Was: c.Was, Is: c.Is})
	}
}

// listed are the devices that only the inventory has, and those that it does not have.
func listed(w *plan.Site) (missing, unlisted []report.Listed, err error) {
	a, b, err := w.Inventory()
	for _, l := range a {
		missing = append(missing, report.Listed{Name: l.Name, Place: l.Place, Model: l.Model,
			Serial: l.Serial})
	}
	for _, l := range b {
		unlisted = append(unlisted, report.Listed{Name: l.Name, Place: l.Place, Model: l.Model,
			Serial: l.Serial})
	}
	return missing, unlisted, err
}

// walking is the order in which the places of site.yaml are walked to; who has none comes last.
func walking(w *plan.Site, a, b string) int {
	row, _ := w.Main(a)
	other, _ := w.Main(b)
	at, _ := w.Site.Place(row.Match.Device)
	to, _ := w.Site.Place(other.Match.Device)
	return cmp.Or(at-to, strings.Compare(row.Name, other.Name))
}

func reportJob(w *plan.Site, s job.State, advice func(job.DeviceState) string) (report.Job, error) {
	j := report.Job{ID: s.ID, Order: s.Name, Note: s.Note, Purpose: s.Purpose, Status: "ended",
		Stopped: s.Stopped,
		Started: s.Started, Ended: s.Ended, Signed: s.Order.Signed, Counts: map[job.Step]int{},
		Cautions: s.Order.Cautions, Checks: s.Checks,
		Rules: rulesInWords(w, s.Order), Limits: limits(w, s.Order), Images: reportImages(w, s.Order)}
	switch {
	case s.Alive:
		j.Status = "running"
	case s.Interrupted():
		j.Status = "interrupted"
	}
	if p, err := order.Forecast(s.Order, s.Started); err == nil {
		j.Expected = p.End.Sub(p.Start).Seconds()
	}
	j.Plays = plays(w, s)
	spans, err := job.Timeline(w.Ledger, s.ID)
	if err != nil {
		return j, err
	}
	room := int64(maxPhotos)
	for i, d := range s.Devices {
		j.Counts[d.Step]++
		o := s.Order.Devices[i]
		row, _ := w.Main(d.ID)
		now := row.Match.Device
		now.Name = cmp.Or(now.Name, d.Name)
		_, place := w.Site.Place(now)
		out := report.Device{ID: d.ID, Name: d.Name, Place: place, Model: o.Model, Serial: o.Serial,
			By: o.By, From: o.From, Cause: d.Cause,
			To: o.To(), Runs: d.Version, End: d.Step, Reason: d.Reason, Next: advice(d), Took: d.Took,
			Rollback: string(o.Rollback()), Saved: d.Saved, Steps: spans[d.ID]}
		out.Fields = row.Free
		if out.Notes, err = notesOf(w, d.ID, &room); err != nil {
			return j, err
		}
		if o.Parent != "" {
			out.Parent = cmp.Or(w.NameOf(o.Parent), o.Parent)
		}
		for _, set := range s.Order.Rules.Lockstep {
			if slices.Contains(set.Of, d.ID) {
				out.Set = set.Name
			}
		}
		for _, h := range o.Path {
			if h.Image.SHA256 != "" {
				out.Images = append(out.Images, h.Image.SHA256)
			}
		}
		j.Devices = append(j.Devices, out)
	}
	report.Sort(j.Devices)
	return j, nil
}

// How an order is played for a report: the same report says the same.
const (
	playRuns   = 500
	playWork   = 50_000 // runs times devices, about: a report of large jobs should not take minutes
	playSeed   = 1
	playParts  = 30
	playFaults = 0.02
)

// plays plays the order of a job that had more than one device; nil: there is nothing to be seen in
// it.
func plays(w *plan.Site, s job.State) *report.Plays {
	if len(s.Devices) < 2 {
		return nil
	}
	runs := max(50, min(playRuns, playWork/len(s.Devices)))
	r, err := rehearse.Runs(rehearse.Input{Order: s.Order, Start: s.Started, Runs: runs,
		Seed: playSeed, Took: w.Past,
		Fails: func(order.Device) float64 { return playFaults }})
	if err != nil { // the job was started despite that
		return nil
	}
	counts, from, to := rehearse.Histogram(r.Ends, playParts)
	p := &report.Plays{Runs: runs, Seed: playSeed, Counts: counts, From: from.Seconds(),
		To: to.Seconds(), Half: r.Half, Most: r.Most}
	if !s.Ended.IsZero() {
		p.Took = s.Ended.Sub(s.Started).Seconds()
	}
	return p
}

// reportImages are those of an order, each once: what was sent before what was there for the
// rollback.
func reportImages(w *plan.Site, o order.Order) (out []report.Image) {
	add := func(d order.Device, i order.Image, version string, back bool) {
		if i.SHA256 == "" || slices.ContainsFunc(out,
			func(x report.Image) bool { return x.SHA256 == i.SHA256 }) {
			return
		}
		image := report.Image{File: i.File, SHA256: i.SHA256, Size: i.Size, Model: d.Model,
			Version: version, Back: back}
		if on, is := w.Image(i.SHA256); is && !back {
			image.Notes, _ = w.Shelf.Notes(on) // none: there is nothing to read
		}
		out = append(out, image)
	}
	for _, d := range o.Devices {
		for _, h := range d.Path {
			add(d, h.Image, job.Label(h.Component, h.To), false)
		}
	}
	for _, d := range o.Devices {
		for _, h := range d.Path {
			if h.Back != nil {
				add(d, *h.Back, job.Label(h.Component, h.From), true)
			}
		}
	}
	return out
}

// rulesInWords states the rules that an order is carried out under, for readers who do not know
// their keys.
func rulesInWords(w *plan.Site, o order.Order) []string {
	var out []string
	for _, r := range o.Rules.Each(w.NameOf) {
		out = append(out, r.String())
	}
	if !o.Closes.IsZero() {
		out = append(out, "no device starts that would not finish by "+
			o.Closes.In(w.Zone()).Format("2006-01-02 15:04"))
	}
	if o.GiveUp > 0 {
		out = append(out, fmt.Sprintf("at most %s per device", o.GiveUp))
	}
	return out
}

// limits are the rules of an order for the customer's edition.
func limits(w *plan.Site, o order.Order) []order.Rule {
	out := o.Rules.Each(w.NameOf)
	if !o.Closes.IsZero() {
		out = append(
			out,
			order.Rule{Kind: "closes", Of: o.Closes.In(w.Zone()).Format("2006-01-02 15:04")},
		)
	}
	if o.GiveUp > 0 {
		out = append(out, order.Rule{Kind: "giveup", Of: words.Clock(o.GiveUp)})
	}
	return out
}

// Tree is what hangs on what, sorted by name: each device with the nearest one that it is reached
// through, as the site has it, and as more says besides.
func Tree(w *plan.Site, more ...site.Uplink) []report.Node {
	out := []report.Node{}
	through := w.Through(more...)
	for _, r := range w.MainRows() {
		n := report.Node{ID: r.ID, Name: r.Name, Model: r.Model, Version: r.Version.Text,
			Status: r.Status}
		most := -1
		for _, up := range through[r.ID] { // the nearest has the most before it
			if before := len(through[up]); before > most {
				n.Through, most = up, before
			}
		}
		if d := r.Match.Device; d.Through != "" {
			n.Through = d.Through
		}
		out = append(out, n)
	}
	slices.SortStableFunc(out, func(a, b report.Node) int {
		return version.Order{}.Compare(strings.ToLower(a.Name), strings.ToLower(b.Name))
	})
	return out
}

// logo is the site's picture as a data URL.
func logo(w *plan.Site) (string, error) {
	if w.Site.Logo == "" {
		return "", nil
	}
	// It goes into a report that is given away: a folder of someone else must not fetch another file.
	root, err := os.OpenRoot(w.Dir)
	if err != nil {
		return "", err
	}
	defer func() { _ = root.Close() }()
	path := filepath.Join(w.Dir, w.Site.Logo)
	i, err := root.Stat(w.Site.Logo)
	switch {
	case err != nil:
		return "", &LogoError{path, "cannot be read, or is not in the site folder"}
	case !i.Mode().IsRegular():
		return "", &LogoError{path, "is not a file"}
	case i.Size() > maxLogo:
		return "", &LogoError{path, fmt.Sprintf("is larger than %d KiB", maxLogo>>10)}
	}
	raw, err := root.ReadFile(w.Site.Logo)
	if err != nil {
		return "", &LogoError{path, "cannot be read"}
	}
	kind := http.DetectContentType(raw)
	if strings.EqualFold(filepath.Ext(path), ".svg") {
		kind = "image/svg+xml"
	}
	if !slices.Contains([]string{"image/png", "image/jpeg", "image/webp", "image/svg+xml"}, kind) {
		return "", &LogoError{path, "is not a picture: PNG, JPEG, WebP or SVG"}
	}
	return "data:" + kind + ";base64," + base64.StdEncoding.EncodeToString(raw), nil
}
