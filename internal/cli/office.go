package cli

import (
	"context"
	"errors"
	"os"
	"os/signal"
	"path/filepath"
	"syscall"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/spf13/cobra"

	"catena/internal/cli/view"
	"catena/internal/office"
	"catena/internal/office/server"
)

func (a *app) officeCmd() *cobra.Command {
	c := &cobra.Command{
		Use: "office", Short: "Run the place where the laptops of many sites meet",
		Args: onlyCommands, RunE: help,
	}
	c.AddCommand(a.officeInitCmd(), a.officeServeCmd(), a.officeAddCmd(), a.officeListCmd(),
		a.officeRemoveCmd(), a.officeRecordCmd())
	return c
}

func (a *app) officeInitCmd() *cobra.Command {
	var name, address string
	c := &cobra.Command{
		Use:   "init FOLDER",
		Short: "Make the folder of an office",
		Long: `Make the folder of an office: its keys, its TLS certificate, and office.yaml. The keys never
leave the folder; back it up. Sites reach the office at the address, a name or an IP address of the
machine on which catena office serve will run. With several addresses the office is on several
machines: copy the folder to each.`,
		Example: `  catena office init ~/office --address office.example
  catena office init ~/office --name "Canal Works" --address 10.20.0.5:4222
  catena office init ~/office --address a.example,b.example,c.example`,
		Args: exactly(1, "the folder to make"),
		RunE: func(_ *cobra.Command, args []string) error {
			if address == "" {
				return usage("--address is missing: the name or address by which sites reach the office")
			}
			if name == "" {
				name = filepath.Base(filepath.Clean(args[0]))
			}
			err := office.Init(args[0], name, address)
			if errors.Is(err, office.ErrThere) {
				return usage("%w; nothing was changed", err)
			}
			if err != nil {
				return err
			}
			a.say("Made the office %s in %s.\nNext: catena office add SITE -C %[2]s, and start it: catena "+
				"office serve -C %[2]s", name, args[0])
			return nil
		},
	}
	c.Flags().StringVar(&name, "name", "", "the name of the office (default: that of the folder)")
	c.Flags().StringVar(&address, "address", "", "how sites reach it: HOST or HOST:PORT; of 3 "+
		"or 5 machines that keep it together all, with commas")
	return c
}

// openOffice opens the folder of the office: that of -C, or this one.
func (a *app) openOffice() (*office.Office, error) {
	dir := a.dir
	if dir == "" {
		dir = "."
	}
	o, err := office.Open(dir)
	var none *office.NoOfficeError
	if errors.As(err, &none) {
		return nil, usage("%w; go to one, name one with -C, or make one: catena office init FOLDER", err)
	}
	return o, err
}

func (a *app) officeServeCmd() *cobra.Command {
	var limit string
	var opts server.Options
	c := &cobra.Command{
		Use:   "serve",
		Short: "Run the server of an office until Ctrl-C",
		Long: `Run the server: NATS with JetStream and TLS, in this process, which is enough for tens of
sites. Sites that are added or removed while it runs are noticed within a second. What a site was
told is stored is on the disk. An office on several machines runs on each of them, with a copy of
its folder; it needs more than half of them.`,
		Example: `  catena office serve -C ~/office
  catena office serve -C ~/office --site-limit 20GiB
  catena office serve -C ~/office --machine a.example:4222`,
		Args: exactly(0, "no arguments"),
		RunE: func(c *cobra.Command, _ []string) error {
			o, err := a.openOffice()
			if err != nil {
				return err
			}
			if limit != "" {
				n, err := humanize.ParseBytes(limit)
				if err != nil || n == 0 {
					return usage("--site-limit %s: write for example 20GiB", limit)
				}
				opts.SiteLimit = int64(min(n, 1<<62))
			}
			ctx, stop := signal.NotifyContext(c.Context(), os.Interrupt, syscall.SIGTERM)
			defer stop()
			return a.serve(ctx, o, opts)
		},
	}
	c.Flags().StringVar(&limit, "site-limit", "", "the most that the record of one site may take "+
		"(default: as much as there is)")
	c.Flags().
		StringVar(&opts.Machine, "machine", "", "the address of this machine, where the office is "+
			"on several")
	return c
}

