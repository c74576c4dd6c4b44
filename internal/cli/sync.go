package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"os/signal"
	"slices"
	"strings"
	"syscall"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/spf13/cobra"

	"catena/internal/bundle"
	"catena/internal/cli/view"
	"catena/internal/device"
	"catena/internal/ledger"
	"catena/internal/login"
	"catena/internal/office"
	"catena/internal/place"
	"catena/internal/plan"
	"catena/internal/record"
	"catena/internal/wire"
	"catena/internal/words"
)

// syncFlags are those of catena sync.
type syncFlags struct {
	accept               []string
	into, siteName, rate string
	follow               bool
}

// check refuses flags that do not fit together.
func (f syncFlags) check(args []string) error {
	switch {
	case len(args) > 1:
		return usage("catena sync takes one place; see: catena sync --help")
	case len(args) == 0 && f.into != "":
		return usage("--into needs the place to take the site from")
	case f.siteName != "" && f.into == "":
		return usage("--site is for --into")
	case f.follow && (len(args) == 0 || f.into != ""):
		return usage("--follow needs a place, in a site folder")
	}
	return nil
}

// perSecond is the rate in bytes; 0: none.
func (f syncFlags) perSecond() (int64, error) {
	if f.rate == "" {
		return 0, nil
	}
	n, err := humanize.ParseBytes(f.rate)
	if err != nil || n == 0 {
		return 0, usage("--rate %s: write for example 200KiB", f.rate)
	}
	return int64(min(n, 1<<40)), nil
}

func (a *app) syncCmd() *cobra.Command {
	var f syncFlags
	c := &cobra.Command{
		Use:   "sync [PLACE]",
		Short: "Exchange the site's records and files with other laptops",
		Long: `Bring what the place lacks, and take what this folder lacks: the entries of the ledger,
site.yaml, targets.yaml, families, orders with their signatures, images, and saved settings. Logins
are never sent. PLACE is a folder (a stick, a share), sftp://HOST/FOLDER or https://HOST/FOLDER
(WebDAV; add its login with: catena login add --second-place HOST), or the file of credentials that
an office has made (catena office add). A sync that was interrupted is repeated, and continues.

What two people have changed in different places of a file is merged. If both have changed the same,
the file stays as it is, both versions are shown, and no new job starts until you choose.

Each laptop signs its entries. What a laptop that is new here has written is taken once you accept
it by name; compare its fingerprint first: on that laptop, catena ledger check prints it.

With --into a folder is made for a site that is at the place. With --follow the folder is synced
every ten seconds until Ctrl-C, and what changes is printed. Without PLACE, the laptops that have
written here and the open conflicts are listed.`,
		Example: `  catena sync /media/stick
  catena sync sftp://office.example/catena --accept bea
  catena sync marrow-hill.office --rate 200KiB --follow
  catena sync /media/stick --into marrow-hill --accept anna
  catena sync choose site.yaml bea`,
		Args: func(_ *cobra.Command, args []string) error { return f.check(args) },
		RunE: func(c *cobra.Command, args []string) error {
			perSecond, err := f.perSecond()
			switch {
			case err != nil:
				return err
			case len(args) == 0:
				return a.syncState()
			case f.into != "":
				return a.join(c.Context(), args[0], f, perSecond)
			case f.follow:
				return a.followPlace(c.Context(), args[0], f.accept, perSecond)
			}
			return a.sync(c.Context(), args[0], f.accept, perSecond)
		},
	}
	c.Flags().StringArrayVar(&f.accept, "accept", nil,
		"take the entries of a laptop that is new here: its name or fingerprint; may be repeated")
	c.Flags().StringVar(&f.into, "into", "", "make this folder for a site that is at the place")
	c.Flags().StringVar(&f.siteName, "site", "", "with --into: the site's folder at the place, where "+
		"there are several")
	c.Flags().StringVar(&f.rate, "rate", "", "the most per second that files are sent and taken "+
		"with, for example 200KiB")
	c.Flags().BoolVar(&f.follow, "follow", false, "keep syncing until Ctrl-C, and print what changes")
	c.AddCommand(a.syncChooseCmd())
	return c
}

// party is a site folder that meets others at a place.
type party = *bundle.Sync

func (a *app) party(w *plan.Site, at place.Place, accept []string) (party, error) {
	s, err := bundle.Of(w, at)
	s.Accept, s.Progress = accept, func(what string) { a.log.Info(what) }
	return s, err
}

