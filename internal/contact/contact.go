// Package contact is how the devices of a site are reached: by which protocol, with which login,
// under which trusted keys. Every session with a known device is opened here.
//
// Its central type is Access. It never decides what is done with a device.
package contact

import (
	"net/netip"
	"slices"
	"sync"

	"catena/internal/device"
	"catena/internal/dialect"
	"catena/internal/dialect/hand"
	"catena/internal/dialect/scripted"
	"catena/internal/dialect/standard"
	"catena/internal/family"
	"catena/internal/firmware"
	"catena/internal/ledger"
	"catena/internal/login"
	"catena/internal/record"
	"catena/internal/scan"
	"catena/internal/site"
	"catena/internal/wire"
)

// Access is how the site's devices are reached: the logins, and the keys that they showed.
type Access struct {
	Book login.Book
	Keys []device.Key // those that are trusted
	// Dialects are what the site's devices can be talked to by.
	Dialects dialect.Registry
	given    []login.Credential // for this run; they come after those that are kept
	site     site.Site
	dir      string // the site folder
	ledger   *ledger.Ledger
	mu       sync.Mutex                        // of Keys and shared, while sessions are open
	shared   map[string]*dialect.SharedSession // of the children of each parent, by its ID
	plain    func(vendor, model string) bool
}

// New returns the access to the devices of a site. given are logins for this run only.
func New(l *ledger.Ledger, dir string, s site.Site, families family.Set, book login.Book,
	given ...login.Credential) (*Access, error) {
	trusted, _, err := record.Keys(l)
	book.Entries = slices.Clone(book.Entries)
	for i, e := range book.Entries {
		if e.Kind == login.Device {
			book.Entries[i].Of = l.Canonical(e.Of)
		}
	}
	return &Access{Book: book, Keys: trusted, Dialects: Dialects(families), given: given,
		site: s, dir: dir, ledger: l, plain: families.PlainBasic}, err
}

// Dialects are those that this program has, and before them one for each family that describes how
// its devices are reached: an operator wrote it for those. A new one of the program's own is a
// folder in internal/dialect, a word in its package standard, and a call of the conformance suite.
func Dialects(families family.Set) dialect.Registry {
	all := append(standard.All(), hand.Dialect{})
	var parent scripted.Dialect
	for i, f := range families.Families() {
		rank := i - len(families.Families())
		switch {
		case f.Program == nil:
			continue
		case f.Program.ParentRoute != nil: // those of children come right after their parent's
			all = append(all, parent.Children(rank))
			continue
		}
		parent = scripted.New(f, rank)
		all = append(all, parent)
	}
	return dialect.NewRegistry(all...)
}

// Logins are those to try with a device, in their order. A login for a group goes only to
// members that are known by more than their own word: by a name that a person gave, by their
// address, or by being at the address at which they were known. What only gives a hint of what it
// is gets none that is for all.
func (x *Access) Logins(d device.Device) []login.Credential {
	member := d
	if _, fixed := x.site.NameOf(d); !fixed && !d.Named {
		member.Name = ""
	}
	if d.ID == "" || d.Moved != "" {
		member.Serial, member.MAC = "", ""
	}
	all := append(x.Book.For(d, x.site.GroupsOf(member)), x.given...)
	if speaks, ok := x.Dialects.Named(d.Dialect); ok && speaks.About().Hint {
		return slices.DeleteFunc(all, func(c login.Credential) bool { return x.forAll(c.ID) })
	}
	return all
}

// forAll tells whether a login is for the whole site, or was given for this run.
func (x *Access) forAll(id string) bool {
	i := slices.IndexFunc(x.Book.Entries, func(e login.Entry) bool { return e.ID == id })
	return id == "" || i < 0 || x.Book.Entries[i].Kind == login.Site
}

// Communities are those of the whole site: everybody may be asked with them.
func (x *Access) Communities() []string {
	var out []string
	for _, e := range x.Book.Entries {
		if e.Kind == login.Site && e.User == "" {
			out = append(out, e.Password)
		}
	}
	return out
}

// ownCommunities are those of single hosts. A device that has moved on its own word does not
// get its own.
func (x *Access) ownCommunities(known []device.Device) map[netip.Addr][]string {
	all := x.Communities()
	out := map[netip.Addr][]string{}
	add := func(d device.Device) {
		host, err := netip.ParseAddr(d.Host())
		if err != nil {
			return
		}
		for _, c := range x.Logins(d) {
			if c.Is(login.Community) && !slices.Contains(all, c.Password) &&
				!slices.Contains(out[host], c.Password) {
				out[host] = append(out[host], c.Password)
			}
		}
	}
	for _, d := range known {
		add(d)
	}
	for _, e := range x.Book.Entries { // an address where nothing is known yet
		if a, err := netip.ParseAddr(e.Of); err == nil && e.Kind == login.Device {
			add(device.Device{Endpoint: device.Endpoint{Address: netip.AddrPortFrom(a,
				0).String()}})
		}
	}
	return out
}

// Scanner makes the scanner of the site.
func (x *Access) Scanner() *scan.Scanner {
	return &scan.Scanner{Caller: x.caller, Dialects: x.Dialects, Logins: x.Logins,
		Names: x.site.NameOf, Refers: x.site.Refers, Plain: x.plain,
		Communities: x.Communities(), OwnCommunities: x.ownCommunities, Trusted: x.Keys,
		Patience: scan.UsualPatience}
}

// Asked is how many logins that have not worked on a device before are sent to it by a command that
// a person gives for that; other commands send one.
const Asked = 3

