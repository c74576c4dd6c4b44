package cli

import (
	"bufio"
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
	"golang.org/x/term"

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
	choice
	parallel int
	yes      bool
	patience job.Patience
}

func (f *jobFlags) flags(c *cobra.Command) {
	f.patience = job.Usual
	c.Flags().StringVar(&f.where, "where", "", `devices for which this holds, e.g. 'model == "WX-40" && version < "3.2"'`)
	c.Flags().IntVar(&f.parallel, "parallel", 8, "how many devices are worked on at the same time")
	c.Flags().BoolVarP(&f.yes, "yes", "y", false, "do not ask")
	c.Flags().Var(&patienceFlag{&f.patience}, "patience", "how long a device may take in a step, as STEP=DURATION; may be repeated")
}

// patienceFlag reads --patience STEP=DURATION.
type patienceFlag struct{ of *job.Patience }

func (p *patienceFlag) steps() map[string]*time.Duration {
	return map[string]*time.Duration{"writing": &p.of.Writing, "restarting": &p.of.Restarting, "proving": &p.of.Proving, "grace": &p.of.Grace}
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
	return fmt.Sprintf("writing=%s, restarting=%s, proving=%s, grace=%s", p.of.Writing, p.of.Restarting, p.of.Proving, p.of.Grace)
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
same version before is skipped, unless it is named.

The first Ctrl-C starts no further device; the second also lets go of those that are
only being checked. What is being written is always finished.`,
		Example: `  catena flash cam-11 cam-12
  catena flash --where 'model == "WX-40" && version < "3.2"' --parallel 4
  catena flash --all --yes`,
		RunE: func(c *cobra.Command, args []string) error {
			if err := f.check(); err != nil {
				return err
			}
			if all && (len(args) > 0 || f.where != "") {
				return usage("--all means every device; leave it out to flash only those that you name")
			}
			if len(args) == 0 && f.where == "" && !all {
				return usage("say which devices: names, --where EXPR, or --all; see what would be flashed: catena match")
			}
			return a.flash(c.Context(), f, args)
		},
	}
	f.flags(c)
	c.Flags().BoolVar(&all, "all", false, "all devices that are behind or unsafe")
	return c
}

func (a *app) flash(ctx context.Context, f jobFlags, names []string) error {
	p, err := a.look()
	if err != nil {
		return err
	}
	defer p.home.Close()
	devices, err := p.choose(names, f.choice)
	if err != nil {
		return err
	}
	return a.carryOut(ctx, p, job.Flash, f, devices, len(names) > 0)
}

// carryOut asks, runs the job and shows it. Devices without an image are left
// alone; where the person named them, that is a failure.
func (a *app) carryOut(ctx context.Context, p *picture, purpose job.Purpose, f jobFlags, devices []row, named bool) error {
	plan := job.Plan{Purpose: purpose, Parallel: f.parallel}
	var left []row
	rows := map[string][]match.Row{} // by device
	var order []row
	for _, d := range devices {
		if len(d.match.Path) == 0 || d.FailedIn != "" && !named || !d.takesImages() {
			left = append(left, d)
			continue
		}
		if rows[d.ID] == nil {
			order = append(order, d)
		}
		rows[d.ID] = append(rows[d.ID], d.match)
	}
	if err := p.agree(rows); err != nil {
		return err
	}
	for _, d := range order {
		item := job.Item{Device: d.match.Device, From: d.match.Device.Version, Order: p.matcher.Order(d.match.Device)}
		for _, h := range match.Ordered(rows[d.ID]) {
			item.Path = append(item.Path, job.Hop{From: h.From, Image: *h.Image, Back: h.Back})
		}
		plan.Items = append(plan.Items, item)
	}
	if named {
		for _, d := range left {
			if rows[d.ID] != nil {
				continue // another component of it is worked on
			}
			fmt.Fprintf(a.err, "skipped %s (%s): %s\n", d.part(), d.Status, d.Reason)
		}
	}
	if len(plan.Items) == 0 {
		if !named {
			a.say("There is nothing to do: %s.", orNothing(counted(devices)))
			return nil
		}
		if purpose == job.Flash && !slices.ContainsFunc(left, func(d row) bool { return d.Status != string(match.Current) }) {
			a.say("There is nothing to do: %s.", counted(left))
			return nil
		}
		return refused("none of the devices named can be worked on; nothing was touched")
	}
	access, err := a.access(p.home)
	if err != nil {
		return err
	}
	if d := plan.Items[0].Device; !access.has(d) {
		return access.noLogin(d)
	}
	a.plainSummary(plan, left)
	if !f.yes {
		if err := a.confirm(view.Plural(len(plan.Items), "device")); err != nil {
			return err
		}
	}
	engine := &job.Engine{Ledger: p.home.ledger, Dialects: workspace.Dialects, Contact: access.contact, Patience: f.patience, Now: a.now,
		See:  func(id string, d *device.Device) error { return workspace.See(p.home.ledger, id, d) },
		Open: func(i firmware.Image) (job.File, error) { return p.shelf.OpenImage(i) }}
	j, err := engine.Start(plan)
	var busy *job.BusyError
	switch {
	case errors.As(err, &busy):
		return refused("%w; nothing was touched. Wait for that job: catena track %s", err, busy.Job)
	case errors.Is(err, shelf.ErrDamaged):
		return refused("%w; nothing was touched", err)
	}
	if err != nil {
		return err
	}
	state, stopped, err := a.runAndShow(ctx, p.home, j)
	if err != nil {
		return err
	}
	if err := a.summary(p.home, state); err != nil {
		return err
	}
	if stopped && state.Count(job.Skipped) > 0 {
		return exit{exitFailed, errors.New("the job was stopped before all devices were worked on; go on with the same command")}
	}
	if named && slices.ContainsFunc(left, func(d row) bool { return rows[d.ID] == nil }) {
		return exit{exitFailed, errSilent}
	}
	return nil
}

func orNothing(s string) string {
	if s == "" {
		return "no device is chosen"
	}
	return s
}

// agree refuses work after which versions that belong together would not: where only
// a part of them was chosen. chosen are the rows to be carried out, by device.
func (p *picture) agree(chosen map[string][]match.Row) error {
	var all []match.Row
	for _, d := range p.devices {
		row := d.match
		row.Path = nil
		for _, c := range chosen[d.ID] {
			if c.Component == d.Component {
				row = c
			}
		}
		all = append(all, row)
	}
	want := slices.Clone(all)
	p.matcher.Agree(all)
	for i := range all {
		if len(want[i].Path) > 0 && len(all[i].Path) == 0 {
			return refused("%s cannot be worked on as chosen: %s", all[i].Device.Name, all[i].Reason)
		}
	}
	return nil
}

// plainSummary says what is about to happen.
func (a *app) plainSummary(plan job.Plan, left []row) {
	a.say("To be worked on: %s, %d at a time.", view.Plural(len(plan.Items), "device"), plan.Parallel)
	type group struct{ model, path, file, back string }
	var order []group
	count, cautions := map[group][]string{}, []string{}
	for _, i := range plan.Items {
		g := group{model: i.Device.Model, back: string(match.ByImage)}
		component := ""
		for _, h := range i.Path {
			if c := h.Image.Component; c != component {
				if component = c; g.path != "" {
					g.path += ", "
				}
				if c != firmware.Main {
					g.path += c + " "
				}
				g.path += h.From
			}
			g.path, g.file = g.path+" → "+h.Image.Version, h.Image.File
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
		if count[g] == nil {
			order = append(order, g)
		}
		count[g] = append(count[g], i.Device.Name)
	}
	t := view.Table{Columns: []string{"model", "from → to", "image", "rollback", "devices"}}
	for _, g := range order {
		back := view.Cell{Text: g.back}
		if g.back == string(match.None) {
			back.Tone = view.Bad
		}
		t.Add(view.Cell{Text: g.model}, view.Cell{Text: g.path}, view.Cell{Text: g.file}, back,
			view.Cell{Text: strings.Join(count[g], ", ")})
	}
	if !a.quiet {
		t.Draw(a.human(), a.style(a.human()))
	}
	for _, c := range cautions {
		a.say("%s %s", a.style(a.human()).Paint(view.Warn, "Caution:"), c)
	}
	if len(left) > 0 {
		a.say("Skipped: %s.", counted(left))
	}
	a.say("")
}

// confirm asks once. Without a terminal there is nobody to ask.
func (a *app) confirm(what string) error {
	f, ok := a.in.(*os.File)
	if !ok || !term.IsTerminal(int(f.Fd())) {
		return refused("there is no terminal to ask on; look at the summary above and say --yes")
	}
	fmt.Fprintf(a.err, "Work on %s now? [y/N] ", what)
	line, _ := bufio.NewReader(f).ReadString('\n')
	if answer := strings.ToLower(strings.TrimSpace(line)); answer != "y" && answer != "yes" {
		return refused("not confirmed; nothing was touched")
	}
	return nil
}

// runAndShow runs the job to its end and shows it meanwhile. A closed window or a
// reader that went away does not end a write: the job goes on without them. stopped
// tells whether a person stopped it.
func (a *app) runAndShow(ctx context.Context, h *home, j *job.Job) (state job.State, stopped bool, err error) {
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
				fmt.Fprintln(a.err, "\nStopping: no further device is started, what was begun is finished. Ctrl-C again lets go of devices that are only being checked.")
				continue
			}
			letGo()
		}
	}()
	ended := make(chan error, 1)
	go func() { ended <- j.Run(going, patience) }()
	_, showErr := a.follow(context.WithoutCancel(ctx), h, j.ID)
	err = <-ended // whatever the view met, the job is waited for
	stopped = going.Err() != nil
	if err != nil {
		return state, stopped, fmt.Errorf("the job cannot go on: %w\nwhat was begun is in the ledger: catena track %s --once", err, j.ID)
	}
	if showErr != nil {
		a.log.Warn("the job could not be shown", "err", showErr)
	}
	state, err = job.Load(h.ledger, j.ID)
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
			if len(args) == 0 && f.where == "" && of == "" {
				return usage("say which devices: names, --where EXPR, or --job JOB")
			}
			return a.rollback(c.Context(), f, args, to, of)
		},
	}
	f.flags(c)
	c.Flags().StringVar(&to, "to", "", "the version to return to (default: the one before)")
	c.Flags().StringVar(&of, "job", "", "all devices that this job brought to a new version")
	return c
}

func (a *app) rollback(ctx context.Context, f jobFlags, names []string, to, of string) error {
	p, err := a.look()
	if err != nil {
		return err
	}
	defer p.home.Close()
	jobs := p.jobs
	if of != "" {
		i := slices.IndexFunc(jobs, func(s job.State) bool { return s.ID == of })
		if i < 0 {
			return usage("there is no job %s in the ledger", of)
		}
		jobs = jobs[i : i+1]
	}
	devices, err := p.choose(names, f.choice)
	if err != nil {
		return err
	}
	devices = mains(devices)
	if of != "" {
		devices = slices.DeleteFunc(devices, func(d row) bool { return job.Earlier(jobs, d.ID) == "" })
	}
	for i, d := range devices {
		v := to
		if v == "" {
			v = job.Earlier(jobs, d.ID)
		}
		row := d.match
		if row.Path = nil; v != "" {
			row = p.matcher.To(d.match.Device, v)
		} else {
			row.Reason = "no job has changed it; say the version with --to"
		}
		devices[i] = p.row(row)
	}
	return a.carryOut(ctx, p, job.Rollback, f, devices, true)
}
