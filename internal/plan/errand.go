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
// added where accept has its name: without it the station waits for its office. Its error is a
// TermError.
func (w *Site) ForStation(o *order.Order, after string, valid time.Duration,
	accept []string) error {
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
	if slices.Contains(accept, Unseen) {
		o.Cautions = append(o.Cautions, unseen(*o))
	}
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
