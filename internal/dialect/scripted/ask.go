package scripted

import (
	"context"
	"time"

	"catena/internal/device"
	"catena/internal/family"
)

// Of an ask.
const (
	askWithin = 30 * time.Minute // where the step does not say
	askEvery  = 2 * time.Second  // the device itself is looked at
)

// askPerson has a person do something. It ends when they say that it is done, or where the step
// says how that shows, when the device shows it.
func (s *session) askPerson(ctx context.Context, step *family.Step, what string) error {
	within := step.Within
	if within == 0 {
		within = askWithin
	}
	ctx, cancel := context.WithTimeout(ctx, within)
	defer cancel()
	said := make(chan error, 1)
	switch {
	case s.at.Ask != nil:
		go func() { said <- s.at.Ask(ctx, what, step.Occupies) }()
	case step.Until == nil:
		return device.Because(device.NeedsPerson, "%s; there is no operator to ask", what)
	}
	tick := time.NewTicker(askEvery)
	defer tick.Stop()
	for {
		select {
		case err := <-said:
			return err
		case <-ctx.Done():
			if s.at.Ask != nil {
				<-said //nolint:errcheck // it ends with ctx
			}
			return device.Because(device.NeedsPerson, "%s; no operator confirmed within %s "+
				"that it was done", what,
				within)
		case <-tick.C:
		}
		if step.Until == nil || s.look(ctx) != nil {
			continue // it may be away while someone works on it
		}
		if shows, err := step.Until.Holds(s.v, nil); err != nil || shows {
			cancel()
			if s.at.Ask != nil {
				<-said //nolint:errcheck // who asked may have to wait until it is its turn again
			}
			return s.mistaken(err)
		}
	}
}
