// Package cli holds the commands, one file each or a few that belong together. A command parses its
// arguments, calls the rooms below, and prints the result. It decides nothing about a site.
package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
	"golang.org/x/term"

	"catena/internal/cli/view"
	"catena/internal/family"
	"catena/internal/ledger"
	"catena/internal/machine"
	"catena/internal/notify"
	"catena/internal/plan"
	"catena/internal/shelf"
	"catena/internal/workspace"
)

// Exit codes.
const (
	exitDone     = 0
	exitError    = 1
	exitUsage    = 2 // wrong usage or a bad file
	exitFailed   = 3 // some devices failed or were returned
	exitStranded = 4 // some devices need hands
	exitRefused  = 5 // refused before anything was touched
)

// exit is an error with an exit code. An empty message prints nothing.
type exit struct {
	code int
	err  error
}

func (e exit) Error() string { return e.err.Error() }
func (e exit) Unwrap() error { return e.err }

// errSilent is the error of an exit that has said all there is to say.
var errSilent = errors.New("")

func usage(format string, args ...any) error { return exit{exitUsage, fmt.Errorf(format, args...)} }

func refused(format string, args ...any) error {
	return exit{exitRefused, fmt.Errorf(format, args...)}
}

// app is what the commands share: the global flags and the terminal.
type app struct {
	dir, shelf, format string
	noColor, quiet     bool
	raw                bool
	verbose            bool
	identity           string // the file that opens the logins

	in       io.Reader
	out, err io.Writer
	getenv   func(string) string
	now      func() time.Time
	log      *slog.Logger
	notices  notices
	wide     bool
	unlocked bool // the passphrase is from catena login unlock
}

// Main runs the program with its arguments and returns its exit code.
func Main(args []string) int {
	a := &app{in: os.Stdin, out: os.Stdout, err: os.Stderr, getenv: os.Getenv, now: time.Now}
	return a.run(context.Background(), args)
}

func (a *app) run(ctx context.Context, args []string) int {
	if err := a.readSecrets(); err != nil {
		view.Print(a.err, "catena: %s\n", err)
		return exitUsage
	}
	root := a.root()
	root.SetArgs(args)
	if len(args) > 0 && (strings.HasPrefix(args[0], "__complete") || args[0] == "completion") {
		root.InitDefaultCompletionCmd()
		a.completions(root)
	}
	root.SetIn(a.in)
	root.SetOut(a.out)
	root.SetErr(a.err)
	err := withAdvice(root.ExecuteContext(ctx))
	if err == nil {
		return exitDone
	}
	if !errors.Is(err, errSilent) {
		view.Print(a.err, "catena: %s\n", strings.TrimSpace(err.Error()))
	}
	var e exit
	if errors.As(err, &e) {
		return e.code
	}
	return exitError
}

// learning is the group of commands for who learns Catena or builds on it.
const learning = "Learn and extend"

// globalFlags are those of every command.
func (a *app) globalFlags(flags *pflag.FlagSet) {
	flags.StringVarP(&a.dir, "dir", "C", "",
		"the site folder (default: the nearest one upwards with a site.yaml)")
	flags.StringVar(&a.shelf, "shelf", "",
		"the shelf's folder (default: CATENA_SHELF, or catena/shelf in the user's data folder)")
	flags.StringVar(&a.format, "format", "table", "table, json or csv")
	flags.BoolVar(&a.raw, "raw", false, "with --format csv: keep cells that start with = + - @ "+
		"as they are, unsafe for spreadsheets")
	flags.BoolVar(&a.noColor, "no-color", false, "no colours (NO_COLOR does the same)")
	flags.BoolVar(&a.wide, "wide", false,
		"tables with all columns, whatever the width of the terminal")
	flags.BoolVarP(&a.quiet, "quiet", "q", false, "print only what was asked for")
	flags.StringVar(&a.identity, "identity", "",
		"the identity file that opens the site's logins (default: CATENA_IDENTITY, or a passphrase)")
	flags.BoolVarP(&a.verbose, "verbose", "v", false, "report on stderr what is being done")
}

