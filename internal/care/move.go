package care

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"syscall"
	"time"

	"catena/internal/device"
	"catena/internal/dialect"
	"catena/internal/ledger"
	"catena/internal/record"
	"catena/internal/wire"
)

// InUseError is returned by Move for an address that someone has.
type InUseError struct{ Address, By string }

func (e *InUseError) Error() string {
	return fmt.Sprintf("the address %s is in use: %s", e.Address, e.By)
}

// Bounds of moving a device.
const (
	movedWithin = 3 * time.Minute // until it answers at its new address
	movedEvery  = 500 * time.Millisecond
	freeWithin  = time.Second // no one may answer for so long
)

// Move gives a device another address by its own protocol, and finds it there again: the same
// serial number, certificate and host key. It keeps its name, logins and what is trusted of it. Its
// errors are an InUseError, a job.BusyError, device.ErrUnsupported, and what the device reports.
func (c Care) Move(ctx context.Context, d device.Device, to dialect.NetworkConfig) (
	moved device.Device, err error) {
	_, port, err := net.SplitHostPort(d.Address)
	if err != nil {
		return d, err
	}
	if err := Free(ctx, c.Ledger, to.Address.Addr(), port); err != nil {
		return d, err
	}
	session, err := c.Access.Session(d)
	if err != nil {
		return d, err
	}
	network, err := session.Network()
	if err != nil {
		return d, errors.Join(err, session.Close(context.WithoutCancel(ctx)))
	}
	moved = d
	err = c.change(d, Change{What: AddressMoved, To: to.Address.String()}, func() error {
		moved, err = c.move(ctx, d, to, session, network, net.JoinHostPort(to.Address.Addr().String(),
			port))
		return err
	})
	return moved, err
}

// move moves a device, which then answers at an address and port.
func (c Care) move(ctx context.Context, d device.Device, to dialect.NetworkConfig,
	session dialect.Session, network dialect.Network,
	at string) (device.Device, error) {
	x := c.Access
	speaks, _ := x.Dialects.Named(d.Dialect)
	here, as, _ := x.Contact(d)
	lasting := context.WithoutCancel(ctx) // half moved is worse than moved
	// It is sent once: where its answer is lost, the device is looked for at both addresses.
	sent := network.Move(lasting, to)
	if sent != nil && !errors.Is(sent, device.ErrAway) {
		return d, errors.Join(sent, session.Close(lasting))
	}
	// what was entered for it is left at its new address, by the session that finds it there
	var kept []device.Key // what it has shown is what it must show there
	for _, k := range x.Trusted() {
		if k.Address == d.Address {
			kept = append(kept, device.Key{Address: at, Kind: k.Kind, Fingerprint: k.Fingerprint})
		}
	}
	moved := d
	moved.Address, moved.Moved = at, ""
	there := here
	there.Endpoint = moved.Endpoint
	there.Trust = held(kept)
	var err error
	for startedAt := time.Now(); ; time.Sleep(movedEvery) {
		err = dialect.VerifyIdentity(lasting, speaks, there, d.Identity)
		if err == nil {
			again := dialect.Guard(speaks, there, d.Identity, speaks.Open(there, as))
			var r device.Reading
			r, err = again.Read(lasting)
			_ = again.Close(lasting)
			if err == nil && d.Identity.Other(r.Identity) != nil {
				err = d.Identity.Other(r.Identity)
			}
			if err == nil {
				moved.Reading = r.Over(moved.Reading)
				break
			}
		}
		if errors.Is(err, device.ErrIdentityChanged) || time.Since(startedAt) > movedWithin {
			if dialect.VerifyIdentity(lasting, speaks, here, d.Identity) == nil {
				return d, fmt.Errorf("it did not take the address: it still answers at %s", d.Address)
			}
			if sent != nil {
				return d, fmt.Errorf("it did not answer the request, and was not found at %s: %w", at, err)
			}
			return d, fmt.Errorf("it accepted the address, but was not found at %s: %w", at, err)
		}
	}
	return moved, errors.Join(record.Trust(c.Ledger, kept), record.Update(c.Ledger, "", &moved))
}

// held trusts these keys, and no others of their kinds.
func held(keys []device.Key) wire.Trust {
	return func(kind, fingerprint string) error {
		i := slices.IndexFunc(keys, func(k device.Key) bool { return k.Kind == kind })
		if i >= 0 && keys[i].Fingerprint != fingerprint {
			return device.IdentityChangedError(kind, keys[i].Fingerprint, fingerprint)
		}
		return nil
	}
}

// Free is an InUseError where someone has an address: a device that is known, or one that answers
// at a port, if only that nothing is there.
func Free(ctx context.Context, l *ledger.Ledger, address netip.Addr, port string) error {
	host := address.String()
	known, err := record.Devices(l)
	if err != nil {
		return err
	}
	for _, d := range known {
		if d.Host() == host {
			return &InUseError{host, d.Name + " has it"}
		}
	}
	ctx, cancel := context.WithTimeout(ctx, freeWithin)
	defer cancel()
	conn, err := (&net.Dialer{}).DialContext(ctx, "tcp", net.JoinHostPort(host, port))
	if err == nil {
		_ = conn.Close()
	}
	if err == nil || errors.Is(err, syscall.ECONNREFUSED) && !address.IsLoopback() {
		return &InUseError{host, "someone answers there"}
	}
	return nil
}
