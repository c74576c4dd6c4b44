package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/signal"
	"os/user"
	"runtime"
	"slices"
	"strings"
	"sync/atomic"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"catena/internal/cli/jobview"
	"catena/internal/cli/view"
	"catena/internal/contact"
	"catena/internal/device"
	"catena/internal/firmware"
	"catena/internal/job"
	"catena/internal/login"
	"catena/internal/machine"
	"catena/internal/match"
	"catena/internal/order"
	"catena/internal/plan"
	"catena/internal/shelf"
	"catena/internal/text"
	"catena/internal/words"
	"catena/internal/workspace"
)

// jobFlags are what the commands share that carry out an order.
type jobFlags struct {
	yes      bool
	accept   []string // names of cautions
	start    string
	waitFor  time.Duration // for an interlock to hold
	waitAway time.Duration
	detach   bool
	stage    bool
	anew     bool // devices that were away or refused the login are asked again
	patience firmware.Patience
}

func (f *jobFlags) flags(c *cobra.Command) {
	c.Flags().BoolVarP(&f.yes, "yes", "y", false,
		"start without asking; cautions are accepted by --accept")
	c.Flags().StringArrayVar(&f.accept, "accept", nil,
		"accept a caution by its name, or all printed cautions; may be repeated")
	c.Flags().StringVar(&f.start, "start", "now",
		"when to start: now, +2h, 22:30, an RFC 3339 time, or window: the site's next window")
	c.Flags().BoolVar(&f.detach, "detach", false,
		"continue without this terminal; watch it with catena track, end it with catena stop")
	c.Flags().BoolVar(&f.stage, "stage", false,
		"send the images now, restart later: catena finish")
	c.Flags().DurationVar(&f.waitFor, "wait-for", 0,
		"how long to wait for devices that an interlock forbids to update, such as a link in use; the "+
			"others continue")
	c.Flags().DurationVar(&f.waitAway, "wait-away", 0,
		"keep asking devices that are away for this long, such as 30m; they join late")
	patienceVar(c, &f.patience)
}

// patienceFlag reads --patience STEP=DURATION.
type patienceFlag struct{ of *firmware.Patience }

// patienceVar adds --patience to a command.
func patienceVar(c *cobra.Command, p *firmware.Patience) {
	c.Flags().Var(&patienceFlag{p}, "patience", fmt.Sprintf(
		"the time limit of a step for each device; may be repeated (default: that of the site, "+
			"the image or the family, or %s)",
		job.Usual))
}

// Set takes one step, or several with commas between.
func (p *patienceFlag) Set(text string) error {
	if first, rest, more := strings.Cut(text, ","); more {
		return errors.Join(p.Set(first), p.Set(strings.TrimSpace(rest)))
	}
	step, length, _ := strings.Cut(text, "=")
	of := p.of.Step(step)
	if of == nil {
		return fmt.Errorf("%q is not one of %s (grace is the wait before a device that "+
			"restarts automatically is asked to)",
			step,
			strings.Join(firmware.PatienceSteps, ", "))
	}
	d, err := time.ParseDuration(length)
	if err != nil || d <= 0 {
		return fmt.Errorf("%q is not a duration; write for example %s=20m", length, step)
	}
	*of = d
	return nil
}

func (p *patienceFlag) Type() string { return "STEP=DURATION" }

// String says nothing: the help tells what is usual.
func (p *patienceFlag) String() string { return "" }

