package plan

import (
	"cmp"
	"errors"
	"fmt"
	"strings"
	"time"

	"catena/internal/order"
	"catena/internal/record"
	"catena/internal/site"
)

// Terms are how an order is to be carried out.
type Terms struct {
	Start    string        // now, window, a delay, a time of day, or a time as RFC 3339 has it
	WaitFor  time.Duration // for interlocks
	WaitAway time.Duration // for devices that are away
	Stage    bool          // the images are only sent
	Again    bool          // devices that were away or refused the login are asked again
	Station  bool          // the station of the site carries it out
}

// TermError is returned for terms that make no sense.
type TermError struct{ Term, Text, Reason string }

func (e *TermError) Error() string { return strings.TrimSpace(e.Term+" "+e.Text) + ": " + e.Reason }

// ClosedError is returned for a start at which no window of the site is open.
type ClosedError struct{ Start, Opens, Closes time.Time } // the next window

func (e *ClosedError) Error() string {
	return fmt.Sprintf("no window of the site is open at %s; the next one is from %s to %s",
		e.Start.Format("15:04"), e.Opens.Format("Mon 2006-01-02 15:04"), e.Closes.Format("15:04 MST"))
}

// ErrForStation is returned where a person carries out an order that is for the station.
var ErrForStation = errors.New("the order is for the station of the site")

// StaleError is returned for an order that cannot be carried out any more.
type StaleError struct{ Reasons []string }

func (e *StaleError) Error() string {
	return "the order can no longer be carried out; make it again. Nothing was changed:\n  " +
		strings.Join(e.Reasons, "\n  ")
}

// EmptyError is returned where no device of an order is left to work on.
type EmptyError struct{}

func (EmptyError) Error() string {
	return "the order has no remaining devices; nothing was changed"
}

// Prepared is an order that may start.
type Prepared struct {
	Order    order.Order
	Start    time.Time
	Forecast order.Schedule
	Terms    Terms
	Skipped  []Difference // devices that were left out, and why
}

// Prepare compares an order with the site as it is now, and says how it would go. What is left out
// is returned with an error, too. Its errors are a TermError, ErrForStation, a ClosedError, a
// StaleError, an EmptyError and a record.UnmergedError.
func (w *Site) Prepare(o order.Order, t Terms) (p Prepared, err error) {
	switch {
	case t.WaitFor < 0:
		return p, &TermError{"--wait-for", t.WaitFor.String(), "write for example 10m"}
	case o.Station != nil && !t.Station:
		return p, ErrForStation
	case t.WaitAway < 0:
		return p, &TermError{"--wait-away", t.WaitAway.String(), "write for example 30m"}
	}
	o.WaitFor, o.WaitAway = max(o.WaitFor, t.WaitFor), max(o.WaitAway, t.WaitAway)
	if o.Stage = o.Stage || t.Stage; o.Stage {
		o.Rules.Pilot = false // nothing is proven that others could wait for
	}
	t.Again = t.Again || o.WaitAway > 0
	p = Prepared{Order: o, Terms: t}
	if p.Start, err = w.StartTime(t.Start); err != nil {
		return p, err
	}
	if err = w.agreed(o); err != nil {
		return p, err
	}
	if err = w.holdAgainst(&p, p.Start); err != nil {
		return p, err
	}
	if w.unseen != nil && o.Purpose == order.Forward && o.Station == nil {
		p.Order.Cautions = append(p.Order.Cautions, unseen(p.Order))
	}
	p.Forecast, err = order.Forecast(p.Order, p.Start)
	return p, err
}

// agreed refuses an order while someone has to choose between the versions of a file. A rollback
// needs no one's choice: it is safer than to wait.
func (w *Site) agreed(o order.Order) error {
	if o.Purpose == order.Backward {
		return nil
	}
	unmerged, err := record.Unmerged(w.Ledger)
	if err == nil && len(unmerged) > 0 {
		err = &record.UnmergedError{Files: unmerged}
	}
	return err
}

// StartsNow holds an order that waited for its start against the site once more: much may have
// changed since. What is left out now is added to Skipped.
func (w *Site) StartsNow(p *Prepared) error {
	if err := w.Renew(); err != nil {
		return err
	}
	if err := w.agreed(p.Order); err != nil {
		return err
	}
	return w.holdAgainst(p, w.now())
}

