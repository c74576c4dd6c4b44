package cli

import (
	"context"
	"errors"
	"fmt"
	"os"

	"github.com/spf13/cobra"

	"catena/internal/care"
	"catena/internal/cli/view"
	"catena/internal/device"
	"catena/internal/job"
)

func (a *app) addressCmd() *cobra.Command {
	c := &cobra.Command{
		Use:   "address",
		Short: "List, assign and change the addresses of devices",
		Args:  onlyCommands, RunE: help,
	}
	c.AddCommand(a.addressListCmd(), a.addressGiveCmd(), a.addressSetCmd())
	return c
}

func (a *app) addressSetCmd() *cobra.Command {
	var gateway, own, plan string
	var yes, unseen bool
	c := &cobra.Command{
		Use:   "set DEVICE ADDRESS/BITS, or --plan FILE",
		Short: "Change the addresses of devices",
		Long: `Change a device's address with its own protocol (ONVIF, Redfish, or as its family
specifies), then find the device at the new address by its serial number, certificate and host key.
It keeps its name, its logins and its trusted keys. Catena refuses an address that belongs to a
known device or that answers.

A plan moves many devices. It is a CSV file with one line per device. Its first line names the
columns: device (a MAC address, a serial number or a name) and address (with the prefix length). The
columns name, device-name and gateway are optional. If one line is wrong, nothing is changed.`,
		Example: "  catena address set cam-51 10.20.4.53/24\n  catena address set cam-51 " +
			"10.20.4.53/24 --gateway 10.20.4.254 --yes\n  catena address set --plan moves.csv",
		Args: func(_ *cobra.Command, args []string) error {
			if plan != "" && len(args) > 0 || plan == "" && len(args) != 2 {
				return usage("catena address set takes a device and its new address with the " +
					"prefix length, or --plan FILE")
			}
			return nil
		},
		RunE: func(c *cobra.Command, args []string) error {
			lines := []care.MoveLine{{Gateway: gateway, DeviceName: own}}
			if plan == "" {
				lines[0].Device, lines[0].Address = args[0], args[1]
			} else {
				f, err := os.Open(plan)
				if err != nil {
					return usage("%w", err)
				}
				defer func() { _ = f.Close() }()
				if lines, err = care.ReadMoves(plan, f); err != nil {
					return err
				}
			}
			return a.addressSet(c.Context(), lines, yes, unseen)
		},
	}
	c.Flags().StringVar(&gateway, "gateway", "", "the default gateway (default: unchanged)")
	c.Flags().StringVar(&own, "device-name", "", "the device's own name (default: unchanged)")
	c.Flags().StringVar(&plan, "plan", "", "a CSV file: device, address, and optionally name, "+
		"device-name and gateway")
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	unseenVar(c, &unseen)
	return c
}

func (a *app) addressSet(ctx context.Context, lines []care.MoveLine, yes,
	unseen bool) error {
	s, err := a.cared()
	if err != nil {
		return err
	}
	defer s.Close()
	s.Care.Unseen = unseen
	var moves []care.Move
	for _, l := range lines {
		_, of, err := s.Device(l.Device)
		if err != nil {
			return fmt.Errorf("%s%w", l.At, err)
		}
		m, err := s.Care.Holds(l, of)
		var busy *job.BusyError
		switch {
		case errors.As(err, &busy):
			return notChanged(of, err)
		case err != nil:
			return err
		}
		moves = append(moves, m)
	}
	if err := care.Distinct(moves); err != nil {
		return err
	}
	if !yes {
		for _, m := range moves {
			a.say("%s: %s → %s", m.Of.Name, m.Of.Host(), m.To)
		}
		if err := a.confirm("Move " + map[bool]string{true: "it", false: "them"}[len(moves) == 1] +
			"? Everything else that connects to them must be changed, too."); err != nil {
			return err
		}
	}
	moved, errs := s.MoveAll(ctx, moves)
	for i, m := range moves {
		if errs[i] == nil && m.Name != "" && m.Name != moved[i].Name {
			known, d, err := s.Device(moved[i].ID)
			if err == nil {
				err = a.rename(s.Site, known, d, m.Name)
			}
			errs[i] = err
		}
	}
	return a.toldMoves(moves, moved, errs)
}

// toldMoves says what came of each; of a single one in a sentence.
func (a *app) toldMoves(moves []care.Move, moved []device.Device, errs []error) error {
	if len(moves) == 1 && moves[0].At == "" {
		if errs[0] != nil {
			return notMoved(moves[0].Of, moves[0].DeviceName, errs[0])
		}
		a.say("%s answers at %s now.", moved[0].Name, moved[0].Address)
		return nil
	}
	type line struct {
		Device  string `json:"device"`
		Address string `json:"address"`
		Moved   bool   `json:"moved"`
		Why     string `json:"why,omitempty"`
	}
	t := view.Table{Columns: []string{"device", "address", "moved", "why"}}
	var all []line
	failed := 0
	for i, m := range moves {
		l := line{m.Of.Name, moved[i].Address, errs[i] == nil, ""}
		cell := view.Cell{Text: "yes"}
		if errs[i] != nil {
			l.Address, l.Why, cell = m.Of.Address, notMoved(m.Of, m.DeviceName, errs[i]).Error(),
				view.Bad.Cell("no")
			failed++
		}
		all = append(all, l)
		t.Add(l.Device, l.Address, cell, l.Why)
	}
	if err := a.emit(all, t); err != nil {
		return err
	}
	a.say("\n%d moved, %d not.", len(moves)-failed, failed)
	if failed > 0 {
		return exit{exitFailed, errSilent}
	}
	return nil
}

// notMoved is why a device was not moved, with what to do.
func notMoved(d device.Device, own string, err error) error {
	var inUse *care.InUseError
	var busy *job.BusyError
	switch {
	case errors.As(err, &inUse), errors.As(err, &busy):
		return refused("%w; nothing was changed", err)
	case errors.Is(err, device.ErrUnsupported) && own != "":
		return refused("%s: its own name cannot be set through ONVIF, Redfish or its family; "+
			"nothing was changed", d.Name)
	case errors.Is(err, device.ErrUnsupported):
		return refused("%s: its address cannot be set through ONVIF, Redfish or its family; "+
			"nothing was changed", d.Name)
	case errors.Is(err, &device.Cause{Problem: device.NoLogin}):
		return noLogin(d)
	}
	return err
}
