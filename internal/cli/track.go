package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/signal"
	"time"

	"github.com/charmbracelet/x/ansi"
	"github.com/spf13/cobra"

	"catena/internal/advice"
	"catena/internal/cli/jobview"
	"catena/internal/cli/view"
	"catena/internal/job"
	"catena/internal/order"
	"catena/internal/plan"
	"catena/internal/words"
)

// trackFlags are how a job is watched, or what a device that asks is answered.
type trackFlags struct {
	once, follow        bool
	after               int64
	done, skip, because string
}

func (a *app) trackCmd() *cobra.Command {
	var f trackFlags
	c := &cobra.Command{
		Use:   "track [JOB]",
		Short: "Watch a job, or show how it ended",
		Long: `Show the progress of each device of a job, live, from any terminal; without JOB, of
the newest job. If the output is not a terminal, each step is printed as a line. The view is derived
from the ledger, so it is available after a crash and the next morning.

If a device requires on-site work, the view shows what to do. Confirm it with --done, or skip it
with --skip and a reason; both work from any terminal.`,
		Example: "  catena track\n  catena track --once\n  catena track j2 --format json --follow " +
			"--after 120\n  catena track --done handset-4\n  catena track --skip handset-4 --because \"it " +
			"is in the van\"",
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) > 1 {
				return usage("catena track takes at most one job")
			}
			return nil
		},
		RunE: func(c *cobra.Command, args []string) error {
			ctx, stop := signal.NotifyContext(c.Context(), os.Interrupt)
			defer stop()
			return a.track(ctx, args, f)
		},
	}
	c.Flags().StringVar(&f.done, "done", "", "confirm that the on-site work at this device is done")
	c.Flags().StringVar(&f.skip, "skip", "", "skip the on-site work at this device")
	c.Flags().StringVar(&f.because, "because", "", "the reason for --skip")
	c.Flags().BoolVar(&f.follow, "follow", false, "with --format json: one event on each line, and "+
		"nothing else (catena schema event)")
	c.Flags().Int64Var(&f.after, "after", 0, "with --format json: only events after the one "+
		"with this seq")
	c.Flags().BoolVar(&f.once, "once", false, "print one frame and end")
	return c
}

func (a *app) track(ctx context.Context, args []string, f trackFlags) error {
	w, err := a.openSite()
	if err != nil {
		return err
	}
	defer w.Close()
	id, err := whichJob(w, args)
	switch {
	case err != nil:
		return err
	case f.done != "" && f.skip != "", (f.skip == "") != (f.because == ""):
		return usage("add --done DEVICE, or --skip DEVICE --because REASON")
	case f.done != "" || f.skip != "":
		return a.answered(w.Answer(id, f.done+f.skip, f.skip != "", f.because))
	case f.once:
		return a.trackOnce(w, id)
	case (f.follow || f.after != 0) && a.format != "json":
		return usage("--follow and --after require --format json: they are for programs")
	}
	state, err := a.follow(ctx, w, id, f.after, nil)
	if err != nil {
		return err
	}
	if f.follow { // the stream says all
		return outcome(state)
	}
	return a.summary(w, state)
}

func whichJob(w *plan.Site, args []string) (string, error) {
	if len(args) == 1 {
		return args[0], nil
	}
	newest, err := w.NewestJob()
	if err != nil {
		return "", err
	}
	if newest == "" {
		return "", refused("this site has no jobs yet; start one: catena flash --all")
	}
	return newest, nil
}

// tracked is a device of a job as machine-readable output shows it.
type tracked struct {
	job.DeviceState
	Waits  *order.Reason `json:"waits,omitempty"`  // what it waits for
	Advice string        `json:"advice,omitempty"` // what a person should do
}

// trackOnce prints one frame. Its exit code says how the job ended, as that of track does.
// answered tells a person that the job has their answer.
func (a *app) answered(err error) error {
	var not *job.NotAskingError
	switch {
	case errors.As(err, &not):
		return usage("%w; see which devices wait: catena track --once", err)
	case err == nil:
		a.say("The job continues with it.")
	}
	return err
}

