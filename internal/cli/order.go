package cli

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/crypto/ssh"

	"catena/internal/care"
	"catena/internal/cli/view"
	"catena/internal/order"
	"catena/internal/plan"
	"catena/internal/site"
	"catena/internal/words"
	"catena/internal/workspace"
)

// wishFlags are what the commands share that make an order.
type wishFlags struct {
	choice    workspace.Choice
	all       bool
	request   plan.Request
	stopAfter string
	to        string        // a version
	fit       time.Duration // 0: everything
	changed   bool          // a person gave one of them
}

func (f *wishFlags) flags(c *cobra.Command) {
	whereFlag(c, &f.choice)
	c.Flags().StringArrayVar(&f.choice.Except, "except", nil,
		"leave this device or group out; may be repeated")
	c.Flags().IntVar(&f.request.Parallel, "parallel", 0,
		fmt.Sprintf("how many devices are updated at the same time (default: the site's limit, or %d)",
			plan.UsualParallel))
	c.Flags().BoolVar(&f.request.NoPilot, "no-pilot", false,
		"do not wait until the first device of each model and image is verified")
	c.Flags().StringVar(&f.stopAfter, "stop-after", "",
		"start no more devices after this number or share of failures: 3, or 20% (default: the "+
			"site's limit)")
	c.Flags().StringVar(&f.request.Note, "note", "",
		"a note for the order and its job")
	c.Flags().DurationVar(&f.request.GiveUp, "give-up", 0,
		"the longest time for one device, all steps together; a write is always waited for")
}

// check reads what the flags say.
func (f *wishFlags) check(c *cobra.Command) error {
	if c.Flags().Changed("parallel") && f.request.Parallel < 1 || f.request.Parallel > mostParallel {
		return usage("--parallel %d must be from 1 to %d", f.request.Parallel, mostParallel)
	}
	if f.request.GiveUp < 0 {
		return usage("--give-up %s: write for example 30m", f.request.GiveUp)
	}
	if f.stopAfter == "" {
		return nil
	}
	var err error
	f.request.StopAfter, err = stopAfter(f.stopAfter)
	return err
}

// stopAfter reads --stop-after: a number or a share of devices.
func stopAfter(text string) (s order.StopAfter, err error) {
	if strings.HasSuffix(text, "%") {
		if s.Share, err = site.ParseShare(text); err != nil {
			return s, usage("--stop-after: %w", err)
		}
		return s, nil
	}
	if s.Failures, err = strconv.Atoi(text); err != nil || s.Failures < 1 {
		return s, usage("--stop-after %s: write a number or a share, such as 3 or 20%%", text)
	}
	return s, nil
}

// mostParallel bounds what a person may ask for: each takes a connection and its buffers.
const mostParallel = 512

// forward are the flags of orders that bring devices to their targets.
func (f *wishFlags) forward(c *cobra.Command) {
	f.flags(c)
	c.Flags().BoolVar(&f.all, "all", false, "all devices that are behind or unsafe")
	c.Flags().StringVar(&f.to, "to", "", "the version to install (default: the target)")
	c.Flags().BoolVar(&f.request.Again, "again", false,
		"send the named devices their current version again; their restart must be observed")
	c.Flags().DurationVar(&f.fit, "fit", 0,
		"only devices that can be verified or rolled back within this time, such as 40m; "+
			"unsafe ones first")
}

// chosen reads which devices the flags and words mean.
func (f *wishFlags) chosen(c *cobra.Command, names []string) error {
	for _, name := range []string{"where", "except", "all", "to", "again", "fit", "note", "parallel",
		"no-pilot",
		"stop-after", "give-up"} {
		f.changed = f.changed || c.Flags().Changed(name)
	}
	f.choice.Names = names
	f.request.Purpose, f.request.Named = order.Forward, len(names) > 0
	switch {
	case f.all && (len(names) > 0 || f.choice.Where != ""):
		return usage("--all means every device; leave it out to update only the named ones")
	case len(names) == 0 && f.choice.Where == "" && !f.all:
		return usage("name the devices, or choose them with --where EXPR or --all; to see what " +
			"would be flashed: catena match")
	case f.request.Again && (len(names) == 0 || f.to != ""):
		return usage("--again requires the names of devices, and no --to: a healthy device is " +
			"not touched without a reason")
	case f.fit < 0:
		return usage("--fit %s: write for example 40m", f.fit)
	}
	return f.check(c)
}