// openPlace opens a place that a person names: a folder, a server, or an office by its credentials.
func openPlace(ctx context.Context, to string, c place.Contact) (place.Place, error) {
	if !office.IsCredentials(to) {
		return place.Open(ctx, to, c)
	}
	credentials, err := office.ReadCredentials(to)
	if err != nil {
		return nil, err
	}
	return place.OpenOffice(ctx, credentials)
}

func (a *app) sync(ctx context.Context, to string, accept []string, perSecond int64) error {
	out, dir, err := a.syncOnce(ctx, to, accept, perSecond)
	if dir == "" {
		return err
	}
	if err == nil {
		if err := a.rememberOffice(dir, to); err != nil {
			return err
		}
	}
	return a.synced(dir, to, out, err)
}

// rememberOffice keeps the credentials of an office that was reached, for the jobs of the site.
func (a *app) rememberOffice(dir, to string) error {
	if !office.IsCredentials(to) {
		return nil
	}
	c, err := office.ReadCredentials(to)
	if err != nil {
		return err
	}
	first, err := plan.RememberOffice(dir, c)
	if first {
		a.say(
			"From now on the jobs of this site take their devices at the office, so that no other machine "+
				"works on them. To end that, remove %s.",
			plan.OfficeFile,
		)
	}
	return err
}

// followEvery is how often a folder is synced that follows a place.
const followEvery = 10 * time.Second

// everyFlag is how often a program looks that runs until Ctrl-C.
type everyFlag time.Duration

// everyVar adds --every to a command.
func everyVar(c *cobra.Command, every *time.Duration) {
	*every = followEvery
	c.Flags().Var((*everyFlag)(every), "every", "the time between two exchanges with the office")
}

func (e *everyFlag) Set(text string) error {
	d, err := time.ParseDuration(text)
	if err != nil || d < time.Second {
		return errors.New("write a duration of at least 1s")
	}
	*e = everyFlag(d)
	return nil
}

func (e *everyFlag) Type() string   { return "duration" }
func (e *everyFlag) String() string { return time.Duration(*e).String() }

// followPlace syncs until Ctrl-C. A place that cannot be reached is tried again, and what was told
// once is not told again.
func (a *app) followPlace(ctx context.Context, to string, accept []string, perSecond int64) error {
	ctx, stop := signal.NotifyContext(ctx, os.Interrupt, syscall.SIGTERM)
	defer stop()
	f := &follower{app: a, to: to, accept: accept, perSecond: perSecond, news: words.News{}}
	for first := true; ; first = false {
		err := f.sync(ctx)
		if err != nil && first && ctx.Err() == nil {
			return err
		}
		switch at := a.now().Format("15:04:05"); {
		case ctx.Err() != nil || !f.news.Is("place", fault(err)):
		case err != nil:
			view.Print(a.err, "%s  %v; it is tried again.\n", at, err)
		default:
			a.say("%s  The place is reached again.", at)
		}
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(followEvery):
		}
	}
}

// follower syncs a folder with a place again and again, and says only what is new.
type follower struct {
	app       *app
	to        string
	accept    []string
	perSecond int64
	news      words.News // what needs a person, and why the place is not reached
}

// sync is one exchange. Its error says why it did not end.
func (f *follower) sync(ctx context.Context) error {
	out, dir, err := f.app.syncOnce(ctx, f.to, f.accept, f.perSecond)
	if err != nil || ctx.Err() != nil {
		return err
	}
	is := f.news.Is("site", fmt.Sprint(out.Strangers, out.Problems, out.Conflicts))
	if is || len(out.Sent)+len(out.Taken)+out.Brought+out.Fetched > 0 {
		var code exit
		if err := f.app.synced(dir, f.to, out, nil); err != nil && !errors.As(err, &code) {
			return err
		}
	}
	return nil
}

// syncOnce syncs the folder with a place; dir is empty where that was not reached.
func (a *app) syncOnce(ctx context.Context, to string, accept []string, perSecond int64) (
	out bundle.Synced, dir string, err error) {
	err = a.meet(ctx, to, func(s party) error {
		s.Accept, s.Rate, dir = accept, perSecond, s.Dir
		out, err = s.Run(ctx)
		return err
	})
	return out, dir, err
}

