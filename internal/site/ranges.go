package site

import (
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"go4.org/netipx"
)

// MaxAddresses is the largest number of addresses that one range may name without
// more ado: a /16. A larger one is nearly always a slip of the pen.
const MaxAddresses = 1 << 16

// MaxWide is the largest number of addresses that one range may ever name: a /8.
const MaxWide = 1 << 24

// Range is a address range, and a port where one was named.
type Range struct {
	First, Last netip.Addr
	Port        uint16 // 0: the usual ports
}

// ParseRange reads an address (10.20.4.7), an address with a port
// (10.20.4.7:8080), a row (10.20.4.1-10.20.4.60) or a network (10.20.5.0/26; of
// an IPv4 network without its own and its broadcast address).
func ParseRange(s string) (Range, error) {
	s = strings.TrimSpace(s)
	bad := func(why string) (Range, error) {
		return Range{}, fmt.Errorf("%q %s; write 10.20.4.7, 10.20.4.7:8080, 10.20.4.1-10.20.4.60 or "+
			"10.20.5.0/26", s, why)
	}
	if a, err := netip.ParseAddr(s); err == nil {
		return Range{First: a, Last: a}, nil
	}
	if ap, err := netip.ParseAddrPort(s); err == nil && ap.Port() != 0 {
		return Range{First: ap.Addr(), Last: ap.Addr(), Port: ap.Port()}, nil
	}
	if p, err := netip.ParsePrefix(s); err == nil {
		return prefixRange(s, p.Masked())
	}
	from, to, ok := strings.Cut(s, "-")
	if !ok {
		return bad("is not an address, an address range or a network")
	}
	first, err1 := netip.ParseAddr(strings.TrimSpace(from))
	last, err2 := netip.ParseAddr(strings.TrimSpace(to))
	switch {
	case err1 != nil || err2 != nil || first.Is4() != last.Is4():
		return bad("is not an address range")
	case last.Less(first):
		return bad("runs backwards")
	}
	r := Range{First: first, Last: last}
	if r.Count() > MaxWide && first.Is4() {
		return bad(fmt.Sprintf("has more than %d addresses", MaxWide))
	}
	return r, nil
}

// Wide tells whether it is so large an IPv4 range that one must want it.
func (r Range) Wide() bool { return r.First.Is4() && r.Count() > MaxAddresses }

// Sweeps tells whether its addresses can be tried one by one. In a larger IPv6 range
// one can only listen.
func (r Range) Sweeps() bool { return r.First.Is4() || r.Count() <= MaxAddresses }

func prefixRange(s string, p netip.Prefix) (Range, error) {
	host := p.Addr().BitLen() - p.Bits()
	if p.Addr().Is4() && host > 24 {
		return Range{}, fmt.Errorf("%q has more than %d addresses; scan it in parts", s, MaxWide)
	}
	r := Range{First: p.Addr(), Last: netipx.PrefixLastIP(p)}
	if p.Addr().Is4() && host >= 2 {
		r.First, r.Last = r.First.Next(), r.Last.Prev()
	}
	return r, nil
}

// Count is the number of addresses; what is above MaxWide counts as MaxWide+1.
func (r Range) Count() int {
	high, low := r.Last.As16(), r.First.As16()
	n := 0
	for i := range high {
		n = n<<8 + int(high[i]) - int(low[i])
		if n > MaxWide {
			return MaxWide + 1
		}
	}
	return n + 1
}

// All yields every address of the range, in order.
func (r Range) All(yield func(netip.Addr) bool) {
	for a := r.First; a.IsValid() && a.Compare(r.Last) <= 0; a = a.Next() {
		if !yield(a) {
			return
		}
	}
}

// Overlaps tells whether the range has an address in common with a network.
func (r Range) Overlaps(p netip.Prefix) bool {
	return netipx.IPRangeFrom(r.First, r.Last).Overlaps(netipx.RangeOfPrefix(p.Masked()))
}

// Has tells whether an address, heard at that port, lies in the range.
func (r Range) Has(a netip.AddrPort) bool {
	of := netipx.IPRangeFrom(r.First.WithZone(""), r.Last.WithZone(""))
	return of.Contains(a.Addr().Unmap().WithZone("")) && (r.Port == 0 || r.Port == a.Port())
}

// Has tells whether any of the ranges has the address.
func Has(ranges []Range, a netip.AddrPort) bool {
	for _, r := range ranges {
		if r.Has(a) {
			return true
		}
	}
	return false
}

// Port is a port to look at, and by which way of asking; empty: by all that use TCP.
type Port struct {
	Way    string
	Number uint16
}

// Ways that a port can be named for, beside the plain number.
var portWays = []string{"snmp", "modbus", "ethernet-ip", "bacnet"}

// ParsePort reads a port as site files and --port have it: 8080, or snmp:1161.
func ParsePort(s string) (Port, error) {
	way, number, named := strings.Cut(strings.TrimSpace(s), ":")
	if !named {
		way, number = "", way
	}
	n, err := strconv.ParseUint(number, 10, 16)
	if err != nil || n == 0 || named && !slices.Contains(portWays, way) {
		return Port{}, fmt.Errorf("%q is not a port; write 8080, or with its protocol: %s:1161", s,
			strings.Join(portWays, ":1161, "))
	}
	return Port{way, uint16(n)}, nil
}
