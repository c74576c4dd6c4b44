package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"os/signal"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/crypto/ssh"

	"catena/internal/cli/view"
	"catena/internal/fleet"
	"catena/internal/order"
	"catena/internal/plan"
	"catena/internal/rollout"
	"catena/internal/words"
)

func (a *app) rolloutCmd() *cobra.Command {
	c := &cobra.Command{
		Use: "rollout", Short: "Bring many sites to one version, in waves",
		Long: `A rollout gives each of many sites a signed order for its station, wave after wave. The folder
has a folder for each site, synced with the office (catena sync SITE.office --into FOLDER). The next
wave is released when the one before has ended, has soaked, and has stayed under the limit of
failures. Each site keeps its own windows and time zone.`,
		Example: `  catena rollout new winter --in ~/sites --where 'model == "WX-40"' --first Dunmarrow
  catena rollout run winter --in ~/sites --key ~/.ssh/id_ed25519`,
		Args: onlyCommands, RunE: help,
	}
	c.AddCommand(a.rolloutNewCmd(), a.rolloutShowCmd(), a.rolloutRunCmd(), a.rolloutStopCmd(),
		a.rolloutResumeCmd())
	return c
}

// rolloutFlags are those of catena rollout new.
type rolloutFlags struct {
	in, waves, stopAfter string
	first                []string
	of                   rollout.Rollout
}

func (a *app) rolloutNewCmd() *cobra.Command {
	var f rolloutFlags
	c := &cobra.Command{
		Use:   "new NAME",
		Short: "Make a rollout",
		Long: `Make a rollout for the devices that --where chooses at all sites; site is one of its fields. The
sites with the fewest devices come first, unless --first names others. No site is changed: catena
rollout run releases the first wave.`,
		Example: `  catena rollout new winter --in ~/sites --where 'model == "WX-40"' --to 3.2.1
  catena rollout new winter --in ~/sites --waves 1,10%,rest --soak 24h --stop-after 2%
  catena rollout new gates --in ~/sites --where 'model == "TG-200"' --accept gate-blocked`,
		Args: exactly(1, "a name for the rollout"),
		RunE: func(c *cobra.Command, args []string) error {
			f.of.Name = args[0]
			return a.rolloutNew(c.Context(), f)
		},
	}
	fleetIn(c, &f.in)
	c.Flags().StringVar(&f.of.Where, "where", "", "the devices: an expression, as in catena list")
	c.Flags().
		StringVar(&f.of.To, "to", "", "the version to install (default: the targets of each site)")
	c.Flags().
		StringVar(&f.waves, "waves", "1,10%,rest", "the sites of each wave: numbers, shares, rest")
	c.Flags().StringArrayVar(&f.first, "first", nil, "a site that comes first; may be repeated")
	c.Flags().DurationVar(&f.of.Soak, "soak", 24*time.Hour,
		"how long the devices of a wave must have been updated before the next one is released")
	c.Flags().StringVar(&f.stopAfter, "stop-after", "2%",
		"release nothing more after this number or share of failed devices")
	c.Flags().DurationVar(&f.of.Valid, "valid", 7*24*time.Hour,
		"for how long a station may start its order after it was released")
	c.Flags().StringVar(&f.of.Note, "note", "", "a note for the orders and their jobs")
	c.Flags().StringArrayVar(&f.of.Accept, "accept", nil,
		"accept a caution by its name, or all; may be repeated")
	return c
}

func (a *app) rolloutNew(ctx context.Context, f rolloutFlags) error {
	if err := order.CheckName(f.of.Name); err != nil {
		return usage("%w", err)
	}
	if f.of.Soak < 0 || f.of.Valid <= 0 {
		return usage("--soak and --valid are durations such as 24h")
	}
	if f.in == "" {
		return usage("--in is missing: the folder with the site folders")
	}
	var err error
	if f.of.StopAfter, err = stopAfter(f.stopAfter); err != nil {
		return err
	}
	all, err := a.openFleet(ctx, f.in, fleet.Reading{})
	if err != nil {
		return err
	}
	if len(all.Unread()) > 0 {
		return refused("no rollout was made: every site folder must be readable")
	}
	sites, err := a.rolloutSites(f, all)
	if err != nil {
		return err
	}
	if f.of.Waves, err = rollout.Waves(f.waves, sites); err != nil {
		return usage("%w", err)
	}
	f.of.Format, f.of.Made = rollout.FileFormat, a.now().UTC().Truncate(time.Second)
	if err := rollout.Create(f.in, f.of); err != nil {
		return rolloutFault(err)
	}
	a.say(
		"Made the rollout %s: %s at %s, in %s.\nShow its forecast: catena rollout show %[1]s --in "+
			"%[5]s. Release the first wave: catena rollout run %[1]s --in %[5]s --key FILE",
		f.of.Name,
		words.Plural(f.of.Devices(), "device"),
		words.Plural(len(sites), "site"),
		words.Plural(len(f.of.Waves), "wave"),
		f.in,
	)
	return nil
}

