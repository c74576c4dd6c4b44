// Package login keeps the logins of a site's devices, encrypted at rest, and says which
// are worth a try with a device, and in which order.
//
// Its central type is Book. It never logs in itself, and never writes a password
// anywhere but into its encrypted file.
package login

import (
	"crypto/rand"
	"errors"
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

	"catena/internal/device"
)

// Kind is what a login is for.
type Kind string

// The kinds, the most particular first: in this order logins are tried.
const (
	Device Kind = "device"
	Model  Kind = "model"
	Group  Kind = "group"
	Site   Kind = "site"
	// a place where copies of settings are kept, by its host: no device is logged in to with it
	Place Kind = "second place"
	// the secret that signs what is told to a webhook, by its host
	Hook Kind = "webhook"
)

// Kinds in their order.
var Kinds = []Kind{Device, Model, Group, Site}

// Entry is one login and what it is for. It shows no password when it is printed.
type Entry struct {
	ID   string `json:"id"`
	Kind Kind   `json:"kind"`
	// a device's id or address, a model's or a group's name
	Of       string `json:"of,omitempty"`
	Label    string `json:"label,omitempty"` // what the device was called when it was added
	User     string `json:"user,omitempty"`  // empty: an SNMP community
	Password string `json:"password"`
	SNMP     SNMP   `json:"snmp,omitzero"`
	// Pending is set while its password was sent to the device as the new one, and was not verified
	// there: the device may have it, or the one before.
	Pending bool `json:"pending,omitempty"`
	More
}

func (e Entry) String() string { return e.For() }

// GoString hides it, too.
func (e Entry) GoString() string { return e.For() }

// For says in words what the login is for.
func (e Entry) For() string {
	switch {
	case e.Kind == Site:
		return "the site"
	case e.Label != "":
		return string(e.Kind) + " " + e.Label
	}
	return string(e.Kind) + " " + e.Of
}

// applies tells whether the login is for a device in these groups.
func (e Entry) applies(d device.Device, groups []string) bool {
	switch e.Kind {
	case Device:
		return e.Of == d.ID && d.ID != "" && d.Moved == "" || e.Of == d.Address || e.Of == d.Host()
	case Model:
		return strings.EqualFold(e.Of, d.Model)
	case Group:
		return slices.Contains(groups, e.Of)
	}
	return e.Kind == Site
}

// Book is all logins of a site.
type Book struct {
	Entries []Entry `json:"logins"`
	// Own is an identity of age that the site has for what it keeps of its devices: it is in this
	// file alone, and made with it.
	Own string `json:"own,omitempty"`
	// Past are identities that the site had before: what was encrypted for them can still be read.
	Past []string `json:"past,omitempty"`
	// Readers are who can open the file; none: whoever has its passphrase or identity file.
	Readers []Reader `json:"readers,omitempty"`
}

func (b Book) String() string { return "logins" }

// GoString hides it, too.
func (b Book) GoString() string { return "logins" }

// For lists the logins for a device that is in these groups, in the order in which they
// are to be tried: for the device, its model, its groups, the site; of one kind the one
// that was added last comes first.
func (b Book) For(d device.Device, groups []string) []Credential {
	var out []Credential
	for _, kind := range Kinds {
		for _, e := range slices.Backward(b.Entries) {
			if e.Kind == kind && e.applies(d, groups) {
				out = append(out, e.Credential())
			}
		}
	}
	return out
}

// At is the login for a second place at a host; false: there is none.
func (b Book) At(host string) (Credential, bool) {
	for _, e := range b.Entries {
		if e.Kind == Place && strings.EqualFold(e.Of, host) {
			return Credential{ID: e.ID, User: e.User, Password: e.Password, More: e.More}, true
		}
	}
	return Credential{}, false
}

// HookSecret is what signs what is told to a webhook at a host; empty: nothing does.
func (b Book) HookSecret(host string) string {
	for _, e := range b.Entries {
		if e.Kind == Hook && strings.EqualFold(e.Of, host) {
			return e.Password
		}
	}
	return ""
}