// makeOrder makes an order of what the flags say. skipped are rows that were chosen and are not
// in it.
func (a *app) makeOrder(w *plan.Site, f wishFlags) (o order.Order,
	skipped []workspace.Row, err error) {
	rows, err := w.Choose(f.choice)
	if err != nil {
		return o, nil, err
	}
	if rows, err = w.Paths(rows, f.to, f.request.Again); err != nil {
		return o, nil, a.unreachable(err)
	}
	return a.order(w, f, rows)
}

// order makes an order of rows, and says which of those that were named are not in it.
func (a *app) order(w *plan.Site, f wishFlags, rows []workspace.Row) (o order.Order,
	skipped []workspace.Row, err error) {
	o, skipped, late, err := w.Make(f.request, rows, f.fit)
	if err == nil && f.request.Named {
		for _, r := range skipped {
			view.Print(a.err, "skipped %s (%s): %s\n", r.Part(), r.Status, r.Reason)
		}
	}
	if err == nil && len(late) > 0 {
		a.say("Left out, because there is no time: %s.", strings.Join(late, ", "))
	}
	return o, skipped, err
}

func (a *app) orderCmd() *cobra.Command {
	c := &cobra.Command{
		Use:   "order",
		Short: "Make, show, check and sign work orders",
		Long: `A work order is a file in the site's orders/ folder. It lists the devices with their
current and target versions, the rules that apply, the cautions and who accepted them. It is made in
the office, read and checked by others, and carried out at night: catena flash ORDER.`,
		Example: "  catena order new night-1 --all --note \"before the winter stoppage\"\n  catena " +
			"order show night-1\n  catena order check night-1",
		Args: onlyCommands, RunE: help,
	}
	c.AddCommand(a.orderNewCmd(), a.orderListCmd(), a.orderShowCmd(), a.orderCheckCmd(),
		a.orderSignCmd())
	return c
}

func (a *app) orderNewCmd() *cobra.Command {
	var f wishFlags
	var errand errandFlags
	var accept []string
	c := &cobra.Command{
		Use:   "new NAME DEVICE… | --where EXPR | --all",
		Short: "Make an order for devices that are behind",
		Long: `Make an order for the chosen devices that are behind, and save it as
orders/NAME.yaml. No device is contacted. You can edit the file.

With --for-station the site's station carries it out, once, after you have signed it (catena order
sign) and sent it (catena sync). Accept its cautions now: no one is there to ask. Accept the caution
unseen, too, if it may start while the office cannot be reached.`,
		Example: `  catena order new night-1 --all
  catena order new cameras --where 'vendor == "Wexcombe"' --fit 40m
  catena order new night-1 --all --except cam-11 --except chamber-2
  catena order new again cam-11 --again --note "suspect image"
  catena order new night-2 --all --for-station --after 22:00 --valid 72h`,
		Args: atLeast(1, "a name for the order, then devices, --where or --all"),
		RunE: func(c *cobra.Command, args []string) error {
			if err := f.chosen(c, args[1:]); err != nil {
				return err
			}
			if err := order.CheckName(args[0]); err != nil {
				return usage("%w", err)
			}
			if err := errand.check(); err != nil {
				return err
			}
			f.request.Name = args[0]
			return a.orderNew(f, errand, accept)
		},
	}
	f.forward(c)
	c.Flags().StringArrayVar(&accept, "accept", nil,
		"accept a caution by its name, or all printed cautions; may be repeated")
	c.Flags().BoolVar(&errand.is, "for-station", false, "the site's station carries it out")
	c.Flags().StringVar(&errand.after, "after", "",
		"with --for-station: not before +2h, 22:30, or an RFC 3339 time (default: at once)")
	c.Flags().DurationVar(&errand.valid, "valid", 7*24*time.Hour,
		"with --for-station: for how long it may start")
	return c
}

// errandFlags say what an order tells a station.
type errandFlags struct {
	is    bool
	after string
	valid time.Duration
}

