// Package report says what was done at a site, for those who were not there: as one HTML file that
// needs nothing else, as JSON and as CSV. It is pure: it is given what it tells, and writes it.
package report

import (
	"encoding/json"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"catena/internal/audit"
	"catena/internal/job"
	"catena/internal/order"
)

// Format is the number of this form of a report's JSON.
const Format = 1

// Report is what is told of some jobs. The names of its fields in JSON are a promise.
type Report struct {
	Format    int         `json:"report"`
	Site      string      `json:"site"`
	Engineer  string      `json:"engineer,omitempty"`
	Note      string      `json:"note,omitempty"`
	Made      time.Time   `json:"made"`
	Program   string      `json:"program"` // and its version
	Jobs      []Job       `json:"jobs"`    // oldest first
	Visits    []Visit     `json:"visits"`  // devices that need a visit, in walking order
	Untouched []Untouched `json:"left_alone"`
	Tree      []Node      `json:"site_tree"`
	// Missing are devices that only the inventory has, Unlisted those that it does not have.
	Missing []Listed `json:"not_found,omitempty"`
	// Changes are what differs since Since; an empty Since: that was not asked for.
	Changes []Change `json:"changes,omitempty"`
	Since   string   `json:"since,omitempty"`
	// Findings are those of the newest audit, made at Audited; zero: there was none.
	Findings []audit.Finding `json:"findings,omitempty"`
	Audited  time.Time       `json:"audited,omitzero"`
	Unlisted []Listed        `json:"not_listed,omitempty"`
	Ledger   Ledger          `json:"ledger"`
	// Logo is a picture, as a data URL; empty: none.
	Logo string `json:"-"`
	// Zone is where its times are told.
	Zone *time.Location `json:"-"`
}

// Job is one job.
type Job struct {
	ID       string           `json:"job"`
	Order    string           `json:"order"`
	Note     string           `json:"note,omitempty"`
	Purpose  order.Purpose    `json:"purpose"`
	Status   string           `json:"status"` // ended, running, or interrupted
	Stopped  bool             `json:"stopped,omitempty"`
	Started  time.Time        `json:"started"`
	Ended    time.Time        `json:"ended,omitzero"`
	Signed   []string         `json:"signed,omitempty"` // fingerprints of the keys
	Counts   map[job.Step]int `json:"counts"`
	Devices  []Device         `json:"devices"` // what needs a person first
	Cautions []order.Caution  `json:"cautions,omitempty"`
	Checks   []job.Check      `json:"checks,omitempty"`
	Images   []Image          `json:"images,omitempty"`
	Rules    []string         `json:"rules,omitempty"` // in words
	Plays    *Plays           `json:"plays,omitempty"`
	Expected float64          `json:"expected,omitempty"` // seconds, before its start

	Limits []order.Rule `json:"-"` // the rules, for the customer's edition
}

// Plays are how long the order took when it was played many times on a virtual clock, by the
// durations that are known when the report is made.
type Plays struct {
	Runs   int     `json:"runs"`
	Seed   uint64  `json:"seed"`
	From   float64 `json:"from"`   // seconds: the quickest
	To     float64 `json:"to"`     // seconds: the slowest
	Counts []int   `json:"counts"` // of runs, in equal parts between the two
	Half   float64 `json:"half"`   // seconds: half of the runs ended by then
	Most   float64 `json:"most"`   // seconds: 95 % of the runs did
	Took   float64 `json:"took"`   // seconds: the job itself; 0: it has not ended
}

// Device is one device of a job.
type Device struct {
	ID       string     `json:"device"`
	Name     string     `json:"name"`
	Place    string     `json:"place,omitempty"`
	Model    string     `json:"model"`
	Serial   string     `json:"serial,omitempty"`
	Parent   string     `json:"parent,omitempty"` // its name
	Set      string     `json:"lockstep,omitempty"`
	By       string     `json:"by,omitempty"` // hand
	From     string     `json:"from"`
	To       string     `json:"to"`
	Runs     string     `json:"runs,omitempty"`
	End      job.Step   `json:"end"`
	Reason   string     `json:"reason,omitempty"`
	Next     string     `json:"next,omitempty"` // what to do about it
	Took     float64    `json:"took"`           // seconds
	Rollback string     `json:"rollback,omitempty"`
	Saved    string     `json:"settings_saved,omitempty"` // under which name
	Images   []string   `json:"images,omitempty"`         // SHA-256 of those of its path
	Steps    []job.Span `json:"steps,omitempty"`
	Notes    []Note     `json:"notes,omitempty"`

	// Fields are the free fields of the inventory.
	Fields map[string]string `json:"fields,omitempty"`

	Cause *job.Reason `json:"-"` // the reason, for the customer's edition
	Shown string      `json:"-"` // those of the fields that pages show, in words
}

