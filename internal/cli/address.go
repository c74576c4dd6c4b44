package cli

import (
	"context"
	"errors"
	"net/netip"

	"github.com/spf13/cobra"

	"catena/internal/device"
	"catena/internal/workspace"
)

func (a *app) addressCmd() *cobra.Command {
	c := &cobra.Command{
		Use:   "address",
		Short: "See who has no address, give devices their first one, change it",
		Args:  onlyCommands, RunE: help,
	}
	c.AddCommand(a.addressListCmd(), a.addressGiveCmd(), a.addressSetCmd())
	return c
}

func (a *app) addressSetCmd() *cobra.Command {
	var gateway string
	var yes bool
	c := &cobra.Command{
		Use:   "set DEVICE ADDRESS/BITS",
		Short: "Give a device another address, and find it there again",
		Long: `Give a device another address by its own protocol (ONVIF, or as its family says), and find it
there again: the same serial number, certificate and host key. It keeps its name, its logins and
what is trusted of it. An address that a known device has, or where somebody answers, is refused.`,
		Example: "  catena address set cam-51 10.20.4.53/24\n  catena address set cam-51 10.20.4.53/24 --gateway 10.20.4.254 --yes",
		Args:    exactly(2, "a device, and its new address with the length of its network"),
		RunE: func(c *cobra.Command, args []string) error {
			return a.addressSet(c.Context(), args[0], args[1], gateway, yes)
		},
	}
	c.Flags().StringVar(&gateway, "gateway", "", "the default gateway (left out: as it is)")
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return c
}

func (a *app) addressSet(ctx context.Context, word, address, gateway string, yes bool) error {
	to, err := netip.ParsePrefix(address)
	if err != nil || to.Addr().IsUnspecified() || to.Addr().IsMulticast() || to.Bits() == 0 {
		return usage("%q is no address with the length of its network; write for example 10.20.4.53/24", address)
	}
	var through netip.Addr
	if gateway != "" {
		through, err = netip.ParseAddr(gateway)
		if err != nil || !to.Contains(through) || through == to.Addr() {
			return usage("--gateway: %q is no other address of the network %s", gateway, to.Masked())
		}
	}
	s, err := a.settled()
	if err != nil {
		return err
	}
	defer s.Close()
	_, d, err := s.Device(word)
	if err != nil {
		return err
	}
	if err := s.free(d); err != nil {
		return err
	}
	if d.Serial == "" && d.UUID == "" {
		return refused("%s tells neither a serial number nor a UUID: it could not be found again; nothing was touched", d.Name)
	}
	if !yes {
		a.say("%s: %s → %s", d.Name, d.Host(), to)
		if err := a.confirm("Move it? Whoever else talks to it must know."); err != nil {
			return err
		}
	}
	moved, err := s.Move(ctx, s.access, d, to, through)
	var inUse *workspace.InUseError
	switch {
	case errors.As(err, &inUse):
		return refused("%w; nothing was touched", err)
	case errors.Is(err, device.ErrUnsupported):
		return refused("%s cannot be moved: neither ONVIF nor its family says how; nothing was touched", d.Name)
	case errors.Is(err, &device.Cause{Problem: device.NoLogin}):
		return noLogin(d)
	case err != nil:
		return err
	}
	a.say("%s answers at %s now.", moved.Name, moved.Address)
	return nil
}
