package cli

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"catena/internal/cli/jobview"
	"catena/internal/cli/view"
	"catena/internal/job"
	"catena/internal/order"
	"catena/internal/words"
)

func (a *app) jobsCmd() *cobra.Command {
	var last int
	c := &cobra.Command{
		Use:     "jobs",
		Short:   "List all jobs, newest first",
		Long:    "List all jobs of the site, newest first: when each ran, and how its devices ended.",
		Example: "  catena jobs\n  catena jobs --last 5\n  catena jobs --format json",
		Args:    exactly(0, "no arguments"),
		RunE: func(*cobra.Command, []string) error {
			if last < 0 {
				return usage("--last %d: how many of the newest jobs to list; 0 lists all", last)
			}
			return a.jobs(last)
		},
	}
	c.Flags().IntVar(&last, "last", 0, "how many of the newest jobs to list (0: all)")
	return c
}

// jobLine is one job in a list.
type jobLine struct {
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

func (a *app) jobs(last int) error {
	w, err := a.openSite()
	if err != nil {
		return err
	}
	defer w.Close()
	all, err := w.Jobs(last)
	if err != nil {
		return err
	}
	lines := []jobLine{}
	for _, s := range slices.Backward(all) {
		lines = append(lines, a.jobLine(s))
	}
	if len(lines) == 0 && a.format == "table" {
		a.say("No job was ever started here. Start one: catena flash --all")
		return nil
	}
	return a.emit(lines, a.jobTable(lines))
}

func (a *app) jobLine(s job.State) jobLine {
	line := jobLine{ID: s.ID, Order: s.Name, Note: s.Note, Purpose: s.Purpose, Status: "ended",
		Started: s.Started,
		Ended:   s.Ended, Devices: len(s.Devices), Steps: map[job.Step]int{}}
	switch {
	case s.Missed(a.now()):
		line.Status = "missed"
	case s.Scheduled() && s.Alive:
		line.Status = "scheduled"
	case s.Alive:
		line.Status = "running"
	case s.Interrupted():
		line.Status = "interrupted"
	}
	if !s.Order.Start.IsZero() {
		line.Start = &s.Order.Start
	}
	for _, d := range s.Devices {
		line.Steps[d.Step]++
	}
	return line
}

func (a *app) jobTable(lines []jobLine) view.Table {
	t := view.Table{Columns: []string{"job", "order", "purpose", "status", "started", "took",
		"devices",
		"result"}}
	for _, l := range lines {
		took := ""
		if !l.Ended.IsZero() {
			took = words.Clock(l.Ended.Sub(l.Started))
		}
		var ends []string
		for _, step := range append(jobview.FrameOrder[:5:5],
			append([]job.Step{job.Waiting}, job.Ends...)...) {
			if n := l.Steps[step]; n > 0 {
				ends = append(ends, fmt.Sprintf("%d %s", n, step))
			}
		}
		status := view.Cell{Text: l.Status}
		if l.Start != nil && (l.Status == "scheduled" || l.Status == "missed") {
			ends = []string{"starts " + jobview.When(*l.Start, a.now()), "in " +
				words.Clock(l.Start.Sub(a.now()).Round(time.Second))}
			if l.Status == "missed" {
				ends = []string{"was to start at " + l.Start.Local().Format("2006-01-02 15:04")}
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