// rolloutSites are the sites that have something to do, in the sequence of the waves.
func (a *app) rolloutSites(f rolloutFlags, all fleet.Fleet) (out []rollout.Site, err error) {
	var open []string
	for _, s := range all.Sites {
		w, err := a.matchIn(s.Folder)
		if err != nil {
			return nil, err
		}
		o, err := f.of.Make(w, "")
		isOrder, _ := w.IsOrder(f.of.Name)
		w.Close()
		var cautions *rollout.NotAcceptedError
		switch {
		case errors.Is(err, rollout.ErrNothing):
			continue
		case errors.As(err, &cautions):
			for _, c := range o.Cautions {
				if slices.Contains(cautions.Cautions, c.Name) {
					open = append(open, c.Name)
					a.warn("Caution %s (%s, %s): %s", c.Name, s.Name, words.Few(c.Devices), c.Text)
				}
			}
		case err != nil:
			return nil, fmt.Errorf("%s: %w", s.Name, err)
		case isOrder:
			return nil, refused("%s has an order %s already; choose another name", s.Name, f.of.Name)
		}
		if _, err := os.Stat(filepath.Join(s.Folder, plan.OfficeFile)); err != nil {
			return nil, refused(
				"%s does not meet its station at an office yet: catena sync SITE.office -C %s",
				s.Name,
				s.Folder,
			)
		}
		out = append(out, rollout.Site{Name: s.Name, ID: s.ID, Devices: len(o.Devices)})
	}
	slices.Sort(open)
	open = slices.Compact(open)
	if len(open) > 0 {
		return nil, refused("no rollout was made; accept its cautions: --accept %s",
			strings.Join(open, " --accept "))
	}
	if len(out) == 0 {
		return nil, refused("no rollout was made: no device of any site needs it")
	}
	return out, sortSites(out, f.first)
}

// sortSites puts the sites that a person names first, and then those with the fewest devices.
func sortSites(sites []rollout.Site, first []string) error {
	at := map[string]int{}
	for i, name := range first {
		at[strings.ToLower(name)] = i - len(first)
		if !slices.ContainsFunc(
			sites,
			func(s rollout.Site) bool { return strings.EqualFold(s.Name, name) },
		) {
			return usage("--first %s: no such site has something to do", name)
		}
	}
	slices.SortStableFunc(sites, func(a, b rollout.Site) int {
		return cmp.Or(at[strings.ToLower(a.Name)]-at[strings.ToLower(b.Name)], a.Devices-b.Devices)
	})
	return nil
}

// rolloutFault words errors of the files of rollouts.
func rolloutFault(err error) error {
	var unknown *rollout.UnknownError
	switch {
	case errors.Is(err, rollout.ErrThere):
		return usage("%w; choose another name", err)
	case errors.As(err, &unknown):
		return usage("%w; list them: catena rollout show --in FOLDER", err)
	}
	return err
}

// rolling is a rollout and the folders of its sites.
type rolling struct {
	app *app
	in  string
	rollout.Rollout
	folders map[string]string // by ID of the site
}

// openRollout opens a rollout of the sites of a folder.
func (s *sites) openRollout(ctx context.Context, name string) (*rolling, error) {
	r, err := rollout.Read(s.in, name)
	if err != nil {
		return nil, rolloutFault(err)
	}
	if err := s.look(ctx); err != nil {
		return nil, err
	}
	return &rolling{s.app, s.in, r, s.read(fleet.Reading{}).Folders()}, nil
}