func (a *app) flashCmd() *cobra.Command {
	var f jobFlags
	var ask wishFlags
	c := &cobra.Command{
		Use:   "flash ORDER | DEVICE… | --where EXPR | --all",
		Short: "Update devices, verify them, and roll back those that fail",
		Long: `Carry out an order (catena order new), or flash the chosen devices that are behind;
an order is then made on the spot. Several devices are updated at once. Each one is checked, sent
its image, restarted and asked for its version. A device that does not come up as it should is
rolled back: the image of its previous version is sent from the shelf, and that version is verified.
A failed device never stops the others. A device that failed to reach the same version before is
skipped unless you name it.

The rules of site.yaml hold at every moment. A downstream device goes before its uplink, limits,
cover sets and lockstep sets are respected, and no device starts that might not finish before the
window closes. The first device of each model and image is verified before the next one starts. A
waiting device shows what it waits for.

After the first Ctrl-C no more devices start. The second one also abandons devices that are still
being checked. A write is never interrupted.`,
		Example: `  catena flash night-1
  catena flash cam-11 cam-12
  catena flash --where 'model == "WX-40" && version < "3.2"' --parallel 4
  catena flash --all --yes`,
		RunE: func(c *cobra.Command, args []string) error {
			if err := ask.chosen(c, args); err != nil {
				return err
			}
			return a.flash(c.Context(), f, ask)
		},
	}
	f.flags(c)
	ask.forward(c)
	return c
}

func (a *app) flash(ctx context.Context, f jobFlags, ask wishFlags) error {
	w, err := a.match()
	if err != nil {
		return err
	}
	defer w.Close()
	if err := w.NoteSignatureRule(); err != nil {
		return err
	}
	if len(ask.choice.Names) == 1 {
		isOrder, err := w.IsOrder(ask.choice.Names[0])
		if err != nil {
			return err
		}
		if isOrder {
			if ask.changed {
				return usage("the order %s specifies the devices and the rules; leave out those flags",
					ask.choice.Names[0])
			}
			o, err := w.ReadSigned(ask.choice.Names[0])
			if err != nil {
				return err
			}
			return a.carryOut(ctx, w, f, o, nil)
		}
	}
	if err := w.OnTheFly(); err != nil {
		return err
	}
	o, skipped, err := a.makeOrder(w, ask)
	if err != nil {
		return err
	}
	named := len(ask.choice.Names) > 0
	if len(o.Devices) == 0 {
		return a.nothingToDo(ask.to != "" || ask.request.Again, skipped, named)
	}
	err = a.carryOut(ctx, w, f, o, skipped)
	if err == nil && named && len(skipped) > 0 {
		return exit{exitFailed, errSilent}
	}
	return err
}

// carryOut compares an order with the site, asks, waits for its start, runs it and shows it.
// skipped are the rows that were chosen and are not in it.
func (a *app) carryOut(ctx context.Context, w *plan.Site, f jobFlags, o order.Order,
	skipped []workspace.Row) error {
	if err := a.sayInterrupted(w); err != nil {
		return err
	}
	done, err := w.MeetOthers(ctx)
	if err != nil {
		return err
	}
	defer done()
	p, err := w.Prepare(o, f.terms())
	a.sayLeft(p.Skipped)
	if err != nil {
		return err
	}
	access, err := a.accessTo(w, p.Order)
	if err != nil {
		return err
	}
	a.announce(p.Order, p.Forecast, skipped)
	a.sayForbidden(w)
	if err := a.acceptCautions(&p.Order, f.accept); err != nil {
		return err
	}
	if !f.yes {
		if err := a.confirm("Work on " + words.Plural(len(p.Order.Devices), "device") + " " +
			jobview.When(p.Start, a.now()) + "?"); err != nil {
			return err
		}
	}
	switch {
	case f.detach && p.Start.After(a.now()):
		p.Order.Start = p.Start // the job is written down now, and waits in a process of its own
	default:
		if err := a.waitForStart(ctx, w, &p); err != nil {
			return err
		}
	}
	j, err := w.Start(access, p.Order, f.patience)
	if errors.Is(err, shelf.ErrDamaged) || errors.Is(err, shelf.ErrGone) {
		return refused("%w; nothing was changed", err)
	}
	if err != nil {
		return err
	}
	if f.detach {
		return a.detach(w, j, f.patience.String())
	}
	return a.seeThrough(ctx, w, access, j, len(p.Skipped) > 0)
}

