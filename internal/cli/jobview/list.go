package jobview

import (
	"catena/internal/advice"
	"catena/internal/cli/view"
	"catena/internal/job"
	"catena/internal/order"
	"catena/internal/words"
	"fmt"
	"slices"
	"strings"
	"time"
)

// Line is one job in a list.
type Line struct {
	ID      string        `json:"job"`
	Order   string        `json:"order,omitempty"` // the name of its order
	Note    string        `json:"note,omitempty"`
	Purpose order.Purpose `json:"purpose"`
	Start   *time.Time    `json:"start,omitempty"` // of one that was scheduled
	// scheduled, running, interrupted, missed, or ended
	Status  string           `json:"status"`
	Started time.Time        `json:"started"`
	Ended   time.Time        `json:"ended,omitzero"`
	Devices int              `json:"devices"`
	Steps   map[job.Step]int `json:"steps"` // how many devices are at which step or end
}

// LineOf returns a job as a list shows it.
func LineOf(s job.State, now time.Time) Line {
	line := Line{ID: s.ID, Order: s.Name, Note: s.Note, Purpose: s.Purpose, Status: "ended",
		Started: s.Started,
		Ended:   s.Ended, Devices: len(s.Devices), Steps: map[job.Step]int{}}
	switch {
	case s.Missed(now):
		line.Status = "missed"
	case s.Scheduled() && s.Alive:
		line.Status = "scheduled"
	case s.Alive:
		line.Status = "running"
	case s.Interrupted():
		line.Status = "interrupted"
	case s.Ended.IsZero():
		line.Status = "elsewhere"
	}
	if !s.Order.Start.IsZero() {
		line.Start = &s.Order.Start
	}
	for _, d := range s.Devices {
		line.Steps[d.Step]++
	}
	return line
}

// Table returns a list of jobs.
func Table(lines []Line, now time.Time) view.Table {
	t := view.Table{Columns: []string{"job", "order", "purpose", "status", "started", "took",
		"devices",
		"result"}}
	for _, l := range lines {
		took := ""
		if !l.Ended.IsZero() {
			took = words.Clock(l.Ended.Sub(l.Started))
		}
		var ends []string
		for _, step := range append(FrameOrder[:5:5],
			append([]job.Step{job.Waiting}, job.Ends...)...) {
			if n := l.Steps[step]; n > 0 {
				ends = append(ends, fmt.Sprintf("%d %s", n, step))
			}
		}
		status := view.Cell{Text: l.Status}
		if l.Start != nil && (l.Status == "scheduled" || l.Status == "missed") {
			ends = []string{"starts " + When(*l.Start, now), "in " +
				words.Clock(l.Start.Sub(now).Round(time.Second))}
			if l.Status == "missed" {
				ends = []string{"scheduled for " + l.Start.Local().Format("2006-01-02 15:04")}
			}
		}
		if l.Status == "interrupted" || l.Status == "missed" {
			status.Tone = view.Bad
		}
		how := view.Cell{Text: strings.Join(ends, ", ")}
		if l.Steps[job.Stranded] > 0 {
			how.Tone = view.Bad
		}
		t.Add(l.ID, l.Order, l.Purpose, status, l.Started.Local().Format("2006-01-02 15:04"),
			view.Number(took),
			l.Devices, how)
	}
	return t
}

// endOrder is the order in which devices stand when a job has ended: what needs a person last,
// where it is still in sight after many others.
var endOrder = []job.Step{job.Done, job.Parked, job.Waiting, job.Skipped, job.Failed, job.Returned,
	job.Stranded}

// mostNamed is how many devices of an end the closing line of a job names.
const mostNamed = 8

// Ends returns every device that has ended: its previous and current version, how long it took, and
// what to do.
func Ends(state job.State) view.Table {
	ended := slices.DeleteFunc(slices.Clone(state.Devices), func(d job.DeviceState) bool {
		return !d.Step.End()
	})
	slices.SortStableFunc(ended, func(x, y job.DeviceState) int {
		return slices.Index(endOrder, x.Step) - slices.Index(endOrder, y.Step)
	})
	t := view.Table{Columns: []string{"name", "end", "was", "runs", "took", "why", "what to do"},
		Less: []string{"took"}, Tail: 2}
	if state.Order.Rehearsal {
		t.Columns, t.Tail = t.Columns[:6], 1
	}
	for _, d := range ended {
		took := ""
		if d.Took > 0 {
			took = words.Clock(time.Duration(d.Took * float64(time.Second)))
		}
		row := []any{d.Name, StepTone(d.Step).Cell(string(d.Step)), d.From, d.Version,
			view.Number(took), d.Reason, advice.Next(d)}
		t.Add(row[:len(t.Columns)]...)
	}
	return t
}

// Summary returns how many devices of a job ended how: 3 done, 1 stranded (cam-11). It names those
// that need a person.
func Summary(state job.State) string {
	var parts []string
	for _, end := range append([]job.Step{job.Waiting}, job.Ends...) {
		if n := state.Count(end); n > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", n, end)+inNeed(state, end))
		}
	}
	return strings.Join(parts, ", ")
}

// inNeed names the devices of an end that needs a person; empty: it does not.
func inNeed(state job.State, end job.Step) string {
	if end != job.Stranded && end != job.Returned && end != job.Failed {
		return ""
	}
	var names []string
	for _, d := range state.Devices {
		if d.Step == end {
			names = append(names, d.Name)
		}
	}
	return " (" + words.FewOf(names, mostNamed) + ")"
}
