package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/signal"
	"slices"
	"strings"
	"time"

	"github.com/charmbracelet/x/ansi"
	"github.com/spf13/cobra"

	"catena/internal/cli/view"
	"catena/internal/job"
	"catena/internal/ledger"
	"catena/internal/order"
	"catena/internal/words"
	"catena/internal/workspace"
)

func (a *app) trackCmd() *cobra.Command {
	var once, follow bool
	var after int64
	var done, skip, because string
	c := &cobra.Command{
		Use:   "track [JOB]",
		Short: "Watch a job, or see how it ended",
		Long: `Show how far each device of a job is, live, from any terminal; without JOB, of the
newest one. Where the output is not a terminal, a line is printed for each step. What is
shown is derived from the ledger: it is there after a crash and in the morning, too.

Where a device requires someone's hands, it says what it asks for. Say with --done that it was
done, or with --skip that it was not, and why; from any terminal.`,
		Example: "  catena track\n  catena track --once\n  catena track j2 --format json --follow --after 120\n" +
			"  catena track --done handset-4\n  catena track --skip handset-4 --because \"it is in the van\"",
		Args: func(c *cobra.Command, args []string) error {
			if len(args) > 1 {
				return usage("catena track takes at most one job")
			}
			return nil
		},
		RunE: func(c *cobra.Command, args []string) error {
			ctx, stop := signal.NotifyContext(c.Context(), os.Interrupt)
			defer stop()
			w, err := a.openSite()
			if err != nil {
				return err
			}
			defer w.Close()
			id, err := whichJob(w, args)
			if err != nil {
				return err
			}
			switch {
			case done != "" && skip != "", (skip == "") != (because == ""):
				return usage("say --done DEVICE, or --skip DEVICE --because REASON")
			case done != "" || skip != "":
				return a.answered(job.Answer(w.Ledger, id, done+skip, skip != "", because))
			}
			if once {
				return a.trackOnce(w, id)
			}
			if (follow || after != 0) && a.format != "json" {
				return usage("--follow and --after go with --format json: they are for programs")
			}
			state, err := a.follow(ctx, w, id, after, nil)
			if err != nil {
				return err
			}
			if follow { // the stream says all
				return outcome(state)
			}
			return a.summary(w, state)
		},
	}
	c.Flags().StringVar(&done, "done", "", "what this device asked for was done")
	c.Flags().StringVar(&skip, "skip", "", "what this device asked for is not done")
	c.Flags().StringVar(&because, "because", "", "why it is skipped")
	c.Flags().BoolVar(&follow, "follow", false, "with --format json: one event on each line, and nothing else (catena schema event)")
	c.Flags().Int64Var(&after, "after", 0, "with --format json: only what came after the event with this seq")
	c.Flags().BoolVar(&once, "once", false, "print one frame and end")
	return c
}

func whichJob(w *workspace.Workspace, args []string) (string, error) {
	if len(args) == 1 {
		return args[0], nil
	}
	last, err := w.Ledger.Entries(ledger.Filter{Kind: job.Started, Last: 1})
	if err != nil {
		return "", err
	}
	if len(last) == 0 {
		return "", refused("no job was ever started here; start one with: catena flash --all")
	}
	return last[0].Job, nil
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
		return usage("%w; see what is asked for: catena track --once", err)
	case err == nil:
		a.say("The job continues with it.")
	}
	return err
}