func (f errandFlags) check() error {
	switch {
	case f.after != "" && !f.is:
		return usage(
			"--after is for --for-station; for a person's order: catena flash ORDER --start TIME",
		)
	case f.valid <= 0:
		return usage("--valid %s: write for example 72h", f.valid)
	}
	return nil
}

func (a *app) orderNew(f wishFlags, errand errandFlags, accept []string) error {
	w, err := a.match()
	if err != nil {
		return err
	}
	defer w.Close()
	o, skipped, err := a.makeOrder(w, f)
	if err != nil {
		return err
	}
	if len(o.Devices) == 0 {
		return a.nothingToDo(f.to != "" || f.request.Again, skipped, f.request.Named)
	}
	tonight, start := o, w.NextStart()
	w.FillAtStart(&tonight, start)
	forecast, err := order.Forecast(tonight, start)
	if err != nil {
		return err
	}
	if errand.is {
		if err := w.ForStation(&o, errand.after, errand.valid, accept); err != nil {
			return err
		}
	}
	if len(accept) > 0 || errand.is { // no one is there to ask later
		if err := a.acceptCautions(&o, accept); err != nil {
			return err
		}
	}
	path, err := w.SaveOrder(o)
	if err != nil {
		return err
	}
	tonight.Cautions = o.Cautions
	a.announce(tonight, forecast, skipped)
	notes, err := w.NotesOf(o)
	if err != nil {
		return err
	}
	if len(notes) > 0 {
		a.say("Release notes of %s: catena order show %s --notes",
			words.Plural(len(notes), "version"), o.Name)
	}
	for _, b := range w.BroughtBy(o) {
		a.say("With %s, %s updates its %s to %s itself; they are read once it has it", b.Version,
			b.Device, b.Model, b.To)
	}
	if errand.is {
		a.say("Made the order %s for the station: %s\nSign it: catena order sign %[1]s --key FILE. Then "+
			"send it: catena sync PLACE", o.Name, path)
		return nil
	}
	a.say("Made the order %s: %s\nShow its forecast: catena order show %[1]s. Carry it out: "+
		"catena flash %[1]s", o.Name, path)
	return nil
}

func (a *app) orderListCmd() *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List the site's orders", Args: exactly(0, "no arguments"),
		Long:    "List the site's orders, by name.",
		Example: "  catena order list\n  catena order list --format json",
		RunE:    func(*cobra.Command, []string) error { return a.orderList() },
	}
}

// orderLine is one order in a list.
type orderLine struct {
	Name    string        `json:"name"`
	Purpose order.Purpose `json:"purpose"`
	Made    time.Time     `json:"made"`
	Devices int           `json:"devices"`
	Note    string        `json:"note"`
	Fault   string        `json:"fault,omitempty"` // why its file cannot be read
}

func (a *app) orderList() error {
	w, err := a.openSite()
	if err != nil {
		return err
	}
	defer w.Close()
	names, err := w.Orders()
	if err != nil {
		return err
	}
	if len(names) == 0 && a.format == "table" {
		a.say("The site has no orders. Make one: catena order new night-1 --all")
		return nil
	}
	lines := []orderLine{}
	t := view.Table{Columns: []string{"order", "purpose", "made", "devices", "note"}}
	for _, name := range names {
		o, err := w.ReadOrder(name)
		line := orderLine{Name: name, Purpose: o.Purpose, Made: o.Made, Devices: len(o.Devices),
			Note: o.Note}
		note, made := view.Cell{Text: o.Note}, o.Made.Local().Format("2006-01-02 15:04")
		if err != nil {
			line.Fault, made = err.Error(), ""
			note = view.Bad.Cell(line.Fault)
		}
		lines = append(lines, line)
		t.Add(name, o.Purpose, made, len(o.Devices), note)
	}
	return a.emit(lines, t)
}

