package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"catena/internal/advice"
	"catena/internal/cli/view"
	"catena/internal/job"
	"catena/internal/login"
	"catena/internal/notify"
	"catena/internal/plan"
	"catena/internal/site"
	"catena/internal/text"
	"catena/internal/words"
	"catena/internal/workspace"
)

func (a *app) tellCmd() *cobra.Command {
	var test, allow, yes bool
	c := &cobra.Command{
		Use:   "tell --test | --allow",
		Short: "Test notifications, and allow the commands that send them",
		Long: `Send a test notification to every recipient in site.yaml (tell:), and show which
ones were reached. A job notifies them of its start and end, of devices that are stranded or wait
for an operator, of devices that are cut off while an uplink restarts, and of a window that closes
soon. catena shelf pull notifies them, once, of later versions in feeds and of versions that became
unsafe. A failed notification is sent again and never delays the job.

A webhook receives JSON by POST, signed (RFC 9421, hmac-sha256) with the secret of its host: catena
login add --webhook HOST. A command receives the JSON on standard input, and CATENA_EVENT,
CATENA_JOB and CATENA_TEXT.

A command of a site folder runs only after you have allowed it on this machine with --allow. You
allow the exact command, and the content of the files of the site folder that it names: if one of
them changes, you must allow it again. Files that the command uses in other ways are not covered;
check them yourself.`,
		Example: "  catena tell --allow\n  catena tell --test\n  catena tell --test --format json",
		Args:    exactly(0, "no arguments"),
		RunE: func(c *cobra.Command, _ []string) error {
			switch {
			case allow:
				return a.tellAllow(yes)
			case !test:
				return usage("add --test or --allow: all other notifications are automatic")
			}
			return a.tellTest(c.Context())
		},
	}
	c.Flags().BoolVar(&allow, "allow", false, "show the commands of this site and allow them "+
		"on this machine")
	c.Flags().BoolVar(&yes, "yes", false, "with --allow: do not ask")
	c.Flags().BoolVar(&test, "test", false, "send a test notification, and show which "+
		"recipients were reached")
	return c
}

// tellAllow shows the commands of a site in full, and allows them.
func (a *app) tellAllow(yes bool) error {
	w, err := a.openSite()
	if err != nil {
		return err
	}
	defer w.Close()
	forbidden := a.teller(w, login.Book{}).Forbidden()
	if len(forbidden) == 0 {
		a.say("No commands to allow.")
		return nil
	}
	a.say("%s names commands that would run on this machine, as you, when events of jobs occur:",
		site.File)
	a.sayCommands(forbidden)
	if !yes {
		if err := a.confirm("Allow them on this machine?"); err != nil {
			return err
		}
	}
	if err := a.approvals().Allow(w.Dir, forbidden, a.now()); err != nil {
		return err
	}
	a.say("Allowed. Test them: catena tell --test")
	return nil
}

// sayCommands shows commands whole, each word as a shell takes it.
func (a *app) sayCommands(commands [][]string) {
	for _, command := range commands {
		var shown []string
		for _, word := range command {
			shown = append(shown, advice.Quoted(text.Harmless(word)))
		}
		view.Print(a.human(), "  %s\n", strings.Join(shown, " "))
	}
}

// sayForbidden says which commands of a site will not run.
func (a *app) sayForbidden(w *plan.Site) {
	if forbidden := a.teller(w, login.Book{}).Forbidden(); len(forbidden) > 0 {
		a.say("%s names %s that will not run, because they are not allowed on this machine. "+
			"Show and allow them: catena tell --allow",
			site.File, words.Plural(len(forbidden), "command"))
	}
}

func (a *app) tellTest(ctx context.Context) error {
	w, err := a.openSite()
	if err != nil {
		return err
	}
	defer w.Close()
	if !w.Tells() {
		return exit{exitUsage, fmt.Errorf("no recipients are configured: add tell: to %s", site.File)}
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
			Text: "A test notification of " + w.Name() + "."}, a.bell(), nil)
		if err != nil {
			l.Told, l.Why, cell = false, err.Error(), view.Bad.Cell("no")
			if errors.Is(err, notify.ErrNotAllowed) {
				l.Why += "; see it and allow it: catena tell --allow"
			}
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
	return plan.Teller{Site: w, Book: book, Bell: a.bell(), Approvals: a.approvals(),
		Failed: func(t notify.Target, err error) {
			if errors.Is(err, notify.ErrNotAllowed) {
				return // it was said before the job
			}
			a.notice("could not notify the %s: %v; the job continues", t.Name(), err)
		}}
}

// tellOfMissed tells, once, that a scheduled job did not start. No one is asked for a passphrase
// for that: where it would open the secrets of webhooks, a later command tells.
func (a *app) tellOfMissed(w *plan.Site, s job.State, text string) error {
	t, ok, err := a.unaskedTeller(w)
	if err != nil || !ok {
		return err
	}
	return t.Missed(s, text)
}

// unaskedTeller tells whoever the site names, where that requires no passphrase of a person.
func (a *app) unaskedTeller(w *plan.Site) (t plan.Teller, ok bool, err error) {
	if !w.Tells() || w.TellsBySecret() && !a.opensUnasked(w.Dir) {
		return t, false, nil
	}
	book, err := a.bookOf(w)
	return a.teller(w, book), err == nil, err
}

// tellNews tells, in a site folder, what a look at the feeds has brought for its devices.
func (a *app) tellNews() error {
	w, err := a.openSite()
	if errors.As(err, new(*workspace.NoSiteError)) {
		return nil
	}
	if err != nil {
		return err
	}
	defer w.Close()
	t, ok, err := a.unaskedTeller(w)
	if err != nil || !ok || w.ReadOnly() != nil {
		return err
	}
	s, err := a.openShelf()
	if err == nil {
		err = w.Match(s)
	}
	if err != nil {
		return err
	}
	t.Failed = func(target notify.Target, err error) {
		a.notice("could not notify the %s: %v; the next shelf pull tries again", target.Name(), err)
	}
	news, err := t.News()
	if len(news) > 0 {
		a.say("Told: %s.", strings.Join(news, "; "))
	}
	return err
}

// opensUnasked reports whether the logins can be opened without asking for a passphrase.
func (a *app) opensUnasked(dir string) bool {
	if a.identity != "" || a.getenv("CATENA_IDENTITY") != "" || a.getenv("CATENA_PASSPHRASE") != "" {
		return true
	}
	_, err := login.Kept(dir)
	return err == nil
}
