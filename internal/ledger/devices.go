package ledger

import (
	"database/sql"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"catena/internal/site"
)

// Devices returns the devices known, each as it was last seen, in the order of
// their ids.
func (l *Ledger) Devices() ([]site.Device, error) {
	rows, err := l.entries.Query(`SELECT seq, at, kind, job, device, body FROM entries WHERE seq IN
		(SELECT max(seq) FROM entries WHERE kind = ? GROUP BY device)`, Seen)
	if err != nil {
		return nil, err
	}
	return devices(rows)
}

func devices(rows *sql.Rows) ([]site.Device, error) {
	entries, err := collect(rows)
	if err != nil {
		return nil, err
	}
	var out []site.Device
	for _, e := range entries {
		var d site.Device
		if err := json.Unmarshal(e.Body, &d); err != nil {
			return nil, fmt.Errorf("entry %d of the ledger is no device: %w", e.Seq, err)
		}
		out = append(out, d)
	}
	slices.SortFunc(out, func(a, b site.Device) int { return idNumber(a.ID) - idNumber(b.ID) })
	return out, nil
}

// See records what was seen of devices, in one commit: only those that differ
// from what is known are written. A device without an ID gets the next one.
func (l *Ledger) See(job string, seen ...*site.Device) error {
	tx, err := l.entries.Begin()
	if err != nil {
		return l.failed(err)
	}
	defer func() { _ = tx.Rollback() }()
	rows, err := tx.Query(`SELECT seq, at, kind, job, device, body FROM entries WHERE seq IN
		(SELECT max(seq) FROM entries WHERE kind = ? GROUP BY device)`, Seen)
	if err != nil {
		return l.failed(err)
	}
	known, err := devices(rows)
	if err != nil {
		return err
	}
	highest := 0
	byID := map[string]site.Device{}
	for _, d := range known {
		byID[d.ID] = d
		highest = max(highest, idNumber(d.ID))
	}
	for _, d := range seen {
		if d.ID == "" {
			highest++
			d.ID = "d" + strconv.Itoa(highest)
		} else if old, ok := byID[d.ID]; ok && old.Equal(*d) {
			continue
		}
		raw, err := json.Marshal(d)
		if err != nil {
			return err
		}
		if err := l.appendIn(tx, Entry{Kind: Seen, Job: job, Device: d.ID, Body: raw}); err != nil {
			return l.failed(err)
		}
	}
	return l.failed(tx.Commit())
}

func idNumber(id string) int {
	n, _ := strconv.Atoi(strings.TrimPrefix(id, "d"))
	return n
}
