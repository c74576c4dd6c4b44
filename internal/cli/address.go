package cli

import (
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"os"
	"regexp"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/sync/errgroup"

	"catena/internal/care"
	"catena/internal/cli/view"
	"catena/internal/device"
	"catena/internal/dialect"
	"catena/internal/job"
	"catena/internal/site"
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
	var gateway, own, plan string
	var yes bool
	c := &cobra.Command{
		Use:   "set DEVICE ADDRESS/BITS, or --plan FILE",
		Short: "Give devices other addresses, and find them there again",
		Long: `Give a device another address by its own protocol (ONVIF, Redfish, or as its family says), and find it
there again: the same serial number, certificate and host key. It keeps its name, its logins and
what is trusted of it. An address that a known device has, or where someone answers, is refused.

A plan moves many: a CSV file with a line for each, and a first line that names the columns: device (a
MAC address, a serial number or a name), address (with the length of its network), and where you
want them, name, device-name and gateway. Nothing is touched where a line of it is wrong.`,
		Example: "  catena address set cam-51 10.20.4.53/24\n  catena address set cam-51 10.20.4.53/24 --gateway 10.20.4.254 --yes\n  catena address set --plan moves.csv",
		Args: func(_ *cobra.Command, args []string) error {
			if plan != "" && len(args) > 0 || plan == "" && len(args) != 2 {
				return usage("catena address set takes a device and its new address with the length of its network, or --plan FILE")
			}
			return nil
		},
		RunE: func(c *cobra.Command, args []string) error {
			lines := []moveLine{}
			if plan == "" {
				lines = append(lines, moveLine{device: args[0], address: args[1], gateway: gateway, own: own})
			} else if err := readPlan(plan, &lines); err != nil {
				return err
			}
			return a.addressSet(c.Context(), lines, yes)
		},
	}
	c.Flags().StringVar(&gateway, "gateway", "", "the default gateway (left out: as it is)")
	c.Flags().StringVar(&own, "device-name", "", "what the device is to call itself (left out: as it does)")
	c.Flags().StringVar(&plan, "plan", "", "a CSV file: device, address, and name, device-name and gateway where wanted")
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return c
}

// moveLine is what a person wrote of one device that moves.
type moveLine struct {
	at                                  string // where, of a plan: moves.csv:4
	device, address, name, own, gateway string // own: what it is to call itself
}

// oneMove is a line that holds.
type oneMove struct {
	moveLine
	of      device.Device
	to      netip.Prefix
	through netip.Addr
}

// moveColumns are those of a plan.
var moveColumns = []string{"device", "address", "name", "device-name", "gateway"}

// hostLabel is a label of RFC 1123, 2.1.
var hostLabel = regexp.MustCompile(`^[A-Za-z0-9]([A-Za-z0-9-]{0,61}[A-Za-z0-9])?$`)

// maxPlan bounds a plan, in lines.
const maxPlan = 4096

// readPlan reads a plan.
func readPlan(name string, lines *[]moveLine) error {
	f, err := os.Open(name)
	if err != nil {
		return usage("%w", err)
	}
	defer func() { _ = f.Close() }()
	r := csv.NewReader(io.LimitReader(f, 4<<20))
	r.TrimLeadingSpace, r.Comment = true, '#'
	columns, err := r.Read()
	if err != nil {
		return usage("%s: it has no first line that names its columns: device, address, and name, device-name and gateway where wanted", name)
	}
	columns[0] = strings.TrimPrefix(columns[0], "\ufeff") // of editors on Windows
	for _, c := range columns {
		if !slices.Contains(moveColumns, c) {
			return usage("%s:1: %q is not a column; there are %s", name, c, strings.Join(moveColumns, ", "))
		}
	}
	for {
		row, err := r.Read()
		at, _ := r.FieldPos(0)
		switch {
		case errors.Is(err, io.EOF) && len(*lines) == 0:
			return usage("%s: it moves no one", name)
		case errors.Is(err, io.EOF):
			return nil
		case err != nil:
			return usage("%s: %w", name, err)
		case len(*lines) >= maxPlan:
			return usage("%s: more than %d lines", name, maxPlan)
		}
		l := moveLine{at: fmt.Sprintf("%s:%d: ", name, at)}
		for i, c := range columns {
			*map[string]*string{"device": &l.device, "address": &l.address, "name": &l.name, "device-name": &l.own, "gateway": &l.gateway}[c] = strings.TrimSpace(row[i])
		}
		*lines = append(*lines, l)
	}
}