func (a *app) orderShowCmd() *cobra.Command {
	var notes bool
	c := &cobra.Command{
		Use:   "show ORDER|JOB",
		Short: "Show the forecast of an order, one lane per device",
		Long: `Show an order as lanes over time: when each device would start, its estimated
duration, its versions, how it would be rolled back, and what you must know. The forecast uses the
decisions of a real job on a virtual clock. With --notes, print the release notes of every version
that a device passes through instead.`,
		Example: "  catena order show night-1\n  catena order show j3\n" +
			"  catena order show night-1 --notes",
		Args: exactly(1, "one order, or one job"),
		RunE: func(_ *cobra.Command, args []string) error {
			w, err := a.match()
			if err != nil {
				return err
			}
			defer w.Close()
			o, err := w.OrderOf(args[0])
			switch {
			case err != nil:
				return err
			case notes:
				return a.showNotes(w, o)
			}
			return a.showOrder(w, o)
		},
	}
	c.Flags().BoolVar(&notes, "notes", false, "print the release notes of its versions")
	return c
}

// showNotes prints the release notes of every version that the devices of an order pass through.
func (a *app) showNotes(w *plan.Site, o order.Order) error {
	all, err := w.NotesOf(o)
	if err != nil {
		return err
	}
	if a.format == "json" {
		return a.printJSON(append([]plan.Notes{}, all...))
	}
	if len(all) == 0 {
		a.say("None of the images of %s has release notes.", o.Name)
	}
	for i, n := range all {
		if i > 0 {
			view.Print(a.out, "\n")
		}
		view.Print(a.out, "%s %s (%s)\n\n%s", n.Model, n.Version, words.Few(n.Devices),
			view.Markdown(n.Text, a.style(a.out)))
	}
	return nil
}

// lane is one device of an order as it would go.
type lane struct {
	Start      float64 `json:"start"` // seconds from the order's start
	Takes      float64 `json:"takes"` // seconds
	Because    string  `json:"because"`
	ID         string  `json:"id"`
	Device     string  `json:"device"`
	Model      string  `json:"model"`
	From       string  `json:"from"`
	To         string  `json:"to"`
	Rollback   string  `json:"rollback"`
	NotStarted string  `json:"left,omitempty"` // why it would not start
}

func (a *app) showOrder(w *plan.Site, o order.Order) error {
	start := w.NextStart()
	w.FillAtStart(&o, start)
	p, err := order.Forecast(o, start)
	if err != nil {
		return err
	}
	out := struct {
		order.Order
		Lanes   []lane  `json:"lanes"`
		Takes   float64 `json:"takes"` // seconds
		Bound   float64 `json:"bound"` // seconds: no sequence could take less
		BoundBy string  `json:"bound_by"`
	}{Order: o, Takes: p.End.Sub(p.Start).Seconds(), Bound: p.Bound.Seconds(), BoundBy: p.BoundBy}
	style := a.style(a.human())
	width := laneWidth
	if style.Width > 0 { // what the other columns leave of a narrow terminal
		width = max(narrowLane, min(laneWidth, style.Width-otherColumns))
	}
	t := view.Table{Columns: []string{"start", "device", "model", "from → to", "rollback", "takes",
		words.Clock(p.End.Sub(p.Start))}}
	for _, s := range p.Spans {
		var d order.Device
		for _, x := range o.Devices {
			if x.ID == s.Device {
				d = x
			}
		}
		l := lane{Start: s.Start.Sub(p.Start).Seconds(), Takes: s.End.Sub(s.Start).Seconds(),
			Because: d.Because, ID: d.ID, Device: d.Name, Model: d.Model, From: d.From, To: d.To(),
			Rollback: string(d.Rollback())}
		bar := any(style.Lane(s.Start.Sub(p.Start), s.End.Sub(s.Start), p.End.Sub(p.Start), width))
		if s.Why != nil {
			l.NotStarted = s.Why.Error()
			bar = view.Warn.Cell("skipped: " + l.NotStarted)
		}
		out.Lanes = append(out.Lanes, l)
		t.Add(words.Clock(s.Start.Sub(p.Start)), d.Name, d.Model, pathOf(d.Path),
			rollbackCell(l.Rollback), words.Clock(s.End.Sub(s.Start)), bar)
	}
	if a.format != "table" {
		return a.emit(out, t)
	}
	a.sayLate(o, p)
	a.say("Order %s at %s, made %s: %s, %d at a time.", o.Name, o.Site,
		o.Made.Local().Format("2006-01-02 15:04"), words.Plural(len(o.Devices), "device"),
		o.Rules.Parallel)
	if o.Note != "" {
		a.say("Note: %s", o.Note)
	}
	a.say("")
	t.Draw(a.out, style)
	a.say("")
	a.sayCautions(o)
	a.say("%s", expectation(o, p))
	return nil
}

