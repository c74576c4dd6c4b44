package record

import (
	"encoding/json"
	"fmt"
	"time"

	"catena/internal/device"
	"catena/internal/ledger"
)

// Past is what a site knew at a time.
type Past struct {
	Devices []device.Device // without those that had left the site
	Keys    []device.Key    // the trusted ones
}

// PastAt returns what a site knew at a time, as its history tells it now: entries of other laptops
// count by their time, also those that arrived later.
func PastAt(l *ledger.Ledger, at time.Time) (p Past, err error) {
	until := func(kind ledger.Kind) (out []ledger.Entry, err error) {
		all, err := l.Entries(ledger.Filter{Kind: kind})
		for _, e := range all {
			if !e.At.After(at) {
				out = append(out, e)
			}
		}
		return out, err
	}
	seen, err := until(Found)
	if err != nil {
		return p, err
	}
	left, err := until(retired)
	if err != nil {
		return p, err
	}
	shown, err := until(key)
	if err != nil {
		return p, err
	}
	gone := map[string]bool{}
	for _, e := range left {
		var r Retirement
		if err := json.Unmarshal(e.Body, &r); err != nil {
			return p, fmt.Errorf("%s of the ledger cannot be read: %w", e, err)
		}
		gone[e.Device] = r.Retired
	}
	newest := map[string]ledger.Entry{}
	var order []string
	for _, e := range seen {
		if _, is := newest[e.Device]; !is {
			order = append(order, e.Device)
		}
		newest[e.Device] = e
	}
	var entries []ledger.Entry
	for _, id := range order {
		if !gone[id] {
			entries = append(entries, newest[id])
		}
	}
	if p.Devices, err = devices(l, entries); err != nil {
		return p, err
	}
	p.Keys, _, err = keys(shown)
	return p, err
}
