package cli

import (
	"errors"
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
	var out, since, language, compare string
	var customer bool
	var fields []string
	c := &cobra.Command{
		Use:   "report [JOB…]",
		Short: "Write a report: HTML, PDF for the customer, JSON or CSV",
		Long: `Write a report of a job, by default of the newest: the previous and the current
version of each device, the timeline, failures and the response to them, and the cautions with who
accepted them. It lists the images, the saved settings, the skipped devices with the reasons, and
the devices that need a visit. You can check all of it with the ledger. The HTML file is
self-contained, so you can send it by mail.

With --customer, write the edition for the customer: a summary in two sentences, the visits, the
devices with their previous and current versions, and lines to sign, without commands, as HTML and
PDF. catena report init writes its template and texts, to be replaced.

site.yaml can add to it: engineer, note, logo (a picture in the site folder), language (of the
customer's edition), and places in walking order: {cam-11: "chamber 1, north pier"}.`,
		Example: `  catena report
  catena report --customer --language de
  catena report j3 --out night.html --compare 2026-11-01
  catena report --since 2026-11-27 --out week.csv
  catena report --format json`,
		RunE: func(_ *cobra.Command, args []string) error {
			if customer {
				return a.customerReport(args, out, since, language, fields)
			}
			if language != "" {
				return usage("--language is for the customer's edition: --customer")
			}
			return a.report(args, out, since, compare, fields)
		},
	}
	c.AddCommand(a.reportInitCmd())
	c.Flags().BoolVar(&customer, "customer", false, "the edition for the customer, as HTML and PDF")
	c.Flags().StringArrayVar(&fields, "field", nil,
		"a free field of the inventory that is shown with each device, such as warranty")
	c.Flags().StringVar(&compare, "compare", "",
		"add what differs from a point in time, as in catena compare: a day, a job, a saved list")
	c.Flags().StringVar(&language, "language", "",
		"the language of the customer's edition: en, de, or that of a file of yours")
	c.Flags().StringVarP(&out, "out", "o", "",
		"the file: .html, .json or .csv (default: reports/JOB.html in the site folder)")
	c.Flags().StringVar(&since, "since", "",
		"all jobs since a time: 2026-11-27, an RFC 3339 time, or 36h ago")
	return c
}

// reportOf makes the report of some jobs. name is what its file is called, without an extension.
func (a *app) reportOf(w *plan.Site, ids []string, since string) (r report.Report, name string,
	err error) {
	if since != "" && len(ids) > 0 {
		return r, "", usage("--since selects all jobs since then; leave out the names of jobs")
	}
	jobs, err := a.jobsToReport(w, ids, since)
	if err != nil {
		return r, "", err
	}
	name = jobs[len(jobs)-1].ID
	if len(jobs) > 1 {
		name = jobs[0].ID + "-" + name
	}
	r, err = export.Report(w, jobs, a.now(), "Catena "+programVersion(), advice.Next)
	return r, filepath.Join(w.Dir, export.ReportsFolder, name), err
}

// customerReport writes the customer's edition, by default as HTML and as PDF.
func (a *app) customerReport(ids []string, out, since, language string, fields []string) error {
	if a.format != "table" {
		return usage("the customer's edition is HTML and PDF; leave out --format")
	}
	w, err := a.match()
	if err != nil {
		return err
	}
	defer w.Close()
	r, name, err := a.reportOf(w, ids, since)
	if err != nil {
		return err
	}
	r.Show(fields)
	c, err := export.ForCustomer(w, r, language)
	if err != nil {
		return usage("%w", err)
	}
	write := map[string]func(io.Writer) error{
		".html": func(f io.Writer) error { return c.HTML(f, c.Own()) },
		".pdf":  func(f io.Writer) error { return c.PDF(f, r.Made) }}
	files := []string{name + "-customer.html", name + "-customer.pdf"}
	if out != "" {
		files = []string{out}
	} else if err := os.MkdirAll(filepath.Dir(name), 0o755); err != nil {
		return err
	}
	for _, path := range files {
		as := write[strings.ToLower(filepath.Ext(path))]
		if as == nil {
			return usage("--out %s: the name of a customer's edition ends in .html or .pdf", path)
		}
		err := atomicfile.Write(path, 0o644, as)
		if template := new(report.TemplateError); errors.As(err, &template) {
			return usage("%w", err)
		}
		if err != nil {
			return err
		}
		a.say("Wrote the report for the customer: %s", path)
	}
	return nil
}

func (a *app) reportInitCmd() *cobra.Command {
	return &cobra.Command{
		Use:   "init",
		Short: "Write the template and the texts of the customer's edition",
		Long: `Write the template (customer.html, in the language of Go's html/template), the style sheet
(customer.css) and the texts in each language (en.yaml, de.yaml) of the customer's edition into
report/ in the site folder. What you change there is used from then on; remove a file to return to
the one of the program. For another language, copy en.yaml to LANGUAGE.yaml. Files that exist are
not changed. The PDF has the texts, and its own layout.`,
		Example: "  catena report init\n  catena report --customer --language de",
		Args:    exactly(0, "no arguments"),
		RunE: func(*cobra.Command, []string) error {
			w, err := a.openSite()
			if err != nil {
				return err
			}
			defer w.Close()
			written, err := export.WriteTemplates(w)
			for _, path := range written {
				a.say("Wrote %s", path)
			}
			if err == nil && len(written) == 0 {
				a.say("All files are there already; none was changed.")
			}
			return err
		},
	}
}

func (a *app) report(ids []string, out, since, compare string, fields []string) error {
	w, err := a.match()
	if err != nil {
		return err
	}
	defer w.Close()
	r, name, err := a.reportOf(w, ids, since)
	if err != nil {
		return err
	}
	r.Show(fields)
	if compare != "" {
		from, err := a.point(w, compare)
		if err != nil {
			return err
		}
		now, err := w.PointAt(a.now())
		if err != nil {
			return err
		}
		export.Since(&r, from, now)
	}
	if out == "" && a.format != "table" {
		if a.format == "json" {
			return r.JSON(a.out)
		}
		return view.CSV(a.out, report.Columns, r.Rows(), a.csvCell())
	}
	if out == "" {
		out = name + ".html"
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
	a.say("Wrote the report of %s: %s", words.Plural(len(r.Jobs), "job"), out)
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