// holdAgainst leaves out devices that have changed since the order was made; anything else that has
// changed refuses the order.
func (w *Site) holdAgainst(p *Prepared, start time.Time) error {
	skip := map[string]bool{}
	var refuse []string
	for _, d := range w.Differences(p.Order, p.Terms.Again) {
		switch {
		case d.Refuses:
			refuse = append(refuse, strings.TrimPrefix(d.Device+": ", ": ")+d.Text)
		case !skip[d.ID]:
			skip[d.ID] = true
			p.Skipped = append(p.Skipped, d)
		}
	}
	switch {
	case len(refuse) > 0:
		return &StaleError{refuse}
	case len(skip) == len(p.Order.Devices):
		return EmptyError{}
	}
	p.Order = w.Without(p.Order, func(d order.Device) bool { return skip[d.ID] })
	w.FillAtStart(&p.Order, start)
	return nil
}

// NextStart returns when a job could start at the earliest: now, or where the site has windows and
// none is open, when the next one opens.
func (w *Site) NextStart() time.Time {
	now := w.now()
	if opens, _, has := w.Site.Window(now); has && opens.After(now) {
		return opens
	}
	return now
}

// StartTime returns the time that a text means; empty is NextStart. Outside of the site's windows
// nothing starts. Its errors are a TermError and a ClosedError.
func (w *Site) StartTime(text string) (time.Time, error) {
	now := w.now()
	opens, _, has := w.Site.Window(now)
	start := now
	switch text {
	case "":
		return w.NextStart(), nil
	case "now":
	case "window":
		if !has {
			return start, &TermError{
				"--start",
				text,
				"the site has no windows; see windows: in " + site.File,
			}
		}
		if opens.After(now) {
			start = opens
		}
		return start, nil
	default:
		var err error
		if start, err = w.time("--start", text, "now, window, "); err != nil {
			return start, err
		}
	}
	if opens, closes, has := w.Site.Window(start); has && opens.After(start) {
		return start, &ClosedError{start, opens, closes}
	}
	return start, nil
}

// time returns the time that a text means: a delay, the next such time of day at the site, or a
// time as RFC 3339 has it. Its error is a TermError, which names what else a term takes.
func (w *Site) time(term, text, also string) (start time.Time, err error) {
	now := w.now()
	wrong := func(reason string) error { return &TermError{term, text, reason} }
	if after, is := strings.CutPrefix(text, "+"); is {
		d, err := time.ParseDuration(after)
		if err != nil || d < 0 {
			return start, wrong("write for example +2h")
		}
		return now.Add(d), nil
	}
	if clock, err := time.Parse("15:04", text); err == nil {
		zone := now.In(w.Site.Zone())
		start = time.Date(zone.Year(), zone.Month(), zone.Day(), clock.Hour(), clock.Minute(), 0, 0,
			zone.Location())
		if start.Before(now) {
			start = start.AddDate(0, 0, 1)
		}
		return start, nil
	}
	start, err = time.Parse(time.RFC3339, text)
	switch {
	case err != nil:
		return start, wrong("write " + also + "+2h, 22:30, or for example " + now.Format(time.RFC3339))
	case start.Before(now):
		return start, wrong("it is in the past")
	}
	return start, nil
}

// Make makes an order of what is chosen, as it would start now, and returns the rows that are not
// in it, and the names of the devices for which the time to fit into is too short. to is a version
// other than the target; empty: the target.
func (w *Site) Make(request Request, rows []Row, fit time.Duration) (o order.Order, skipped []Row,
	late []string, err error) {
	if request.Parallel == 0 && w.Site.Limits.Parallel == 0 {
		request.Parallel = UsualParallel
	}
	now := w.now()
	o, skipped, err = w.Order(request, rows, now)
	if err != nil || len(o.Devices) == 0 || fit == 0 {
		return o, skipped, nil, err
	}
	fits, late := w.Fit(o, now, now.Add(fit))
	if len(fits.Devices) == 0 {
		return o, skipped, late, &NoTimeError{fit}
	}
	return fits, skipped, late, nil
}

// Paths returns the chosen rows on their way: to their targets, to another version, or to what they
// run, once more.
func (w *Site) Paths(rows []Row, to string, again bool) ([]Row, error) {
	switch {
	case to != "":
		out, err := w.Retarget(rows, to)
		return out, cmp.Or(err, w.reachable(out, to))
	case again:
		return w.Again(rows)
	}
	return rows, nil
}

// NoTimeError is returned where no device can be proven or returned within a time.
type NoTimeError struct{ Within time.Duration }

func (e *NoTimeError) Error() string {
	return fmt.Sprintf("no device can be verified or rolled back within %s; nothing was changed",
		e.Within)
}

// UsualParallel is how many devices are worked on at the same time where neither the site nor a
// person says.
const UsualParallel = 8
