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
	// Apart keeps a change apart from what other machines of the site do, until end is called; nil:
	// there are none. Its errors are a job.BusyError, ErrUnseen, and those of the site's credentials.
	Apart func(d device.Device, what string) (end func(), err error)
	// Unseen says that a device is changed although no one can tell what other machines do.
	Unseen bool
}

// ErrUnseen is returned where no one can tell what other machines do.
var ErrUnseen = errors.New("no one can tell whether another machine works on it")

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
	PermissionTested = "permission"
	PasswordSet      = "password"
	DefaultTried     = "default-login" // the login that its maker publishes
)

// Change is a change of one device outside of jobs.
type Change struct {
	What    string `json:"what"`
	To      string `json:"to"`
	Problem string `json:"problem,omitempty"` // why it failed; empty: it did not, or is not over
}

// Free returns a job.BusyError for a device that a job has, or that another command is changing:
// before an operator is asked. The change itself takes the device's lease. Its other errors are
// those of Apart.
func (c Care) Free(d device.Device) error {
	release, err := c.lease(d, "")
	if err == nil {
		release()
	}
	return err
}

// lease takes a device for a change, here and at the office, until release is called.
func (c Care) lease(d device.Device, what string) (release func(), err error) {
	here, err := job.Lease(c.Ledger, d)
	if err != nil || c.Apart == nil {
		return here, err
	}
	elsewhere, err := c.Apart(d, what)
	switch {
	case errors.Is(err, ErrUnseen) && c.Unseen:
		return here, nil
	case err != nil:
		here()
		return nil, err
	}
	return func() { elsewhere(); here() }, nil
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
		PasswordSet:      {"changing its password", "password changed"},
		DefaultTried: {"trying the login that its maker publishes",
			"the login that its maker publishes works"},
		PermissionTested: {"testing the right to update it", "right to update it tested"},
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
// Apart and of the ledger, and those of do.
func (c Care) change(d device.Device, what Change, do func() error) error {
	release, err := c.lease(d, what.What)
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
