package plan

import (
	"fmt"
	"io"
	"net/url"
	"slices"
	"time"

	"catena/internal/firmware"
	"catena/internal/job"
	"catena/internal/login"
	"catena/internal/match"
	"catena/internal/notify"
	"catena/internal/site"
)

// Tells reports whether the site names anyone who is told.
func (w *Site) Tells() bool { return len(w.Site.Tell) > 0 }

// TellsBySecret reports whether the site's logins may hold a secret of those who are told.
func (w *Site) TellsBySecret() bool {
	return slices.ContainsFunc(w.Site.Tell, func(t site.Tell) bool { return t.Webhook != "" }) &&
		login.Exists(w.Dir)
}

// Teller tells whoever the site names.
type Teller struct {
	Site   *Site
	Book   login.Book                 // the secrets of webhooks
	Bell   io.Writer                  // a terminal that can be rung; nil: there is none
	Failed func(notify.Target, error) // someone could not be told
	// Approvals are the commands that may run on this machine.
	Approvals notify.Approvals
}

// Targets returns whoever is told, with the secrets of the webhooks.
func (t Teller) Targets() (out []notify.Target) {
	for _, tell := range t.Site.Site.Tell {
		target := notify.Target{Webhook: tell.Webhook, Command: tell.Command, Dir: t.Site.Dir,
			Bell: tell.Bell}
		target.Forbidden = len(tell.Command) > 0 && !t.Approvals.Allows(t.Site.Dir, tell.Command)
		if u, err := url.Parse(tell.Webhook); err == nil && tell.Webhook != "" {
			target.Secret = t.Book.HookSecret(u.Hostname())
		}
		for _, word := range tell.On {
			target.On = append(target.On, notify.Kind(word))
		}
		out = append(out, target)
	}
	return out
}

// Forbidden returns the commands of the site that are not allowed on this machine.
func (t Teller) Forbidden() (out [][]string) {
	for _, target := range t.Targets() {
		if target.Forbidden {
			out = append(out, target.Command)
		}
	}
	return out
}

// tellAtMost is how long the end of a command waits for what is still to be told.
const tellAtMost = 15 * time.Second

// Follow tells what happens in a job after an entry, until the returned function is called.
func (t Teller) Follow(id string, after int64) (stop func()) {
	if !t.Site.Tells() {
		return func() {}
	}
	sender := notify.New(t.Targets(), t.Bell, t.Failed)
	end := notify.FollowJob(notify.Job{Ledger: t.Site.Ledger, Site: t.Site.Name(), ID: id,
		After: after,
		Now:   t.Site.now}, sender.Tell)
	return func() {
		end()
		sender.Close(tellAtMost)
	}
}

// Missed tells, once, that a scheduled job did not start.
func (t Teller) Missed(s job.State, text string) error {
	first, err := job.NoteMissed(t.Site.Ledger, s.ID)
	if err != nil || !first {
		return err
	}
	sender := notify.New(t.Targets(), t.Bell, t.Failed)
	sender.Tell(notify.Event{Kind: notify.Missed, At: t.Site.now().UTC(), Site: t.Site.Name(),
		Job:   s.ID,
		Order: s.Name, Text: text, Counts: map[string]int{string(job.Waiting): len(s.Devices)}})
	sender.Close(tellAtMost)
	return nil
}

// News tells, once, of later versions in the feeds, and of versions that became unsafe, as far as
// devices of the site are concerned. It returns what is new. What someone could not be told is told
// again the next time.
func (t Teller) News() (news []string, err error) {
	var all []string
	for _, r := range t.Site.Rows {
		what := r.Model
		if r.Component != firmware.Main {
			what += " " + r.Component
		}
		if r.Newer.Text != "" {
			all = append(all, fmt.Sprintf("a feed has %s for %s", r.Newer.Text, what))
		}
		if match.Status(r.Status) == match.Unsafe {
			all = append(all, fmt.Sprintf("%s must not run %s", what, r.Version.Text))
		}
	}
	slices.Sort(all)
	return t.tellNew(notify.News, "News for "+t.Site.Name()+": ", slices.Compact(all))
}
