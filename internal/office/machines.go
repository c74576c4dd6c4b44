package office

import (
	"errors"
	"fmt"
	"net"
	"slices"
	"strings"
)

// RoutePort is the usual one at which the machines of an office reach each other.
const RoutePort = "6222"

// Machine is one of several that keep an office together.
type Machine struct {
	Address string // host:port for sites
	Route   string // host:port for the other machines
}

// Machines are those that keep the office together; none: it is on one.
func (s Settings) Machines() (out []Machine) {
	for i, address := range Addresses(s.Address) {
		if len(s.Routes) > i {
			out = append(out, Machine{address, s.Routes[i]})
		}
	}
	return out
}

// Addresses are those of a list with commas.
func Addresses(list string) (out []string) {
	for a := range strings.SplitSeq(list, ",") {
		out = append(out, strings.TrimSpace(a))
	}
	return out
}

// checkMachines refuses a number of machines that cannot agree when one of them is gone.
func checkMachines(addresses int) error {
	if addresses > 1 && (addresses < 3 || addresses%2 == 0) {
		return fmt.Errorf("%d machines cannot keep an office together: name 1, 3 or 5", addresses)
	}
	return nil
}

// check refuses addresses that are none. key is that of the wrong one.
func (s Settings) check() (key string, err error) {
	all := Addresses(s.Address)
	for _, at := range all {
		if _, _, err := net.SplitHostPort(at); err != nil {
			return "address", errors.New("write host:port")
		}
	}
	if _, _, err := net.SplitHostPort(s.Listen); err != nil {
		return "listen", errors.New("write host:port")
	}
	for _, at := range s.Routes {
		if _, _, err := net.SplitHostPort(at); err != nil {
			return "routes", errors.New("write host:port")
		}
	}
	if len(all) > 1 && len(s.Routes) != len(all) || len(all) == 1 && len(s.Routes) > 0 {
		return "routes", errors.New("write one for each address, in the same order")
	}
	return "address", checkMachines(len(all))
}

// Meet brings the sites that this machine knows together with those of another one, and returns
// what both know then. A site that one of them has removed is removed.
func (o *Office) Meet(theirs []Site) (all []Site, err error) {
	err = o.change(func(mine []Site) ([]Site, error) {
		all = slices.Clone(mine)
		for _, t := range theirs {
			i := slices.IndexFunc(all, func(s Site) bool { return s.Key == t.Key })
			switch {
			case i < 0:
				all = append(all, t)
			case all[i].Removed.IsZero():
				all[i].Removed = t.Removed
			}
		}
		slices.SortStableFunc(all, func(a, b Site) int { return a.Added.Compare(b.Added) })
		return all, nil
	})
	return all, err
}
