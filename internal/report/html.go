package report

import (
	_ "embed"
	"fmt"
	"html/template"
	"io"
	"maps"
	"slices"
	"sync"
	"time"

	"catena/internal/job"
)

//go:embed report.html
var page string

//go:embed report.css
var sheet string

// pageTemplate is made when it is first needed: most commands need none.
var pageTemplate = sync.OnceValue(func() *template.Template {
	return template.Must(template.New("report").Funcs(template.FuncMap{
		"length": func(seconds float64) string {
			return length(time.Duration(seconds * float64(
				time.Second)))
		},
		"between": func(a, b time.Time) string { return length(b.Sub(a)) },
		"said":    said,
		"size":    size,
		"needs":   Needs,
		"hash":    func(s string) string { return s[:min(len(s), 12)] },
		"tree":    Tree,
		"picture": func(s string) template.URL { return template.URL(s) },
	}).Parse(page))
})

// data is what the page is made of.
type data struct {
	Report
	Sheet template.CSS
	Logo  template.URL
	Total []count
	zone  *time.Location
}

// At is a time on the page.
func (d data) At(t time.Time) string { return t.In(d.zone).Format("2006-01-02 15:04:05") }

// ZoneName is the zone of the page's times.
func (d data) ZoneName() string { return d.Made.In(d.zone).Format("MST (UTC-07:00)") }

// Lanes is a job's timeline.
func (d data) Lanes(j Job) template.HTML { return j.Timeline(d.zone) }

// count is how many devices ended so.
type count struct {
	Step job.Step
	N    int
}

func counts(of map[job.Step]int) (out []count) {
	for _, step := range slices.SortedFunc(maps.Keys(of), func(a, b job.Step) int {
		return slices.Index(worst, a) - slices.Index(worst, b)
	}) {
		if of[step] > 0 {
			out = append(out, count{step, of[step]})
		}
	}
	return out
}

// HTML writes one page that needs nothing else: no network, no script. Every value in it is
// escaped.
func (r Report) HTML(w io.Writer) error {
	return pageTemplate().Execute(w,
		data{Report: r, Sheet: template.CSS(sheet), Logo: template.URL(r.Logo),
			Total: counts(r.Total()), zone: r.zone()})
}

// Ends are how many devices of the job ended how.
func (j Job) Ends() []count { return counts(j.Counts) }

// Worked tells whether anything is drawn of the job.
func (j Job) Worked() bool {
	return slices.ContainsFunc(j.Devices, func(d Device) bool { return len(d.Steps) > 0 })
}

// Troubles are the devices that did not end as they should.
func (j Job) Troubles() (out []Device) {
	for _, d := range j.Devices {
		if d.End != job.Done && d.Reason != "" {
			out = append(out, d)
		}
	}
	return out
}

func size(n int64) string {
	switch {
	case n >= 1<<20:
		return fmt.Sprintf("%.1f MiB", float64(n)/(1<<20))
	case n >= 1<<10:
		return fmt.Sprintf("%.1f KiB", float64(n)/(1<<10))
	}
	return fmt.Sprintf("%d B", n)
}

// HasNotes reports whether someone wrote a note about one of the job's devices.
func (j Job) HasNotes() bool {
	return slices.ContainsFunc(j.Devices, func(d Device) bool { return len(d.Notes) > 0 })
}
