package care

import (
	"encoding/json"
	"errors"
	"time"

	"catena/internal/contact"
	"catena/internal/device"
	"catena/internal/job"
	"catena/internal/ledger"
)

// Care carries out changes of single devices.
type Care struct {
	Ledger *ledger.Ledger
	Access *contact.Access
	Store  Store
	Now    func() time.Time
}

// Kinds of the entries of a change; the body is a Change.
const (
	ChangeBegun ledger.Kind = "change-begun" // a change of a device is about to happen
	ChangeOver  ledger.Kind = "change-over"  // it is over
)

// What changes.
const (
	SettingsRestored = "settings" // To is the name of the save
	AddressMoved     = "address"  // To is the new address with the length of its network
	Blinked          = "blink"    // To is the output that the operator named
)

// Change is a change of one device outside of jobs.
type Change struct {
	What    string `json:"what"`
	To      string `json:"to"`
	Problem string `json:"problem,omitempty"` // why it failed; empty: it did not, or is not over
}

// Free returns a job.BusyError for a device that a job has, or that another command is changing:
// before an operator is asked. The change itself takes the device's lease.
func (c Care) Free(d device.Device) error {
	release, err := job.Lease(c.Ledger, d)
	if err == nil {
		release()
	}
	return err
}

// Sentence states in words what an entry of a change records; empty: it is none.
func Sentence(e ledger.Entry) string {
	var change Change
	if e.Kind != ChangeBegun && e.Kind != ChangeOver || json.Unmarshal(e.Body, &change) != nil {
		return ""
	}
	words := map[string][2]string{
		SettingsRestored: {"restoring settings " + change.To, "settings " + change.To + " restored"},
		AddressMoved:     {"moving to " + change.To, "moved to " + change.To},
		Blinked:          {"showing itself", "stopped showing itself"},
	}[change.What]
	switch {
	case e.Kind == ChangeBegun:
		return words[0]
	case change.Problem != "":
		return words[0] + " failed: " + change.Problem
	}
	return words[1]
}

// change carries out a change under the lease of the device. Only when the first entry is on the
// disk may it happen; the second one holds how it ended. Its errors are a job.BusyError, those of
// the ledger, and those of do.
func (c Care) change(d device.Device, what Change, do func() error) error {
	release, err := job.Lease(c.Ledger, d)
	if err != nil {
		return err
	}
	defer release()
	if err := c.Ledger.Append(ChangeBegun, "", d.ID, what); err != nil {
		return err
	}
	err = do()
	if err != nil {
		what.Problem = err.Error()
	}
	return errors.Join(err, c.Ledger.Append(ChangeOver, "", d.ID, what))
}
