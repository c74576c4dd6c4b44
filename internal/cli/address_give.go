package cli

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"catena/internal/address"
	"catena/internal/advice"
	"catena/internal/care"
	"catena/internal/cli/view"
	"catena/internal/device"
	"catena/internal/scan/discover"
	"catena/internal/survey"
)

func (a *app) addressListCmd() *cobra.Command {
	var adapter string
	var lasts time.Duration
	c := &cobra.Command{
		Use: "list",
		Short: "List the devices at an adapter that have no address, or one that cannot be reached " +
			"from it",
		Long: `Listen on an adapter for devices that are there and cannot be reached: fresh from the box without
an address, with a link-local one, or with one of another net. They are found via WS-Discovery and
mDNS, and on Linux, with root or the right CAP_NET_RAW, by ARP, LLDP and what they ask of DHCP.`,
		Example: "  catena address list --adapter eth0\n  catena address list --adapter eth0 --for 1m " +
			"--format json",
		Args: exactly(0, "no arguments"),
		RunE: func(c *cobra.Command, _ []string) error {
			return a.addressList(c.Context(), adapter, lasts)
		},
	}
	c.Flags().StringVar(&adapter, "adapter", "", "the adapter, by name or address (default: the "+
		"only one with a cable)")
	c.Flags().DurationVar(&lasts, "for", 10*time.Second, "how long to listen; many devices speak "+
		"every few seconds only")
	return c
}

func (a *app) addressList(ctx context.Context, want string, lasts time.Duration) error {
	adapter, err := discover.One(want)
	if err != nil {
		return usage("%w", err)
	}
	a.say("Listening on %s for %s.", adapter.Name, lasts)
	found, unheard := survey.Strays(ctx, adapter, lasts, a.log)
	if unheard != nil {
		a.say("Note: %v.", unheard)
	}
	t := view.Table{Columns: []string{"MAC address", "address", "found via", "name", "why"}}
	for _, s := range found {
		t.Add(s.MAC, s.Address, strings.Join(s.Via, ", "), s.Name, s.Why)
	}
	if len(found) == 0 {
		a.say("No one was heard who cannot be reached.")
	}
	return a.emit(append([]address.Stray{}, found...), t)
}

func (a *app) addressGiveCmd() *cobra.Command {
	var adapter, gateway string
	var wait, lease time.Duration
	var yes bool
	c := &cobra.Command{
		Use:   "give MAC ADDRESS/BITS",
		Short: "Give one device that has no address its first one, by DHCP",
		Long: `Answer exactly this MAC address by DHCP, on one adapter, until the device has taken its
address. No one else is answered. Where another DHCP server answers on the adapter, nothing is
given. An address that a known device has, or where someone answers, is refused, and so is the MAC
address of a known device. What is given ends with its lease: give the device a fixed one after it
(catena address set). It needs Linux, and root or the rights CAP_NET_BIND_SERVICE and CAP_NET_RAW.`,
		Example: "  catena address give 02:00:5e:00:53:61 10.20.4.61/24 --adapter eth0\n  catena scan " +
			"10.20.4.61",
		Args: exactly(2, "a MAC address, and the address with the length of its network"),
		RunE: func(c *cobra.Command, args []string) error {
			l := address.Lease{Lasts: lease}
			return a.addressGive(c.Context(), args, adapter, gateway, l, wait, yes)
		},
	}
	c.Flags().StringVar(&adapter, "adapter", "", "the adapter that the device hangs on (default: "+
		"the only one with a cable)")
	c.Flags().StringVar(&gateway, "gateway", "", "the default gateway (left out: none)")
	c.Flags().DurationVar(&wait, "for", 5*time.Minute, "how long to wait for the device to ask")
	c.Flags().DurationVar(&lease, "lease", 12*time.Hour, "how long the device may keep it")
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return c
}