func (a *app) root() *cobra.Command {
	root := &cobra.Command{
		Use:          "catena",
		Short:        "Scan a site, flash its devices, verify them, and roll back those that fail",
		SilenceUsage: true, SilenceErrors: true, Args: onlyCommands, RunE: help,
		PersistentPreRunE: func(*cobra.Command, []string) error { return a.prepare() },
	}
	a.globalFlags(root.PersistentFlags())
	root.SetFlagErrorFunc(func(c *cobra.Command, err error) error {
		return usage("%w\nsee: %s --help", err, c.CommandPath())
	})
	root.Version = programVersion()
	root.SetVersionTemplate("catena {{.Version}}\n")
	cobra.EnableCommandSorting = false
	for _, p := range []struct {
		title    string
		commands []*cobra.Command
	}{
		{"Set up a site", []*cobra.Command{a.newCmd(), a.loginCmd(), a.familyCmd(), a.addressCmd(),
			a.doctorCmd()}},
		{"Find devices", []*cobra.Command{a.scanCmd(), a.listCmd(), a.showCmd(), a.nameCmd(),
			a.holdCmd(), a.blinkCmd()}},
		{"Keep the inventory", []*cobra.Command{a.deviceCmd(), a.importCmd(), a.exportCmd(),
			a.compareCmd(), a.auditCmd(), a.noteCmd()}},
		{"Choose images", []*cobra.Command{a.shelfCmd(), a.targetCmd(), a.matchCmd()}},
		{"Plan the night", []*cobra.Command{a.orderCmd(), a.rehearseCmd(), a.noticeCmd(), a.packCmd(),
			a.unpackCmd()}},
		{"Do the work", []*cobra.Command{a.flashCmd(), a.trackCmd(), a.stopCmd(), a.resumeCmd(),
			a.retryCmd(), a.finishCmd(), a.rollbackCmd()}},
		{"Verify and report", []*cobra.Command{a.jobsCmd(), a.proveCmd(), a.reportCmd(), a.tellCmd(),
			a.settingsCmd(), a.ledgerCmd()}},
		{"Many sites", []*cobra.Command{a.syncCmd(), a.officeCmd(), a.stationCmd(), a.rolloutCmd(),
			a.fleetCmd()}},
		{learning, []*cobra.Command{a.demoCmd(), a.simCmd(), a.schemaCmd(), a.docsCmd(),
			a.versionCmd()}},
	} {
		root.AddGroup(&cobra.Group{ID: p.title, Title: p.title})
		for _, c := range p.commands {
			c.GroupID = p.title
			root.AddCommand(c)
		}
	}
	root.SetCompletionCommandGroupID(learning)
	root.SetHelpCommand(helpCmd())
	root.SetHelpCommandGroupID(learning)
	root.InitDefaultHelpCmd()
	decorate(root)
	return root
}

func (a *app) prepare() error {
	machine.SweepScratch()
	switch a.format {
	case "table", "json", "csv":
	default:
		return usage("--format %q is not one of table, json, csv", a.format)
	}
	level := slog.LevelWarn
	if a.verbose {
		level = slog.LevelDebug
	}
	a.log = slog.New(slog.NewTextHandler(a.err, &slog.HandlerOptions{Level: level}))
	return nil
}

// onlyCommands refuses a word that is not a command, and names the ones like it.
func onlyCommands(c *cobra.Command, args []string) error {
	if len(args) == 0 {
		return nil
	}
	like := ""
	c.SuggestionsMinimumDistance = 2
	if s := c.SuggestionsFor(args[0]); len(s) > 0 {
		like = "; did you mean " + strings.Join(s, " or ") + "?"
	}
	return usage("%s has no command %q%s\nsee: %[1]s --help", c.CommandPath(), args[0], like)
}

func help(c *cobra.Command, _ []string) error { return c.Help() }

// exactly and atLeast check the number of words after a command.
func exactly(n int, what string) cobra.PositionalArgs {
	return func(c *cobra.Command, args []string) error {
		if len(args) != n {
			return usage("%s takes %s; see: %[1]s --help", c.CommandPath(), what)
		}
		return nil
	}
}

func atLeast(n int, what string) cobra.PositionalArgs {
	return func(c *cobra.Command, args []string) error {
		if len(args) < n {
			return usage("%s takes %s; see: %[1]s --help", c.CommandPath(), what)
		}
		return nil
	}
}

// style is how to print to w: with colours and a width where it is a terminal.
func (a *app) style(w io.Writer) view.Style {
	s := view.Style{}
	if f, ok := w.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		s.Terminal = true
		s.Colors = !a.noColor && a.getenv("NO_COLOR") == "" && a.getenv("TERM") != "dumb"
		if width, _, err := term.GetSize(int(f.Fd())); err == nil && !a.wide {
			s.Width = width
		}
	}
	return s
}

// say prints to the person: on stderr where stdout carries data.
func (a *app) say(format string, args ...any) {
	if a.quiet {
		return
	}
	to := a.human()
	view.Print(to, "%s\n", view.Painted(a.style(to).Wrap(view.Sprint(format, args...))))
}

func (a *app) human() io.Writer {
	if a.format == "table" {
		return a.out
	}
	return a.err
}

