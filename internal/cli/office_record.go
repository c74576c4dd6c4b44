package cli

import (
	"context"
	"errors"
	"net"
	"os"
	"os/signal"
	"path/filepath"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"catena/internal/cli/view"
	"catena/internal/ledger"
	"catena/internal/office"
	"catena/internal/recorder"
	"catena/internal/words"
)

func (a *app) officeRecordCmd() *cobra.Command {
	var database string
	var follow bool
	c := &cobra.Command{
		Use:   "record",
		Short: "Copy the records of all sites into a database",
		Long: `Copy the entries of all sites into a database, each one once, after their chains and signatures
were verified: a SQLite file in the folder of the office, or PostgreSQL. The server of the office
must run. docs/fleet.md has the tables and queries. The database can be deleted and made again.`,
		Example: `  catena office record -C ~/office
  catena office record -C ~/office --follow --database postgres://catena@db.example/fleet`,
		Args: exactly(0, "no arguments"),
		RunE: func(c *cobra.Command, _ []string) error {
			o, err := a.openOffice()
			if err != nil {
				return err
			}
			ctx, stop := signal.NotifyContext(c.Context(), os.Interrupt, syscall.SIGTERM)
			defer stop()
			return a.officeRecord(ctx, o, database, follow)
		},
	}
	c.Flags().StringVar(&database, "database", "",
		"postgres://… or a SQLite file (default: record/record.db in the office folder)")
	c.Flags().BoolVar(&follow, "follow", false, "keep copying until Ctrl-C")
	return c
}

func (a *app) officeRecord(ctx context.Context, o *office.Office, database string,
	follow bool) error {
	if database == "" {
		database = filepath.Join(o.Dir, recorder.Folder, "record.db")
	}
	by, err := ledger.ReadWriter(filepath.Join(o.Dir, "keys", "record.key"))
	if err != nil {
		return err
	}
	as, err := o.Keeper()
	if err != nil {
		return err
	}
	as.Address = nearby(o.Settings.Listen)
	fault := ""
	for first := true; ; first = false {
		err := a.recordOnce(
			ctx,
			recorder.Recorder{Office: o, As: as, By: by, Now: a.now},
			database,
			first,
		)
		switch {
		case ctx.Err() != nil:
			return nil
		case err != nil && (first || !follow):
			return databaseFault(err)
		case err != nil && err.Error() != fault:
			fault = err.Error()
			view.Print(a.err, "%s  %v; it is tried again.\n", a.now().Format("15:04:05"), err)
		case err == nil:
			fault = ""
		}
		if !follow {
			return nil
		}
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(followEvery):
		}
	}
}

// recordOnce copies new entries. always: it prints their number even if there are none.
func (a *app) recordOnce(ctx context.Context, r recorder.Recorder, database string,
	always bool) (err error) {
	if r.To, err = recorder.Open(ctx, database); err != nil {
		return err
	}
	defer func() { err = errors.Join(err, r.To.Close()) }()
	all, err := r.Once(ctx)
	if err != nil {
		return err
	}
	n := 0
	for _, d := range all {
		n += d.Entries
		for _, p := range d.Problems {
			a.warn("%s: %s", d.Site, p)
		}
	}
	if a.format == "json" {
		return a.emit(all, view.Table{})
	}
	if n > 0 || always {
		a.say("Copied %s of %s.", words.Plural(n, "entry"), words.Plural(len(all), "site"))
	}
	return nil
}

// databaseFault words errors of the database.
func databaseFault(err error) error {
	var newer *recorder.NewerError
	if errors.As(err, &newer) {
		return usage("%w. Use that later Catena here", err)
	}
	return err
}

// nearby is how a server on this machine is reached that listens at an address.
func nearby(listen string) string {
	host, port, err := net.SplitHostPort(listen)
	if ip := net.ParseIP(host); err == nil && (host == "" || ip != nil && ip.IsUnspecified()) {
		return net.JoinHostPort("127.0.0.1", port)
	}
	return listen
}