// leaseOf completes a lease by what was typed, and finds the adapter that it is given by.
func leaseOf(args []string, want, gateway string, l address.Lease) (_ address.Lease,
	adapter discover.Adapter, err error) {
	wrong := func(format string, args ...any) (address.Lease, discover.Adapter, error) {
		return l, adapter, usage(format, args...)
	}
	if device.CleanMAC(args[0]) == "" {
		return wrong("%q is not a MAC address of a device; write for example 02:00:5e:00:53:61", args[0])
	}
	l.MAC, _ = net.ParseMAC(device.CleanMAC(args[0]))
	if l.To, err = netip.ParsePrefix(args[1]); err != nil || !l.To.Addr().Is4() ||
		l.To.Addr() == l.To.Masked().Addr() {
		return wrong("%q is not an address with the length of its network; write for example "+
			"10.20.4.61/24", args[1])
	}
	if gateway != "" {
		if l.Gateway, err = netip.ParseAddr(gateway); err != nil || !l.To.Contains(l.Gateway) ||
			l.Gateway == l.To.Addr() {
			return wrong("--gateway: %q is not another address of the network %s", gateway, l.To.Masked())
		}
	}
	if adapter, err = discover.One(want); err != nil {
		return wrong("%w", err)
	}
	own := slices.IndexFunc(adapter.Addresses,
		func(p netip.Prefix) bool { return p.Contains(l.To.Addr()) })
	if own < 0 {
		return wrong("%s has no address in %s: the device could not be reached there", adapter.Name,
			l.To.Masked())
	}
	if l.Server = adapter.Addresses[own].Addr(); l.Server == l.To.Addr() {
		return l, adapter, refused("%s is this machine's own address", l.Server)
	}
	return l, adapter, nil
}

func (a *app) addressGive(ctx context.Context, args []string, want, gateway string, l address.Lease,
	wait time.Duration, yes bool) error {
	if l.Lasts < time.Minute || wait <= 0 {
		return usage("--lease and --for must be a minute or more, and more than nothing")
	}
	l, adapter, err := leaseOf(args, want, gateway, l)
	if err != nil {
		return err
	}
	w, err := a.match()
	if err != nil {
		return err
	}
	defer w.Close()
	if known, d, err := w.Device(l.MAC.String()); err == nil && len(known) > 0 {
		return refused("%s is %s, which has an address; change that: catena address set %s; nothing "+
			"was given", l.MAC, d.Name, advice.Quoted(d.Name))
	}
	var inUse *care.InUseError
	if err := w.AddressFree(ctx, l.To.Addr(), "80"); errors.As(err, &inUse) {
		return refused("%w; nothing was given", err)
	}
	if !yes {
		a.say("%s on %s: %s, for %s", l.MAC, adapter.Name, l.To, l.Lasts)
		if err := a.confirm("Answer it by DHCP?"); err != nil {
			return err
		}
	}
	a.say("Looking for another DHCP server on %s, then waiting for %s to ask. Ctrl-C ends it.",
		adapter.Name, l.MAC)
	waiting, cancel := context.WithTimeout(ctx, wait)
	defer cancel()
	words := map[address.Step]string{address.Asks: "asks, and was offered %s",
		address.Takes:   "has taken %s",
		address.Insists: "wants another address than %s, which it is refused",
		address.Left:    "has given %s back"}
	err = address.Give(waiting, adapter.Name, l, func(s address.Step) {
		view.Print(a.err, "%s  %s "+words[s]+"\n", a.now().Format("15:04:05"), l.MAC, l.To.Addr())
	})
	var other *address.OtherServerError
	switch {
	case errors.As(err, &other):
		return refused("%w; nothing was given: two of them would give one address twice", err)
	case errors.Is(err, address.ErrRights):
		return refused("%w; nothing was given", err)
	case errors.Is(err, context.DeadlineExceeded):
		return fmt.Errorf("%s did not ask within %s: is it on, and on this adapter", l.MAC, wait)
	case err != nil:
		return err
	}
	a.say("%s has %s now. Find it: catena scan %[2]s", l.MAC, l.To.Addr())
	return nil
}