// Untried returns the stored logins that may be tried on a device, and that it has not refused.
func (x *Access) Untried(d device.Device) (out []login.Entry) {
	for _, l := range x.Logins(d) {
		if e, is := x.Book.Find(l.ID); is && l.Is(x.Dialects.Form(d.Endpoint)) &&
			!slices.Contains(d.Refused, l.ID) {
			out = append(out, e)
		}
	}
	return out
}

// Contact is how to talk to a known device: with the login that worked last, or the first
// that it did not refuse; without one where none is needed. It is false where there is none. A
// device that a job works on is left as that job has entered it.
func (x *Access) Contact(d device.Device) (dialect.At, login.Credential, bool) {
	return x.contact(d, x.caller)
}

// Trusted returns the keys that are trusted now.
func (x *Access) Trusted() []device.Key {
	x.mu.Lock()
	defer x.mu.Unlock()
	return x.Keys
}

// Session opens a session with a known device. It verifies the identity of the device before each
// login. The caller closes it. Its errors are device.ErrUnsupported, and a device.NoLogin.
func (x *Access) Session(d device.Device) (dialect.Session, error) { return x.SessionFor(d, nil) }

// SessionFor is Session for a device that is to get images with these interlocks.
func (x *Access) SessionFor(
	d device.Device,
	interlocks []firmware.Interlock,
) (dialect.Session, error) {
	speaks, ok := x.Dialects.Named(d.Dialect)
	if !ok {
		return nil, device.ErrUnsupported
	}
	at, as, ok := x.Contact(d)
	if !ok {
		return nil, device.Because(device.NoLogin, "")
	}
	at.Interlocks = interlocks
	return dialect.Guard(speaks, at, d.Identity, speaks.Open(at, as)), nil
}

// SessionAs is Session with another login. With PlainBasic, that may be shown on the wire.
func (x *Access) SessionAs(d device.Device, as login.Credential) (dialect.Session, error) {
	speaks, ok := x.Dialects.Named(d.Dialect)
	if !ok || d.Through != "" {
		return nil, device.ErrUnsupported
	}
	at, _, _ := x.Contact(d)
	as.PlainBasic = as.PlainBasic || x.plain(d.Vendor, d.Model)
	return dialect.Guard(speaks, at, d.Identity, speaks.Open(at, as)), nil
}

// ContactOfJob is Contact for the job that works on the device: it takes over what is started
// there.
func (x *Access) ContactOfJob(d device.Device) (dialect.At, login.Credential, bool) {
	return x.contact(d, x.callerOfJob)
}

func (x *Access) contact(d device.Device, caller func(device.Device) dialect.Caller) (dialect.At,
	login.Credential, bool) {
	if d.Dialect == hand.Name { // there is no one to talk to
		return dialect.At{Endpoint: d.Endpoint, Caller: caller(d)}, login.Credential{}, true
	}
	if d.Through != "" {
		return x.contactThrough(d, caller)
	}
	x.mu.Lock()
	at := dialect.At{Endpoint: d.Endpoint, Trust: x.trust(d.Address), Caller: caller(d)}
	x.mu.Unlock()
	form := x.Dialects.Form(d.Endpoint)
	logins := slices.DeleteFunc(x.Logins(d), func(l login.Credential) bool { return !l.Is(form) })
	i := slices.IndexFunc(logins, func(l login.Credential) bool { return l.ID == d.Login })
	if i < 0 {
		i = slices.IndexFunc(logins, func(l login.Credential) bool {
			return l.RefusedAs() == "" || !slices.Contains(d.Refused, l.RefusedAs())
		})
	}
	if i < 0 { // one that tells all without a login may still require one to be changed
		return at, login.Credential{}, d.Open
	}
	as := logins[i]
	if form == login.Community && x.kindOf(logins[0].ID) != x.kindOf(as.ID) {
		as.Changes = logins[0].Password // the device is read with a more general one
	}
	as.PlainBasic = x.plain(d.Vendor, d.Model)
	return at, as, true
}

// kindOf is what a stored login is for; empty: it was given for this run.
func (x *Access) kindOf(id string) login.Kind {
	e, _ := x.Book.Find(id)
	return e.Kind
}

// contactThrough is how to talk to a child: as to its parent, by what all children of that share.
func (x *Access) contactThrough(d device.Device, caller func(device.Device) dialect.Caller) (
	at dialect.At,
	as login.Credential, ok bool) {
	parent, err := record.Device(x.ledger, d.Through)
	if err != nil || parent.Through != "" {
		return at, as, false
	}
	in, as, ok := x.contact(parent, caller)
	x.mu.Lock()
	defer x.mu.Unlock()
	if x.shared == nil {
		x.shared = map[string]*dialect.SharedSession{}
	}
	if x.shared[parent.ID] == nil {
		x.shared[parent.ID] = &dialect.SharedSession{}
	}
	return dialect.At{Endpoint: d.Endpoint, Caller: caller(d),
		Parent: &dialect.Parent{Identity: parent.Identity,
			Contact: dialect.Contact{At: in, As: as, Protocol: x.Dialects.Protocol(parent.Dialect)},
			Shared:  x.shared[parent.ID]}}, as, ok
}

// trust holds the keys shown at an address against those trusted. Another one is recorded,
// so that a person can accept it.
func (x *Access) trust(address string) wire.Trust {
	check := scan.Trust(x.Keys, address)
	return func(kind, fingerprint string) error {
		err := check(kind, fingerprint)
		if err != nil {
			met := device.Key{Address: address, Kind: kind, Fingerprint: fingerprint}
			_ = record.Distrust(x.ledger, []device.Key{met}) // the error is what stops the job
		}
		return err
	}
}
