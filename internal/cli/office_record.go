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

// officeMirror is how an office takes new records of its sites from its server on this machine.
func (a *app) officeMirror(o *office.Office) (m recorder.Mirror, err error) {
	m.Office, m.Now = o, a.now
	if m.By, err = ledger.ReadWriter(filepath.Join(o.Dir, "keys", "record.key")); err != nil {
		return m, err
	}
	m.As, err = o.Keeper()
	if len(o.Settings.Machines()) == 0 {
		m.As.Address = nearby(o.Settings.Listen)
	}
	return m, err
}

func (a *app) officeRecord(ctx context.Context, o *office.Office, database string,
	follow bool) error {
	if database == "" {
		database = filepath.Join(o.Dir, recorder.Folder, "record.db")
	}
	m, err := a.officeMirror(o)
	if err != nil {
		return err
	}
	r := recorder.Recorder{Mirror: m}
	defer func() {
		if r.To != nil {
			_ = r.To.Close()
		}
	}()
	news := words.News{}
	for first := true; ; first = false {
		err := a.recordOnce(ctx, &r, database, news, first)
		switch {
		case ctx.Err() != nil:
			return nil
		case err != nil && first, !follow:
			return databaseFault(err)
		}
		if text := fault(err); news.Is("", text) && err != nil {
			view.Print(a.err, "%s  %s; it is tried again.\n", a.now().Format("15:04:05"), text)
		}
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(followEvery):
		}
	}
}

// fault is the text of an error; empty: there is none.
func fault(err error) string {
	if err == nil {
		return ""
	}
	return err.Error()
}

// recordOnce copies new entries. The database is opened first where it is not open, and closed
// after an error. always: it prints the number of the entries even if there are none.
func (a *app) recordOnce(ctx context.Context, r *recorder.Recorder, database string,
	news words.News, always bool) (err error) {
	if r.To == nil {
		if r.To, err = recorder.Open(ctx, database); err != nil {
			return err
		}
	}
	all, err := r.Once(ctx)
	if err != nil {
		err = errors.Join(err, r.To.Close())
		r.To = nil
		return err
	}
	n := 0
	for _, d := range all {
		n += d.Entries
		if problems := strings.Join(d.Problems, "; "); news.Is(d.Site, problems) && problems != "" {
			a.warn("%s: %s", d.Site, problems)
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