var errNoFolder = errors.New("its folder is missing, or cannot be read")

// ids are those of its sites that have a folder.
func (r *rolling) ids() (out []string) {
	for _, s := range slices.Concat(r.Waves...) {
		if r.folders[s.ID] != "" {
			out = append(out, s.ID)
		}
	}
	return out
}

// open opens the folder of a site, matched.
func (r *rolling) open(id string) (*plan.Site, error) {
	if r.folders[id] == "" {
		return nil, errNoFolder
	}
	return r.app.matchIn(r.folders[id])
}

// openOnly opens the folder of a site, and compares nothing with the shelf.
func (r *rolling) openOnly(id string) (*plan.Site, error) {
	if r.folders[id] == "" {
		return nil, errNoFolder
	}
	return r.app.openIn(r.folders[id])
}

// look tells how far all sites are.
func (r *rolling) look() (all []rollout.Progress, err error) {
	for wave, sites := range r.Waves {
		for _, s := range sites {
			w, failed := r.openOnly(s.ID)
			p, err := r.Look(s, wave+1, w, r.app.now())
			if w != nil {
				w.Close()
			}
			if err != nil {
				return nil, fmt.Errorf("%s: %w", s.Name, err)
			}
			if failed != nil {
				p.Why = failed.Error()
			}
			all = append(all, p)
		}
	}
	return all, nil
}

func (a *app) rolloutShowCmd() *cobra.Command {
	var in string
	c := &cobra.Command{
		Use:   "show [NAME]",
		Short: "Show how far a rollout is, and its forecast; without NAME, list all",
		Long: `Show each site of a rollout: its wave, how far it is, how its devices ended, and when it is
expected to start. How far a site is follows from its folder, as it was synced last.`,
		Example: "  catena rollout show --in ~/sites\n  catena rollout show winter --in ~/sites",
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) > 1 {
				return usage("catena rollout show takes at most one rollout")
			}
			return nil
		},
		RunE: func(c *cobra.Command, args []string) error {
			if len(args) == 0 {
				return a.rolloutList(in)
			}
			s, err := a.sitesOf(in, false)
			if err != nil {
				return err
			}
			r, err := s.openRollout(c.Context(), args[0])
			if err != nil {
				return err
			}
			return r.show()
		},
	}
	fleetIn(c, &in)
	return c
}

func (a *app) rolloutList(in string) error {
	if in == "" {
		return usage("--in is missing: the folder with the site folders")
	}
	names, err := rollout.Names(in)
	if err != nil {
		return err
	}
	if len(names) == 0 && a.format == "table" {
		a.say("There are no rollouts. Make one: catena rollout new NAME --in %s", in)
		return nil
	}
	t := view.Table{Columns: []string{"rollout", "made", "waves", "devices", "note"}}
	lines := []rollout.Rollout{}
	for _, name := range names {
		r, err := rollout.Read(in, name)
		if err != nil {
			return err
		}
		lines = append(lines, r)
		t.Add(r.Name, r.Made.Local().Format("2006-01-02 15:04"), len(r.Waves), r.Devices(), r.Note)
	}
	return a.emit(lines, t)
}

func (r *rolling) show() error {
	all, err := r.look()
	if err != nil {
		return err
	}
	d, err := r.Decide(all, r.app.now())
	if err != nil {
		return err
	}
	expected := r.Forecast(all, r.app.now(), r.open)
	if r.app.format == "json" {
		return r.app.emit(map[string]any{"rollout": r.Rollout, "sites": all, "decision": d,
			"expected": expected}, view.Table{})
	}
	t := view.Table{
		Columns: []string{"wave", "site", "step", "devices", "done", "failed", "job", "details"},
		Less:    []string{"job"},
	}
	for _, p := range all {
		t.Add(p.Wave, p.Name, stepCell(p), p.Devices, p.Done, p.Failed, p.Job, details(p, expected[p.ID]))
	}
	if err := r.app.emit(nil, t); err != nil || r.app.format != "table" {
		return err
	}
	r.app.say("\n%s", r.verdict(all, d))
	return nil
}

func stepCell(p rollout.Progress) view.Cell {
	if p.Failed > 0 || p.Unknown {
		return view.Bad.Cell(string(p.Step))
	}
	return view.Cell{Text: string(p.Step)}
}

