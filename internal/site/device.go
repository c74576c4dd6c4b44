package site

import (
	"maps"
	"net/netip"
	"path"
	"slices"
	"strings"
)

// Access says how far Catena gets with a device.
type Access string

const (
	OK              Access = "ok"               // it was read
	LoginRefused    Access = "login-refused"    // it answers, but no login that is known opens it
	IdentityChanged Access = "identity-changed" // its certificate, host key or serial number is not the one that was trusted
	Silent          Access = "silent"           // it takes connections and answers nothing that can be understood
	Unreadable      Access = "unreadable"       // it answers, but Catena does not know how to read it
	Away            Access = "away"             // it was known, and does not answer now
)

// Device is what is known about one device. Every text in it comes from the
// device itself and was cleaned by Clean before it got here.
type Device struct {
	ID       string `json:"id"`      // given once by the ledger: d1, d2, …
	Name     string `json:"name"`    // unique within the site
	Address  string `json:"address"` // host:port
	Dialect  string `json:"dialect,omitempty"`
	Path     string `json:"path,omitempty"` // where its service lives, as it announced
	UUID     string `json:"uuid,omitempty"`
	Vendor   string `json:"vendor,omitempty"`
	Model    string `json:"model,omitempty"`
	Hardware string `json:"hardware,omitempty"`
	Serial   string `json:"serial,omitempty"`
	Version  string `json:"version,omitempty"` // of the main component
	// Components are the versions of the others, by name.
	Components map[string]string `json:"components,omitempty"`
	Services   []string          `json:"services,omitempty"`  // what it says it offers
	FoundVia   []string          `json:"found_via,omitempty"` // by which ways it was found
	Access     Access            `json:"access"`
	Trouble    string            `json:"trouble,omitempty"` // why Access is not ok

	TLS        bool        `json:"tls,omitempty"`        // it is talked to over TLS
	Says       string      `json:"says,omitempty"`       // what it said of itself in words
	MAC        string      `json:"mac,omitempty"`        // its hardware address: 02:00:5e:00:53:11
	Named      bool        `json:"named,omitempty"`      // its name is a person's; the device's own is not taken
	Login      string      `json:"login,omitempty"`      // the id of the login that worked last
	Refused    []string    `json:"refused,omitempty"`    // ids of logins that it refused; they are not tried again by themselves
	Neighbours []Neighbour `json:"neighbours,omitempty"` // what it sees at its ports
	Behind     []string    `json:"behind,omitempty"`     // what it says hangs behind it: serial numbers, names or addresses
}

// Neighbour is what a device sees at one of its ports (IEEE 802.1AB, LLDP).
type Neighbour struct {
	Port    string `json:"port"`              // of the device that sees it
	Chassis string `json:"chassis,omitempty"` // the neighbour's hardware address, where it told one
	Name    string `json:"name,omitempty"`
	Address string `json:"address,omitempty"` // for its management
}

// Key is what a device showed of itself at an address: a certificate, a host key, a
// serial number. Remembered at the first contact, it must be the same ever after.
type Key struct {
	Address     string `json:"address"` // host:port
	Kind        string `json:"kind"`
	Fingerprint string `json:"fingerprint"`
}

// Equal tells whether nothing differs.
func (d Device) Equal(e Device) bool {
	return slices.Equal(d.Services, e.Services) && slices.Equal(d.FoundVia, e.FoundVia) && slices.Equal(d.Refused, e.Refused) &&
		slices.Equal(d.Neighbours, e.Neighbours) && slices.Equal(d.Behind, e.Behind) &&
		maps.Equal(d.Components, e.Components) && d.TLS == e.TLS && d.Named == e.Named && scalars(d) == scalars(e)
}

func scalars(d Device) [16]string {
	return [16]string{d.ID, d.Name, d.Address, d.Dialect, d.Path, d.UUID, d.Vendor, d.Model,
		d.Hardware, d.Serial, d.Version, string(d.Access), d.Trouble, d.MAC, d.Login, d.Says}
}

// Host is the device's address without its port, and without an IPv6 zone.
func (d Device) Host() string {
	a, err := netip.ParseAddrPort(d.Address)
	if err != nil {
		return d.Address
	}
	return a.Addr().Unmap().WithZone("").String()
}

// Known tells whether one can talk to the device at all.
func (d Device) Known() bool { return d.Dialect != "" }

// Answers tells whether pattern means this device: its name (with * and ? as
// wildcards), its id, its address with or without port, its serial number or its
// hardware address.
func (d Device) Answers(pattern string) bool {
	if slices.Contains([]string{d.ID, d.Address, d.Host()}, pattern) ||
		d.Serial != "" && strings.EqualFold(d.Serial, pattern) || d.MAC != "" && strings.EqualFold(d.MAC, pattern) {
		return true
	}
	ok, err := path.Match(strings.ToLower(pattern), strings.ToLower(d.Name))
	return err == nil && ok
}

// MaxText is the longest text, in bytes, that is kept of anything a device says
// about itself.
const MaxText = 128

// Clean makes a text from a device harmless and short: it is Harmless, on one line,
// with single spaces, and at most MaxText bytes long.
func Clean(s string) string {
	if len(s) > 4*MaxText {
		s = s[:4*MaxText]
	}
	s = strings.Join(strings.Fields(Harmless(s)), " ")
	if len(s) > MaxText {
		s = strings.TrimSpace(strings.ToValidUTF8(s[:MaxText], ""))
	}
	return s
}

// Harmless takes out of a text what a terminal would act on, and what hides or
// turns other characters: control characters but for tabs and newlines, invisible
// and direction-changing ones.
func Harmless(s string) string {
	return strings.Map(func(r rune) rune {
		switch {
		case r == '\t' || r == '\n':
			return r
		case r == '\r':
			return ' '
		case r < 0x20, r >= 0x7f && r < 0xa0, // C0, DEL, C1
			r >= 0x200b && r <= 0x200f, r >= 0x202a && r <= 0x202e, r >= 0x2060 && r <= 0x206f, r == 0xfeff:
			return -1
		}
		return r
	}, strings.ToValidUTF8(s, ""))
}