// terms are how the order is to be carried out.
func (f *jobFlags) terms() plan.Terms {
	return plan.Terms{Start: f.start, WaitFor: f.waitFor, WaitAway: f.waitAway, Stage: f.stage,
		Again: f.anew}
}

// sayLeft names the devices that are left out of an order, because they have changed since it was
// made.
func (a *app) sayLeft(left []plan.Difference) {
	for _, d := range left {
		view.Print(a.err, "skipped %s: %s\n", d.Device, d.Text)
	}
}

// waitForStart waits for the start of an order, and holds it against the site once more.
func (a *app) waitForStart(ctx context.Context, w *plan.Site, p *plan.Prepared) error {
	if !p.Start.After(a.now()) {
		return nil
	}
	if err := a.countDown(ctx, p.Start); err != nil {
		return err
	}
	before := len(p.Skipped)
	err := w.StartsNow(p)
	a.sayLeft(p.Skipped[before:])
	return err
}

// seeThrough runs a job to its end and says how it ended. less says that it has less devices
// than were asked for.
func (a *app) seeThrough(ctx context.Context, w *plan.Site, access *contact.Access, j *job.Job,
	less bool) error {
	state, stopped, err := a.runAndShow(ctx, w, access.Book, j)
	if err != nil {
		return err
	}
	if err := a.readChildren(ctx, w, access, state); err != nil {
		return err
	}
	if err := a.summary(w, state); err != nil {
		return err
	}
	a.copySettings(ctx, w, access)
	if stopped && state.Count(job.Skipped) > 0 {
		return exit{exitFailed, errors.New(
			"the job was stopped before all devices were updated; continue with the same command")}
	}
	if parked := state.Count(job.Parked); parked > 0 {
		a.say("To restart %s: catena finish %s", words.Plural(parked, "parked device"),
			state.ID)
	}
	if less || notBegun(state) {
		return exit{exitFailed, errSilent}
	}
	return nil
}

// readChildren reads the devices that got their version with an image for their parent.
func (a *app) readChildren(ctx context.Context, w *plan.Site, access *contact.Access,
	s job.State) error {
	questions := w.Children(s)
	if len(questions) == 0 {
		return nil
	}
	answers, err := a.askDevices(context.WithoutCancel(ctx), w, access, questions)
	for _, x := range answers {
		switch {
		case x.Trouble != nil:
			a.say("%s, which gets its version with its parent, could not be read: %v; catena scan %[1]s",
				x.Device.Name, x.Trouble)
		default:
			a.say("%s, which gets its version with its parent, reports %s.", x.Device.Name,
				x.Device.Version)
		}
	}
	return err
}

// countDown waits for a time, and shows how long it is until then. Ctrl-C ends it: nothing was
// touched.
func (a *app) countDown(ctx context.Context, start time.Time) error {
	ctx, stop := signal.NotifyContext(ctx, os.Interrupt, syscall.SIGTERM)
	defer stop()
	meter := &view.Meter{W: a.err, Style: a.style(a.err)}
	defer meter.Clear()
	a.say("Starts %s. Ctrl-C cancels it.", jobview.When(start, a.now()))
	for left := start.Sub(a.now()); left > 0; left = start.Sub(a.now()) {
		meter.Show("starts in " + words.Clock(left.Round(time.Second)))
		select {
		case <-time.After(min(left, time.Second)):
		case <-ctx.Done():
			return refused("cancelled before the start; nothing was changed")
		}
	}
	return nil
}

// notBegun tells whether a device of a job was left, because it cannot be parked, its window
// closed, too many had failed, or a rule could not be kept.
func notBegun(state job.State) bool {
	return slices.ContainsFunc(state.Devices, func(d job.DeviceState) bool {
		return d.Step == job.Skipped && d.Cause != nil &&
			(d.Cause.Why == job.NotBegun || d.Cause.Why == job.CannotStage)
	})
}

