package discover

import (
	"fmt"
	"net/netip"
	"slices"

	"catena/internal/site"
)

// Network is where to look. Without ranges, all that is heard on the adapters counts.
type Network struct {
	// a name or an address, see Choose; empty: those that lead to the ranges, or all
	Adapter        string
	Ranges, Except []site.Range
	Ports          []site.Port      // empty: the usual ones
	Known          bool             // besides these ports, those of known devices
	Relays         []netip.AddrPort // BBMDs, which ask networks behind routers

	adapters []Adapter
	usual    []uint16 // TCP ports to try where none are named
}

// Inside reports whether a sighting there belongs to the site.
func (n Network) Inside(a netip.AddrPort) bool {
	return !site.Has(n.Except, a) && (len(n.Ranges) == 0 || site.Has(n.Ranges, a))
}

// heardInside is inside for what may have been heard at another port than the one that
// a range names.
func (n Network) heardInside(s Sighting) bool {
	if n.Inside(s.Address) {
		return true
	}
	return slices.ContainsFunc(n.Ranges, func(r site.Range) bool {
		r.Port = 0
		return s.Dialect == "" && r.Has(s.Address) && !site.Has(n.Except, s.Address)
	})
}

// portsFor are the ports that are named for a way of asking; empty: none.
func (n Network) portsFor(way string) []uint16 {
	var out []uint16
	for _, p := range n.Ports {
		if p.Way == way {
			out = append(out, p.Number)
		}
	}
	return out
}

// WideError is returned for a range of more than a /16 that no one said is meant.
type WideError struct {
	Range     string
	Addresses int
}

func (e *WideError) Error() string {
	return fmt.Sprintf("%s has %d addresses, more than a /16", e.Range, e.Addresses)
}

// Addresses makes a network of what a person names to be looked through: each an address,
// a row, a network or host:port. wide allows ranges of more than a /16.
func Addresses(
	addresses, except []string, adapter string, ports []site.Port, wide bool,
) ([]Network, error) {
	n := Network{Adapter: adapter, Ports: ports}
	for list, into := range map[*[]string]*[]site.Range{&addresses: &n.Ranges, &except: &n.Except} {
		for _, t := range *list {
			r, err := site.ParseRange(t)
			switch {
			case err != nil:
				return nil, err
			case r.Wide() && !wide && into == &n.Ranges:
				return nil, &WideError{t, r.Count()}
			}
			*into = append(*into, r)
		}
	}
	return []Network{n}, nil
}

// Inherit gives the ranges that lie in a network of the site its adapter and its ports, besides
// those of the devices that are known there. The others stay as they are.
func Inherit(all, of []Network) (out []Network) {
	for _, n := range all {
		rest := n
		rest.Ranges = nil
		parts := make([]Network, len(of))
		for _, r := range n.Ranges {
			i := slices.IndexFunc(of, func(o Network) bool {
				return slices.ContainsFunc(o.Ranges, func(whole site.Range) bool {
					return whole.Has(netip.AddrPortFrom(r.First, whole.Port)) &&
						whole.Has(netip.AddrPortFrom(r.Last, whole.Port))
				})
			})
			if i < 0 {
				rest.Ranges = append(rest.Ranges, r)
				continue
			}
			parts[i].Adapter, parts[i].Ports, parts[i].Except = of[i].Adapter, of[i].Ports, n.Except
			parts[i].Relays = of[i].Relays
			parts[i].Ranges, parts[i].Known = append(parts[i].Ranges, r), true
		}
		if len(rest.Ranges) > 0 || len(n.Ranges) == 0 {
			out = append(out, rest)
		}
		out = append(out, slices.DeleteFunc(parts, func(p Network) bool { return len(p.Ranges) == 0 })...)
	}
	return out
}

// Narrow takes addresses out of networks, and has other ports looked at in them.
func Narrow(networks []Network, except []string, ports []site.Port) ([]Network, error) {
	for _, t := range except {
		r, err := site.ParseRange(t)
		if err != nil {
			return nil, err
		}
		for i := range networks {
			networks[i].Except = append(networks[i].Except, r)
		}
	}
	for i := range networks {
		if len(ports) > 0 {
			networks[i].Ports = ports
		}
	}
	return networks, nil
}

// Networks makes networks of those in a site file.
func Networks(of []site.Network) []Network {
	var out []Network
	for _, n := range of {
		ranges, except := n.Inside()
		out = append(out, Network{Adapter: n.Adapter, Ranges: ranges, Except: except,
			Ports: n.PortList(), Relays: n.Relays()})
	}
	return out
}
