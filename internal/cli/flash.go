package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/signal"
	"os/user"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"catena/internal/cli/view"
	"catena/internal/device"
	"catena/internal/firmware"
	"catena/internal/job"
	"catena/internal/match"
	"catena/internal/order"
	"catena/internal/site"
	"catena/internal/workspace"
)

// wishFlags are what the commands share that make an order.
type wishFlags struct {
	choice    workspace.Choice
	wish      workspace.Wish
	stopAfter string
}

func (f *wishFlags) flags(c *cobra.Command) {
	whereFlag(c, &f.choice)
	c.Flags().IntVar(&f.wish.Parallel, "parallel", 0,
		fmt.Sprintf("how many devices are worked on at the same time (default: as the site says, or %d)",
			usualParallel))
	c.Flags().BoolVar(&f.wish.NoPilot, "no-pilot", false,
		"do not wait for the proof of the first device of each model and image")
	c.Flags().StringVar(&f.stopAfter, "stop-after", "",
		"begin no more after so many failures, as a number or a share: 3, or 20% (default: as the site says)")
	c.Flags().DurationVar(&f.wish.GiveUp, "give-up", 0,
		"wait no longer for one device, in all its steps; a write is always waited for")
}

// usualParallel is how many devices are worked on at the same time where nobody says.
const usualParallel = 8

// check reads what the flags say. site is what the site says of the same.
func (f *wishFlags) check() error {
	if f.wish.Parallel < 0 || f.wish.Parallel > mostParallel {
		return usage("--parallel %d must be from 1 to %d", f.wish.Parallel, mostParallel)
	}
	if f.wish.GiveUp < 0 {
		return usage("--give-up %s: write for example 30m", f.wish.GiveUp)
	}
	if strings.HasSuffix(f.stopAfter, "%") {
		share, err := site.ParseShare(f.stopAfter)
		if err != nil {
			return usage("--stop-after: %w", err)
		}
		f.wish.StopAfter.Share = share
		return nil
	}
	if f.stopAfter != "" {
		n, err := strconv.Atoi(f.stopAfter)
		if err != nil || n < 1 {
			return usage("--stop-after %s: write a number or a share, such as 3 or 20%%", f.stopAfter)
		}
		f.wish.StopAfter.Failures = n
	}
	return nil
}

// mostParallel bounds what a person may ask for: each takes a connection and its buffers.
const mostParallel = 512

// jobFlags are what the commands share that carry out an order.
type jobFlags struct {
	yes      bool
	accept   []string // names of cautions
	patience job.Patience
}

func (f *jobFlags) flags(c *cobra.Command) {
	f.patience = job.Usual
	c.Flags().BoolVarP(&f.yes, "yes", "y", false, "start without asking; cautions are accepted by --accept")
	c.Flags().StringArrayVar(&f.accept, "accept", nil,
		"accept a caution by its name, or all that are printed; may be repeated")
	c.Flags().Var(&patienceFlag{&f.patience}, "patience",
		"how long a device may take in a step, as STEP=DURATION; may be repeated")
}

// patienceFlag reads --patience STEP=DURATION.
type patienceFlag struct{ of *job.Patience }

func (p *patienceFlag) steps() map[string]*time.Duration {
	return map[string]*time.Duration{"writing": &p.of.Writing, "restarting": &p.of.Restarting,
		"proving": &p.of.Proving, "grace": &p.of.Grace}
}

func (p *patienceFlag) Set(text string) error {
	step, length, _ := strings.Cut(text, "=")
	of := p.steps()[step]
	if of == nil {
		return fmt.Errorf("%q is not one of writing, restarting, proving, and grace (before a device that restarts by itself is asked to)", step)
	}
	d, err := time.ParseDuration(length)
	if err != nil || d <= 0 {
		return fmt.Errorf("%q is not a duration; write for example %s=20m", length, step)
	}
	*of = d
	return nil
}

func (p *patienceFlag) Type() string { return "STEP=DURATION" }

func (p *patienceFlag) String() string {
	if p.of == nil {
		return ""
	}
	return fmt.Sprintf("writing=%s, restarting=%s, proving=%s, grace=%s", p.of.Writing,
		p.of.Restarting, p.of.Proving, p.of.Grace)
}

