package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"github.com/spf13/cobra"

	"catena/internal/cli/jobview"
	"catena/internal/cli/view"
	"catena/internal/fleet"
	"catena/internal/job"
	"catena/internal/office"
	"catena/internal/recorder"
	"catena/internal/words"
	"catena/internal/workspace"
)

// fleetIn is the flag of the folder of site folders.
func fleetIn(c *cobra.Command, in *string) {
	c.Flags().StringVar(in, "in", "", "the folder with the site folders")
}

// fleetOf is the flag of commands that read an office, too.
func fleetOf(c *cobra.Command, in *string) {
	c.Flags().StringVar(in, "in", "",
		"the folder with the site folders (default: those of the office in the current folder, or of -C)")
}

// sites are where the sites of a fleet are read from: a folder of site folders, or an office.
type sites struct {
	app     *app
	in      string
	office  *office.Office // nil: they are in the folder
	folders []string
	news    words.News // the warnings that were printed
}

// sitesOf are the sites of a folder; empty: those of an office, if there may be one.
func (a *app) sitesOf(in string, office bool) (s *sites, err error) {
	s = &sites{app: a, in: in, news: words.News{}}
	switch {
	case in != "":
	case !office:
		return nil, usage("--in is missing: the folder with the site folders")
	default:
		if s.office, err = a.openOffice(); err != nil {
			return nil, fmt.Errorf("%w; or name a folder with site folders: --in FOLDER", err)
		}
	}
	return s, nil
}

// look finds the folders. An office takes new records first; where its server is not reached, those
// of the last time count.
func (s *sites) look(ctx context.Context) (err error) {
	if s.office == nil {
		s.folders, err = fleet.In(s.in)
		if errors.As(err, new(*fleet.NoSitesError)) {
			return usage("%w; make folders from a place: catena sync PLACE --into FOLDER", err)
		}
		return err
	}
	m, err := s.app.officeMirror(s.office)
	if err != nil {
		return err
	}
	_, err = m.Each(ctx, nil)
	if text := fault(err); s.news.Is("", text) && err != nil {
		s.app.warn("New records could not be taken, so that these may be old: %s", text)
	}
	s.folders, err = recorder.Folders(s.office)
	if err == nil && len(s.folders) == 0 {
		err = usage("no site has synced with this office yet")
	}
	return err
}

// read reads the sites, and names those that cannot be read.
func (s *sites) read(r fleet.Reading) fleet.Fleet {
	r.Now, r.By = s.app.now, s.app.writer()
	f := fleet.Read(s.folders, r)
	for _, o := range f.Older {
		if s.news.Is(o[0], o[1]) {
			view.Print(s.app.err, "%s is left out: %s is a newer folder of the same site\n", o[0], o[1])
		}
	}
	for _, u := range f.Unread() {
		if text := fault(u.Err); s.news.Is(u.Folder, text) {
			view.Print(s.app.err, "%s cannot be read: %s\n", u.Folder, text)
		}
	}
	return f
}

func (a *app) fleetCmd() *cobra.Command {
	c := &cobra.Command{
		Use: "fleet", Short: "Look at many sites at once",
		Args: onlyCommands, RunE: help,
	}
	c.AddCommand(a.fleetListCmd(), a.fleetMatchCmd(), a.fleetJobsCmd(), a.fleetReportCmd(),
		a.fleetTrackCmd())
	return c
}

// openFleet reads the sites and compares their devices with the shelf.
func (a *app) openFleet(ctx context.Context, in string, r fleet.Reading) (f fleet.Fleet,
	err error) {
	if r.Shelf, err = a.openShelf(); err != nil {
		return f, err
	}
	s, err := a.sitesOf(in, true)
	if err == nil {
		err = s.look(ctx)
	}
	if err != nil {
		return f, err
	}
	return s.read(r), nil
}

// fleetEnd is the exit code of a list in which sites are missing.
func fleetEnd(f fleet.Fleet, err error) error {
	if err == nil && len(f.Unread()) > 0 {
		return exit{exitFailed, errSilent}
	}
	return err
}

func (a *app) fleetListCmd() *cobra.Command {
	var choose workspace.Choice
	var in string
	c := &cobra.Command{
		Use:   "list",
		Short: "List the devices of all sites as they were last seen",
		Long: `List the devices of all site folders in a folder, as they were last seen by any laptop whose
entries the folder has. The fields are those of catena list; site is the name of the site. In the
folder of an office, without --in, the sites are those of the office.`,
		Example: `  catena fleet list --in ~/sites
  catena fleet list --in ~/sites --where 'model == "WX-20" && version == "2.09"'
  catena fleet list --in ~/sites --where 'status == "unsafe"' --format csv > visits.csv`,
		Args: exactly(0, "no arguments (choose with --where)"),
		RunE: func(c *cobra.Command, _ []string) error {
			f, err := a.openFleet(c.Context(), in, fleet.Reading{})
			if err != nil {
				return err
			}
			rows, err := f.Choose(choose)
			if err != nil {
				return err
			}
			return fleetEnd(f, a.printFleet(f, rows, func(rows []workspace.Row) view.Table {
				t := view.Table{Columns: []string{"site", "name", "vendor", "model", "serial", "version",
					"status"}, Less: []string{"vendor", "serial"}}
				for _, d := range workspace.Mains(rows) {
					t.Add(d.Site, d.Name, d.Vendor, d.Model, d.Serial, d.Version.Text,
						statusTone(d.Status).Cell(d.Stands()))
				}
				return t
			}))
		},
	}
	fleetOf(c, &in)
	choiceFlags(c, &choose)
	return c
}