// How many signs wide the lanes are, at least, and what the other columns usually take.
const (
	laneWidth    = 30
	narrowLane   = 10
	otherColumns = 60
)

func (a *app) orderCheckCmd() *cobra.Command {
	var ask bool
	c := &cobra.Command{
		Use:   "check ORDER",
		Short: "Compare an order with the site as it is now",
		Long: `Compare an order with the site as it is now, and list each difference: versions that
changed, missing images, devices that are away, exchanged or on hold, and rules in site.yaml that
changed. What would forbid the update right now is listed with the time when it was read: an
interlock, a login that may read and not update. With --ask every device of the order is read again,
and its login is tested, without changing anything.

The exit code is 0 without differences, 3 if devices would be skipped or could not be updated now,
and 5 if the order would be refused.`,
		Example: "  catena order check night-1\n  catena order check night-1 --ask\n" +
			"  catena order check j3",
		Args: exactly(1, "one order"),
		RunE: func(c *cobra.Command, args []string) error {
			return a.orderCheck(c.Context(), args[0], ask)
		},
	}
	c.Flags().BoolVar(&ask, "ask", false, "read the devices again, and test their logins")
	return c
}

func (a *app) orderCheck(ctx context.Context, name string, ask bool) error {
	var answers []care.Answer
	if ask {
		var err error
		if answers, err = a.askOrder(ctx, name); err != nil {
			return err
		}
	}
	w, err := a.match()
	if err != nil {
		return err
	}
	defer w.Close()
	o, err := w.ReadSigned(name)
	if err != nil {
		return err
	}
	now, untested := w.Obstacles(o)
	differences := slices.Concat(w.Differences(o, false), now, plan.Unready(answers))
	if untested > 0 {
		a.say("Only reading was tested on %s: %s.", words.Plural(untested, "device"),
			map[bool]string{true: "nothing harmless shows whether the login may update",
				false: "to test the logins, add --ask"}[ask])
	}
	t := view.Table{Columns: []string{"device", "then", "what is different"}}
	code := exitDone
	for _, d := range differences {
		then := view.Warn.Cell("is skipped")
		if d.Now {
			then = view.Warn.Cell("not ready")
		}
		if d.Refuses {
			then = view.Bad.Cell("refuses the order")
			code = exitRefused
		} else if code == exitDone {
			code = exitFailed
		}
		t.Add(d.Device, then, d.Text)
	}
	if len(differences) == 0 {
		if _, err := order.Forecast(o, a.now()); err != nil {
			return err
		}
		differences = []plan.Difference{}
		a.say("The order %s can be carried out unchanged.", name)
	}
	if err := a.emit(differences, t); err != nil || code == exitDone {
		return err
	}
	return exit{code, errSilent}
}

func (a *app) orderSignCmd() *cobra.Command {
	var key string
	c := &cobra.Command{
		Use:   "sign ORDER --key FILE",
		Short: "Sign an order",
		Long: `Sign an order with an SSH key: the file of a private key, or of a public key held by
an agent. A site can require one or two signatures (signatures: in site.yaml) before an order is
carried out. An order must be signed again after a change. You can also verify the signature with
ssh-keygen -Y verify, in the namespace catena-order.`,
		Example: "  catena order sign night-1 --key ~/.ssh/id_ed25519\n  catena order sign night-1 " +
			"--key office.pub",
		Args: exactly(1, "one order"),
		RunE: func(_ *cobra.Command, args []string) error {
			if key == "" {
				return usage("name the key that signs: --key FILE; to make one: catena shelf feed key FILE")
			}
			w, err := a.openSite()
			if err != nil {
				return err
			}
			defer w.Close()
			signer, err := a.privateKey(key)
			if err != nil {
				return err
			}
			count, err := w.SignOrder(args[0], signer)
			if err != nil {
				return err
			}
			a.say("Signed the order %s as %s; it has %s now.", args[0],
				ssh.FingerprintSHA256(signer.PublicKey()), words.Plural(count, "signature"))
			return nil
		},
	}
	c.Flags().StringVar(&key, "key", "",
		"the key that signs: a private key, or a public key held by an agent")
	return c
}