func (a *app) trackOnce(w *plan.Site, id string) error {
	state, err := w.JobState(id)
	if err != nil {
		return err
	}
	if a.format == "table" {
		view.Print(a.out, "%s", jobview.Frame(w.Name(), state, a.now(), a.style(a.out)))
	} else {
		err = a.printState(state)
	}
	if err != nil || state.Alive {
		return err
	}
	return outcome(state)
}

// printState prints the state of a job as JSON or CSV.
func (a *app) printState(state job.State) error {
	all := struct {
		job.State
		Devices []tracked `json:"devices"`
	}{State: state, Devices: []tracked{}}
	t := view.Table{Columns: []string{"id", "name", "from", "to", "step", "done", "total",
		"version", "reason", "advice"}}
	waits := state.Waiting(a.now())
	for _, d := range state.Devices {
		all.Devices = append(all.Devices, tracked{d, waits[d.ID], advice.Next(d)})
		t.Add(d.ID, d.Name, d.From, d.To, d.Step, d.Done, d.Total, d.Version, d.Reason, advice.Next(d))
	}
	return a.emit(all, t)
}

// outcome is the exit code that says how a job ended.
func outcome(state job.State) error {
	switch {
	case state.Interrupted():
		return exit{exitError, fmt.Errorf(
			"job %s was interrupted; continue with it: catena resume %[1]s",
			state.ID)}
	case state.Count(job.Stranded) > 0:
		return exit{exitStranded, errSilent}
	case state.Count(job.Failed)+state.Count(job.Returned) > 0:
		return exit{exitFailed, errSilent}
	}
	return nil
}

// lookEvery is how often a job is looked at while it is followed.
const lookEvery = 200 * time.Millisecond

// follow shows a job until it ends, its Catena dies, or ctx ends: as lines, what came after the
// entry of that number.
func (a *app) follow(ctx context.Context, w *plan.Site, id string, after int64,
	interrupt func() string) (
	job.State, error) {
	if a.style(a.human()).Terminal && a.format == "table" && !a.quiet {
		left, err := a.showLive(ctx, w, id, interrupt)
		if err != nil {
			return job.State{}, err
		}
		state, err := w.JobState(id)
		if err != nil || !state.Alive || interrupt == nil {
			return state, err
		}
		if left { // the job continues in this very program
			a.say("The job continues here, a line for each step. Watch it again from another terminal: "+
				"catena track %s", id)
			after = state.Seq
		}
	}
	for {
		state, err := w.JobState(id)
		if err != nil {
			return state, err
		}
		if after, err = a.printEvents(w, state, after); err != nil {
			return state, err
		}
		if !state.Alive || ctx.Err() != nil {
			return state, nil
		}
		select {
		case <-ctx.Done():
		case <-time.After(lookEvery):
		}
	}
}

// printEvents prints a line for each entry after the one given.
func (a *app) printEvents(w *plan.Site, state job.State, after int64) (int64, error) {
	names, from := map[string]string{}, map[string]string{}
	wide := jobview.ShortName
	for _, d := range state.Devices {
		names[d.ID], from[d.ID] = d.Name, d.From
		wide = max(wide, ansi.StringWidth(d.Name))
	}
	wide = min(wide, jobview.LongName)
	events, err := w.Events(state.ID, after, names, a.format == "json")
	if err != nil {
		return after, err
	}
	for _, e := range events {
		after = e.Seq
		switch {
		case a.format == "json":
			if err := a.printJSON(e); err != nil {
				a.log.Debug("the reader of the events closed the pipe", "err", err)
			}
		case a.quiet:
		default:
			view.Print(a.out, "%s\n", jobview.EventLine(e, from[e.Device], wide))
		}
	}
	return after, nil
}

// summary says how a job ended, and gives the exit code that says so too.
func (a *app) summary(w *plan.Site, state job.State) error {
	if !state.Alive {
		if t := jobview.Ends(state); len(t.Rows) > 0 && !a.quiet {
			a.say("")
			t.Draw(a.human(), a.style(a.human()))
		}
	}
	if state.Alive {
		a.say("\nThe job continues. Watch it again: catena track %s", state.ID)
		return nil
	}
	if state.Interrupted() {
		return outcome(state)
	}
	a.say("\nJob %s at %s: %s, in %s.", state.ID, w.Name(), jobview.Summary(state),
		words.Clock(state.Ended.Sub(state.Started)))
	a.sayChecks(state)
	return outcome(state)
}
