package cli

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"catena/internal/address"
	"catena/internal/advice"
	"catena/internal/care"
	"catena/internal/cli/view"
	"catena/internal/scan/discover"
	"catena/internal/survey"
)

func (a *app) addressListCmd() *cobra.Command {
	var adapter string
	var lasts time.Duration
	c := &cobra.Command{
		Use:   "list",
		Short: "List devices without an address, or with one that cannot be reached",
		Long: `Listen on an adapter for devices that are present but cannot be reached: new devices
without an address, with a link-local address, or with an address of another network. They are found
through WS-Discovery and mDNS. On Linux, with root or CAP_NET_RAW, also via ARP, LLDP and DHCP.`,
		Example: "  catena address list --adapter eth0\n  catena address list --adapter eth0 --for 1m " +
			"--format json",
		Args: exactly(0, "no arguments"),
		RunE: func(c *cobra.Command, _ []string) error {
			return a.addressList(c.Context(), adapter, lasts)
		},
	}
	c.Flags().StringVar(&adapter, "adapter", "", "the adapter, by name or address (default: the "+
		"only one with a cable)")
	c.Flags().DurationVar(&lasts, "for", 10*time.Second, "how long to listen; many devices "+
		"announce themselves only every few seconds")
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
		a.say("No device without a usable address was found.")
	}
	return a.emit(append([]address.Stray{}, found...), t)
}

func (a *app) addressGiveCmd() *cobra.Command {
	var adapter, gateway string
	var wait, lease time.Duration
	var yes bool
	c := &cobra.Command{
		Use:   "give MAC ADDRESS/BITS",
		Short: "Assign one device its first address by DHCP",
		Long: `Answer DHCP requests of this one MAC address on one adapter, until the device has taken its
address. No other device gets an answer. Nothing is given if another DHCP server answers on the
adapter, if the address answers or belongs to a known device, or if the MAC address belongs to a
known device. The address ends with its lease, so set a permanent one: catena address set.

Requires Linux, and root or the capabilities CAP_NET_BIND_SERVICE and CAP_NET_RAW.`,
		Example: "  catena address give 02:00:5e:00:53:61 10.20.4.61/24 --adapter eth0\n  catena scan " +
			"10.20.4.61",
		Args: exactly(2, "a MAC address, and the address with its prefix length"),
		RunE: func(c *cobra.Command, args []string) error {
			return a.addressGive(c.Context(), care.FirstAddress{MAC: args[0], Address: args[1],
				Gateway: gateway, Adapter: adapter, Lasts: lease}, wait, yes)
		},
	}
	c.Flags().StringVar(&adapter, "adapter", "", "the adapter that the device is connected to "+
		"(default: the only one with a cable)")
	c.Flags().StringVar(&gateway, "gateway", "", "the default gateway (default: none)")
	c.Flags().DurationVar(&wait, "for", 5*time.Minute, "how long to wait for the device to ask")
	c.Flags().DurationVar(&lease, "lease", 12*time.Hour, "the lifetime of the address")
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return c
}

// giftWords are how each step of the device is told.
var giftWords = map[address.Step]string{address.Asks: "sent a request, and was offered %s",
	address.Takes:    "has taken %s",
	address.Insists:  "requested another address than %s, and was refused",
	address.Declined: "released %s"}

func (a *app) addressGive(ctx context.Context, f care.FirstAddress, wait time.Duration,
	yes bool) error {
	if f.Lasts < time.Minute || wait <= 0 {
		return usage("--lease must be at least one minute, and --for more than zero")
	}
	w, err := a.match()
	if err != nil {
		return err
	}
	defer w.Close()
	g, err := w.PrepareGift(ctx, f)
	var wrong *care.LineError
	var known *care.GiftRefusedError
	var inUse *care.InUseError
	switch {
	case errors.As(err, &wrong):
		return usage("%w", err)
	case errors.As(err, &known) && known.Known != "":
		return refused("%w; change that: catena address set %s; nothing was given", err,
			advice.Quoted(known.Known))
	case errors.As(err, &known), errors.As(err, &inUse):
		return refused("%w; nothing was given", err)
	case err != nil:
		return err
	}
	if !yes {
		a.say("%s on %s: %s, for %s", g.MAC, g.Adapter, g.To, g.Lasts)
		if err := a.confirm("Answer its DHCP request?"); err != nil {
			return err
		}
	}
	a.say("Looking for another DHCP server on %s, then waiting for %s to ask. Ctrl-C ends it.",
		g.Adapter, g.MAC)
	outcome, err := g.Give(ctx, wait, func(s address.Step) {
		view.Print(a.err, "%s  %s "+giftWords[s]+"\n", a.now().Format("15:04:05"), g.MAC, g.To.Addr())
	})
	var other *address.OtherServerError
	switch {
	case outcome == care.Given:
		a.say("%s has %s now. Find it: catena scan %[2]s", g.MAC, g.To.Addr())
		return nil
	case outcome == care.Disputed:
		return fmt.Errorf("%s has taken %s, but %w; it may get another one: switch that server "+
			"off, or give the device a permanent address (catena address set)", g.MAC, g.To.Addr(), err)
	case outcome == care.Declined:
		return refused("%s released %s, because another device has it; choose another one", g.MAC,
			g.To.Addr())
	case outcome == care.NeverAsks:
		return fmt.Errorf("%s did not take an address within %s: is it on, and on this adapter", g.MAC,
			wait)
	case errors.As(err, &other):
		return refused("%w; nothing was given: two DHCP servers could assign one address twice", err)
	case errors.Is(err, address.ErrRights):
		return refused("%w; nothing was given", err)
	}
	return err
}
