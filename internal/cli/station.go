package cli

import (
	"context"
	"errors"
	"net"
	"os"
	"os/signal"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/crypto/ssh"

	"catena/internal/cli/view"
	"catena/internal/contact"
	"catena/internal/files"
	"catena/internal/job"
	"catena/internal/login"
	"catena/internal/office"
	"catena/internal/plan"
	"catena/internal/signature"
	"catena/internal/station"
	"catena/internal/words"
)

func (a *app) stationCmd() *cobra.Command {
	c := &cobra.Command{
		Use: "station", Short: "Leave Catena at a site: it carries out the orders that it is sent",
		Args: onlyCommands, RunE: help,
	}
	c.AddCommand(a.stationJoinCmd(), a.stationRunCmd(), a.stationShowCmd(), a.stationInstallCmd())
	return c
}

// joinFlags are those of catena station join.
type joinFlags struct {
	credentials, into string
	keys, accept      []string
	need              int
}

func (a *app) stationJoinCmd() *cobra.Command {
	var f joinFlags
	c := &cobra.Command{
		Use:   "join OFFICE --credentials FILE --key FILE",
		Short: "Make this machine the station of a site",
		Long: `Make this machine the station of a site: it meets the laptops of the site at the office, by the
credentials that catena office add wrote, and carries out orders that are signed with the keys you
name here. Nothing that arrives later can add a key. OFFICE is the office's name or address; it must
be that of the credentials. With --into, the folder of the site is made from the office's record.`,
		Example: `  catena station join office.example --credentials marrow-hill.office --key anna.pub
  catena station join "Canal Works" --credentials marrow-hill.office --key anna.pub \
    --key bea.pub --need 2 --into marrow-hill --accept anna`,
		Args: exactly(1, "the office: its name or address"),
		RunE: func(c *cobra.Command, args []string) error {
			return a.stationJoin(c.Context(), args[0], f)
		},
	}
	c.Flags().StringVar(&f.credentials, "credentials", "",
		"the file that catena office add wrote for this site")
	c.Flags().StringArrayVar(&f.keys, "key", nil,
		"a public key whose signature counts: its file; may be repeated")
	c.Flags().IntVar(&f.need, "need", 1, "how many signatures an order must have")
	c.Flags().StringVar(&f.into, "into", "", "make this folder for the site")
	c.Flags().StringArrayVar(&f.accept, "accept", nil,
		"take the entries of a laptop that is new here: its name or fingerprint; may be repeated")
	return c
}

func (a *app) stationJoin(ctx context.Context, name string, f joinFlags) error {
	if f.credentials == "" {
		return usage("--credentials is missing: the file that catena office add wrote")
	}
	c, err := office.ReadCredentials(f.credentials)
	if err != nil {
		return err
	}
	host, _, _ := net.SplitHostPort(c.Address)
	if name != c.Office && name != c.Address && name != host {
		return refused("%s has the credentials for the office %s at %s, not for %s", f.credentials,
			c.Office, c.Address, name)
	}
	keys, err := stationKeys(f)
	if err != nil {
		return err
	}
	if f.into != "" {
		err = a.join(ctx, f.credentials, syncFlags{into: f.into, accept: f.accept}, 0)
	} else {
		err = a.sync(ctx, f.credentials, f.accept, 0)
	}
	var failed exit
	if err != nil && !(errors.As(err, &failed) && failed.code == exitFailed) {
		return err // what was not taken is named, and the station keeps asking for it
	}
	dir := f.into
	if dir == "" {
		if dir, err = a.siteDir(); err != nil {
			return err
		}
	}
	switch err := station.Join(dir, c, keys, f.need); {
	case errors.Is(err, station.ErrJoined):
		return refused("%w; to let it join again, remove %s first", err, filepath.Join(dir, station.File))
	case err != nil:
		return err
	}
	a.say("\nThis machine is the station of the site. It carries out orders that are signed by:")
	for _, k := range keys {
		a.say("  %s", ssh.FingerprintSHA256(k))
	}
	a.say(
		"Next: add the logins (catena login add), then catena station run, or catena station install",
	)
	return nil
}

