package site

import (
	"maps"
	"net/netip"
	"path"
	"slices"
	"strings"
)

// Reach says how far one gets with a device.
type Reach string

const (
	Answers Reach = "answers" // it was logged in to and read
	Locked  Reach = "locked"  // it answers, but refuses the login
	Silent  Reach = "silent"  // it takes connections but says nothing, or nothing that can be used
	Away    Reach = "away"    // it was known, and does not answer now
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
	Services   []string          `json:"services,omitempty"` // what it says it offers
	Heard      []string          `json:"heard,omitempty"`    // by which ways it was found
	Reach      Reach             `json:"reach"`
	Trouble    string            `json:"trouble,omitempty"` // why Reach is not answers
}

// Equal tells whether nothing differs.
func (d Device) Equal(e Device) bool {
	return slices.Equal(d.Services, e.Services) && slices.Equal(d.Heard, e.Heard) &&
		maps.Equal(d.Components, e.Components) && scalars(d) == scalars(e)
}

func scalars(d Device) [13]string {
	return [13]string{d.ID, d.Name, d.Address, d.Dialect, d.Path, d.UUID, d.Vendor, d.Model,
		d.Hardware, d.Serial, d.Version, string(d.Reach), d.Trouble}
}

// Known tells whether one can talk to the device at all.
func (d Device) Known() bool { return d.Dialect != "" }

// Answers tells whether pattern means this device: its name (with * and ? as
// wildcards), its id, its address with or without port, or its serial number.
func (d Device) Answers(pattern string) bool {
	host := d.Address
	if a, err := netip.ParseAddrPort(d.Address); err == nil {
		host = a.Addr().String()
	}
	if slices.Contains([]string{d.ID, d.Address, host}, pattern) ||
		d.Serial != "" && strings.EqualFold(d.Serial, pattern) {
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
