package cli

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"catena/internal/cli/view"
	"catena/internal/dialect/scripted"
	"catena/internal/login"
	"catena/internal/order"
	"catena/internal/plan"
	"catena/internal/rehearse"
	"catena/internal/site"
	"catena/internal/words"
)

// Bounds of a rehearsal.
const (
	usualRuns = 1000
	mostRuns  = 100_000
)

// rehearseFlags are how an order is rehearsed.
type rehearseFlags struct {
	runs   int
	seed   uint64
	faults string
	fault  []string
	start  string
	once   bool
	chance bool // a share of faults was named
}

func (a *app) rehearseCmd() *cobra.Command {
	var f rehearseFlags
	c := &cobra.Command{
		Use:   "rehearse ORDER",
		Short: "Rehearse an order on stand-ins: its end and its risks",
		Long: `Play an order a thousand times on a virtual clock, by the rules of a real job;
nothing is sent. Durations are drawn from the history of this site, or around the estimates. Two
devices in a hundred fail, or the share given with --faults; one in ten of those never returns. The
result shows when the job would end, the risk of missing the window, and which devices may need a
visit.

With --once the real runner carries out the order one time, in about a minute, with the chosen
faults, and shows it like a job. Devices with ONVIF or Redfish are played over the wire by stand-ins
of their models and versions on this machine. Devices of a family with a recorded update in
families/recordings/ run the steps of the family against the recorded answers. The others only take
their scaled time. No one is asked for anything, and the window does not apply.

The site's ledger and shelf are not changed.`,
		Example: `  catena rehearse night-1
  catena rehearse night-1 --faults 5% --start window
  catena rehearse night-1 --fault cam-11=never-returns --fault gate-2=sick
  catena rehearse night-1 --once --fault cam-41=keeps-version
  catena rehearse night-1 --runs 10000 --seed 7 --format json`,
		Args: exactly(1, "one order, or one job"),
		RunE: func(c *cobra.Command, args []string) error {
			f.chance = c.Flags().Changed("faults")
			return a.rehearse(c.Context(), args[0], f)
		},
	}
	c.Flags().BoolVar(&f.once, "once", false,
		"carry the order out once with the real runner, on stand-ins")
	c.Flags().IntVar(&f.runs, "runs", usualRuns, "the number of simulated nights")
	c.Flags().Uint64Var(&f.seed, "seed", 0,
		"the same seed gives the same result (default: random)")
	c.Flags().StringVar(&f.faults, "faults", "2%", "the share of devices that fail")
	c.Flags().StringArrayVar(&f.fault, "fault", nil,
		"a device that certainly fails, and how: DEVICE=never-returns, keeps-version or sick; "+
			"may be repeated")
	c.Flags().StringVar(&f.start, "start", "", "when the job would start, as in catena flash "+
		"(default: now, or when the next window opens)")
	return c
}

func (a *app) rehearse(ctx context.Context, word string, f rehearseFlags) error {
	if f.runs < 1 || f.runs > mostRuns {
		return usage("--runs %d must be from 1 to %d", f.runs, mostRuns)
	}
	share, err := site.ParseShare(f.faults)
	if f.faults == "0" || f.faults == "0%" {
		share, err = 0, nil
	}
	if err != nil {
		return usage("--faults: %w", err)
	}
	w, err := a.match()
	if err != nil {
		return err
	}
	defer w.Close()
	o, err := w.OrderOf(word)
	if err != nil {
		return err
	}
	chosen, err := chosenFaults(o, f.fault)
	if err != nil {
		return err
	}
	if f.seed == 0 {
		f.seed = rand.Uint64N(1 << 32)
	}
	if f.once {
		if f.chance {
			rehearse.InjectFaults(o, chosen, share, f.seed)
			a.say("Faults by seed %d.", f.seed)
		}
		return a.rehearseOnce(ctx, w, o, chosen)
	}
	start, err := w.StartTime(f.start)
	if err != nil {
		return err
	}
	w.FillAtStart(&o, start)
	if p, err := order.Forecast(o, start); err == nil && a.format != "json" {
		a.sayLate(o, p)
	}
	in := rehearse.Input{Order: o, Start: start, Runs: f.runs, Seed: f.seed, Took: w.Past,
		Chosen: chosen,
		Fails:  func(order.Device) float64 { return share }}
	r, err := rehearse.Runs(in)
	if err != nil {
		return err
	}
	if a.format == "json" {
		return a.printJSON(r)
	}
	return a.showRehearsal(w, o, start, r)
}