func (a *app) flashCmd() *cobra.Command {
	var f jobFlags
	var ask wishFlags
	var all bool
	c := &cobra.Command{
		Use:   "flash DEVICE… | --where EXPR | --all",
		Short: "Send devices their images, prove them, return the ones that fail",
		Long: `Flash the chosen devices that are behind, several at once. Each one is checked,
sent its image, restarted, and asked what it runs. One that does not come up as it
should gets the image of its earlier version back from the shelf, and is proven on
that. A device that fails never stops the others. One that has failed on the way to the
same version before is skipped, unless it is named.

The rules of site.yaml hold at every instant: what is reached through a device goes before
it (the end of a chain before its head), caps, cover sets and lockstep sets are kept, and
nothing begins that may not end before the window closes. The first device of each model
and image is proven before the next one begins. A device that waits says for what.

The first Ctrl-C starts no further device; the second also lets go of those that are
only being checked. What is being written is always finished.`,
		Example: `  catena flash cam-11 cam-12
  catena flash --where 'model == "WX-40" && version < "3.2"' --parallel 4
  catena flash --all --yes`,
		RunE: func(c *cobra.Command, args []string) error {
			if err := ask.check(); err != nil {
				return err
			}
			if all && (len(args) > 0 || ask.choice.Where != "") {
				return usage("--all means every device; leave it out to flash only those that you name")
			}
			if len(args) == 0 && ask.choice.Where == "" && !all {
				return usage("say which devices: names, --where EXPR, or --all; see what would be flashed: catena match")
			}
			ask.choice.Names = args
			return a.flash(c.Context(), f, ask)
		},
	}
	f.flags(c)
	ask.flags(c)
	c.Flags().BoolVar(&all, "all", false, "all devices that are behind or unsafe")
	return c
}

func (a *app) flash(ctx context.Context, f jobFlags, ask wishFlags) error {
	w, err := a.match()
	if err != nil {
		return err
	}
	defer w.Close()
	chosen, err := w.Choose(ask.choice)
	if err != nil {
		return err
	}
	ask.wish.Purpose = order.Forward
	ask.wish.Named = len(ask.choice.Names) > 0
	return a.carryOut(ctx, w, f, ask.wish, chosen)
}

// carryOut makes an order of the chosen rows, asks, runs it and shows it. Devices without an
// image are skipped; where the person named them, that is a failure.
func (a *app) carryOut(ctx context.Context, w *workspace.Workspace, f jobFlags,
	wish workspace.Wish, chosen []workspace.Row) error {
	if wish.Parallel == 0 && w.Site.Limits.Parallel == 0 {
		wish.Parallel = usualParallel
	}
	o, skipped, err := w.Order(wish, chosen, a.now())
	if err != nil {
		return err
	}
	if wish.Named {
		for _, r := range skipped {
			view.Print(a.err, "skipped %s (%s): %s\n", r.Part(), r.Status, r.Reason)
		}
	}
	if len(o.Devices) == 0 {
		return a.nothingToDo(wish.Purpose, skipped, wish.Named)
	}
	if err := a.inWindow(w); err != nil {
		return err
	}
	forecast, err := order.Forecast(o, a.now())
	if err != nil {
		return err
	}
	access, err := a.access(w)
	if err != nil {
		return err
	}
	if d := w.Job(o).Devices[o.Devices[0].ID].Device; !has(access, d) {
		return noLogin(d)
	}
	a.announce(o, forecast, skipped)
	if err := a.acceptCautions(&o, f.accept); err != nil {
		return err
	}
	if !f.yes {
		if err := a.confirm("Work on " + view.Plural(len(o.Devices), "device") +
			" now?"); err != nil {
			return err
		}
	}
	engine := &job.Engine{Ledger: w.Ledger, Dialects: workspace.Dialects, Contact: access.Contact,
		Patience: f.patience, Now: a.now,
		See:  func(id string, d *device.Device) error { return workspace.See(w.Ledger, id, d) },
		Open: func(i order.Image) (job.File, error) { return w.Shelf.OpenImage(i.SHA256, i.File) }}
	j, err := engine.Start(w.Job(o))
	if err != nil {
		return err
	}
	state, stopped, err := a.runAndShow(ctx, w, j)
	if err != nil {
		return err
	}
	if err := a.summary(w, state); err != nil {
		return err
	}
	if stopped && state.Count(job.Skipped) > 0 {
		return exit{exitFailed, errors.New(
			"the job was stopped before all devices were worked on; go on with the same command")}
	}
	if notBegun(state) || wish.Named && len(skipped) > 0 {
		return exit{exitFailed, errSilent}
	}
	return nil
}

// notBegun tells whether a device of a job was left, because its window closed, too many had
// failed, or a rule could not be kept.
func notBegun(state job.State) bool {
	return slices.ContainsFunc(state.Devices, func(d job.DeviceState) bool {
		return d.Step == job.Skipped && d.Cause != nil && d.Cause.Why == job.NotBegun
	})
}

