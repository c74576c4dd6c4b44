package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/signal"
	"slices"
	"strings"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"catena/internal/cli/view"
	"catena/internal/device"
	"catena/internal/firmware"
	"catena/internal/job"
	"catena/internal/match"
	"catena/internal/shelf"
	"catena/internal/workspace"
)

// jobFlags are what flash and rollback share.
type jobFlags struct {
	choice   workspace.Choice
	parallel int
	yes      bool
	patience job.Patience
}

func (f *jobFlags) flags(c *cobra.Command) {
	f.patience = job.Usual
	whereFlag(c, &f.choice)
	c.Flags().IntVar(&f.parallel, "parallel", 8, "how many devices are worked on at the same time")
	c.Flags().BoolVarP(&f.yes, "yes", "y", false, "do not ask")
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

func (f *jobFlags) check() error {
	if f.parallel < 1 || f.parallel > 512 {
		return usage("--parallel %d must be from 1 to 512", f.parallel)
	}
	return nil
}

func (a *app) flashCmd() *cobra.Command {
	var f jobFlags
	var all bool
	c := &cobra.Command{
		Use:   "flash DEVICE… | --where EXPR | --all",
		Short: "Send devices their images, prove them, return the ones that fail",
		Long: `Flash the chosen devices that are behind, several at once. Each one is checked,
sent its image, restarted, and asked what it runs. One that does not come up as it
should gets the image of its earlier version back from the shelf, and is proven on
that. A device that fails never stops the others. One that has failed on the way to the
same version before is skipped, unless it is named. What uplinks: in site.yaml says is
reached through a device goes first: the end of a chain before its head.

The first Ctrl-C starts no further device; the second also lets go of those that are
only being checked. What is being written is always finished.`,
		Example: `  catena flash cam-11 cam-12
  catena flash --where 'model == "WX-40" && version < "3.2"' --parallel 4
  catena flash --all --yes`,
		RunE: func(c *cobra.Command, args []string) error {
			if err := f.check(); err != nil {
				return err
			}
			if all && (len(args) > 0 || f.choice.Where != "") {
				return usage("--all means every device; leave it out to flash only those that you name")
			}
			if len(args) == 0 && f.choice.Where == "" && !all {
				return usage("say which devices: names, --where EXPR, or --all; see what would be flashed: catena match")
			}
			f.choice.Names = args
			return a.flash(c.Context(), f)
		},
	}
	f.flags(c)
	c.Flags().BoolVar(&all, "all", false, "all devices that are behind or unsafe")
	return c
}

func (a *app) flash(ctx context.Context, f jobFlags) error {
	w, err := a.match()
	if err != nil {
		return err
	}
	defer w.Close()
	chosen, err := w.Choose(f.choice)
	if err != nil {
		return err
	}
	return a.carryOut(ctx, w, job.Flash, f, chosen)
}

// carryOut plans a job of the chosen rows, asks, runs it and shows it. Devices without an
// image are skipped; where the person named them, that is a failure.
func (a *app) carryOut(ctx context.Context, w *workspace.Workspace, purpose job.Purpose, f jobFlags,
	chosen []workspace.Row) error {
	named := len(f.choice.Names) > 0 || purpose == job.Rollback
	plan, skipped, err := w.Plan(purpose, chosen, named)
	if err != nil {
		return err
	}
	plan.Parallel = f.parallel
	if named {
		for _, r := range skipped {
			view.Print(a.err, "skipped %s (%s): %s\n", r.Part(), r.Status, r.Reason)
		}
	}
	if len(plan.Items) == 0 {
		return a.nothingToDo(purpose, skipped, named)
	}
	access, err := a.access(w)
	if err != nil {
		return err
	}
	if d := plan.Items[0].Device; !has(access, d) {
		return noLogin(d)
	}
	a.announce(plan, skipped)
	if !f.yes {
		if err := a.confirm("Work on " + view.Plural(len(plan.Items), "device") +
			" now?"); err != nil {
			return err
		}
	}
	engine := &job.Engine{Ledger: w.Ledger, Dialects: workspace.Dialects, Contact: access.Contact,
		Patience: f.patience, Now: a.now,
		See:  func(id string, d *device.Device) error { return workspace.See(w.Ledger, id, d) },
		Open: func(i firmware.Image) (job.File, error) { return w.Shelf.OpenImage(i) }}
	j, err := engine.Start(plan)
	if errors.Is(err, shelf.ErrDamaged) {
		return refused("%w; nothing was touched", err)
	}
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
	if named && len(skipped) > 0 {
		return exit{exitFailed, errSilent}
	}
	return nil
}

// has tells whether there is a login to use with a device.
func has(access *workspace.Access, d device.Device) bool {
	_, _, ok := access.Contact(d)
	return ok
}

// nothingToDo says why a job has no device. Where all that was named is as it should be,
// that is no failure.
func (a *app) nothingToDo(purpose job.Purpose, skipped []workspace.Row, named bool) error {
	off := func(r workspace.Row) bool { return r.Status != string(match.Current) }
	if named && (purpose != job.Flash || slices.ContainsFunc(skipped, off)) {
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
func (a *app) announce(plan job.Plan, skipped []workspace.Row) {
	a.say("To be worked on: %s, %d at a time.", view.Plural(len(plan.Items), "device"),
		plan.Parallel)
	type group struct{ model, path, file, back string }
	var order []group
	devices, cautions := map[group][]string{}, []string{}
	for _, i := range plan.Items {
		g := group{model: i.Device.Model, back: string(match.ByImage), path: pathOf(i.Path)}
		for _, h := range i.Path {
			g.file = h.Image.File
			if h.Back == nil {
				g.back = string(match.None)
			}
			for _, c := range h.Image.Cautions {
				text := fmt.Sprintf("%s %s: %s", i.Device.Model, h.Image.Version, c)
				if !slices.Contains(cautions, text) {
					cautions = append(cautions, text)
				}
			}
		}
		if devices[g] == nil {
			order = append(order, g)
		}
		devices[g] = append(devices[g], i.Device.Name)
	}
	t := view.Table{Columns: []string{"model", "from → to", "image", "rollback", "devices"}}
	for _, g := range order {
		t.Add(g.model, g.path, g.file, rollbackCell(g.back),
			strings.Join(devices[g], ", "))
	}
	if !a.quiet {
		t.Draw(a.human(), a.style(a.human()))
	}
	for _, c := range cautions {
		a.say("%s %s", a.style(a.human()).Paint(view.Warn, "Caution:"), c)
	}
	if len(skipped) > 0 {
		a.say("Skipped: %s.", counted(skipped))
	}
	a.say("")
}

// pathOf writes a path for a person: "1.0 → 1.5 → 2.0, radio 4 → 5".
func pathOf(path []match.Hop) string {
	text, component := "", ""
	for _, h := range path {
		if c := h.Image.Component; c != component {
			component = c
			if text != "" {
				text += ", "
			}
			if c != firmware.Main {
				text += c + " "
			}
			text += h.From
		}
		text += " → " + h.Image.Version
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
			if err := f.check(); err != nil {
				return err
			}
			if len(args) == 0 && f.choice.Where == "" && of == "" {
				return usage("say which devices: names, --where EXPR, or --job JOB")
			}
			f.choice.Names = args
			return a.rollback(c.Context(), f, to, of)
		},
	}
	f.flags(c)
	c.Flags().StringVar(&to, "to", "", "the version to return to (default: the one before)")
	c.Flags().StringVar(&of, "job", "", "all devices that this job brought to a new version")
	return c
}

func (a *app) rollback(ctx context.Context, f jobFlags, to, of string) error {
	w, err := a.match()
	if err != nil {
		return err
	}
	defer w.Close()
	chosen, err := w.Choose(f.choice)
	if err != nil {
		return err
	}
	back, err := w.Rollback(chosen, to, of)
	if err != nil {
		return err
	}
	return a.carryOut(ctx, w, job.Rollback, f, back)
}
