package address

import (
	"cmp"
	"net/netip"
	"slices"
	"strings"
)

// Stray is a device that cannot be reached, as lists show it.
type Stray struct {
	MAC     string   `json:"mac,omitempty"`
	Address string   `json:"address,omitempty"`
	Via     []string `json:"found_via"`
	Name    string   `json:"name,omitempty"`
	Why     string   `json:"why"`
}

// Strays adds what was heard to the devices that cannot be reached from an adapter with those
// addresses and MAC.
func Strays(all []Stray, h Heard, own []netip.Prefix, mac string) []Stray {
	why := "it has no address"
	switch a := h.Address; {
	case a.IsValid() && (a.Is6() || a.IsUnspecified() || a.IsMulticast()),
		a.IsValid() && slices.ContainsFunc(own, func(p netip.Prefix) bool { return p.Contains(a) }),
		!a.IsValid() && h.Via != "dhcp", h.MAC != "" && strings.EqualFold(h.MAC, mac):
		return all
	case a.IsValid() && a.IsLinkLocalUnicast():
		why = "a link-local address, and this adapter has none"
	case a.IsValid():
		why = "an address of another network"
	case h.Via == "dhcp":
		why = "it asks for an address"
	}
	const most = 4096 // who floods the adapter is not listed for ever
	for i := range all {
		s := &all[i]
		if same := s.MAC != "" && s.MAC == h.MAC; same || s.MAC == "" && s.Address == h.Address.String() {
			if h.Address.IsValid() {
				s.Address, s.Why = h.Address.String(), why
			}
			s.Name = cmp.Or(s.Name, h.Name)
			if !slices.Contains(s.Via, h.Via) {
				s.Via = append(s.Via, h.Via)
			}
			return all
		}
	}
	if len(all) >= most {
		return all
	}
	s := Stray{MAC: h.MAC, Via: []string{h.Via}, Name: h.Name, Why: why}
	if h.Address.IsValid() {
		s.Address = h.Address.String()
	}
	return append(all, s)
}
