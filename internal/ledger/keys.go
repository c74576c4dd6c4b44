package ledger

import (
	"encoding/json"
	"fmt"

	"catena/internal/site"
)

// Keys returns the devices' keys that are trusted, and those that were met in the place
// of one and not accepted since.
func (l *Ledger) Keys() (trusted, strange []site.Key, err error) {
	rows, err := l.entries.Query(`SELECT seq, at, kind, job, device, body FROM entries WHERE kind IN (?, ?) ORDER BY seq`, Met, Strange)
	if err != nil {
		return nil, nil, err
	}
	entries, err := collect(rows)
	if err != nil {
		return nil, nil, err
	}
	var order []site.Key
	met, other := map[site.Key]string{}, map[site.Key]string{}
	for _, e := range entries {
		var k site.Key
		if err := json.Unmarshal(e.Body, &k); err != nil {
			return nil, nil, fmt.Errorf("entry %d of the ledger is no key: %w", e.Seq, err)
		}
		slot := site.Key{Address: k.Address, Kind: k.Kind}
		if e.Kind == Strange {
			other[slot] = k.Fingerprint
			continue
		}
		if _, known := met[slot]; !known {
			order = append(order, slot)
		}
		met[slot] = k.Fingerprint
		delete(other, slot)
	}
	for _, slot := range order {
		trusted = append(trusted, site.Key{Address: slot.Address, Kind: slot.Kind, Fingerprint: met[slot]})
		if f, ok := other[slot]; ok {
			strange = append(strange, site.Key{Address: slot.Address, Kind: slot.Kind, Fingerprint: f})
		}
	}
	return trusted, strange, nil
}

// Meet records keys as trusted, Distrust keys that were met in the place of others.
// What is known so already is not written again.
func (l *Ledger) Meet(keys []site.Key) error { return l.addKeys(Met, keys) }

// Distrust records keys that were met in the place of others.
func (l *Ledger) Distrust(keys []site.Key) error { return l.addKeys(Strange, keys) }

func (l *Ledger) addKeys(kind Kind, keys []site.Key) error {
	if len(keys) == 0 {
		return nil
	}
	trusted, strange, err := l.Keys()
	if err != nil {
		return err
	}
	known := map[site.Key]bool{}
	for _, k := range map[Kind][]site.Key{Met: trusted, Strange: strange}[kind] {
		known[k] = true
	}
	tx, err := l.entries.Begin()
	if err != nil {
		return l.failed(err)
	}
	defer func() { _ = tx.Rollback() }()
	for _, k := range keys {
		if known[k] {
			continue
		}
		raw, err := json.Marshal(k)
		if err != nil {
			return err
		}
		if err := l.appendIn(tx, Entry{Kind: kind, Body: raw}); err != nil {
			return l.failed(err)
		}
	}
	return l.failed(tx.Commit())
}