// Add adds a login. The others stay, also one for the same with the same user: devices of one model
// may have different passwords. Only the same login again, and what a host can have one of, takes
// the place of the old one.
func (b *Book) Add(e Entry) (Entry, error) {
	if err := e.check(); err != nil {
		return e, err
	}
	e.ID = strings.ToLower(rand.Text()[:8])
	b.Entries = slices.DeleteFunc(b.Entries, func(o Entry) bool {
		same := o.Kind == e.Kind && o.Of == e.Of && o.User == e.User && (e.Kind == Place ||
			e.Kind == Hook || o.Password == e.Password && (e.Password != "" || o.Key == e.Key))
		if same {
			e.ID = o.ID // devices on which it worked know it by that
		}
		return same
	})
	b.Entries = append(b.Entries, e)
	return e, nil
}

// Beside returns the other logins for the same with the same user.
func (b Book) Beside(e Entry) (out []Entry) {
	for _, o := range b.Entries {
		if o.ID != e.ID && o.Kind == e.Kind && o.Of == e.Of && o.User == e.User {
			out = append(out, o)
		}
	}
	return out
}

// Prepare adds the login that a device is about to get: with the user and the keys of the one that
// it has, and another password. It is pending until Confirm or Drop. What is pending for the device
// already is a reason to settle that first: then its error is ErrPending.
func (b *Book) Prepare(d device.Device, has Credential, password string) (Entry, error) {
	if slices.ContainsFunc(b.Entries, func(e Entry) bool { return e.Pending && e.Of == d.ID }) {
		return Entry{}, ErrPending
	}
	e := Entry{Kind: Device, Of: d.ID, Label: d.Name, User: has.User, Password: password,
		Pending: true, More: has.More, ID: strings.ToLower(rand.Text()[:8])}
	if err := e.check(); err != nil {
		return e, err
	}
	b.Entries = append(b.Entries, e)
	return e, nil
}

// ErrPending is returned for a device of which it is not known yet whether it has a new password.
var ErrPending = errors.New("it may have either of two passwords since the last change")

// Confirm ends that a login is pending: the device has it. Others that are for this device and user
// alone are dropped.
func (b *Book) Confirm(id string) {
	at := slices.IndexFunc(b.Entries, func(e Entry) bool { return e.ID == id })
	if at < 0 {
		return
	}
	b.Entries[at].Pending = false
	is := b.Entries[at]
	b.Entries = slices.DeleteFunc(b.Entries, func(e Entry) bool {
		return e.ID != id && e.Kind == Device && e.Of == is.Of && e.User == is.User
	})
}

// Pending are the logins of which it is not known whether their device has them.
func (b Book) Pending() (out []Entry) {
	for _, e := range b.Entries {
		if e.Pending {
			out = append(out, e)
		}
	}
	return out
}

// Credential is what a login sends.
func (e Entry) Credential() Credential {
	return Credential{ID: e.ID, User: e.User, Password: e.Password, SNMP: e.SNMP, More: e.More}
}

const maxSecret = 256 // bytes of a user or a password

func (e Entry) check() error {
	if err := errors.Join(e.SNMP.Check(), e.More.check()); err != nil {
		return err
	}
	switch {
	case !slices.Contains(Kinds, e.Kind) && e.Kind != Place && e.Kind != Hook:
		return fmt.Errorf("a login is for a device, a model, a group or the site")
	case (e.Kind == Site) != (e.Of == ""):
		return fmt.Errorf("a login for a %s requires its name", e.Kind)
	case e.Password == "" && (!e.Keyed() || e.User == ""):
		return fmt.Errorf("the password is empty")
	case !utf8.ValidString(e.User + e.Password):
		return fmt.Errorf("the user or the password is not UTF-8, so the device would receive " +
			"something else")
	case len(e.User) > maxSecret || len(e.Password) > maxSecret || len(e.SNMP.Secret) > maxSecret:
		return fmt.Errorf("a user or a password of more than %d bytes", maxSecret)
	case strings.ContainsAny(e.User+e.Password, "\r\n\x00"):
		return fmt.Errorf("a user or a password with a line break in it")
	case strings.Contains(e.User, ":"):
		return fmt.Errorf("a user with a colon in it, which HTTP cannot send")
	}
	return nil
}

// Drop takes a login out by its id.
func (b *Book) Drop(id string) (Entry, bool) {
	for i, e := range b.Entries {
		if e.ID == id {
			b.Entries = slices.Delete(b.Entries, i, i+1)
			return e, true
		}
	}
	return Entry{}, false
}

// Find is the login with that id.
func (b Book) Find(id string) (Entry, bool) {
	for _, e := range b.Entries {
		if e.ID == id && id != "" {
			return e, true
		}
	}
	return Entry{}, false
}
