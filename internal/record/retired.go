package record

import (
	"encoding/json"
	"slices"
	"time"

	"catena/internal/device"
	"catena/internal/ledger"
	"catena/internal/text"
)

const (
	retired  ledger.Kind = "retired"  // a device left the site, or returned; the body is a Retirement
	replaces ledger.Kind = "replaces" // a device took another one's place; the body is a Replacement
)

// Retirement is that a device has left the site. It stays in the history.
type Retirement struct {
	Retired bool      `json:"retired"` // false: it is back
	Because string    `json:"because,omitempty"`
	By      string    `json:"by,omitempty"` // the ID of the device that took its place
	At      time.Time `json:"-"`
}

// Replacement is whose place a device took.
type Replacement struct {
	Of     string `json:"of"`     // its ID
	Serial string `json:"serial"` // its serial number
}

// Retire records that a device has left the site, or is back.
func Retire(l *ledger.Ledger, id string, r Retirement) error { return l.Append(retired, "", id, r) }

// Replace records that a device took the place of another one.
func Replace(l *ledger.Ledger, id string, r Replacement) error {
	return l.Append(replaces, "", id, r)
}

// Retirements are those of the devices that have left the site, by ID.
func Retirements(l *ledger.Ledger) (map[string]Retirement, error) {
	entries, err := l.Entries(ledger.Filter{Kind: retired, Newest: true})
	if err != nil {
		return nil, err
	}
	out := map[string]Retirement{}
	for _, e := range entries {
		var r Retirement
		if json.Unmarshal(e.Body, &r) == nil && r.Retired {
			r.At, r.Because = e.At, text.Clean(r.Because)
			out[e.Device] = r
		}
	}
	return out, nil
}

// Predecessor is whose place a device took; an empty Of: no one's.
func Predecessor(l *ledger.Ledger, id string) (r Replacement, err error) {
	entries, err := l.Entries(ledger.Filter{Kind: replaces, Device: id, Last: 1})
	if err == nil && len(entries) > 0 {
		err = json.Unmarshal(entries[0].Body, &r)
		r.Serial = text.Clean(r.Serial)
	}
	return r, err
}

// Sentence states in words what an entry records of a device that comes or goes, or what someone
// noted about it; empty: it is none.
func Sentence(e ledger.Entry) string {
	var r Retirement
	var p Replacement
	if n, is := noteOf(e); is {
		if n.Photo != "" {
			n.Text += " (" + PhotosFolder + "/" + n.Photo
			if n.Position != "" {
				n.Text += ", at " + n.Position
			}
			n.Text += ")"
		}
		return "note of " + n.By + ": " + n.Text
	}
	switch {
	case e.Kind == replaces && json.Unmarshal(e.Body, &p) == nil:
		return "took the place of " + text.Clean(p.Serial)
	case e.Kind != retired || json.Unmarshal(e.Body, &r) != nil:
		return ""
	case !r.Retired:
		return "is back at the site"
	case r.Because == "":
		return "retired"
	}
	return "retired: " + text.Clean(r.Because)
}

// withoutRetired leaves out the devices that have left the site.
func withoutRetired(l *ledger.Ledger, all []device.Device) ([]device.Device, error) {
	gone, err := Retirements(l)
	if err != nil || len(gone) == 0 {
		return all, err
	}
	return slices.DeleteFunc(all, func(d device.Device) bool {
		_, is := gone[d.ID]
		return is
	}), nil
}
