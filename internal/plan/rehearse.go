package plan

import (
	"catena/internal/order"
	"catena/internal/rehearse"
)

// RehearseOnce starts the job of an order on a stage, and returns it with the site that it plays
// at: a separate ledger, and no one is told. The caller closes it.
func (w *Site) RehearseOnce(o order.Order, chosen map[string]rehearse.Fault) (*rehearse.Once, *Site,
	error) {
	w.FillAtStart(&o, w.now())
	o.Rehearsal = true
	recorded, err := rehearse.Recordings(w.Dialects, w.Dir, w.Shelf.Dir())
	if err != nil {
		return nil, nil, err
	}
	once, err := rehearse.NewOnce(w.Job(o), recorded, chosen, w.now)
	if err != nil {
		return nil, nil, err
	}
	stage := *w.Workspace
	stage.Ledger, stage.Dir = once.Ledger, once.Dir
	stage.Site.Name, stage.Site.Tell = "Rehearsal of "+w.Name(), nil
	return once, &Site{Workspace: &stage, now: w.now}, nil
}
