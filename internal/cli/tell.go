package cli

import (
	"context"
	"fmt"
	"io"
	"net/url"
	"slices"
	"time"

	"github.com/spf13/cobra"

	"catena/internal/cli/view"
	"catena/internal/job"
	"catena/internal/login"
	"catena/internal/notify"
	"catena/internal/site"
	"catena/internal/workspace"
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
	if len(w.Site.Tell) == 0 {
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
	for _, target := range tellTargets(w.Site, book) {
		l := line{Who: target.Name(), Told: true}
		cell := view.Cell{Text: "yes"}
		err := notify.Send(ctx, target, notify.Event{Kind: notify.Test, At: a.now().UTC(), Site: w.Site.Name,
			Text: "A test of who is told at " + w.Site.Name + "."}, a.bell(), nil)
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
func (a *app) bookOf(w *workspace.Workspace) (login.Book, error) {
	if !slices.ContainsFunc(w.Site.Tell, func(t site.Tell) bool { return t.Webhook != "" }) || !login.Exists(w.Dir) {
		return login.Book{}, nil
	}
	_, book, err := a.openBook(w.Dir, false)
	return book, err
}

// tellTargets are those of the site, with the secrets of the webhooks.
func tellTargets(s site.Site, book login.Book) (out []notify.Target) {
	for _, t := range s.Tell {
		target := notify.Target{Webhook: t.Webhook, Command: t.Command, Bell: t.Bell}
		if u, err := url.Parse(t.Webhook); err == nil && t.Webhook != "" {
			target.Secret = book.HookSecret(u.Hostname())
		}
		for _, word := range t.On {
			target.On = append(target.On, notify.Kind(word))
		}
		out = append(out, target)
	}
	return out
}

// tellAtMost is how long the end of a command waits for what is still to be told.
const tellAtMost = 15 * time.Second

// tell tells whoever the site names of what happens in a job, until the returned function is called.
func (a *app) tell(w *workspace.Workspace, book login.Book, id string, after int64) (stop func()) {
	if len(w.Site.Tell) == 0 {
		return func() {}
	}
	sender := notify.New(tellTargets(w.Site, book), a.bell(), func(t notify.Target, err error) {
		a.notice("could not tell the %s: %v; the job continues", t.Name(), err)
	})
	end := notify.FollowJob(notify.Job{Ledger: w.Ledger, Site: w.Site.Name, ID: id, After: after, Now: a.now}, sender.Tell)
	return func() {
		end()
		sender.Close(tellAtMost)
	}
}

// tellOfMissed tells, once, that a scheduled job did not start. No one is asked for a passphrase for that:
// where it would open the secrets of webhooks, a later command tells.
func (a *app) tellOfMissed(w *workspace.Workspace, s job.State, text string) error {
	book, err := login.Book{}, error(nil)
	switch {
	case len(w.Site.Tell) == 0:
		return nil
	case !login.Exists(w.Dir) || !slices.ContainsFunc(w.Site.Tell, func(t site.Tell) bool { return t.Webhook != "" }):
	case !a.opensUnasked(w.Dir):
		return nil
	default:
		if book, err = a.bookOf(w); err != nil {
			return err
		}
	}
	first, err := job.NoteMissed(w.Ledger, s.ID)
	if err != nil || !first {
		return err
	}
	sender := notify.New(tellTargets(w.Site, book), a.bell(), func(t notify.Target, err error) {
		a.notice("could not tell the %s: %v", t.Name(), err)
	})
	sender.Tell(notify.Event{Kind: notify.Missed, At: a.now().UTC(), Site: w.Site.Name, Job: s.ID, Order: s.Name, Text: text,
		Counts: map[string]int{string(job.Waiting): len(s.Devices)}})
	sender.Close(tellAtMost)
	return nil
}

// opensUnasked reports whether the logins can be opened without asking for a passphrase.
func (a *app) opensUnasked(dir string) bool {
	if a.identity != "" || a.getenv("CATENA_IDENTITY") != "" || a.getenv("CATENA_PASSPHRASE") != "" {
		return true
	}
	_, err := login.Kept(dir)
	return err == nil
}