func (a *app) fleetMatchCmd() *cobra.Command {
	var choose workspace.Choice
	var in, by string
	c := &cobra.Command{
		Use:   "match",
		Short: "Compare the devices of all sites with the shelf",
		Long: `Compare the devices of all site folders in a folder with the shelf of this laptop. With
--by site each site is a line: how many devices are in each status, and when it was last heard of.
The sites that need a person come first.`,
		Example: `  catena fleet match --in ~/sites --by site
  catena fleet match -C ~/office --by model
  catena fleet match --in ~/sites --where 'status == "stranded"'`,
		Args: exactly(0, "no arguments (choose with --where)"),
		RunE: func(c *cobra.Command, _ []string) error {
			if !slices.Contains([]string{"", "site", "model"}, by) {
				return usage("--by %q is neither site nor model", by)
			}
			f, err := a.openFleet(c.Context(), in, fleet.Reading{})
			if err != nil {
				return err
			}
			if by == "site" {
				return fleetEnd(f, a.fleetBySite(f, choose))
			}
			rows, err := f.Choose(choose)
			if err != nil {
				return err
			}
			if by == "model" {
				tallies := workspace.Tallies(workspace.Mains(rows), by)
				return fleetEnd(f, a.emit(tallies, talliesTable(tallies, by)))
			}
			return fleetEnd(f, a.printFleet(f, rows, fleetMatchTable))
		},
	}
	fleetOf(c, &in)
	choiceFlags(c, &choose)
	c.Flags().StringVar(&by, "by", "", "count devices by site, or by model")
	return c
}

func fleetMatchTable(rows []workspace.Row) view.Table {
	t := view.Table{Columns: []string{"site", "name", "model", "status", "from", "to", "rollback",
		"reason"}, Less: []string{"model"}}
	for _, d := range rows {
		t.Add(d.Site, d.Part(), d.Model, statusTone(d.Status).Cell(d.Status), d.Version.Text,
			d.Target.Text, rollbackCell(d.Rollback), view.Quiet.Cell(d.Reason))
	}
	return t
}

// printFleet prints devices of several sites, and how many there are.
func (a *app) printFleet(f fleet.Fleet, rows []workspace.Row,
	table func([]workspace.Row) view.Table) error {
	if err := a.printDevices(rows, table); err != nil || a.format != "table" {
		return err
	}
	if len(rows) == 0 {
		a.say("No device is chosen.")
		return nil
	}
	a.say(
		"\n%s at %s: %s",
		words.Plural(len(workspace.Mains(rows)), "device"),
		words.Plural(len(f.Sites)-len(f.Unread()), "site"),
		counted(rows),
	)
	return nil
}

func (a *app) fleetBySite(f fleet.Fleet, choose workspace.Choice) error {
	tallies, err := f.Tallies(choose)
	if err != nil {
		return err
	}
	t := view.Table{Columns: []string{"site", "devices", "status", "last"}}
	for _, s := range tallies {
		last := ""
		if !s.Last.IsZero() {
			last = s.Last.Local().Format("2006-01-02 15:04")
		}
		status := inWords(s.Statuses)
		if s.Reason != "" {
			status = "cannot be read"
		}
		t.Add(s.Site, s.Devices, status, last)
	}
	return a.emit(tallies, t)
}

func (a *app) fleetJobsCmd() *cobra.Command {
	var in string
	var last int
	c := &cobra.Command{
		Use:   "jobs",
		Short: "List the jobs of all sites, newest first",
		Long: `List the newest jobs of all site folders in a folder, newest first. A job of another laptop is
called NAME/j3; one that had not ended when the folder was last synced is elsewhere.`,
		Example: `  catena fleet jobs --in ~/sites
  catena fleet jobs --in ~/sites --last 20 --format json`,
		Args: exactly(0, "no arguments"),
		RunE: func(c *cobra.Command, _ []string) error {
			if last < 1 {
				return usage("--last %d: how many of the newest jobs of each site to list", last)
			}
			f, err := a.openFleet(c.Context(), in, fleet.Reading{Jobs: last})
			if err != nil {
				return err
			}
			return fleetEnd(f, a.fleetJobs(f))
		},
	}
	fleetOf(c, &in)
	c.Flags().IntVar(&last, "last", 5, "how many of the newest jobs of each site to list")
	return c
}

func (a *app) fleetJobs(f fleet.Fleet) error {
	type line struct {
		Site string `json:"site"`
		jobview.Line
	}
	type of struct {
		site  string
		state job.State
	}
	var all []of
	for _, s := range f.Sites {
		for _, j := range s.Jobs {
			all = append(all, of{s.Name, j})
		}
	}
	slices.SortStableFunc(all, func(a, b of) int { return b.state.Started.Compare(a.state.Started) })
	lines := []line{}
	t := view.Table{
		Columns: []string{"site", "job", "order", "purpose", "status", "started", "devices"},
	}
	for _, j := range all {
		l := jobview.LineOf(j.state, a.now())
		lines = append(lines, line{j.site, l})
		t.Add(j.site, l.ID, l.Order, string(l.Purpose), l.Status,
			l.Started.Local().Format("2006-01-02 15:04"), words.Plural(l.Devices, "device"))
	}
	return a.emit(lines, t)
}
