package cli

import (
	"context"
	"errors"
	"maps"
	"os"
	"os/signal"
	"path/filepath"
	"slices"
	"syscall"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/sync/errgroup"

	"catena/internal/bundle"
	"catena/internal/cli/jobview"
	"catena/internal/cli/view"
	"catena/internal/fleet"
	"catena/internal/plan"
	"catena/internal/words"
)

func (a *app) fleetTrackCmd() *cobra.Command {
	var in string
	var every time.Duration
	var once bool
	c := &cobra.Command{
		Use:   "track",
		Short: "Follow the jobs of all sites",
		Long: `Sync the site folders in a folder with their offices, again and again, and print a line for
each step of a job that runs at any of them, until Ctrl-C. A site without an office is only read.`,
		Example: `  catena fleet track --in ~/sites
  catena fleet track --in ~/sites --every 1m --format json
  catena fleet track --in ~/sites --once`,
		Args: exactly(0, "no arguments"),
		RunE: func(c *cobra.Command, _ []string) error {
			return a.fleetTrack(c.Context(), in, every, once)
		},
	}
	fleetOf(c, &in)
	everyVar(c, &every)
	c.Flags().
		BoolVar(&once, "once", false, "one round: what has come since the last one, of open jobs")
	return c
}

func (a *app) fleetTrack(ctx context.Context, in string, every time.Duration, once bool) error {
	ctx, stop := signal.NotifyContext(ctx, os.Interrupt, syscall.SIGTERM)
	defer stop()
	seen := map[string]int64{} // by folder and job: the entries up to this one were printed
	news := words.News{}
	s, err := a.sitesOf(in, true)
	if err != nil {
		return err
	}
	for first := true; ; first = false {
		if err := s.look(ctx); err != nil && ctx.Err() == nil {
			return err
		}
		folders := s.read(fleet.Reading{}).Folders()
		failed := a.syncFolders(ctx, folders, slices.Collect(maps.Keys(folders)))
		for _, id := range slices.Sorted(maps.Keys(folders)) {
			if text := fault(failed[id]); news.Is(id, text) && text != "" && ctx.Err() == nil {
				view.Print(a.err, "%s: %s; it is tried again.\n", folders[id], text)
			}
		}
		for _, folder := range slices.Sorted(maps.Values(folders)) {
			if err := a.printSite(folder, seen, first); err != nil {
				return err
			}
		}
		if once {
			if len(failed) > 0 {
				return exit{exitFailed, errSilent}
			}
			return nil
		}
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(every):
		}
	}
}

// recentJobs is how many of the newest jobs of each site are followed.
const recentJobs = 5

// printSite prints the new events of the jobs of a site. first: jobs that have ended are not shown.
func (a *app) printSite(folder string, seen map[string]int64, first bool) error {
	w, err := a.openIn(folder)
	if err != nil {
		return err
	}
	defer w.Close()
	jobs, err := w.Jobs(recentJobs)
	if err != nil {
		return err
	}
	for _, s := range jobs {
		key := folder + " " + s.ID
		if _, known := seen[key]; !known && first && !s.Ended.IsZero() {
			seen[key] = s.Seq
			continue
		}
		names, from := map[string]string{}, map[string]string{}
		for _, d := range s.Devices {
			names[d.ID], from[d.ID] = d.Name, d.From
		}
		events, err := w.Events(s.ID, seen[key], names, a.format == "json")
		if err != nil {
			return err
		}
		for _, e := range events {
			seen[key] = e.Seq
			if a.format != "json" {
				view.Print(a.out, "%s  %s\n", w.Name(), jobview.EventLine(e, from[e.Device], jobview.ShortName))
				continue
			}
			if err := a.printJSON(map[string]any{"site": w.Name(), "job": s.ID, "event": e}); err != nil {
				a.log.Debug("the reader of the events closed the pipe", "err", err)
			}
		}
		seen[key] = max(seen[key], s.Seq)
	}
	return nil
}

// syncsAtOnce is how many sites are synced at the same time.
const syncsAtOnce = 8

// syncFolders syncs the folders of sites with their offices, and returns what went wrong, by the ID
// of the site. A folder without an office is left as it is.
func (a *app) syncFolders(ctx context.Context, folders map[string]string,
	ids []string) map[string]error {
	var group errgroup.Group
	group.SetLimit(syncsAtOnce)
	failed := make([]error, len(ids))
	for i, id := range ids {
		at := filepath.Join(folders[id], plan.OfficeFile)
		if _, err := os.Stat(at); err != nil {
			continue
		}
		group.Go(func() error {
			failed[i] = a.meetIn(ctx, folders[id], at, func(p party) error {
				_, err := p.Run(ctx)
				return err
			})
			return nil
		})
	}
	_ = group.Wait() // each has its own error
	out := map[string]error{}
	for i, err := range failed {
		if err != nil && ctx.Err() == nil && !errors.Is(err, bundle.ErrRunning) { // another one does it
			out[ids[i]] = err
		}
	}
	return out
}
