package cli

import (
	"io"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"catena/internal/advice"
	"catena/internal/atomicfile"
	"catena/internal/cli/view"
	"catena/internal/export"
	"catena/internal/job"
	"catena/internal/plan"
	"catena/internal/report"
	"catena/internal/words"
)

func (a *app) reportCmd() *cobra.Command {
	var out, since string
	c := &cobra.Command{
		Use:   "report [JOB…]",
		Short: "Write a report for the customer: one HTML file, JSON or CSV",
		Long: `Write a report of a job, by default of the newest: the previous and the current
version of each device, the timeline, failures and the response to them, and the cautions with who
accepted them. It lists the images, the saved settings, the skipped devices with the reasons, and
the devices that need a visit. You can check all of it with the ledger. The HTML file is
self-contained, so you can send it by mail.

site.yaml can add to it: engineer, note, logo (a picture in the site folder), and places in walking
order: {cam-11: "chamber 1, north pier"}.`,
		Example: `  catena report
  catena report j3 --out night.html
  catena report --since 2026-11-27 --out week.csv
  catena report --format json`,
		RunE: func(_ *cobra.Command, args []string) error { return a.report(args, out, since) },
	}
	c.Flags().StringVarP(&out, "out", "o", "",
		"the file: .html, .json or .csv (default: reports/JOB.html in the site folder)")
	c.Flags().StringVar(&since, "since", "",
		"all jobs since a time: 2026-11-27, an RFC 3339 time, or 36h ago")
	return c
}

func (a *app) report(ids []string, out, since string) error {
	if since != "" && len(ids) > 0 {
		return usage("--since selects all jobs since then; leave out the names of jobs")
	}
	w, err := a.match()
	if err != nil {
		return err
	}
	defer w.Close()
	jobs, err := a.jobsToReport(w, ids, since)
	if err != nil {
		return err
	}
	r, err := export.Report(w, jobs, a.now(), "Catena "+programVersion(), advice.Next)
	if err != nil {
		return err
	}
	if out == "" && a.format != "table" {
		if a.format == "json" {
			return r.JSON(a.out)
		}
		return view.CSV(a.out, report.Columns, r.Rows(), a.csvCell())
	}
	if out == "" {
		last := jobs[len(jobs)-1].ID
		if len(jobs) > 1 {
			last = jobs[0].ID + "-" + last
		}
		out = filepath.Join(w.Dir, export.ReportsFolder, last+".html")
		if err := os.MkdirAll(filepath.Dir(out), 0o755); err != nil {
			return err
		}
	}
	asCSV := func(f io.Writer) error { return view.CSV(f, report.Columns, r.Rows(), a.csvCell()) }
	write := map[string]func(io.Writer) error{".html": r.HTML, ".json": r.JSON,
		".csv": asCSV}[strings.ToLower(filepath.Ext(out))]
	if write == nil {
		return usage("--out %s: its name must end in .html, .json or .csv", out)
	}
	if err := atomicfile.Write(out, 0o644, write); err != nil {
		return err
	}
	a.say("Wrote the report of %s: %s", words.Plural(len(jobs), "job"), out)
	return nil
}

// sinceTime reads a time that lies back.
func (a *app) sinceTime(zone *time.Location, text string) (time.Time, error) {
	if d, err := time.ParseDuration(strings.TrimSuffix(text, " ago")); err == nil && d > 0 {
		return a.now().Add(-d), nil
	}
	if t, err := time.ParseInLocation("2006-01-02", text, zone); err == nil {
		return t, nil
	}
	t, err := time.Parse(time.RFC3339, text)
	if err != nil {
		return t, usage("--since %s: write a day (2026-11-27), a time (RFC 3339), or how long ago (36h)",
			text)
	}
	return t, nil
}

// jobsToReport are the jobs named, all since a time, or the last one; oldest first.
func (a *app) jobsToReport(w *plan.Site, ids []string, since string) (out []job.State, err error) {
	from := time.Time{}
	if since != "" {
		if from, err = a.sinceTime(w.Zone(), since); err != nil {
			return nil, err
		}
	}
	out, err = w.JobsFor(ids, from)
	if err == nil && len(out) == 0 {
		return nil, usage("there is nothing to report: no job has started%s",
			map[bool]string{true: " since then"}[since != ""])
	}
	return out, err
}
