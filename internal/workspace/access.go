package workspace

import (
	"slices"

	"catena/internal/device"
	"catena/internal/dialect"
	"catena/internal/family"
	"catena/internal/login"
	"catena/internal/scan"
	"catena/internal/site"
)

// Access is how the site's devices are reached: the logins, and the keys that they showed.
type Access struct {
	Book  login.Book
	Keys  []device.Key       // those that are trusted
	given []login.Credential // for this run; they come after those that are kept
	site  site.Site
	plain func(vendor, model string) bool
}

// Access brings together what is needed to talk to the site's devices.
func (w *Workspace) Access(families family.Set, book login.Book,
	given ...login.Credential) (*Access, error) {
	trusted, _, err := Keys(w.Ledger)
	return &Access{Book: book, Keys: trusted, given: given, site: w.Site,
		plain: families.PlainBasic}, err
}

// Logins are those to try with a device, in their order.
func (x *Access) Logins(d device.Device) []login.Credential {
	return append(x.Book.For(d, x.site.GroupsOf(d)), x.given...)
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

// Scanner makes the scanner of the site.
func (x *Access) Scanner() *scan.Scanner {
	return &scan.Scanner{Dialects: Dialects, Logins: x.Logins, Names: x.site.NameOf, Plain: x.plain,
		Communities: x.Communities(), Trusted: x.Keys, Patience: scan.UsualPatience}
}

// Contact is how to talk to a known device: with the login that worked last, or the first
// that it did not refuse; without one where none is needed. It is false where there is none.
func (x *Access) Contact(d device.Device) (dialect.At, login.Credential, bool) {
	at := dialect.At{Endpoint: d.Endpoint, Trust: scan.Trust(x.Keys, d.Address)}
	if d.Open {
		return at, login.Credential{}, true
	}
	form := Dialects.Form(d.Endpoint)
	logins := slices.DeleteFunc(x.Logins(d), func(l login.Credential) bool { return !l.Is(form) })
	i := slices.IndexFunc(logins, func(l login.Credential) bool { return l.ID == d.Login })
	if i < 0 {
		i = slices.IndexFunc(logins, func(l login.Credential) bool {
			return l.ID == "" || !slices.Contains(d.Refused, l.ID)
		})
	}
	if i < 0 {
		return at, login.Credential{}, false
	}
	as := logins[i]
	as.PlainBasic = x.plain(d.Vendor, d.Model)
	return at, as, true
}