// accessTo is access for an order. Without any login for its devices it is refused: all of them
// would fail for that alone.
func (a *app) accessTo(w *plan.Site, o order.Order) (*contact.Access, error) {
	access, err := a.access(w)
	if err != nil {
		return nil, err
	}
	known := w.Job(o).Devices
	for _, d := range o.Devices {
		if has(access, known[d.ID].Device) {
			return access, nil
		}
	}
	return nil, noLogin(known[o.Devices[0].ID].Device)
}

// has tells whether there is a login to use with a device.
func has(access *contact.Access, d device.Device) bool {
	_, _, ok := access.Contact(d)
	return ok
}

// nothingToDo says why a job has no device. Where all that was named is as it should be,
// that is not a failure, unless a person asked for something else: a version, or what runs, again.
func (a *app) nothingToDo(asked bool, skipped []workspace.Row, named bool) error {
	off := func(r workspace.Row) bool { return r.Status != string(match.Current) }
	if named && (asked || slices.ContainsFunc(skipped, off)) {
		return refused("none of the named devices can be updated; nothing was changed")
	}
	why := counted(skipped)
	if why == "" {
		why = "no device is chosen; list them: catena list, or find them: catena scan"
	}
	a.say("There is nothing to do: %s.", why)
	if slices.ContainsFunc(skipped,
		func(r workspace.Row) bool { return r.Status == string(match.NoImage) }) {
		a.say("List missing images: catena match --missing; add them: catena shelf add")
	}
	return nil
}

// announce says what is about to happen.
func (a *app) announce(o order.Order, forecast order.Schedule, skipped []workspace.Row) {
	a.sayLate(o, forecast)
	a.say("To be updated: %s, %d at a time.", words.Plural(len(o.Devices), "device"),
		o.Rules.Parallel)
	if o.Note != "" {
		a.say("Note: %s", o.Note)
	}
	type group struct{ model, path, file, back string }
	var groups []group
	devices := map[group][]string{}
	for _, d := range o.Devices {
		g := group{model: d.Model, back: string(d.Rollback()), path: pathOf(d.Path)}
		for _, h := range d.Path {
			g.file = h.Image.File
			if h.Switches() {
				g.file = "in its other slot"
			}
		}
		if devices[g] == nil {
			groups = append(groups, g)
		}
		devices[g] = append(devices[g], d.Name)
	}
	t := view.Table{Columns: []string{"model", "from → to", "image", "rollback", "devices"},
		Less: []string{"image"}}
	for _, g := range groups {
		t.Add(g.model, g.path, g.file, rollbackCell(g.back),
			words.FewOf(devices[g], 12))
	}
	if !a.quiet {
		t.Draw(a.human(), a.style(a.human()))
	}
	a.sayCautions(o)
	if len(skipped) > 0 {
		a.say("Skipped: %s.", counted(skipped))
	}
	a.say("%s", expectation(o, forecast))
	a.say("")
}

// sayLate prints, before anything else, how many devices a window is too short for.
func (a *app) sayLate(o order.Order, p order.Schedule) {
	late := p.Late()
	if len(late) == 0 {
		return
	}
	var names []string
	for _, d := range o.Devices {
		if slices.Contains(late, d.ID) {
			names = append(names, d.Name)
		}
	}
	fit := map[bool]string{true: "does not fit", false: "do not fit"}[len(late) == 1]
	a.say("%s\n", a.style(a.human()).Paint(view.Warn, fmt.Sprintf(
		"%d of %s %s into the window that closes %s: %s.", len(late),
		words.Plural(len(o.Devices), "device"), fit, o.Closes.Local().Format("Mon 2006-01-02 15:04"),
		words.FewOf(names, 12))))
}