// stationKeys reads the keys that a person named.
func stationKeys(f joinFlags) (out []ssh.PublicKey, err error) {
	for _, file := range f.keys {
		raw, err := files.Read(file, files.Key)
		if err != nil {
			return nil, err
		}
		key, err := signature.Public(string(raw))
		if err != nil {
			return nil, usage("%s: %w", file, err)
		}
		out = append(out, key)
	}
	switch {
	case len(out) == 0:
		return nil, usage("--key is missing: the file of the public key of whoever signs orders")
	case f.need < 1 || f.need > len(out):
		return nil, usage("--need %d: write a number from 1 to %d, that of the keys", f.need, len(out))
	}
	return out, nil
}

// readStation reads what the station of the site folder was told.
func (a *app) readStation() (*station.Station, error) {
	dir, err := a.siteDir()
	if err != nil {
		return nil, err
	}
	s, err := station.Read(dir)
	var not *station.NotJoinedError
	if errors.As(err, &not) {
		return nil, refused("%w; make it one: catena station join", err)
	}
	return s, err
}

func (a *app) stationRunCmd() *cobra.Command {
	var rate string
	var every time.Duration
	c := &cobra.Command{
		Use:   "run",
		Short: "Carry out signed orders until Ctrl-C",
		Long: `Exchange everything with the office every few seconds, and carry out the orders that are for
the station (catena order new --for-station). Each one is carried out once, in a window of the site,
if it is signed by a key of catena station join and its cautions are accepted. It does not start
while the office cannot be reached, unless someone has accepted the caution unseen. After a crash or
a power cut the station continues with the job that was interrupted. Logins are opened without a
person: with --identity, or with CATENA_PASSPHRASE.

After the first Ctrl-C no more devices start. A write is never interrupted.`,
		Example: `  catena station run
  catena station run -C marrow-hill --identity /root/station.key --rate 200KiB`,
		Args: exactly(0, "no arguments"),
		RunE: func(c *cobra.Command, _ []string) error {
			perSecond, err := syncFlags{rate: rate}.perSecond()
			if err != nil {
				return err
			}
			return a.stationRun(c.Context(), perSecond, every)
		},
	}
	c.Flags().StringVar(&rate, "rate", "", "the most per second that files are sent and taken with, "+
		"for example 200KiB")
	everyVar(c, &every)
	return c
}

func (a *app) stationRun(ctx context.Context, perSecond int64, every time.Duration) error {
	s, err := a.readStation()
	if err != nil {
		return err
	}
	a.dir = s.Dir
	w, err := a.openSite()
	if err != nil {
		return err
	}
	name := w.Name()
	w.Close()
	ctx, stop := signal.NotifyContext(ctx, os.Interrupt, syscall.SIGTERM)
	defer stop()
	at := filepath.Join(s.Dir, plan.OfficeFile)
	follow := &follower{app: a, to: at, perSecond: perSecond, news: words.News{}}
	a.say("The station of %s works until Ctrl-C.", name)
	err = (&station.Runner{Station: s, Open: a.matchUnseen, Sync: follow.sync,
		Claim: func(ctx context.Context, digest string) (mine bool, err error) {
			err = a.meet(ctx, at, func(p party) error {
				mine, err = p.Claim(digest)
				return err
			})
			return mine, err
		},
		Access: a.accessTo, Carry: a.carryOn,
		Tell: func(format string, args ...any) {
			view.Print(a.human(), "%s  %s\n", a.now().Format("15:04:05"), view.Sprint(format, args...))
		},
		Now: a.now, Every: every}).Run(ctx)
	if errors.Is(err, station.ErrRunning) {
		return refused("%w", err)
	}
	if err == nil {
		a.say("The station has ended.")
	}
	return err
}

// matchUnseen is match for a program that does so again and again: it says nothing.
func (a *app) matchUnseen() (*plan.Site, error) {
	dir, err := a.siteDir()
	if err != nil {
		return nil, err
	}
	return a.matchIn(dir)
}

// matchIn is matchUnseen for the folder of a site.
func (a *app) matchIn(dir string) (*plan.Site, error) {
	w, err := a.openIn(dir)
	if err != nil {
		return nil, err
	}
	s, err := a.openShelf()
	if err == nil {
		err = w.Match(s)
	}
	if err != nil {
		w.Close()
		return nil, err
	}
	return w, nil
}

// carryOn sees a job of the station through.
func (a *app) carryOn(
	ctx context.Context,
	w *plan.Site,
	x *contact.Access,
	j *job.Job,
) (bool, error) {
	state, stopped, err := a.runAndShow(context.WithoutCancel(ctx), w, x.Book, j)
	if err != nil {
		return stopped, err
	}
	a.copySettings(context.WithoutCancel(ctx), w, x)
	_ = a.summary(w, state) // its error is how the devices ended: the station continues
	return stopped, nil
}