// holds checks a line alone.
func (l moveLine) holds(s cared) (m oneMove, err error) {
	m.moveLine = l
	m.to, err = netip.ParsePrefix(l.address)
	if err != nil || m.to.Addr().IsUnspecified() || m.to.Addr().IsMulticast() || m.to.Bits() == 0 {
		return m, usage("%s%q is not an address with the length of its network; write for example 10.20.4.53/24", l.at, l.address)
	}
	if l.gateway != "" {
		m.through, err = netip.ParseAddr(l.gateway)
		if err != nil || !m.to.Contains(m.through) || m.through == m.to.Addr() {
			return m, usage("%sgateway: %q is not another address of the network %s", l.at, l.gateway, m.to.Masked())
		}
	}
	if l.own != "" && !hostLabel.MatchString(l.own) {
		return m, usage("%sdevice-name: %q: a device calls itself by letters, digits and hyphens, at most 63", l.at, l.own)
	}
	if l.name != "" {
		if err := site.CheckName(l.name); err != nil {
			return m, usage("%s%w", l.at, err)
		}
	}
	if _, m.of, err = s.Device(l.device); err != nil {
		return m, fmt.Errorf("%s%w", l.at, err)
	}
	if err := s.Care.Free(m.of); err != nil {
		return m, notChanged(m.of, err)
	}
	if m.of.Through != "" || m.of.Serial == "" && m.of.UUID == "" {
		return m, refused("%s%s tells neither a serial number nor a UUID at an address of its own: it could not be found again; nothing was touched", l.at, m.of.Name)
	}
	return m, nil
}

// movesAtOnce is how many devices are moved at the same time.
const movesAtOnce = 8

func (a *app) addressSet(ctx context.Context, lines []moveLine, yes bool) error {
	s, err := a.cared()
	if err != nil {
		return err
	}
	defer s.Close()
	var moves []oneMove
	for _, l := range lines {
		m, err := l.holds(s)
		if err != nil {
			return err
		}
		for _, other := range moves {
			if other.of.ID == m.of.ID || other.to.Addr() == m.to.Addr() || m.name != "" && strings.EqualFold(other.name, m.name) {
				return usage("%sthe same device, address or name stands in %s already", m.at, strings.TrimSuffix(other.at, ": "))
			}
		}
		moves = append(moves, m)
	}
	if !yes {
		for _, m := range moves {
			a.say("%s: %s → %s", m.of.Name, m.of.Host(), m.to)
		}
		if err := a.confirm("Move " + map[bool]string{true: "it", false: "them"}[len(moves) == 1] + "? Whoever else talks to them must know."); err != nil {
			return err
		}
	}
	errs := make([]error, len(moves))
	moved := make([]device.Device, len(moves))
	var group errgroup.Group
	group.SetLimit(movesAtOnce)
	for i, m := range moves {
		group.Go(func() error {
			if ctx.Err() != nil { // no more start
				errs[i] = errors.New("it was not started")
				return nil
			}
			moved[i], errs[i] = s.Move(ctx, m.of, dialect.NetworkConfig{Address: m.to, Gateway: m.through, Name: m.own})
			return nil
		})
	}
	_ = group.Wait() // nothing in it fails
	for i, m := range moves {
		if errs[i] == nil && m.name != "" && m.name != moved[i].Name {
			known, d, err := s.Device(moved[i].ID)
			if err == nil {
				err = a.rename(s.Workspace, known, d, m.name)
			}
			errs[i] = err
		}
	}
	return a.toldMoves(moves, moved, errs)
}

// toldMoves says what came of each; of a single one in a sentence.
func (a *app) toldMoves(moves []oneMove, moved []device.Device, errs []error) error {
	if len(moves) == 1 && moves[0].at == "" {
		if errs[0] != nil {
			return notMoved(moves[0].of, moves[0].own, errs[0])
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
		l := line{m.of.Name, moved[i].Address, errs[i] == nil, ""}
		cell := view.Cell{Text: "yes"}
		if errs[i] != nil {
			l.Address, l.Why, cell = m.of.Address, notMoved(m.of, m.own, errs[i]).Error(), view.Bad.Cell("no")
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
		return refused("%w; nothing was touched", err)
	case errors.Is(err, device.ErrUnsupported) && own != "":
		return refused("%s cannot be moved with a name of its own: neither ONVIF nor Redfish nor its family says how; nothing was touched", d.Name)
	case errors.Is(err, device.ErrUnsupported):
		return refused("%s cannot be moved: neither ONVIF nor Redfish nor its family says how; nothing was touched", d.Name)
	case errors.Is(err, &device.Cause{Problem: device.NoLogin}):
		return noLogin(d)
	}
	return err
}