func (a *app) trackOnce(w *workspace.Workspace, id string) error {
	state, err := job.Load(w.Ledger, id)
	if err != nil {
		return err
	}
	if a.format == "table" {
		_, err = fmt.Fprint(a.out, frame(w.Site.Name, state, a.now(), a.style(a.out)))
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
		all.Devices = append(all.Devices, tracked{d, waits[d.ID], advice(d)})
		t.Add(d.ID, d.Name, d.From, d.To, d.Step, d.Done, d.Total, d.Version, d.Reason, advice(d))
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
func (a *app) follow(ctx context.Context, w *workspace.Workspace, id string, after int64, interrupt func() string) (
	job.State, error) {
	if a.style(a.human()).Terminal && a.format == "table" && !a.quiet {
		left, err := a.showLive(ctx, w, id, interrupt)
		if err != nil {
			return job.State{}, err
		}
		state, err := job.Load(w.Ledger, id)
		if err != nil || !state.Alive || interrupt == nil {
			return state, err
		}
		if left { // the job continues in this very program
			a.say("The job continues here, a line for each step. Watch it again from another terminal: catena track %s", id)
			after = state.Seq
		}
	}
	for {
		state, err := job.Load(w.Ledger, id)
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
func (a *app) printEvents(w *workspace.Workspace, state job.State, after int64) (int64, error) {
	names, from := map[string]string{}, map[string]string{}
	wide := shortName
	for _, d := range state.Devices {
		names[d.ID], from[d.ID] = d.Name, d.From
		wide = max(wide, ansi.StringWidth(d.Name))
	}
	wide = min(wide, longName)
	read := job.Events
	if a.format == "json" {
		read = job.Stream
	}
	events, err := read(w.Ledger, state.ID, after, names)
	if err != nil {
		return after, err
	}
	for _, e := range events {
		after = e.Seq
		switch {
		case a.format == "json":
			if err := a.printJSON(e); err != nil {
				a.log.Debug("no one reads the events", "err", err)
			}
		case a.quiet:
		default:
			view.Print(a.out, "%s\n", eventLine(e, from[e.Device], wide))
		}
	}
	return after, nil
}

// Of the names in lines of steps: they stand straight up to the second.
const (
	shortName = 12
	longName  = 40
)

func eventLine(e job.Event, from string, wide int) string {
	name := e.Name + strings.Repeat(" ", max(0, wide-ansi.StringWidth(e.Name)))
	if e.Asks != "" {
		return fmt.Sprintf("%s  %s asks: %s  (when it is done: catena track --done %s)",
			e.At.Local().Format("15:04:05"), name, e.Asks, quoted(e.Name))
	}
	detail := from + " → " + e.To
	if e.Direction == job.Back {
		detail = "back to " + e.To
	}
	if e.Step.End() {
		detail = strings.TrimSpace(e.Version + "  " + e.Reason)
	}
	return strings.TrimRight(fmt.Sprintf("%s  %s %-11s %s", e.At.Local().Format("15:04:05"),
		name, e.Step, detail), " ")
}

// order in which devices stand in a frame when not all have room: those at work
// first, then those that went wrong.
var frameOrder = []job.Step{job.Proving, job.Restarting, job.Writing, job.Sending, job.Checking,
	job.Stranded,
	job.Returned, job.Failed, job.Waiting, job.Parked, job.Skipped, job.Done}

// frame is one picture of a job.
func frame(siteName string, state job.State, now time.Time, s view.Style) string {
	var b strings.Builder
	until := now
	switch {
	case !state.Ended.IsZero():
		until = state.Ended
	case state.Interrupted(): // no one knows when it died; its last entry is near enough
		until = state.Last
	}
	waits := state.Waiting(now)
	if state.Scheduled() {
		waits = nil // all wait for its start
	}
	fmt.Fprintf(&b, "%s\n\n", frameHead(siteName, state, now, until, s))

	t := view.Table{Columns: []string{"name", "from → to", "step", "progress", "%", "rate", "left",
		"details"},
		Less: []string{"rate", "left", "progress"}}
	for _, d := range state.Devices {
		t.Add(frameRow(d, waits[d.ID], until, s)...)
	}
	t.Draw(&b, s)
	if state.Interrupted() {
		view.Print(&b, "\n%s\n", noticeOf(state))
	}
	return b.String()
}

// frameHead is the first line of a frame: how far the whole is, and when it is expected to end.
func frameHead(siteName string, state job.State, now, until time.Time, s view.Style) string {
	ended, working := 0, 0
	for _, d := range state.Devices {
		switch {
		case d.Step.End():
			ended++
		case d.Step != job.Waiting:
			working++
		}
	}
	called := state.ID
	if state.Name != "" && state.Name != state.ID {
		called = state.Name + ", " + state.ID
	}
	head := view.Sprint("%s · %s %s · %d of %d ended · %d at work · %d waiting · %s%s", siteName,
		state.Purpose, called, ended, len(state.Devices), working,
		len(state.Devices)-ended-working, words.Clock(until.Sub(state.Started)),
		outlook(state, now))
	switch {
	case state.Missed(now):
		head += string(s.Paint(view.Bad, " · its start was missed"))
	case state.Scheduled() && state.Alive:
		head += view.Sprint(" · starts %s, in %s", when(state.Order.Start, now), words.Clock(state.Order.Start.Sub(now).Round(time.Second)))
	case state.Interrupted():
		head += string(s.Paint(view.Bad, " · interrupted"))
	}
	return head
}

// outlook says when a job is expected to end, and when it could at the earliest, whatever the
// sequence. Empty: that cannot be told.
func outlook(state job.State, now time.Time) string {
	rest, ok := state.Rest(now)
	if !ok {
		return ""
	}
	bound, _, err := order.Bound(state.Order)
	if err != nil {
		return ""
	}
	took := rest.End.Sub(state.Started)
	return view.Sprint(" · expected until %s (%.2f × the shortest)",
		rest.End.Local().Format("15:04"), max(1, float64(took)/float64(max(bound, 1))))
}

const barWidth = 12

// rateAfter is how long a transfer must last before its rate says something: at
// first the buffers on the way fill.
const rateAfter = 1500 * time.Millisecond

func frameRow(d job.DeviceState, waits *order.Reason, now time.Time, s view.Style) []any {
	step := stepTone(d.Step).Cell(string(d.Step))
	if d.Direction == job.Back {
		step = view.Warn.Cell(string(d.Step) + " back")
	}
	bar, percent, rate, left := view.Painted(""), "", "", ""
	if p := d.Percent(); p >= 0 {
		bar, percent = s.Bar(p, barWidth), fmt.Sprintf("%d", p)
		if d.Rate > 0 && now.Sub(d.Since) > rateAfter {
			rate, left = words.Bytes(d.Rate)+"/s", words.Clock(
				time.Duration(d.Left*float64(time.Second)))
		}
	} else if !d.Step.End() && d.Step != job.Waiting {
		bar = s.Bar(-1, barWidth)
	}
	what := d.Reason
	switch {
	case what != "":
	case d.Asks != "":
		return []any{d.Name, d.From + " → " + d.To, view.Warn.Cell("asks"), bar, percent, rate, left,
			d.Asks + "  (catena track --done " + quoted(d.Name) + ")"}
	case waits != nil:
		what = waits.Error()
	case d.Step == job.Done:
		what = fmt.Sprintf("proven on %s in %s", d.Version,
			words.Clock(time.Duration(d.Took*float64(time.Second))))
	case d.Step == job.Sending && d.Total > 0 && d.Done >= d.Total: // what is left is on the wire
		what, left = "all sent, waits for its answer", ""
	case !d.Step.End() && d.Step != job.Waiting:
		what = "for " + words.Clock(now.Sub(d.Since))
	}
	return []any{d.Name, d.From + " → " + d.To, step, bar, percent, rate, left,
		view.Quiet.Cell(what)}
}

func stepTone(s job.Step) view.Tone {
	switch s {
	case job.Done:
		return view.Plain
	case job.Stranded:
		return view.Bad
	case job.Failed, job.Returned:
		return view.Warn
	case job.Waiting, job.Skipped, job.Parked:
		return view.Quiet
	}
	return view.Busy
}

// endOrder is the order in which devices stand when a job has ended: what needs a person first.
var endOrder = []job.Step{job.Stranded, job.Returned, job.Failed, job.Skipped, job.Waiting,
	job.Parked, job.Done}

// sayEnds prints every device that has ended: what it was on, what it runs, how long it took,
// and what to do.
func (a *app) sayEnds(state job.State) {
	ended := slices.DeleteFunc(slices.Clone(state.Devices), func(d job.DeviceState) bool {
		return !d.Step.End()
	})
	slices.SortStableFunc(ended, func(x, y job.DeviceState) int {
		return slices.Index(endOrder, x.Step) - slices.Index(endOrder, y.Step)
	})
	t := view.Table{Columns: []string{"name", "end", "was", "runs", "took", "why", "what to do"},
		Less: []string{"took"}, Tail: 2}
	for _, d := range ended {
		took := ""
		if d.Took > 0 {
			took = words.Clock(time.Duration(d.Took * float64(time.Second)))
		}
		t.Add(d.Name, stepTone(d.Step).Cell(string(d.Step)), d.From, d.Version, view.Number(took),
			d.Reason,
			advice(d))
	}
	if len(ended) == 0 || a.quiet {
		return
	}
	a.say("")
	t.Draw(a.human(), a.style(a.human()))
}

// summary says how a job ended, and gives the exit code that says so too.
func (a *app) summary(w *workspace.Workspace, state job.State) error {
	if !state.Alive {
		a.sayEnds(state)
	}
	var parts []string
	for _, end := range append([]job.Step{job.Waiting}, job.Ends...) {
		if n := state.Count(end); n > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", n, end))
		}
	}
	if state.Alive {
		a.say("\nThe job continues. Watch it again: catena track %s", state.ID)
		return nil
	}
	if state.Interrupted() {
		return outcome(state)
	}
	a.say("\nJob %s at %s: %s, in %s.", state.ID, w.Site.Name, strings.Join(parts, ", "),
		words.Clock(state.Ended.Sub(state.Started)))
	return outcome(state)
}
