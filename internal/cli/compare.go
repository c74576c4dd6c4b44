package cli

import (
	"os"
	"time"

	"github.com/spf13/cobra"

	"catena/internal/cli/view"
	"catena/internal/plan"
	"catena/internal/words"
)

func (a *app) compareCmd() *cobra.Command {
	return &cobra.Command{
		Use:   "compare FROM [TO]",
		Short: "Compare the site at two points in time",
		Long: `Compare what was known of the site at two points in time: versions, addresses, names,
certificates, and devices that are new, gone, away or back. FROM and TO are a day, a time (RFC
3339), how long ago (36h), a job (the moment before it started), or a file that catena list --format
json has written. Without TO it is now. No device is contacted.`,
		Example: `  catena compare 2026-11-01
  catena compare j3 --format json
  catena list --format json > before.json; catena compare before.json`,
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) < 1 || len(args) > 2 {
				return usage("name one point in time, or two")
			}
			return nil
		},
		RunE: func(_ *cobra.Command, args []string) error { return a.compare(args) },
	}
}

func (a *app) compare(args []string) error {
	w, err := a.openSite()
	if err != nil {
		return err
	}
	defer w.Close()
	var points []plan.Point
	for _, text := range args {
		p, err := a.point(w, text)
		if err != nil {
			return err
		}
		points = append(points, p)
	}
	if len(points) == 1 {
		p, err := w.PointAt(a.now())
		if err != nil {
			return err
		}
		points = append(points, p)
	}
	changes := plan.Compare(points[0], points[1])
	t := view.Table{Columns: []string{"device", "model", "serial", "what", "was", "is"}}
	for _, c := range changes {
		what := view.Cell{Text: c.What}
		if c.What == "gone" || c.What == "away" {
			what.Tone = view.Warn
		}
		t.Add(c.Device, c.Model, c.Serial, what, c.Was, c.Is)
	}
	a.say("From %s (%s) to %s (%s):", points[0].Called, words.Plural(len(points[0].Devices), "device"),
		points[1].Called, words.Plural(len(points[1].Devices), "device"))
	if len(changes) == 0 && a.format == "table" {
		a.say("Nothing differs.")
		return nil
	}
	return a.emit(changes, t)
}

// point reads a point in time: a saved list, a job, or a time.
func (a *app) point(w *plan.Site, text string) (plan.Point, error) {
	if info, err := os.Stat(text); err == nil && info.Mode().IsRegular() {
		p, err := plan.PointIn(text)
		if err != nil {
			return p, usage("%w", err)
		}
		return p, nil
	}
	var at time.Time
	if state, err := w.JobState(text); err == nil {
		at = state.Started.Add(-time.Nanosecond)
	} else if at, err = a.sinceTime(w.Zone(), text); err != nil {
		return plan.Point{}, usage("%s is neither a file nor a job nor a time: write a day "+
			"(2026-11-27), a time (RFC 3339), or how long ago (36h)", text)
	}
	return w.PointAt(at)
}