// inWindow refuses work outside of the site's windows.
func (a *app) inWindow(w *workspace.Workspace) error {
	now := a.now()
	opens, _, ok := w.Site.Window(now)
	if !ok || !opens.After(now) {
		return nil
	}
	return refused("no window of the site is open now; the next one opens %s. Nothing was touched",
		opens.Format("Monday 2006-01-02 15:04 MST"))
}

// has tells whether there is a login to use with a device.
func has(access *workspace.Access, d device.Device) bool {
	_, _, ok := access.Contact(d)
	return ok
}

// nothingToDo says why a job has no device. Where all that was named is as it should be,
// that is no failure.
func (a *app) nothingToDo(purpose order.Purpose, skipped []workspace.Row, named bool) error {
	off := func(r workspace.Row) bool { return r.Status != string(match.Current) }
	if named && (purpose != order.Forward || slices.ContainsFunc(skipped, off)) {
		return refused("none of the devices named can be worked on; nothing was touched")
	}
	why := counted(skipped)
	if why == "" {
		why = "no device is chosen"
	}
	a.say("There is nothing to do: %s.", why)
	return nil
}

// announce says what is about to happen.
func (a *app) announce(o order.Order, forecast order.Plan, skipped []workspace.Row) {
	a.say("To be worked on: %s, %d at a time.", view.Plural(len(o.Devices), "device"),
		o.Rules.Parallel)
	type group struct{ model, path, file, back string }
	var groups []group
	devices := map[group][]string{}
	for _, d := range o.Devices {
		g := group{model: d.Model, back: string(match.ByImage), path: pathOf(d.Path)}
		for _, h := range d.Path {
			g.file = h.Image.File
		}
		if !d.Returnable() {
			g.back = string(match.None)
		}
		if devices[g] == nil {
			groups = append(groups, g)
		}
		devices[g] = append(devices[g], d.Name)
	}
	t := view.Table{Columns: []string{"model", "from → to", "image", "rollback", "devices"}}
	for _, g := range groups {
		t.Add(g.model, g.path, g.file, rollbackCell(g.back),
			strings.Join(devices[g], ", "))
	}
	if !a.quiet {
		t.Draw(a.human(), a.style(a.human()))
	}
	for _, c := range o.Cautions {
		a.say("%s %s (%s): %s", a.style(a.human()).Paint(view.Warn, "Caution"), c.Name,
			few(c.Devices), c.Text)
	}
	if len(skipped) > 0 {
		a.say("Skipped: %s.", counted(skipped))
	}
	a.say("%s", expectation(o, forecast))
	a.say("")
}

// few writes names for a sentence, and how many more there are.
func few(names []string) string {
	const most = 4
	if len(names) <= most {
		return strings.Join(names, ", ")
	}
	return fmt.Sprintf("%s and %d more", strings.Join(names[:most], ", "), len(names)-most)
}

// expectation says how long an order takes, and why it cannot take less.
func expectation(o order.Order, p order.Plan) string {
	by := map[string]int{}
	for _, d := range o.Devices {
		by[d.Because]++
	}
	var sources []string
	for _, source := range []string{"history", "manifest", "size"} {
		if by[source] > 0 {
			sources = append(sources, fmt.Sprintf("%s for %d", source, by[source]))
		}
	}
	return fmt.Sprintf("Expected to take %s, until %s (durations by %s). No sequence could take less than %s: %s.",
		view.Clock(p.End.Sub(p.Start)), p.End.Local().Format("15:04"), strings.Join(sources, ", "),
		view.Clock(p.Bound), p.BoundBy)
}

// acceptCautions has a person accept each caution of an order, once: by a flag, or by typing
// its name. Who accepted it and when stands in the order, and so in the ledger.
func (a *app) acceptCautions(o *order.Order, accept []string) error {
	by := fmt.Sprintf("%s, %s", whoami(), a.now().Format(time.RFC3339))
	given := map[string]bool{}
	var open []string
	for i := range o.Cautions {
		c := &o.Cautions[i]
		if slices.Contains(accept, c.Name) || slices.Contains(accept, firmware.AllCautions) {
			given[c.Name] = true
		}
		if c.Accepted == "" && !given[c.Name] && !slices.Contains(open, c.Name) {
			open = append(open, c.Name)
		}
	}
	for _, name := range accept {
		if name != firmware.AllCautions && !given[name] {
			return usage("--accept %s: the order has no caution of that name", name)
		}
	}
	for _, name := range open {
		answer, err := a.ask("To accept the caution " + name + ", type its name: ")
		if err != nil {
			return refused("%w; read the cautions above and accept them: --accept %s", err,
				strings.Join(open, " --accept "))
		}
		if !strings.EqualFold(answer, name) {
			return refused("the caution %s is not accepted; nothing was touched", name)
		}
		given[name] = true
	}
	for i := range o.Cautions {
		if given[o.Cautions[i].Name] {
			o.Cautions[i].Accepted = by
		}
	}
	return nil
}