// details says in words what a person wants to know of a site.
func details(p rollout.Progress, e rollout.Expected) string {
	at := func(t time.Time) string { return t.Local().Format("Mon 2006-01-02 15:04") }
	text := ""
	switch {
	case p.Step == rollout.Waiting && !e.Start.IsZero():
		text = "not before " + at(e.Start)
	case p.Step == rollout.Released:
		text = "starts before " + at(p.Until)
	case p.Step == rollout.Soaking:
		text = "soaks until " + at(p.Until)
	}
	if p.Left > 0 {
		text = strings.TrimPrefix(fmt.Sprintf("%s; left alone: %d", text, p.Left), "; ")
	}
	return strings.TrimSuffix(strings.TrimPrefix(text+"; "+p.Why, "; "), "; ")
}

// verdict says how the rollout stands.
func (r *rolling) verdict(all []rollout.Progress, d rollout.Decision) string {
	over, done, failed := 0, 0, 0
	for _, p := range all {
		done, failed = done+p.Done, failed+p.Failed
		if p.Step == rollout.Over {
			over++
		}
	}
	text := fmt.Sprintf("Rollout %s: %d of %s over; %s done, %d failed.", r.Name, over,
		words.Plural(len(all), "site"), words.Plural(done, "device"), failed)
	if d.Halted != "" {
		text += fmt.Sprintf(" Nothing more is released: %s. To continue: catena rollout resume %s",
			d.Halted, r.Name)
	}
	return text
}

func (a *app) rolloutRunCmd() *cobra.Command {
	var in, key string
	var once bool
	var every time.Duration
	c := &cobra.Command{
		Use:   "run NAME --key FILE",
		Short: "Release wave after wave, until the rollout is over",
		Long: `Sync the sites of a rollout with their offices, and give each site of the next wave its signed
order, until all sites are over, or Ctrl-C. It can be ended and started again at any time: how far
the rollout is follows from the sites. A released order is carried out whether this runs or not.
--once looks once and ends, for a timer.`,
		Example: `  catena rollout run winter --in ~/sites --key ~/.ssh/id_ed25519
  catena rollout run winter --in ~/sites --key ~/.ssh/id_ed25519 --once`,
		Args: exactly(1, "one rollout"),
		RunE: func(c *cobra.Command, args []string) error {
			if key == "" {
				return usage("name the key that signs the orders: --key FILE")
			}
			signer, err := a.privateKey(key)
			if err != nil {
				return err
			}
			return a.rolloutRun(c.Context(), in, args[0], signer, once, every)
		},
	}
	fleetIn(c, &in)
	c.Flags().StringVar(&key, "key", "",
		"the key that signs: a private key, or a public key held by an agent")
	c.Flags().BoolVar(&once, "once", false, "one round")
	everyVar(c, &every)
	return c
}

func (a *app) rolloutRun(ctx context.Context, in, name string, key ssh.Signer, once bool,
	every time.Duration) error {
	ctx, stop := signal.NotifyContext(ctx, os.Interrupt, syscall.SIGTERM)
	defer stop()
	s, err := a.sitesOf(in, false)
	if err != nil {
		return err
	}
	told := words.News{}
	for {
		r, err := s.openRollout(ctx, name)
		if err != nil {
			return err
		}
		over, err := r.round(ctx, key, told)
		if ctx.Err() != nil {
			return nil
		}
		if err != nil || over || once {
			return err
		}
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(every):
		}
	}
}

// round syncs the sites, releases what may be released, and syncs those again.
func (r *rolling) round(ctx context.Context, key ssh.Signer, told words.News) (over bool,
	err error) {
	once := func(subject, format string, args ...any) {
		if text := view.Sprint(format, args...); told.Is(subject, text) {
			view.Print(r.app.human(), "%s  %s\n", r.app.now().Format("15:04:05"), text)
		}
	}
	for id, err := range r.app.syncFolders(ctx, r.folders, r.ids()) {
		once("sync "+id, "%s: %v; it is tried again.", r.folders[id], err)
	}
	all, err := r.look()
	if err != nil {
		return false, err
	}
	d, err := r.release(ctx, key, all, once)
	if err != nil {
		return false, err
	}
	for _, p := range all {
		once(p.ID, "%s: %s", p.Name, strings.TrimSpace(string(p.Step)+" "+
			strings.TrimSuffix("("+details(p, rollout.Expected{})+")", "()")))
	}
	if d.Halted != "" && !d.Over {
		once("", "%s", r.verdict(all, d))
	}
	if !d.Over {
		return false, nil
	}
	r.app.say("%s", r.verdict(all, d))
	if d.Halted != "" ||
		slices.ContainsFunc(all, func(p rollout.Progress) bool { return p.Failed > 0 }) {
		return true, exit{exitFailed, errSilent}
	}
	return true, nil
}

