package site

import (
	"fmt"
	"net/netip"
	"strings"
)

// MaxAddresses is the largest number of addresses that one range may name: a
// /16. A larger one is nearly always a slip of the pen.
const MaxAddresses = 1 << 16

// Range is a row of addresses, and a port where one was named.
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
		return Range{}, fmt.Errorf("%q %s; write 10.20.4.7, 10.20.4.7:8080, 10.20.4.1-10.20.4.60 or 10.20.5.0/26", s, why)
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
		return bad("is no address, row of addresses or network")
	}
	first, err1 := netip.ParseAddr(strings.TrimSpace(from))
	last, err2 := netip.ParseAddr(strings.TrimSpace(to))
	switch {
	case err1 != nil || err2 != nil || first.Is4() != last.Is4():
		return bad("is no row of addresses")
	case last.Less(first):
		return bad("runs backwards")
	}
	r := Range{First: first, Last: last}
	if r.Count() > MaxAddresses {
		return bad(fmt.Sprintf("names more than %d addresses", MaxAddresses))
	}
	return r, nil
}

func prefixRange(s string, p netip.Prefix) (Range, error) {
	host := p.Addr().BitLen() - p.Bits()
	if host > 16 {
		return Range{}, fmt.Errorf("%q names more than %d addresses; scan it in parts of a /16", s, MaxAddresses)
	}
	r := Range{First: p.Addr(), Last: p.Addr()}
	for range 1<<host - 1 {
		r.Last = r.Last.Next()
	}
	if p.Addr().Is4() && host >= 2 {
		r.First, r.Last = r.First.Next(), r.Last.Prev()
	}
	return r, nil
}

// Count is the number of addresses; counting stops above MaxAddresses.
func (r Range) Count() int {
	n := 1
	for a := r.First; a != r.Last && n <= MaxAddresses; a = a.Next() {
		n++
	}
	return n
}

// Has tells whether an address, heard at that port, lies in the range.
func (r Range) Has(a netip.AddrPort) bool {
	return r.First.Compare(a.Addr().Unmap()) <= 0 && a.Addr().Unmap().Compare(r.Last) <= 0 &&
		(r.Port == 0 || r.Port == a.Port())
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
