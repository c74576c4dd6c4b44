package care

import (
	"catena/internal/device"
	"catena/internal/dialect"
	"catena/internal/site"
	"catena/internal/text"
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"slices"
	"strings"

	"golang.org/x/sync/errgroup"
)

// MoveLine is what a person wrote of one device that moves.
type MoveLine struct {
	At                        string // where, of a plan: moves.csv:4
	Device, Address           string
	Name, DeviceName, Gateway string // empty: not wanted. DeviceName is what it is to call itself
}

// Move is a line that makes sense for a device.
type Move struct {
	MoveLine
	Of      device.Device
	To      netip.Prefix
	Through netip.Addr
}

// LineError is returned for a line that makes no sense; Reason says what to write.
type LineError struct{ At, Reason string }

func (e *LineError) Error() string { return e.At + e.Reason }

// UntraceableError is returned for a device that could not be found again at another address.
type UntraceableError struct{ At, Device string }

func (e *UntraceableError) Error() string {
	return e.At + e.Device + " reports neither a serial number nor a UUID at its own address, " +
		"so it could not be found again"
}

// moveColumns are those of a plan.
var moveColumns = []string{"device", "address", "name", "device-name", "gateway"}

// hostLabel is a label of RFC 1123, 2.1.
var hostLabel = text.Later(`^[A-Za-z0-9]([A-Za-z0-9-]{0,61}[A-Za-z0-9])?$`)

// maxPlan bounds a plan, in lines.
const maxPlan = 4096

// ReadMoves reads a plan: CSV with a first line that names its columns. name is what errors call
// it.
func ReadMoves(name string, f io.Reader) (lines []MoveLine, err error) {
	wrong := func(format string, args ...any) error {
		return &LineError{"", name + ":" + fmt.Sprintf(format, args...)}
	}
	r := csv.NewReader(io.LimitReader(f, 4<<20))
	r.TrimLeadingSpace, r.Comment = true, '#'
	columns, err := r.Read()
	if err != nil {
		return nil, wrong(" the first line does not name the columns: device, address, and " +
			"optionally name, device-name and gateway")
	}
	columns[0] = strings.TrimPrefix(columns[0], "\ufeff") // of editors on Windows
	for _, c := range columns {
		if !slices.Contains(moveColumns, c) {
			return nil, wrong("1: %q is not a column; there are %s", c, strings.Join(moveColumns, ", "))
		}
	}
	for {
		row, err := r.Read()
		at, _ := r.FieldPos(0)
		switch {
		case errors.Is(err, io.EOF) && len(lines) == 0:
			return nil, wrong(" it lists no devices")
		case errors.Is(err, io.EOF):
			return lines, nil
		case err != nil:
			return nil, wrong(" %v", err)
		case len(lines) >= maxPlan:
			return nil, wrong(" more than %d lines", maxPlan)
		}
		l := MoveLine{At: fmt.Sprintf("%s:%d: ", name, at)}
		for i, c := range columns {
			*map[string]*string{"device": &l.Device, "address": &l.Address, "name": &l.Name,
				"device-name": &l.DeviceName, "gateway": &l.Gateway}[c] = strings.TrimSpace(row[i])
		}
		lines = append(lines, l)
	}
}

// Holds checks a line alone, for the device that it means. Its errors are a LineError, an
// UntraceableError and a job.BusyError.
func (c Care) Holds(l MoveLine, of device.Device) (m Move, err error) {
	wrong := func(format string, args ...any) (Move, error) {
		return m, &LineError{l.At, fmt.Sprintf(format, args...)}
	}
	m = Move{MoveLine: l, Of: of}
	m.To, err = netip.ParsePrefix(l.Address)
	if err != nil || m.To.Addr().IsUnspecified() || m.To.Addr().IsMulticast() || m.To.Bits() == 0 {
		return wrong("%q is not an address with its prefix length; write for example "+
			"10.20.4.53/24", l.Address)
	}
	if l.Gateway != "" {
		m.Through, err = netip.ParseAddr(l.Gateway)
		if err != nil || !m.To.Contains(m.Through) || m.Through == m.To.Addr() {
			return wrong("gateway: %q is not another address of the network %s", l.Gateway, m.To.Masked())
		}
	}
	if l.DeviceName != "" && !hostLabel().MatchString(l.DeviceName) {
		return wrong("device-name: %q: a device's own name has at most 63 letters, digits and hyphens",
			l.DeviceName)
	}
	if l.Name != "" {
		if err := site.CheckName(l.Name); err != nil {
			return wrong("%v", err)
		}
	}
	if err := c.Free(of); err != nil {
		return m, err
	}
	if of.Through != "" || of.Serial == "" && of.UUID == "" {
		return m, &UntraceableError{l.At, of.Name}
	}
	return m, nil
}

// Distinct returns a LineError where two moves are of one device, or to one address or name.
func Distinct(moves []Move) error {
	for i, m := range moves {
		for _, other := range moves[:i] {
			if other.Of.ID == m.Of.ID || other.To.Addr() == m.To.Addr() ||
				m.Name != "" && strings.EqualFold(other.Name, m.Name) {
				return &LineError{m.At, "the same device, address or name is already in " +
					strings.TrimSuffix(other.At, ": ") + " already"}
			}
		}
	}
	return nil
}

// movesAtOnce is how many devices are moved at the same time.
const movesAtOnce = 8

// MoveAll moves devices, and returns each as it is then, or why it was not moved. After ctx ends no
// more are started.
func (c Care) MoveAll(ctx context.Context, moves []Move) (moved []device.Device, errs []error) {
	moved, errs = make([]device.Device, len(moves)), make([]error, len(moves))
	var group errgroup.Group
	group.SetLimit(movesAtOnce)
	for i, m := range moves {
		group.Go(func() error {
			if ctx.Err() != nil {
				errs[i] = errors.New("it was not started")
				return nil
			}
			moved[i], errs[i] = c.Move(ctx, m.Of,
				dialect.NetworkConfig{Address: m.To, Gateway: m.Through, Name: m.DeviceName})
			return nil
		})
	}
	_ = group.Wait() // nothing in it fails
	return moved, errs
}