// release gives orders to the sites whose turn it is. all is changed to what is known then.
func (r *rolling) release(ctx context.Context, key ssh.Signer, all []rollout.Progress,
	once func(subject, format string, args ...any)) (rollout.Decision, error) {
	for {
		d, err := r.Decide(all, r.app.now())
		if err != nil || len(d.Release) == 0 || ctx.Err() != nil {
			return d, err
		}
		var released []string
		for _, s := range d.Release {
			i := slices.IndexFunc(all, func(p rollout.Progress) bool { return p.ID == s.ID })
			w, err := r.open(s.ID)
			if err == nil {
				err = r.Release(w, key, whoami())
				w.Close()
			}
			switch {
			case errors.Is(err, rollout.ErrNothing):
				all[i].Step, all[i].Why = rollout.Over, err.Error()
			case err != nil:
				all[i].Unknown, all[i].Why = true, err.Error()
			default:
				all[i].Step, all[i].Until = rollout.Released, r.app.now().Add(r.Valid)
				released = append(released, s.ID)
			}
		}
		for id, err := range r.app.syncFolders(ctx, r.folders, released) {
			once("sync "+id, "%s: %v; it is tried again.", r.folders[id], err)
		}
	}
}

func (a *app) rolloutStopCmd() *cobra.Command {
	var in, because string
	c := &cobra.Command{
		Use:   "stop NAME",
		Short: "Release nothing more",
		Long: `Release no more sites of a rollout. Jobs that run continue, and orders that were released are
carried out: stop those at their sites.`,
		Example: "  catena rollout stop winter --in ~/sites --because \"cam-11 is dark\"\n" +
			"  catena rollout stop winter --in ~/sites",
		Args: exactly(1, "one rollout"),
		RunE: func(_ *cobra.Command, args []string) error {
			if in == "" {
				return usage("--in is missing: the folder with the site folders")
			}
			err := rollout.Change(in, args[0], func(r *rollout.Rollout) {
				r.Held = cmp.Or(because, "it was stopped by "+whoami())
			})
			if err != nil {
				return rolloutFault(err)
			}
			a.say("The rollout %s releases nothing more. To continue: catena rollout resume %[1]s --in %s",
				args[0], in)
			return nil
		},
	}
	fleetIn(c, &in)
	c.Flags().StringVar(&because, "because", "", "why")
	return c
}

func (a *app) rolloutResumeCmd() *cobra.Command {
	var in, after string
	c := &cobra.Command{
		Use:   "resume NAME",
		Short: "Release again",
		Long: `Let a rollout that was stopped release sites again: catena rollout run continues. One that has
stopped because too many devices failed needs another limit.`,
		Example: "  catena rollout resume winter --in ~/sites\n" +
			"  catena rollout resume winter --in ~/sites --stop-after 10%",
		Args: exactly(1, "one rollout"),
		RunE: func(_ *cobra.Command, args []string) error {
			if in == "" {
				return usage("--in is missing: the folder with the site folders")
			}
			var limit order.StopAfter
			if after != "" {
				var err error
				if limit, err = stopAfter(after); err != nil {
					return err
				}
			}
			err := rollout.Change(in, args[0], func(r *rollout.Rollout) {
				r.Held = ""
				if after != "" {
					r.StopAfter = limit
				}
			})
			if err != nil {
				return rolloutFault(err)
			}
			a.say("The rollout %s continues with: catena rollout run %[1]s --in %s --key FILE", args[0], in)
			return nil
		},
	}
	fleetIn(c, &in)
	c.Flags().StringVar(&after, "stop-after", "", "another limit of failed devices: 3, or 10%")
	return c
}
