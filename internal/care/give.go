package care

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"time"

	"catena/internal/address"
	"catena/internal/device"
	"catena/internal/ledger"
	"catena/internal/record"
	"catena/internal/scan/discover"
)

// FirstAddress is what an operator typed for a device that is to get its first address.
type FirstAddress struct {
	MAC, Address string // of the form 10.20.4.61/24
	Gateway      string // empty: none
	Adapter      string // by name or address; empty: the only one with a cable
	Lasts        time.Duration
}

// Gift is a first address that may be given: every check but the last, for another DHCP server, was
// made.
type Gift struct {
	address.Lease
	Adapter string
}

// GiftRefusedError is returned where an address must not be given.
type GiftRefusedError struct {
	Known  string // the name of the device, if it is a known one that has an address
	Reason string
}

func (e *GiftRefusedError) Error() string { return e.Reason }

// PrepareGift checks a first address. Its errors are a LineError for malformed input, a
// GiftRefusedError and an InUseError.
func PrepareGift(ctx context.Context, l *ledger.Ledger, f FirstAddress) (g Gift, err error) {
	g, err = f.read()
	if err != nil {
		return g, err
	}
	known, err := record.Devices(l)
	if err != nil {
		return g, err
	}
	for _, d := range known {
		if d.MAC != "" && d.MAC == device.CleanMAC(f.MAC) {
			return g, &GiftRefusedError{d.Name, fmt.Sprintf("%s is %s, which has an address", g.MAC, d.Name)}
		}
	}
	return g, Free(ctx, l, g.To.Addr(), "80")
}

// read parses the input, and finds the adapter.
func (f FirstAddress) read() (g Gift, err error) {
	wrong := func(format string, args ...any) (Gift, error) {
		return g, &LineError{Reason: fmt.Sprintf(format, args...)}
	}
	g.Lasts = f.Lasts
	if device.CleanMAC(f.MAC) == "" {
		return wrong("%q is not a MAC address of a device; write for example 02:00:5e:00:53:61", f.MAC)
	}
	g.MAC, _ = net.ParseMAC(device.CleanMAC(f.MAC))
	if g.To, err = netip.ParsePrefix(f.Address); err != nil || !g.To.Addr().Is4() ||
		g.To.Addr() == g.To.Masked().Addr() {
		return wrong("%q is not an address with its prefix length; write for example "+
			"10.20.4.61/24", f.Address)
	}
	if f.Gateway != "" {
		if g.Gateway, err = netip.ParseAddr(f.Gateway); err != nil || !g.To.Contains(g.Gateway) ||
			g.Gateway == g.To.Addr() {
			return wrong("--gateway: %q is not another address of the network %s", f.Gateway, g.To.Masked())
		}
	}
	adapter, err := discover.One(f.Adapter)
	if err != nil {
		return wrong("%v", err)
	}
	own := slices.IndexFunc(adapter.Addresses,
		func(p netip.Prefix) bool { return p.Contains(g.To.Addr()) })
	if own < 0 {
		return wrong("%s has no address in %s: the device could not be reached there", adapter.Name,
			g.To.Masked())
	}
	g.Adapter, g.Server = adapter.Name, adapter.Addresses[own].Addr()
	if g.Server == g.To.Addr() {
		return g, &GiftRefusedError{Reason: fmt.Sprintf("%s is this machine's own address", g.Server)}
	}
	return g, nil
}

// GiftOutcome is the one outcome of giving an address.
type GiftOutcome string

const (
	Given     GiftOutcome = "given"      // the device has it
	Disputed  GiftOutcome = "disputed"   // the device took it, and another DHCP server answers there
	NotGiven  GiftOutcome = "not-given"  // the error says why; the device has got nothing
	NeverAsks GiftOutcome = "never-asks" // the device did not take an address in time
	Declined  GiftOutcome = "declined"   // it took it, and gave it back
)

// Give waits until the device has taken its address, or the time is over. tell is told each step.
// The error says why it was not given, where the outcome is not enough.
func (g Gift) Give(ctx context.Context, within time.Duration, tell func(address.Step)) (GiftOutcome,
	error) {
	waiting, cancel := context.WithTimeout(ctx, within)
	defer cancel()
	last := address.Ignored // of those that decide what it has
	err := address.Give(waiting, g.Adapter, g.Lease, func(s address.Step) {
		if s != address.Insists {
			last = s
		}
		tell(s)
	})
	return giftOutcome(last, err)
}

// giftOutcome is the outcome by the device's last step and the error that ended it.
func giftOutcome(last address.Step, err error) (GiftOutcome, error) {
	var other *address.OtherServerError
	switch {
	case last == address.Takes && errors.As(err, &other):
		return Disputed, err
	case last == address.Takes: // that the time is over, or that someone ends it, takes nothing back
		return Given, nil
	case last == address.Declined:
		return Declined, err
	case errors.Is(err, context.DeadlineExceeded):
		return NeverAsks, nil
	}
	return NotGiven, err
}
