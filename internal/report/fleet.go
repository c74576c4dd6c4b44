package report

import (
	_ "embed"
	"encoding/json"
	"html/template"
	"io"
	"strings"
	"sync"
	"time"
)

// FleetFormat is the number of this form of a fleet report's JSON.
const FleetFormat = 1

// Fleet is what is told of many sites. The names of its fields in JSON are a promise.
type Fleet struct {
	Format  int           `json:"fleet_report"`
	Made    time.Time     `json:"made"`
	Since   time.Time     `json:"since"` // of the changes
	Program string        `json:"program"`
	Sites   []FleetSite   `json:"sites"`
	Unread  []Unread      `json:"unread,omitempty"`
	Columns []string      `json:"-"` // the statuses that occur, what needs a person first
	Models  []FleetModel  `json:"models"`
	Visits  []FleetVisit  `json:"needs_person"` // in the order of the sites
	Changes []FleetChange `json:"changes"`      // newest first
	// Zone is where its times are told.
	Zone *time.Location `json:"-"`
}

// FleetSite is one site.
type FleetSite struct {
	Name     string         `json:"site"`
	Devices  int            `json:"devices"`
	Statuses map[string]int `json:"statuses"`
	Last     time.Time      `json:"last,omitzero"` // of its newest entry
}

// Unread is a site that is missing.
type Unread struct {
	Name   string `json:"site"`
	Reason string `json:"reason"`
}

// FleetModel is what the devices of a model run, site by site.
type FleetModel struct {
	Vendor   string     `json:"vendor"`
	Model    string     `json:"model"`
	Versions []string   `json:"versions"` // newest first
	Rows     []FleetRow `json:"sites"`
}

// Called is the model, with its vendor, for people.
func (m FleetModel) Called() string {
	if m.Model == "" {
		return "not known"
	}
	return strings.TrimSpace(m.Vendor + " " + m.Model)
}

// FleetRow has a cell for each version of its model.
type FleetRow struct {
	Site  string      `json:"site"`
	Cells []FleetCell `json:"counts"`
}

// FleetCell is how many devices run a version, and the status that needs a person most of those
// that they have; empty: there are none.
type FleetCell struct {
	N      int    `json:"devices"`
	Status string `json:"status,omitempty"`
}

// FleetVisit is a device that a person must do something about.
type FleetVisit struct {
	Site   string `json:"site"`
	Name   string `json:"name"`
	Model  string `json:"model"`
	Runs   string `json:"runs"`
	Status string `json:"status"`
	Why    string `json:"why"`
}

// FleetChange is a job.
type FleetChange struct {
	At    time.Time `json:"at"`
	Site  string    `json:"site"`
	Job   string    `json:"job"`
	Order string    `json:"order,omitempty"`
	What  []string  `json:"what"`  // 3 WX-40 3.1.0 → 3.2.1
	Ended string    `json:"ended"` // in words
}

//go:embed fleet.html
var fleetPage string

var fleetTemplate = sync.OnceValue(func() *template.Template {
	return template.Must(template.New("fleet").Parse(fleetPage))
})

// fleetData is what the page is made of.
type fleetData struct {
	Fleet
	Sheet template.CSS
}

// At is a time on the page.
func (d fleetData) At(t time.Time) string { return t.In(d.zone()).Format("2006-01-02 15:04") }

// ZoneName is the zone of the page's times.
func (d fleetData) ZoneName() string { return d.Made.In(d.zone()).Format("MST (UTC-07:00)") }

func (f Fleet) zone() *time.Location {
	if f.Zone == nil {
		return time.Local
	}
	return f.Zone
}

// Devices is how many there are.
func (f Fleet) Devices() (n int) {
	for _, s := range f.Sites {
		n += s.Devices
	}
	return n
}

// statusCount is how many devices have a status.
type statusCount struct {
	Status string
	N      int
}

// Total counts the devices of all sites.
func (d fleetData) Total() (out []statusCount) {
	for _, status := range d.Columns {
		n := 0
		for _, s := range d.Sites {
			n += s.Statuses[status]
		}
		out = append(out, statusCount{status, n})
	}
	return out
}

// HTML writes one page that needs nothing else: no network, no script. Every value in it is
// escaped.
func (f Fleet) HTML(w io.Writer) error {
	return fleetTemplate().Execute(w, fleetData{f, template.CSS(sheet)})
}

// JSON writes it for programs.
func (f Fleet) JSON(w io.Writer) error {
	e := json.NewEncoder(w)
	e.SetIndent("", "  ")
	return e.Encode(f)
}
