package cli

import (
	"slices"

	"github.com/spf13/cobra"

	"catena/internal/cli/jobview"
)

func (a *app) jobsCmd() *cobra.Command {
	var last int
	c := &cobra.Command{
		Use:   "jobs",
		Short: "List all jobs, newest first",
		Long: `List all jobs of the site, newest first, with their times and the outcomes of their
devices.`,
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
	lines := []jobview.Line{}
	for _, s := range slices.Backward(all) {
		lines = append(lines, jobview.LineOf(s, a.now()))
	}
	if len(lines) == 0 && a.format == "table" {
		a.say("This site has no jobs yet. Start one: catena flash --all")
		return nil
	}
	return a.emit(lines, jobview.Table(lines, a.now()))
}
