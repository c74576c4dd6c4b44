package cli

import (
	"context"
	"fmt"
	"io"

	"github.com/spf13/cobra"

	"catena/internal/cli/view"
	"catena/internal/job"
	"catena/internal/login"
	"catena/internal/notify"
	"catena/internal/plan"
	"catena/internal/site"
)

func (a *app) tellCmd() *cobra.Command {
	var test bool
	c := &cobra.Command{
		Use:   "tell --test",
		Short: "Try who is told of what happens in a job",
		Long: `Tell everybody whom site.yaml names (tell:) of a test, at once, and say who could be told. In a job
they are told of its start and end, of devices that are stranded or wait for a person, of who is
cut off while an uplink restarts, and of a window that closes soon. What cannot be told is tried
again, and never holds the job up.

A webhook is sent JSON by POST, signed (RFC 9421, hmac-sha256) with the secret of its host:
catena login add --webhook HOST. A command gets the JSON as its input, and CATENA_EVENT,
CATENA_JOB and CATENA_TEXT.`,
		Example: "  catena tell --test\n  catena tell --test --format json",
		Args:    exactly(0, "no arguments"),
		RunE: func(c *cobra.Command, _ []string) error {
			if !test {
				return usage("say --test: everything else is told automatically")
			}
			return a.tellTest(c.Context())
		},
	}
	c.Flags().BoolVar(&test, "test", false, "tell everybody of a test, and say who could be told")
	return c
}

func (a *app) tellTest(ctx context.Context) error {
	w, err := a.openSite()
	if err != nil {
		return err
	}
	defer w.Close()
	if !w.Tells() {
		return exit{exitUsage, fmt.Errorf("no one is told of anything: write tell: into %s", site.File)}
	}
	book, err := a.bookOf(w)
	if err != nil {
		return err
	}
	type line struct {
		Who  string `json:"who"`
		Told bool   `json:"told"`
		Why  string `json:"why,omitempty"`
	}
	var all []line
	failed := 0
	t := view.Table{Columns: []string{"who", "told", "why"}}
	for _, target := range a.teller(w, book).Targets() {
		l := line{Who: target.Name(), Told: true}
		cell := view.Cell{Text: "yes"}
		err := notify.Send(ctx, target, notify.Event{Kind: notify.Test, At: a.now().UTC(), Site: w.Name(),
			Text: "A test of who is told at " + w.Name() + "."}, a.bell(), nil)
		if err != nil {
			l.Told, l.Why, cell = false, err.Error(), view.Bad.Cell("no")
			failed++
		}
		all = append(all, l)
		t.Add(l.Who, cell, l.Why)
	}
	if err := a.emit(all, t); err != nil {
		return err
	}
	if failed > 0 {
		return exit{exitError, errSilent}
	}
	return nil
}

// bell is the terminal that can be rung; nil: there is none.
func (a *app) bell() io.Writer {
	if a.style(a.err).Terminal {
		return a.err
	}
	return nil
}

// bookOf are the site's logins, where a webhook may need one of them.
func (a *app) bookOf(w *plan.Site) (login.Book, error) {
	if !w.TellsBySecret() {
		return login.Book{}, nil
	}
	_, book, err := a.openBook(w.Dir, false)
	return book, err
}

// teller tells whoever the site names.
func (a *app) teller(w *plan.Site, book login.Book) plan.Teller {
	return plan.Teller{Site: w, Book: book, Bell: a.bell(), Failed: func(t notify.Target, err error) {
		a.notice("could not tell the %s: %v; the job continues", t.Name(), err)
	}}
}

// tellOfMissed tells, once, that a scheduled job did not start. No one is asked for a passphrase
// for that: where it would open the secrets of webhooks, a later command tells.
func (a *app) tellOfMissed(w *plan.Site, s job.State, text string) error {
	if !w.Tells() || w.TellsBySecret() && !a.opensUnasked(w.Dir) {
		return nil
	}
	book, err := a.bookOf(w)
	if err != nil {
		return err
	}
	return a.teller(w, book).Missed(s, text)
}

// opensUnasked reports whether the logins can be opened without asking for a passphrase.
func (a *app) opensUnasked(dir string) bool {
	if a.identity != "" || a.getenv("CATENA_IDENTITY") != "" || a.getenv("CATENA_PASSPHRASE") != "" {
		return true
	}
	_, err := login.Kept(dir)
	return err == nil
}
