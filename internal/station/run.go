package station

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"time"

	"catena/internal/contact"
	"catena/internal/firmware"
	"catena/internal/job"
	"catena/internal/order"
	"catena/internal/plan"
	"catena/internal/words"
)

// Runner is a station at work. What it does not decide itself, its caller does.
type Runner struct {
	Station *Station
	// Open opens the site folder; Run closes it.
	Open func() (*plan.Site, error)
	// Sync exchanges with the office what the two lack. Its error says why the office was not reached.
	Sync func(context.Context) error
	// Claim says at the office that this station carries an order out; mine is false where another one
	// has said so. Its error says why the office was not reached.
	Claim func(ctx context.Context, digest string) (mine bool, err error)
	// Access returns how the devices of an order are reached.
	Access func(*plan.Site, order.Order) (*contact.Access, error)
	// Carry runs a job to its end; stopped reports that it was asked to stop.
	Carry func(context.Context, *plan.Site, *contact.Access, *job.Job) (stopped bool, err error)
	// Tell is told what a person should know.
	Tell func(format string, args ...any)
	Now  func() time.Time
	// Every is the time between two exchanges.
	Every time.Duration

	told words.News
}

// ErrRunning is returned by Run while another process is the station of the folder.
var ErrRunning = errors.New("another process is the station of this folder")

// Run works until ctx ends. A job that is running then starts no more devices and is waited for.
// Its error is ErrRunning, or one of the site folder.
func (r *Runner) Run(ctx context.Context) error {
	w, err := r.Open()
	if err != nil {
		return err
	}
	defer w.Close()
	release, ok, err := w.Ledger.Hold("station")
	if err != nil || !ok {
		return cmp.Or(err, ErrRunning)
	}
	defer release()
	r.told = words.News{}
	syncing, end := context.WithCancel(ctx)
	exchanged := make(chan error, 1)
	done := make(chan struct{})
	go func() {
		defer close(done)
		for {
			err := r.Sync(syncing)
			select {
			case exchanged <- err:
			default: // a job runs, and an older one was not looked at yet
			}
			select {
			case <-syncing.Done():
				return
			case <-time.After(r.Every):
			}
		}
	}()
	defer func() { end(); <-done }()
	for {
		select {
		case <-ctx.Done():
			return nil
		case err := <-exchanged:
			r.once("office", reach(err))
		case <-time.After(r.Every): // the office may take long to answer, or not to
		}
		if ctx.Err() != nil {
			return nil
		}
		stopped, err := r.round(ctx)
		if err != nil || stopped {
			return err
		}
	}
}

func reach(err error) string {
	if err == nil {
		return "The office is reached."
	}
	return fmt.Sprintf("%v; it is tried again.", err)
}

// once tells a thing once: again only after another one of its subject.
func (r *Runner) once(subject, what string) {
	if r.told.Is(subject, what) {
		r.Tell("%s", what)
	}
}

// round continues what was interrupted, and carries out what is due, one order after the other.
func (r *Runner) round(ctx context.Context) (stopped bool, err error) {
	w, err := r.Open()
	if err != nil {
		return false, err
	}
	defer w.Close()
	interrupted, err := w.Interrupted()
	if err != nil {
		return false, err
	}
	for _, s := range interrupted {
		if s.Order.Station == nil {
			continue // a person's
		}
		if stopped, err = r.resume(ctx, w, s); err != nil || stopped {
			return stopped, err
		}
	}
	errands, err := r.Station.Errands(w, r.Now())
	if err != nil {
		return false, err
	}
	for _, e := range errands {
		if ctx.Err() != nil {
			return true, nil
		}
		switch e.State {
		case Waits:
			r.once(e.Order, fmt.Sprintf("The order %s starts %s.", e.Order,
				e.Start.Local().Format("Mon 2006-01-02 15:04")))
		case Refused, Expired:
			r.once(e.Order, fmt.Sprintf("The order %s is not carried out: %s.", e.Order, e.Why))
		case Due:
			stopped, why, err := r.carryOut(ctx, w, e)
			if why != nil {
				r.once(e.Order, fmt.Sprintf("The order %s does not start: %v. It is tried again.", e.Order,
					why))
			}
			if err != nil || stopped {
				return stopped, err
			}
		}
	}
	return false, nil
}

func (r *Runner) resume(ctx context.Context, w *plan.Site, s job.State) (stopped bool, err error) {
	x, err := r.Access(w, s.Order)
	if err != nil {
		r.once(s.ID, fmt.Sprintf("The job %s cannot be continued: %v. It is tried again.", s.ID, err))
		return false, nil
	}
	done, err := w.MeetOthers(ctx)
	if err != nil {
		return false, err
	}
	defer done()
	j, err := w.Resume(x, s, firmware.Patience{})
	if errors.Is(err, job.ErrRunning) || errors.Is(err, job.ErrOver) ||
		errors.Is(err, plan.ErrGivenUp) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	r.Tell("Continuing with job %s of the order %s.", s.ID, s.Order.Name)
	return r.Carry(ctx, w, x, j)
}

// carryOut starts the job of an order that is due, and waits for its end. why is what keeps it from
// starting; the order is looked at again in the next round.
func (r *Runner) carryOut(
	ctx context.Context,
	w *plan.Site,
	e Errand,
) (stopped bool, why, err error) {
	done, err := w.MeetOthers(ctx)
	if err != nil {
		return false, nil, err
	}
	defer done()
	p, why := w.Prepare(e.order, plan.Terms{Station: true})
	if why != nil {
		return false, why, nil
	}
	if p.Start.After(r.Now()) {
		return false, nil, nil // its window has just closed
	}
	for _, d := range p.Skipped {
		r.once(e.Order+" "+d.ID, fmt.Sprintf("%s is left out of the order %s: %s.", d.Device, e.Order,
			d.Text))
	}
	x, why := r.Access(w, p.Order)
	if why != nil {
		return false, why, nil
	}
	switch mine, failed := r.Claim(ctx, e.order.Digest); {
	case failed != nil && !e.order.Accepts(plan.Unseen):
		return false, fmt.Errorf("the office is not reached, and the order does not accept that (catena "+
			"order new --accept %s)", plan.Unseen), nil
	case failed == nil && !mine:
		return false, errors.New("another station has said that it carries it out"), nil
	}
	j, why := w.Start(x, p.Order, firmware.Patience{})
	if why != nil {
		return false, why, nil
	}
	r.Tell("Job %s carries out the order %s.", j.ID, e.Order)
	stopped, err = r.Carry(ctx, w, x, j)
	return stopped, nil, err
}
