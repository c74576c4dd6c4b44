package workspace

import (
	"catena/internal/device"
	"catena/internal/record"
	"slices"
)

// Unaccepted is what was met of a device and waits for a person: keys in the place of
// trusted ones, by what was trusted, and whether it has moved on its own word.
type Unaccepted struct {
	Devices []device.Device // those that have moved
	Keys    []ChangedKey
}

// ChangedKey is a key that was met in the place of a trusted one.
type ChangedKey struct {
	device.Key
	Was string // the fingerprint of the trusted one
}

// Unaccepted finds what waits for a person at the devices that a word means, or at the
// address that it is.
func (w *Workspace) Unaccepted(word string) (out Unaccepted, err error) {
	known, err := record.Devices(w.Ledger)
	if err != nil {
		return out, err
	}
	trusted, changed, err := record.Keys(w.Ledger)
	if err != nil {
		return out, err
	}
	hosts := map[string]bool{word: true}
	for _, d := range known {
		if d.Answers(word) {
			hosts[d.Host()] = true
			if d.Moved != "" {
				out.Devices = append(out.Devices, d)
			}
		}
	}
	for _, k := range changed {
		if !hosts[k.Address] && !hosts[k.Host()] {
			continue
		}
		i := slices.IndexFunc(trusted, func(t device.Key) bool {
			return t.Address == k.Address && t.Kind == k.Kind
		})
		if i >= 0 {
			out.Keys = append(out.Keys, ChangedKey{Key: k, Was: trusted[i].Fingerprint})
		}
	}
	return out, nil
}

// Accept records that a person accepts it.
func (w *Workspace) Accept(u Unaccepted) error {
	var keys []device.Key
	for _, k := range u.Keys {
		keys = append(keys, k.Key)
	}
	if err := record.Trust(w.Ledger, keys); err != nil {
		return err
	}
	for _, d := range u.Devices {
		d.Moved = ""
		if err := record.Update(w.Ledger, "", &d); err != nil {
			return err
		}
	}
	return nil
}