func (a *app) serve(ctx context.Context, o *office.Office, opts server.Options) error {
	waiting := func(address string) {
		a.say("The office %s listens at %s, and waits for its other machines.", o.Settings.Office,
			address)
	}
	err := server.Run(ctx, o, opts, a.log, waiting, func(address string) {
		a.say(
			"The office %s listens at %s. Sites reach it at %s. Stop it with Ctrl-C.",
			o.Settings.Office,
			address,
			o.Settings.Address,
		)
	})
	if errors.Is(err, server.ErrRunning) {
		return refused("%w", err)
	}
	var none *server.NoMachineError
	if errors.As(err, &none) {
		return usage("%w; name this one: --machine HOST:PORT", err)
	}
	if err == nil {
		a.say("The office is closed.")
	}
	return err
}

func (a *app) officeAddCmd() *cobra.Command {
	var out string
	var valid time.Duration
	c := &cobra.Command{
		Use:   "add SITE",
		Short: "Make the credentials of a site",
		Long: `Write a file with which the laptops of one site reach the office: they can write to this
site's record and read it, and nothing else. Give it only to them: it is a key. A laptop syncs with:
catena sync FILE.`,
		Example: `  catena office add marrow-hill -C ~/office
  catena office add marrow-hill -C ~/office --out /media/stick/marrow-hill.office --valid 8760h`,
		Args: exactly(1, "the name of a site"),
		RunE: func(_ *cobra.Command, args []string) error {
			o, err := a.openOffice()
			if err != nil {
				return err
			}
			if out == "" {
				out = args[0] + office.Ending
			}
			if !office.IsCredentials(out) {
				return usage("--out %s: the name must end with %s", out, office.Ending)
			}
			if err := notThere(out); err != nil {
				return err
			}
			if valid < 0 {
				return usage("--valid %s: write for example 8760h", valid)
			}
			credentials, err := o.Add(args[0], valid, a.now())
			if err != nil {
				return officeFault(err)
			}
			if err := os.WriteFile(out, credentials.Text(), 0o600); err != nil {
				return err
			}
			a.say("Wrote %s. On the laptops of the site: catena sync %[1]s", out)
			return nil
		},
	}
	c.Flags().StringVar(&out, "out", "", "the file to write (default: SITE.office, here)")
	c.Flags().DurationVar(&valid, "valid", 0, "for how long (default: until the site is removed)")
	return c
}

// officeFault words errors of the folder of an office.
func officeFault(err error) error {
	var name *office.NameError
	var unknown *office.UnknownError
	switch {
	case errors.As(err, &name):
		return usage("%w", err)
	case errors.As(err, &unknown):
		return usage("%w; list them: catena office list", err)
	case errors.Is(err, office.ErrThere):
		return usage("%w; to replace its credentials, remove it first: catena office remove SITE", err)
	}
	return err
}

func (a *app) officeListCmd() *cobra.Command {
	return &cobra.Command{
		Use:     "list",
		Short:   "List the sites of an office",
		Long:    "List the sites that the office has or had, and whether their credentials are valid.",
		Example: "  catena office list -C ~/office\n  catena office list -C ~/office --format json",
		Args:    exactly(0, "no arguments"),
		RunE: func(*cobra.Command, []string) error {
			o, err := a.openOffice()
			if err != nil {
				return err
			}
			sites, err := o.Sites()
			if err != nil {
				return err
			}
			if sites == nil {
				sites = []office.Site{}
			}
			t := view.Table{Columns: []string{"site", "credentials", "added"}}
			for _, s := range sites {
				state := "valid"
				switch {
				case !s.Active():
					state = "removed " + s.Removed.Local().Format("2006-01-02")
				case !s.Expires.IsZero() && a.now().After(s.Expires):
					state = "expired " + s.Expires.Local().Format("2006-01-02")
				case !s.Expires.IsZero():
					state = "valid until " + s.Expires.Local().Format("2006-01-02")
				}
				t.Add(s.Name, state, s.Added.Local().Format("2006-01-02"))
			}
			if len(sites) == 0 && a.format == "table" {
				a.say("The office has no sites yet. Add one: catena office add SITE")
				return nil
			}
			return a.emit(sites, t)
		},
	}
}

func (a *app) officeRemoveCmd() *cobra.Command {
	return &cobra.Command{
		Use:   "remove SITE",
		Short: "Revoke the credentials of a site",
		Long: `Revoke the credentials of a site. A server that runs closes its connections within a second or
two. The site's record stays at the office. New credentials: catena office add SITE.`,
		Example: "  catena office remove marrow-hill -C ~/office\n  catena office remove dunmarrow",
		Args:    exactly(1, "the name of a site"),
		RunE: func(_ *cobra.Command, args []string) error {
			o, err := a.openOffice()
			if err != nil {
				return err
			}
			if err := o.Remove(args[0], a.now()); err != nil {
				return officeFault(err)
			}
			a.say("The credentials of %s are revoked.", args[0])
			return nil
		},
	}
}