// meet opens the site folder and a place, for something that they do together.
func (a *app) meet(ctx context.Context, to string, do func(party) error) error {
	dir, err := a.siteDir()
	if err != nil {
		return err
	}
	return a.meetIn(ctx, dir, to, do)
}

// meetIn is meet for the folder of a site.
func (a *app) meetIn(ctx context.Context, dir, to string, do func(party) error) error {
	w, err := a.matchIn(dir)
	if err != nil {
		return err
	}
	defer w.Close()
	contact := place.Contact{}
	if place.IsServer(to) {
		x, err := a.access(w)
		if err != nil {
			return err
		}
		contact = place.Contact{Login: x.Book.At, Trust: x.TrustFirst}
	}
	at, err := openPlace(ctx, to, contact)
	if err != nil {
		return placeFault(to, err)
	}
	defer at.Close()
	s, err := a.party(w, at, nil)
	if err != nil {
		return err
	}
	return do(s)
}

// placeFault says what to do where a place cannot be reached.
func placeFault(to string, err error) error {
	switch {
	case office.IsCredentials(to):
		return err
	case !place.IsServer(to):
		return fmt.Errorf("%w; is the stick or the share connected?", err)
	case strings.Contains(err.Error(), "no login is known"):
		return fmt.Errorf("%w; add it: catena login add --second-place HOST", err)
	}
	return fmt.Errorf("%s: %w", to, err)
}

// synced shows what a sync did. err is why it did not end.
func (a *app) synced(dir, to string, out bundle.Synced, err error) error {
	var other *bundle.OtherSiteError
	switch {
	case errors.As(err, &other):
		return refused("%w: two folders were made for one site. Keep the one whose history matters: "+
			"take it with catena sync %s --into FOLDER --site %s. If they are two sites of one name, sync "+
			"this one to another folder", err, to, other.Folder)
	case errors.Is(err, bundle.ErrRunning):
		return refused("%w", err)
	case err != nil:
		return fmt.Errorf("%w\nWhat was exchanged stays; repeat the sync to continue", err)
	}
	if a.format != "table" {
		if err := a.emit(out, view.Table{}); err != nil {
			return err
		}
	} else {
		a.saySynced(out)
	}
	for _, s := range out.Accepted {
		a.say("The entries of %s, with the key %s, are taken from now on.", s.Name, s.Fingerprint)
	}
	for _, s := range out.Strangers {
		a.warn("%s also writes here, with the key %s. Its entries are not taken yet. Compare the "+
			"fingerprint (on that laptop: catena ledger check), then: catena sync %s --accept %[1]s",
			s.Name, s.Fingerprint, to)
	}
	for _, p := range out.Problems {
		a.warn("Not taken: %s", p)
	}
	a.sayConflicts(out.Conflicts)
	if slices.ContainsFunc(out.Files, func(f bundle.Changed) bool { return f.Path == "site.yaml" }) {
		if err := a.sayForeign(dir); err != nil {
			return err
		}
	}
	if len(out.Strangers)+len(out.Problems)+len(out.Conflicts) > 0 {
		return exit{exitFailed, errSilent}
	}
	return nil
}

// warn prints a sentence on stderr, in lines that fit a terminal.
func (a *app) warn(format string, args ...any) {
	view.Print(a.err, "%s\n", view.Painted(a.style(a.err).Wrap(view.Sprint(format, args...))))
}

func (a *app) saySynced(out bundle.Synced) {
	var said []string
	add := func(verb string, moved []bundle.Moved, joint string) {
		var parts []string
		for _, m := range moved {
			parts = append(parts, fmt.Sprintf("%s %s %s", words.Plural(m.Entries, "entry"), joint, m.Writer))
		}
		if len(parts) > 0 {
			said = append(said, verb+" "+strings.Join(parts, ", "))
		}
	}
	add("took", out.Taken, "of")
	add("sent", out.Sent, "of")
	if out.Fetched > 0 {
		said = append(said, "took "+words.Plural(out.Fetched, "file"))
	}
	if out.Brought > 0 {
		said = append(said, "sent "+words.Plural(out.Brought, "file"))
	}
	if len(said) == 0 {
		if len(out.Strangers)+len(out.Problems)+len(out.Conflicts) == 0 {
			a.say("Both have the same: nothing was sent or taken.")
		}
		return
	}
	text := strings.Join(said, "; ")
	a.say("%s.", strings.ToUpper(text[:1])+text[1:])
	for _, f := range out.Files {
		switch f.How {
		case "merged":
			a.say("%s: merged with the changes of %s.", f.Path, f.From)
		case "removed":
			a.say("%s: removed, as %s did.", f.Path, f.From)
		default:
			a.say("%s: as %s has it.", f.Path, f.From)
		}
	}
}