// Show has pages show these free fields of each device, in this order.
func (r *Report) Show(fields []string) {
	for i := range r.Jobs {
		for n := range r.Jobs[i].Devices {
			d := &r.Jobs[i].Devices[n]
			var shown []string
			for _, f := range fields {
				if v := d.Fields[f]; v != "" {
					shown = append(shown, f+": "+v)
				}
			}
			d.Shown = strings.Join(shown, ", ")
		}
	}
}

// Note is what a person wrote about a device.
type Note struct {
	At    time.Time `json:"at"`
	By    string    `json:"by"`
	Text  string    `json:"text"`
	Photo string    `json:"photo,omitempty"` // its file, within the site folder
	// Picture is the photograph as a data: address (RFC 2397); empty: it is not here, or too large.
	Picture string `json:"-"`
}

// Image is an image that a job sent, or could have sent back.
type Image struct {
	File    string `json:"file"`
	SHA256  string `json:"sha256"`
	Size    int64  `json:"size"` // bytes
	Model   string `json:"model"`
	Version string `json:"version"`
	Notes   string `json:"notes,omitempty"`
	Back    bool   `json:"rollback,omitempty"` // it was there for the rollback
}

// Visit is a device that needs on-site work.
type Visit struct {
	ID     string `json:"device"`
	Name   string `json:"name"`
	Place  string `json:"place,omitempty"`
	Model  string `json:"model"`
	Serial string `json:"serial,omitempty"`
	Why    string `json:"why"`
	Next   string `json:"next,omitempty"`

	Cause *job.Reason `json:"-"`
}

// Listed is a device that only the inventory has, or only the site.
type Listed struct {
	Name   string `json:"name"`
	Place  string `json:"place,omitempty"`
	Model  string `json:"model"`
	Serial string `json:"serial,omitempty"`
}

// Change is a difference of a device between two points in time.
type Change struct {
	Device string `json:"device"`
	Model  string `json:"model"`
	Serial string `json:"serial"`
	What   string `json:"what"` // as catena compare has it
	Was    string `json:"was"`
	Is     string `json:"is"`
}

// Untouched is a device that no job of the report updated, and why.
type Untouched struct {
	Name   string `json:"name"`
	Place  string `json:"place,omitempty"`
	Model  string `json:"model"`
	Serial string `json:"serial,omitempty"`
	Spare  bool   `json:"spare,omitempty"`
	Runs   string `json:"runs,omitempty"`
	Status string `json:"status"`
	Why    string `json:"why,omitempty"`
}

// Node is a device in the tree of what is reached through what.
type Node struct {
	ID      string `json:"device"`
	Name    string `json:"name"`
	Model   string `json:"model"`
	Version string `json:"version"`
	Status  string `json:"status"`
	Through string `json:"through,omitempty"` // the ID of the nearest one that it is reached through
}

// Ledger is what the report rests on.
type Ledger struct {
	Entries int    `json:"entries"`
	Last    string `json:"last"` // SHA-256 of its last entry, hexadecimal
}

// Needs tells whether a person must see to a device that ended so.
func Needs(s job.Step) bool {
	return s == job.Stranded || !s.End() && s != job.Waiting
}

// worst is the order in which ends are told: what needs a person first.
var worst = []job.Step{job.Stranded, job.Checking, job.Sending, job.Writing, job.Restarting,
	job.Proving,
	job.Failed, job.Returned, job.Parked, job.Skipped, job.Waiting, job.Done}

// Sort brings the devices of a job into the order in which they are told.
func Sort(all []Device) {
	slices.SortStableFunc(all, func(a, b Device) int {
		return slices.Index(worst,
			a.End) - slices.Index(worst, b.End)
	})
}

// Total is how many devices of all jobs ended at each step.
func (r Report) Total() map[job.Step]int {
	out := map[job.Step]int{}
	for _, j := range r.Jobs {
		for step, n := range j.Counts {
			out[step] += n
		}
	}
	return out
}

// JSON writes the whole of it.
func (r Report) JSON(w io.Writer) error {
	e := json.NewEncoder(w)
	e.SetIndent("", "  ")
	return e.Encode(r)
}

// Columns are those of CSV.
var Columns = []string{"job", "order", "started", "device", "place", "model", "serial", "parent",
	"by", "from", "to",
	"end", "runs", "took_seconds", "reason", "next", "settings_saved", "images"}

// Rows are the lines of CSV: one for each device of each job.
func (r Report) Rows() (out [][]string) {
	for _, j := range r.Jobs {
		for _, d := range j.Devices {
			out = append(out, []string{j.ID, j.Order, j.Started.In(r.zone()).Format(time.RFC3339), d.Name,
				d.Place, d.Model, d.Serial,
				d.Parent, d.By, d.From, d.To, string(d.End), d.Runs, fmt.Sprintf("%.0f", d.Took), d.Reason,
				d.Next, d.Saved,
				strings.Join(d.Images, " ")})
		}
	}
	return out
}

func (r Report) zone() *time.Location {
	if r.Zone == nil {
		return time.UTC
	}
	return r.Zone
}