// siteDir finds the site folder.
func (a *app) siteDir() (string, error) {
	if a.dir != "" {
		if !workspace.IsSite(a.dir) {
			return "", &workspace.NoSiteError{Dir: a.dir}
		}
		return a.dir, nil
	}
	dir, err := os.Getwd()
	if err != nil {
		return "", err
	}
	return workspace.Find(dir)
}

// openSite opens the site folder. The caller closes it.
func (a *app) openSite() (*plan.Site, error) {
	dir, err := a.siteDir()
	if err != nil {
		return nil, err
	}
	return a.openIn(dir)
}

// openIn opens the folder of a site.
func (a *app) openIn(dir string) (*plan.Site, error) {
	w, err := plan.Open(dir, a.now, a.writer())
	var cut *ledger.CutError
	switch {
	case err != nil || w.ReadOnly() == nil:
	case errors.As(w.ReadOnly(), &cut):
		view.Print(a.err, "Entries of the ledger are missing: %v. It is only read, and nothing new is "+
			"recorded.\n%s\n", cut, restoreCut)
	default:
		view.Print(a.err, "The ledger can be read, but not written (%v): is its disk read-only "+
			"or full? Nothing new is recorded.\n",
			w.ReadOnly())
	}
	return w, err
}

// match opens the site and compares every device with the shelf. The caller closes it.
func (a *app) match() (*plan.Site, error) {
	w, err := a.matchUnseen()
	if err != nil {
		return nil, err
	}
	err = a.tellFaults(w.Shelf)
	if err == nil {
		err = a.tellMissed(w)
	}
	if err != nil {
		w.Close()
		return nil, err
	}
	return w, nil
}

// tellMissed reports scheduled jobs whose time has passed without a process that started them.
func (a *app) tellMissed(w *plan.Site) error {
	jobs, err := w.Interrupted()
	for _, s := range jobs {
		if !s.Missed(a.now()) {
			continue
		}
		text := fmt.Sprintf("Job %s was scheduled for %s and did not start: this machine was "+
			"off, or its process was killed.",
			s.ID, s.Order.Start.Local().Format("2006-01-02 15:04"))
		a.say("%s Start it: catena resume %s. Or cancel it: catena stop %[2]s", text, s.ID)
		if w.ReadOnly() == nil {
			err = errors.Join(err, a.tellOfMissed(w, s, text))
		}
	}
	return err
}

// families are those of the site, if this is one, and those of the shelf.
func (a *app) families(s *shelf.Shelf) (family.Set, error) {
	dir, _ := a.siteDir() // outside a site, the shelf's families count
	return workspace.ReadFamilies(dir, s.Dir())
}

func (a *app) openShelf() (*shelf.Shelf, error) {
	dir := a.shelf
	if dir == "" {
		dir = a.getenv("CATENA_SHELF")
	}
	if dir == "" {
		base, err := a.dataDir()
		if err != nil {
			return nil, usage("no home folder was found for the shelf; name one with --shelf: %w", err)
		}
		dir = filepath.Join(base, "shelf")
	}
	return shelf.Open(dir)
}

// dataDir is where the program keeps what belongs to this user and to no site.
func (a *app) dataDir() (string, error) {
	base := a.getenv("XDG_DATA_HOME")
	if base == "" {
		user, err := os.UserHomeDir()
		if err != nil {
			return "", err
		}
		base = filepath.Join(user, ".local", "share")
		if app := a.getenv("LOCALAPPDATA"); app != "" {
			base = app
		}
	}
	return filepath.Join(base, "catena"), nil
}

// writer is who this user is in the ledgers of all sites. Without a key they can still be read.
func (a *app) writer() ledger.Writer {
	file, err := a.writerFile()
	if err != nil {
		return ledger.NoWriter(err)
	}
	w, err := ledger.ReadWriter(file)
	if err != nil {
		return ledger.NoWriter(err)
	}
	return w
}

func (a *app) writerFile() (string, error) {
	base, err := a.dataDir()
	if err != nil {
		return "", usage("no home folder was found for the key that signs your records; name a folder "+
			"with XDG_DATA_HOME: %w", err)
	}
	return filepath.Join(base, "writer.key"), nil
}

// approvals are the commands that this user has allowed on this machine.
func (a *app) approvals() notify.Approvals {
	base, err := a.dataDir()
	if err != nil {
		return notify.Approvals{} // none
	}
	return notify.Approvals{File: filepath.Join(base, "allowed-commands.json")}
}

// notThere refuses to write over a file.
func notThere(path string) error {
	if _, err := os.Stat(path); err == nil {
		return usage("%s already exists; choose another name", path)
	}
	return nil
}