// unknownCautions refuses names that are not those of an order's cautions, and says what the whole
// flag should be: those that were right stay.
func unknownCautions(o order.Order, accept []string, known map[string]bool) error {
	var names, right, wrong []string
	for _, c := range o.Cautions {
		names = append(names, c.Name)
	}
	for _, name := range accept {
		if name == firmware.AllCautions || known[name] {
			right = append(right, name)
			continue
		}
		wrong = append(wrong, name)
		if like := text.Nearest(name, names); like != "" {
			right = append(right, like)
		}
	}
	switch {
	case len(wrong) == 0:
		return nil
	case len(names) == 0:
		return usage("--accept %s: the order has no cautions", strings.Join(wrong, ", "))
	case len(right) == 0:
		return usage("--accept %s: the order has no caution of that name; it has %s",
			strings.Join(wrong, ", "), strings.Join(names, ", "))
	}
	return usage("--accept %s: the order has no caution of that name; did you mean --accept %s?",
		strings.Join(wrong, ", "), strings.Join(right, " --accept "))
}

// sayCautions prints what a person must know before an order starts.
func (a *app) sayCautions(o order.Order) {
	for _, c := range o.Cautions {
		accepted := ""
		if c.Accepted != "" {
			accepted = " [accepted by " + c.Accepted + "]"
		}
		a.say("%s %s (%s): %s%s", a.style(a.human()).Paint(view.Warn, "Caution"), c.Name,
			words.Few(c.Devices), c.Text, accepted)
	}
}