// sayConflicts shows what two people have changed in different ways: the two texts, one below the
// other, whole as far as a person reads.
func (a *app) sayConflicts(all []bundle.Conflict) {
	if len(all) == 0 || a.format != "table" {
		return
	}
	to := a.human()
	say := func(format string, args ...any) {
		view.Print(to, "%s\n", view.Painted(a.style(to).Wrap(view.Sprint(format, args...))))
	}
	view.Print(to, "\n")
	say("Two people have changed the same key in different ways. No new job starts until you choose:")
	writers := map[string]string{} // by path
	var paths []string
	for _, c := range all {
		view.Print(to, "\n%s  %s\n", c.Path, c.Key)
		printVersion(to, "mine", c.Mine)
		printVersion(to, c.Writer+", "+c.At.Local().Format("2006-01-02 15:04"), c.Theirs)
		if writers[c.Path] == "" {
			writers[c.Path], paths = c.Writer, append(paths, c.Path)
		}
	}
	for _, p := range paths {
		view.Print(to, "\n")
		say("Choose: catena sync choose %s mine, or %s. Or edit the file, then: catena sync choose "+
			"%[1]s edited", p, writers[p])
	}
}

// mostLines is how many lines of a version are shown.
const mostLines = 12

// printVersion prints one side of a conflict.
func printVersion(to io.Writer, whose, text string) {
	lines := strings.Split(strings.Trim(text, "\n"), "\n")
	switch {
	case strings.TrimSpace(text) == "":
		lines = []string{"(removed)"}
	case len(lines) > mostLines:
		lines = append(lines[:mostLines], fmt.Sprintf("… and %s",
			words.Plural(len(lines)-mostLines, "line")))
	}
	if len(lines) == 1 {
		view.Print(to, "  %s: %s\n", whose, strings.TrimSpace(lines[0]))
		return
	}
	view.Print(to, "  %s:\n", whose)
	for _, line := range lines {
		view.Print(to, "    %s\n", line)
	}
}

// join makes a folder for a site that is at a place.
func (a *app) join(ctx context.Context, from string, f syncFlags, perSecond int64) error {
	if err := notThere(f.into); err != nil {
		return err
	}
	by := a.writer()
	shelf, err := a.openShelf()
	if err != nil {
		return err
	}
	var keys []device.Key
	at, err := openPlace(ctx, from, a.newContact(&keys))
	if err != nil {
		return placeFault(from, err)
	}
	defer at.Close()
	name, id, err := siteAt(at, from, f.siteName)
	if err != nil {
		return err
	}
	out, err := bundle.Join(ctx, bundle.Sync{Dir: f.into, Shelf: shelf, At: at, Accept: f.accept,
		Rate: perSecond, Progress: func(what string) { a.log.Info(what) }},
		record.Origin{ID: id, Because: "taken from " + from, Site: strings.TrimSuffix(name, "-"+id)},
		keys, a.now, by)
	if errors.Is(err, bundle.ErrNoSiteFile) {
		for _, s := range out.Strangers {
			view.Print(a.err, "%s writes there, with the key %s\n", s.Name, s.Fingerprint)
		}
		for _, p := range out.Problems {
			a.warn("Not taken: %s", p)
		}
		return refused("no folder was made: %w. Compare the fingerprints (on those laptops: catena "+
			"ledger check), then accept them: --accept NAME", err)
	}
	if err != nil {
		return fmt.Errorf("no folder was made: %w", err)
	}
	if err := a.rememberOffice(f.into, from); err != nil {
		return err
	}
	err = a.synced(f.into, from, out, nil)
	a.say("\nMade the site folder %s. Next: cd %[1]s, and add the logins: catena login add", f.into)
	return err
}