func (a *app) stationShowCmd() *cobra.Command {
	return &cobra.Command{
		Use:   "show",
		Short: "Show what the station obeys, and its orders",
		Long: `Show the keys whose signatures the station obeys, and how far each order is that is for the
station. An order that is refused says why.`,
		Example: "  catena station show\n  catena station show --format json",
		Args:    exactly(0, "no arguments"),
		RunE: func(*cobra.Command, []string) error {
			s, err := a.readStation()
			if err != nil {
				return err
			}
			w, err := a.openSite()
			if err != nil {
				return err
			}
			defer w.Close()
			errands, err := s.Errands(w, a.now())
			if err != nil {
				return err
			}
			return a.showStation(s, errands)
		},
	}
}

func (a *app) showStation(s *station.Station, errands []station.Errand) error {
	var keys []string
	for _, k := range s.Keys {
		keys = append(keys, ssh.FingerprintSHA256(k))
	}
	if a.format == "json" {
		if errands == nil {
			errands = []station.Errand{}
		}
		return a.emit(map[string]any{"office": s.Office, "need": s.Need, "keys": keys,
			"orders": errands}, view.Table{})
	}
	if a.format == "table" {
		a.say("Office %s. An order needs %s by: %s.", s.Office, words.Plural(s.Need, "signature"),
			strings.Join(keys, ", "))
		if len(errands) == 0 {
			a.say("No order is for the station. Make one: catena order new NAME --for-station")
			return nil
		}
	}
	t := view.Table{Columns: []string{"order", "state", "start", "until", "job", "why"}}
	at := func(t time.Time) string {
		if t.IsZero() {
			return ""
		}
		return t.Local().Format("2006-01-02 15:04")
	}
	for _, e := range errands {
		state := view.Cell{Text: string(e.State)}
		if e.State == station.Refused || e.State == station.Expired {
			state = view.Bad.Cell(string(e.State))
		}
		t.Add(e.Order, state, at(e.Start), at(e.Until), e.Job, e.Why)
	}
	return a.emit(nil, t)
}

func (a *app) stationInstallCmd() *cobra.Command {
	var system, remove bool
	c := &cobra.Command{
		Use:   "install",
		Short: "Have systemd start the station",
		Long: `Write a unit of systemd that starts the station with the machine and again after a crash, and
show it. systemd waits for the end of a write, however long that takes. Nothing is started: the
command that does it is printed. --remove takes the unit away again.`,
		Example: `  catena station install --identity ~/station.key
  catena station install --system --identity /root/station.key
  catena station install --remove`,
		Args: exactly(0, "no arguments"),
		RunE: func(*cobra.Command, []string) error {
			s, err := a.readStation()
			if err != nil {
				return err
			}
			return a.stationInstall(s, system, remove)
		},
	}
	c.Flags().BoolVar(&system, "system", false, "for the machine, not for this user")
	c.Flags().BoolVar(&remove, "remove", false, "remove the unit")
	return c
}

func (a *app) stationInstall(s *station.Station, system, remove bool) error {
	if err := station.HasSystemd(); err != nil {
		return refused("%w; start it another way: catena station run", err)
	}
	dir, err := filepath.Abs(s.Dir)
	if err != nil {
		return err
	}
	unit, err := station.UnitOf(dir, system)
	if err != nil {
		return err
	}
	if remove {
		if err := unit.Remove(); err != nil {
			return err
		}
		a.say("Removed %s. If it runs: %s stop %s", unit.Path, unit.Command(), unit.Name)
		return nil
	}
	if login.Exists(dir) && a.identity == "" {
		return usage(
			"the logins of the site are locked, and no one is there to open them: name the key " +
				"that does, with --identity FILE",
		)
	}
	args := []string{"-C", dir, "station", "run"}
	for _, f := range [][2]string{{"--identity", a.identity}, {"--shelf", a.shelf}} {
		if f[1] == "" {
			continue
		}
		value, err := filepath.Abs(f[1])
		if err != nil {
			return err
		}
		args = append(args, f[0], value)
	}
	text, err := unit.Write(args)
	if err != nil {
		return err
	}
	a.say("Wrote %s:\n", unit.Path)
	view.Print(a.human(), "%s\n", text)
	a.say("Start it: %s enable --now %s", unit.Command(), unit.Name)
	return nil
}