// whoami is who works on this machine.
func whoami() string {
	name, host := "somebody", "this machine"
	if u, err := user.Current(); err == nil && u.Username != "" {
		name = u.Username
	}
	if h, err := os.Hostname(); err == nil {
		host = h
	}
	return name + " at " + host
}

// pathOf writes a path for a person: "1.0 → 1.5 → 2.0, radio 4 → 5".
func pathOf(path []order.Hop) string {
	text, component := "", ""
	for _, h := range path {
		if c := h.Component; c != component {
			component = c
			if text != "" {
				text += ", "
			}
			if c != firmware.Main {
				text += c + " "
			}
			text += h.From
		}
		text += " → " + h.To
	}
	return text
}

// rollbackCell is loud where there is no way back.
func rollbackCell(rollback string) view.Cell {
	if rollback == string(match.None) {
		return view.Bad.Cell(rollback)
	}
	return view.Cell{Text: rollback}
}

// runAndShow runs the job to its end and shows it meanwhile. A closed window or a
// reader that went away does not end a write: the job goes on without them. stopped
// tells whether a person stopped it.
func (a *app) runAndShow(ctx context.Context, w *workspace.Workspace, j *job.Job) (state job.State,
	stopped bool, err error) {
	signal.Ignore(syscall.SIGHUP, syscall.SIGPIPE)
	going, stopStarting := context.WithCancel(ctx)
	defer stopStarting()
	patience, letGo := context.WithCancel(ctx)
	defer letGo()
	signals := make(chan os.Signal, 4)
	signal.Notify(signals, os.Interrupt, syscall.SIGTERM)
	defer signal.Stop(signals)
	go func() {
		for times := 0; ; times++ {
			select {
			case <-signals:
			case <-patience.Done():
				return
			}
			if times == 0 {
				stopStarting()
				view.Print(a.err, "%s\n",
					"\nStopping: no further device is started, what was begun is finished. Ctrl-C again lets go of devices that are only being checked.")
				continue
			}
			letGo()
		}
	}()
	ended := make(chan error, 1)
	go func() { ended <- j.Run(going, patience) }()
	_, showErr := a.follow(context.WithoutCancel(ctx), w, j.ID)
	err = <-ended // whatever the view met, the job is waited for
	stopped = going.Err() != nil
	if err != nil {
		return state, stopped, fmt.Errorf(
			"the job cannot go on: %w\nwhat was begun is in the ledger: catena track %s --once",
			err, j.ID)
	}
	if showErr != nil {
		a.log.Warn("the job could not be shown", "err", showErr)
	}
	state, err = job.Load(w.Ledger, j.ID)
	return state, stopped, err
}

func (a *app) rollbackCmd() *cobra.Command {
	var f jobFlags
	var ask wishFlags
	var to, of string
	c := &cobra.Command{
		Use:   "rollback DEVICE… | --job JOB",
		Short: "Return devices to the version they ran before",
		Long: `Return devices to the version they ran before the last job that changed them, or to
the one named with --to. The image comes from the shelf, and the device is proven on
it like after a flash.`,
		Example: `  catena rollback cam-11
  catena rollback --to 3.1.0 cam-11 cam-21
  catena rollback --job j3`,
		RunE: func(c *cobra.Command, args []string) error {
			if err := ask.check(); err != nil {
				return err
			}
			if len(args) == 0 && ask.choice.Where == "" && of == "" {
				return usage("say which devices: names, --where EXPR, or --job JOB")
			}
			ask.choice.Names = args
			return a.rollback(c.Context(), f, ask, to, of)
		},
	}
	f.flags(c)
	ask.flags(c)
	c.Flags().StringVar(&to, "to", "", "the version to return to (default: the one before)")
	c.Flags().StringVar(&of, "job", "", "all devices that this job brought to a new version")
	return c
}

func (a *app) rollback(ctx context.Context, f jobFlags, ask wishFlags, to, of string) error {
	w, err := a.match()
	if err != nil {
		return err
	}
	defer w.Close()
	chosen, err := w.Choose(ask.choice)
	if err != nil {
		return err
	}
	back, err := w.Rollback(chosen, to, of)
	if err != nil {
		return err
	}
	ask.wish.Purpose, ask.wish.Named = order.Backward, true
	return a.carryOut(ctx, w, f, ask.wish, back)
}
