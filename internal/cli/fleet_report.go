package cli

import (
	"context"
	"io"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"catena/internal/atomicfile"
	"catena/internal/fleet"
	"catena/internal/words"
)

func (a *app) fleetReportCmd() *cobra.Command {
	var in, out, since string
	c := &cobra.Command{
		Use:   "report",
		Short: "Write a report of all sites: one HTML page, or JSON",
		Long: `Write a report for the company: which versions run at which site, what has changed, and which
devices need a person. The devices are compared with the shelf of this laptop. The HTML file is
self-contained, so you can send it by mail.`,
		Example: `  catena fleet report --in ~/sites
  catena fleet report --in ~/sites --since 2026-11-01 --out november.html
  catena fleet report --in ~/sites --format json`,
		Args: exactly(0, "no arguments"),
		RunE: func(c *cobra.Command, _ []string) error {
			return a.fleetReport(c.Context(), in, out, since)
		},
	}
	fleetOf(c, &in)
	c.Flags().StringVarP(&out, "out", "o", "", "the file: .html or .json (default: fleet.html)")
	c.Flags().StringVar(&since, "since", "", "changes since a time: 2026-11-01, an RFC 3339 time, or "+
		"36h ago (default: 30 days ago)")
	return c
}

// usualSince is how far back a report of all sites looks.
const usualSince = 30 * 24 * time.Hour

func (a *app) fleetReport(ctx context.Context, in, out, since string) error {
	from := a.now().Add(-usualSince)
	if since != "" {
		var err error
		if from, err = a.sinceTime(time.Local, since); err != nil {
			return err
		}
	}
	f, err := a.openFleet(ctx, in, fleet.Reading{Since: from})
	if err != nil {
		return err
	}
	r := f.Report(from, a.now(), "Catena "+programVersion())
	if out == "" && a.format == "json" {
		return fleetEnd(f, r.JSON(a.out))
	}
	if out == "" {
		out = "fleet.html"
	}
	write := map[string]func(io.Writer) error{".html": r.HTML, ".json": r.JSON}[strings.ToLower(
		filepath.Ext(out))]
	if write == nil {
		return usage("--out %s: its name must end in .html or .json", out)
	}
	if err := atomicfile.Write(out, 0o644, write); err != nil {
		return err
	}
	a.say("Wrote the report of %s: %s", words.Plural(len(r.Sites), "site"), out)
	return fleetEnd(f, nil)
}
