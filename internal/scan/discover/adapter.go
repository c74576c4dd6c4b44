package discover

import (
	"fmt"
	"net"
	"net/netip"
	"slices"
	"strings"

	"catena/internal/site"
)

// Adapter is one of this machine's adapters.
type Adapter struct {
	Name      string         `json:"name"`
	MAC       string         `json:"mac,omitempty"`
	Up        bool           `json:"up"`
	Running   bool           `json:"link"` // a cable is in, or the radio is joined
	Loopback  bool           `json:"loopback"`
	Multicast bool           `json:"multicast"`
	Addresses []netip.Prefix `json:"addresses"`
}

// Adapters lists this machine's adapters.
func Adapters() ([]Adapter, error) {
	all, err := net.Interfaces()
	if err != nil {
		return nil, err
	}
	var out []Adapter
	for _, i := range all {
		a := Adapter{Name: i.Name, MAC: i.HardwareAddr.String(), Up: i.Flags&net.FlagUp != 0,
			Running:  i.Flags&net.FlagRunning != 0,
			Loopback: i.Flags&net.FlagLoopback != 0, Multicast: i.Flags&net.FlagMulticast != 0,
			Addresses: []netip.Prefix{}}
		addrs, err := i.Addrs()
		if err != nil {
			return nil, err
		}
		for _, x := range addrs {
			if p, err := netip.ParsePrefix(x.String()); err == nil {
				a.Addresses = append(a.Addresses, p)
			}
		}
		out = append(out, a)
	}
	return out, nil
}

// Choose finds the adapters that a person means: by name, by one of its addresses, or by
// any other address, which is then reached through it; empty: all that are up and can
// multicast, without loopback.
func Choose(all []Adapter, want string) ([]Adapter, error) {
	var out []Adapter
	var names string
	address, _ := netip.ParseAddr(want)
	for i, a := range all {
		if i > 0 {
			names += ", "
		}
		names += a.Name
		named := want == a.Name
		for _, p := range a.Addresses {
			named = named || address.IsValid() && p.Addr() == address
		}
		switch {
		case want == "" && a.Up && a.Multicast && !a.Loopback:
			out = append(out, a)
		case named:
			return usable(a)
		}
	}
	if want == "" {
		return out, nil
	}
	if address.IsValid() {
		from, err := route(address)
		if err != nil {
			return nil, fmt.Errorf("no adapter leads to %s: %w", want, err)
		}
		for _, a := range all {
			for _, p := range a.Addresses {
				if p.Addr() == from {
					return usable(a)
				}
			}
		}
	}
	return nil, &NoAdapterError{Want: want, Have: names}
}

// NoAdapterError is returned for a word that means none of this machine's adapters.
type NoAdapterError struct{ Want, Have string }

func (e *NoAdapterError) Error() string {
	return fmt.Sprintf("there is no adapter %q; this machine has %s", e.Want, e.Have)
}

func usable(a Adapter) ([]Adapter, error) {
	switch {
	case !a.Up:
		return nil, fmt.Errorf("adapter %s is down; bring it up or choose another", a.Name)
	case len(a.Addresses) == 0:
		return nil, fmt.Errorf("adapter %s has no address; give it one in the site's network, or "+
			"choose another", a.Name)
	}
	return []Adapter{a}, nil
}

// route is the address from which this machine would talk to another. Nothing is sent.
func route(to netip.Addr) (netip.Addr, error) {
	c, err := net.Dial("udp", netip.AddrPortFrom(to, 9).String())
	if err != nil {
		return netip.Addr{}, err
	}
	defer func() { _ = c.Close() }()
	from, err := netip.ParseAddrPort(c.LocalAddr().String())
	return from.Addr(), err
}

// choose finds the adapters to multicast on: the one named, or those in whose networks
// the ranges lie, or without ranges all.
func (n Network) choose(all []Adapter) ([]Adapter, error) {
	if n.Adapter != "" || len(n.Ranges) == 0 {
		return Choose(all, n.Adapter)
	}
	var out []Adapter
	for _, a := range all {
		if a.Up && slices.ContainsFunc(n.Ranges,
			func(r site.Range) bool { return slices.ContainsFunc(a.Addresses, r.Overlaps) }) {
			out = append(out, a)
		}
	}
	return out, nil
}

// astray says which ranges lie in none of the networks that this machine is in.
func (n Network) astray(adapters []Adapter) []string {
	var out []string
	var own []string
	for _, a := range adapters {
		for _, p := range a.Addresses {
			if !p.Addr().IsLinkLocalUnicast() && !p.Addr().IsLoopback() {
				own = append(own, a.Name+" "+p.String())
			}
		}
	}
	for _, r := range n.Ranges {
		near := slices.ContainsFunc(adapters, func(a Adapter) bool {
			return slices.ContainsFunc(a.Addresses, r.Overlaps)
		})
		if near || r.First.IsLoopback() || r.First.IsLinkLocalUnicast() {
			continue
		}
		text := r.First.String()
		if r.Last != r.First {
			text += "-" + r.Last.String()
		}
		where := "it has none but its own"
		if len(own) > 0 {
			where = "it is in " + strings.Join(own, ", ")
		}
		out = append(out, fmt.Sprintf(
			"%s is in no network of this machine (%s), so it is reached through a router, if "+
				"at all, and without multicast", text, where))
	}
	return out
}

// One finds the one adapter of this machine that a person means. Its errors are those of Choose,
// and that there are several.
func One(want string) (Adapter, error) {
	all, err := Adapters()
	if err != nil {
		return Adapter{}, err
	}
	chosen, err := Choose(all, want)
	if err != nil {
		return Adapter{}, err
	}
	if len(chosen) != 1 {
		var names []string
		for _, c := range chosen {
			names = append(names, c.Name)
		}
		return Adapter{}, fmt.Errorf("there are several adapters (%s); choose one: --adapter NAME",
			strings.Join(names, ", "))
	}
	return chosen[0], nil
}