// rehearseOnce has the real runner carry the order out in a separate ledger, on devices that only
// take their time.
func (a *app) rehearseOnce(ctx context.Context, w *plan.Site, o order.Order,
	chosen map[string]rehearse.Fault) error {
	once, stage, err := w.RehearseOnce(o, chosen)
	if errors.Is(err, scripted.ErrNoRecording) {
		return usage("%w of catena family try --record; remove it from that folder", err)
	}
	if err != nil {
		return err
	}
	defer once.Close()
	a.say("No device is touched. One minute takes %.1f seconds here.", 60*once.Scale())
	wire, acted, timed := once.Players(once.Order)
	for _, by := range []struct {
		names []string
		text  string
	}{{wire, "Played over the wire by stand-ins of their standard: %s."},
		{acted, "Played by the steps of their family and the recorded answers of one device: %s."},
		{timed, "Only timed: %s."}} {
		if len(by.names) > 0 {
			a.say(by.text, words.FewOf(by.names, 12))
		}
	}
	a.say("")
	state, _, err := a.runAndShow(ctx, stage, login.Book{}, once.Job)
	if err != nil {
		return err
	}
	cut, err := once.CutOffs(state)
	if err != nil {
		return err
	}
	for _, c := range cut {
		a.say("About %s after the start %s restarts, for about %s; cut off during that: %s.",
			words.Clock(c.After), c.Device, words.Clock(c.Lasts), words.Few(c.Downstream))
	}
	return a.summary(stage, state)
}

// chosenFaults reads DEVICE=FAULT.
func chosenFaults(o order.Order, words []string) (map[string]rehearse.Fault, error) {
	out := map[string]rehearse.Fault{}
	for _, word := range words {
		name, how, _ := strings.Cut(word, "=")
		i := slices.IndexFunc(o.Devices,
			func(d order.Device) bool { return d.Name == name || d.ID == name })
		switch {
		case i < 0:
			return nil, usage("--fault %s: the order has no device %q", word, name)
		case !slices.Contains(rehearse.Faults, rehearse.Fault(how)):
			return nil, usage("--fault %s: %q is not one of never-returns, keeps-version, sick",
				word, how)
		}
		out[o.Devices[i].ID] = rehearse.Fault(how)
	}
	return out, nil
}

// Sizes of the plot, in signs, and how many devices are told.
const (
	plotRows    = 12
	plotWide    = 40
	mostChances = 12
)

func (a *app) showRehearsal(w *plan.Site, o order.Order, start time.Time,
	r rehearse.Result) error {
	style := a.style(a.human())
	known := 0
	for _, d := range o.Devices {
		if len(w.Past(d)) >= rehearse.Enough {
			known++
		}
	}
	a.say("Order %s at %s, %s, played %d times from %s (seed %d).\nDurations from the "+
		"history: %d devices; estimated for the others.", o.Name, o.Site,
		words.Plural(len(o.Devices), "device"), r.Runs, start.Local().Format("15:04"), r.Seed, known)
	a.say("")
	counts, from, to := rehearse.Histogram(r.Ends, plotRows)
	most := slices.Max(counts)
	t := view.Table{Columns: []string{"ends after", "runs", ""}}
	for i, n := range counts {
		low := from + (to-from)*time.Duration(i)/plotRows
		t.Add(view.Number(words.Clock(low)), n,
			style.Paint(view.Busy, strings.Repeat(a.block(), (n*plotWide+most-1)/most)))
	}
	if to == from {
		t = view.Table{Columns: []string{"ends after", "runs"}}
		t.Add(words.Clock(from), r.Runs)
	}
	t.Draw(a.out, style)
	clock := func(seconds float64) string {
		return words.Clock(time.Duration(seconds * float64(
			time.Second)))
	}
	a.say("\nHalf of the runs end within %s, 95 %% within %s, the longest took %s.", clock(r.Half),
		clock(r.Most), clock(r.Longest))
	a.say("All devices reach their targets in %s of the runs.", percent(r.Clean))
	if !o.Closes.IsZero() {
		a.say("The window closes at %s and is missed in %s of the runs.",
			o.Closes.Local().Format("15:04"), percent(r.Missed))
	}
	a.sayCautions(o)
	if len(r.Devices) == 0 {
		return nil
	}
	a.say("\nRisk per device:")
	t = view.Table{Columns: []string{"device", "stranded", "skipped", "returned"}}
	for _, c := range r.Devices[:min(len(r.Devices), mostChances)] {
		stranded := view.Number(percent(c.Stranded))
		if c.Stranded >= 0.01 {
			stranded.Tone = view.Bad
		}
		t.Add(c.Name, stranded, view.Number(percent(c.Skipped)), view.Number(percent(c.Returned)))
	}
	t.Draw(a.out, style)
	if more := len(r.Devices) - mostChances; more > 0 {
		a.say("… and %d more, with less.", more)
	}
	return nil
}

// block is the sign that a plot is drawn with.
func (a *app) block() string {
	if a.unicode() {
		return "█"
	}
	return "#"
}

// percent is a share for people: what is there and too small to be told is said to be less.
func percent(share float64) string {
	switch {
	case share <= 0:
		return "0 %"
	case share < 0.001:
		return "< 0.1 %"
	case share < 0.1:
		return fmt.Sprintf("%.1f %%", 100*share)
	}
	return fmt.Sprintf("%.0f %%", 100*share)
}