// newContact is how a server is reached where there is no site folder yet: with the login of this
// run, and with the host key that it shows, which is kept.
func (a *app) newContact(keys *[]device.Key) place.Contact {
	return place.Contact{
		Login: func(string) (login.Credential, bool) {
			c, has, err := a.login()
			return c, has && err == nil
		},
		Trust: func(address string) wire.Trust {
			return func(kind, fingerprint string) error {
				a.say("%s shows the %s %s, which is trusted from now on.", address, kind, fingerprint)
				*keys = append(*keys, device.Key{Address: address, Kind: kind, Fingerprint: fingerprint})
				return nil
			}
		}}
}

// siteAt chooses the site at a place: the one that a person names, or the only one.
func siteAt(at place.Place, from, name string) (folder, id string, err error) {
	sites, err := bundle.SitesAt(at)
	if err != nil {
		return "", "", placeFault(from, err)
	}
	names := slices.Sorted(maps.Keys(sites))
	switch {
	case len(names) == 0:
		return "", "", refused("%s has no site; send one there: catena sync %[1]s, in its folder", from)
	case name == "" && len(names) > 1:
		return "", "", usage("%s has several sites; name one with --site: %s", from,
			strings.Join(names, ", "))
	case name == "":
		name = names[0]
	case sites[name] == "":
		return "", "", usage("%s has no site %s; there is %s", from, name, strings.Join(names, ", "))
	}
	return name, sites[name], nil
}

func (a *app) syncChooseCmd() *cobra.Command {
	return &cobra.Command{
		Use:   "choose FILE mine|NAME|edited",
		Short: "Choose between the versions of a file that two people have changed",
		Long: `End the conflicts of a file: where two people have changed the same, yours counts (mine),
or that of another laptop (its name). What only one of them has changed is kept from both. With
edited, the file counts as it is in the folder now: edit it first. The other laptops get the result
with the next sync.`,
		Example: `  catena sync choose site.yaml mine
  catena sync choose targets.yaml bea
  catena sync choose site.yaml edited`,
		Args: exactly(2, "a file of the site folder, and mine, the name of a laptop, or edited"),
		RunE: func(_ *cobra.Command, args []string) error {
			w, err := a.match()
			if err != nil {
				return err
			}
			defer w.Close()
			s, err := a.party(w, nil, nil)
			if err != nil {
				return err
			}
			err = s.Choose(args[0], args[1])
			var none *bundle.NoWriterError
			switch {
			case errors.Is(err, bundle.ErrRunning):
				return refused("%w", err)
			case errors.Is(err, bundle.ErrNoConflict):
				return refused("%s: %w; list conflicts: catena sync", args[0], err)
			case errors.As(err, &none):
				return usage("%w", err)
			case err != nil:
				return err
			}
			a.say("%s is one again. Send it to the others: catena sync PLACE", args[0])
			return nil
		},
	}
}

// syncState lists who has written here, and the open conflicts.
func (a *app) syncState() error {
	w, err := a.match()
	if err != nil {
		return err
	}
	defer w.Close()
	chains, err := w.Chains()
	if err != nil {
		return err
	}
	s, err := a.party(w, nil, nil)
	if err != nil {
		return err
	}
	conflicts, err := s.Open()
	if err != nil {
		return err
	}
	if a.format == "json" {
		return a.emit(map[string]any{"writers": writersOf(chains), "conflicts": conflicts}, view.Table{})
	}
	if err := a.emit(nil, writersTable(chains)); err != nil || a.format != "table" {
		return err
	}
	a.sayConflicts(conflicts)
	return nil
}

// writerLine is a laptop that has written to the ledger, as machine-readable output shows it.
type writerLine struct {
	Name        string    `json:"name"`
	ID          string    `json:"id"`
	Mine        bool      `json:"mine"`
	Entries     int64     `json:"entries"`
	At          time.Time `json:"at"` // of the last entry
	Fingerprint string    `json:"fingerprint"`
}

func writersOf(chains []ledger.Chain) []writerLine {
	out := []writerLine{}
	for _, c := range chains {
		out = append(out, writerLine{c.Name, c.Writer, c.Mine, c.N, c.At.UTC(), c.Fingerprint})
	}
	return out
}

func writersTable(chains []ledger.Chain) view.Table {
	t := view.Table{Columns: []string{"laptop", "entries", "last", "fingerprint"}}
	for _, c := range chains {
		name := c.Name
		if c.Mine {
			name += " (this one)"
		}
		t.Add(name, c.N, c.At.Local().Format("2006-01-02 15:04"), c.Fingerprint)
	}
	return t
}
