package plan

import (
	"catena/internal/care"
	"catena/internal/contact"
	"catena/internal/device"
	"catena/internal/job"
	"catena/internal/ledger"
	"catena/internal/record"
	"encoding/json"
	"fmt"
	"strings"
	"time"
)

// Happening is one thing that happened to a device.
type Happening struct {
	At   time.Time `json:"at"`
	Job  string    `json:"job,omitempty"` // empty: outside of jobs
	What string    `json:"what"`          // in words
}

// Happened returns what happened to a device, the oldest first, after what happened to the one
// whose place it took.
func (w *Site) Happened(id string) (out []Happening, err error) {
	before, err := record.Predecessor(w.Ledger, id)
	if err == nil && before.Of != "" && before.Of != id {
		out, err = w.happened(before.Of)
	}
	if err != nil {
		return nil, err
	}
	own, err := w.happened(id)
	return append(out, own...), err
}

// happened is what happened to a device itself.
func (w *Site) happened(id string) (out []Happening, err error) {
	entries, err := w.Ledger.Entries(ledger.Filter{Device: id})
	if err != nil {
		return nil, err
	}
	for _, e := range entries {
		what := ""
		switch e.Kind {
		case record.Found:
			var d device.Device
			if json.Unmarshal(e.Body, &d) == nil {
				at := "at " + d.Address
				if d.Through != "" {
					at = "through its parent"
				}
				what = strings.TrimSpace(fmt.Sprintf("seen %s: %s %s", at, d.Access, d.Version))
			}
		case contact.Kept: // the steps beside it say what for
		case care.ChangeBegun, care.ChangeOver:
			what = care.Sentence(e)
		default:
			if what = record.Sentence(e); what == "" {
				what = job.Sentence(e)
			}
		}
		if what == "" {
			continue
		}
		out = append(out, Happening{e.At, e.Job, what})
	}
	return out, nil
}
