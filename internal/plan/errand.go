package plan

import (
	"slices"
	"time"

	"catena/internal/job"
	"catena/internal/order"
)

// Unseen is the caution that no one can tell whether someone else is working at the site, because
// its office cannot be reached.
const Unseen = job.UnseenCaution

// ForStation makes an order one that the site's station carries out: not before a time, as
// StartTime has it (empty: at once), and for as long as valid from then on. The caution unseen is
// added: it is for people to accept now, since no one is asked later. Its error is a TermError.
func (w *Site) ForStation(o *order.Order, after string, valid time.Duration) error {
	now := w.now()
	from := now
	o.Station = &order.Errand{}
	if after != "" {
		at, err := w.time("--after", after, "")
		if err != nil {
			return err
		}
		from, o.Station.After = at, at.UTC().Truncate(time.Second)
	}
	o.Station.Until = from.Add(valid).UTC().Truncate(time.Second)
	o.Cautions = append(o.Cautions, unseen(*o))
	return nil
}

// unseen is the caution of that name for an order.
func unseen(o order.Order) order.Caution {
	c := order.Caution{Name: Unseen, Text: "the office cannot be reached: no one can tell whether " +
		"someone else is working at this site"}
	for _, d := range o.Devices {
		c.Devices = append(c.Devices, d.Name)
	}
	return c
}

// DropOptional takes the caution unseen out of an order for a station where no one has accepted it:
// then the station waits for its office.
func (w *Site) DropOptional(o *order.Order) {
	o.Cautions = slices.DeleteFunc(o.Cautions, func(c order.Caution) bool {
		return c.Name == Unseen && c.Accepted == ""
	})
}