// expectation says how long an order takes, and why it cannot take less.
func expectation(o order.Order, p order.Schedule) string {
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
	return fmt.Sprintf("Estimated %s, ending %s (durations from %s). Lower bound %s, set by %s.",
		words.Clock(p.End.Sub(p.Start)), p.End.Local().Format("15:04"), strings.Join(sources, ", "),
		words.Clock(p.Bound), p.BoundBy)
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
	if err := unknownCautions(*o, accept, given); err != nil {
		return err
	}
	for _, name := range open {
		answer, err := a.ask("To accept the caution " + name + ", type its name: ")
		if err != nil {
			return refused("%w; read the cautions above and accept them: --accept %s", err,
				strings.Join(open, " --accept "))
		}
		if !strings.EqualFold(answer, name) {
			return refused("the caution %s is not accepted; nothing was changed", name)
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

// rollbackCell marks a device that cannot be rolled back.
func rollbackCell(rollback string) view.Cell {
	if rollback == string(firmware.ByNothing) {
		return view.Bad.Cell(rollback)
	}
	return view.Cell{Text: rollback}
}

// runAndShow runs the job to its end and shows its progress. A closed window or a
// reader that went away does not end a write: the job continues without them. stopped
// tells whether a person stopped it.
func (a *app) runAndShow(ctx context.Context, w *plan.Site, book login.Book,
	j *job.Job) (state job.State,
	stopped bool, err error) {
	signal.Ignore(syscall.SIGHUP, syscall.SIGPIPE)
	going, stopStarting := context.WithCancel(ctx)
	defer stopStarting()
	checking, letGo := context.WithCancel(ctx)
	defer letGo()
	signals := make(chan os.Signal, 4)
	signal.Notify(signals, os.Interrupt, syscall.SIGTERM)
	defer signal.Stop(signals)
	times := atomic.Int32{}
	interrupt := func() string {
		if times.Add(1) == 1 {
			stopStarting()
			return "Stopping: devices in progress will finish; no more will start. Press Ctrl-C again to " +
				"abandon devices that are only being checked."
		}
		letGo()
		return "Abandoned the devices that were only being checked. Writes are finished. A device " +
			"that waits for an operator continues after: catena track --done DEVICE, or --skip DEVICE " +
			"--because REASON."
	}
	go func() {
		for {
			select {
			case <-signals:
				a.notice("\n%s", interrupt())
			case <-checking.Done():
				return
			}
		}
	}()
	if !j.Order().Rehearsal {
		defer a.stayAwake(j.ID)()
	}
	told := a.teller(w, book).Follow(j.ID, j.Since)
	ended := make(chan error, 1)
	go func() { ended <- w.Run(j, going, checking) }()
	_, showErr := a.follow(context.WithoutCancel(ctx), w, j.ID, j.Since, interrupt)
	err = <-ended // whatever the view met, the job is waited for
	stopped = going.Err() != nil
	told()
	if err != nil {
		return state, stopped, exit{exitError, fmt.Errorf(
			"the job cannot continue: %w\nno more devices were started, and started writes "+
				"were finished. When that is fixed, continue: catena resume %s",
			wordedSystem(err), j.ID)}
	}
	if showErr != nil {
		a.log.Warn("the job could not be shown", "err", showErr)
	}
	if w.DiskWasFull() {
		a.say("The disk of the site folder became full: devices in progress were finished, and no more "+
			"were started. Free some space (catena shelf tidy), then: catena retry %s", j.ID)
	}
	state, err = w.JobState(j.ID)
	return state, stopped, err
}

// stayAwake keeps this machine awake for a job, until the returned function is called, and says
// what to mind.
func (a *app) stayAwake(id string) (release func()) {
	if runtime.GOOS != "windows" { // there the program ends with its window
		a.say("Job %s is running. You can close this window; watch the job again: catena track %[1]s", id)
	}
	release, awake := machine.KeepAwake("job " + id + " is writing to devices")
	switch {
	case awake:
		a.say("This machine is kept awake while the job runs, but a closed lid may put it to sleep.")
	case a.style(a.human()).Terminal:
		a.say("This machine cannot be kept awake from here: keep it on power, and its lid open.")
	}
	a.say("")
	return release
}

func (a *app) rollbackCmd() *cobra.Command {
	var f jobFlags
	var ask wishFlags
	var to, of, component string
	c := &cobra.Command{
		Use:   "rollback DEVICE… | --job JOB",
		Short: "Roll devices back to their previous version",
		Long: `Roll devices back to the version they ran before the last job that changed them, or
to the version given with --to. A device with that version in its other slot is switched to it; any
other device is sent the image from the shelf. The result is verified as after a flash.`,
		Example: `  catena rollback cam-11
  catena rollback --to 3.1.0 cam-11 cam-21
  catena rollback --component crypto gate-2
  catena rollback --job j3`,
		RunE: func(c *cobra.Command, args []string) error {
			if err := ask.check(c); err != nil {
				return err
			}
			if len(args) == 0 && ask.choice.Where == "" && of == "" {
				return usage("name the devices, or choose them with --where EXPR or --job JOB")
			}
			ask.choice.Names = args
			return a.rollback(c.Context(), f, ask, component, to, of)
		},
	}
	f.flags(c)
	ask.flags(c)
	c.Flags().StringVar(&to, "to", "", "the version to roll back to (default: the previous one)")
	c.Flags().StringVar(&component, "component", firmware.Main,
		"the component to roll back")
	c.Flags().StringVar(&of, "job", "", "all devices that this job updated")
	return c
}

func (a *app) rollback(ctx context.Context, f jobFlags, ask wishFlags, component, to,
	of string) error {
	w, err := a.match()
	if err != nil {
		return err
	}
	defer w.Close()
	chosen, err := w.Choose(ask.choice)
	if err != nil {
		return err
	}
	back, err := w.Rollback(chosen, component, to, of)
	if err != nil {
		return err
	}
	ask.request.Purpose, ask.request.Named = order.Backward, true
	o, skipped, err := a.order(w, ask, back)
	if err != nil {
		return err
	}
	if len(o.Devices) == 0 {
		return a.nothingToDo(true, skipped, true)
	}
	err = a.carryOut(ctx, w, f, o, skipped)
	if err == nil && len(skipped) > 0 {
		return exit{exitFailed, errSilent}
	}
	return err
}
