package address

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os"
	"syscall"
	"time"

	"github.com/insomniacslk/dhcp/dhcpv4"
	"golang.org/x/sys/unix"
)

const (
	serverPort = 67
	clientPort = 68
	othersIn   = 3 * time.Second // another server answers within it
	askAgain   = time.Second
	maxMessage = 1500 // bytes
	// from a device's taking its address, in which it may still find that someone has it
	settles = 2 * time.Second
)

var everybody = &net.UDPAddr{IP: net.IPv4bcast, Port: clientPort}

// Give answers the device of a lease on an adapter until it has taken its address, or ctx ends, and
// tells each step. Before that it looks whether another server answers there, and it continues to
// look. Its errors are an OtherServerError, ErrRights, ErrInUse, and that of ctx.
func Give(ctx context.Context, adapter string, l Lease, tell func(Step)) error {
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	server, err := listen(ctx, adapter, serverPort)
	if err != nil {
		return err
	}
	defer func() { _ = server.Close() }()
	client, err := listen(ctx, adapter, clientPort)
	if err != nil {
		return err
	}
	defer func() { _ = client.Close() }()
	context.AfterFunc(ctx, func() {
		_ = server.SetReadDeadline(time.Now())
		_ = client.SetReadDeadline(time.Now())
	})
	go watchOthers(client, l.Server, cancel)
	if err := askOthers(ctx, client); err != nil {
		return err
	}
	return serve(ctx, server, l, tell)
}

// serve answers until the device has its address.
func serve(ctx context.Context, conn net.PacketConn, l Lease, tell func(Step)) error {
	buf := make([]byte, maxMessage)
	for {
		n, _, err := conn.ReadFrom(buf)
		if taken := errors.Is(err, os.ErrDeadlineExceeded) && ctx.Err() == nil; taken {
			return nil
		}
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		if err != nil {
			return err
		}
		m, err := dhcpv4.FromBytes(buf[:n])
		if err != nil {
			continue // whatever it was
		}
		reply, step, err := l.Answer(m)
		if err != nil {
			return err
		}
		if reply != nil {
			to := net.Addr(everybody)
			if ip := m.ClientIPAddr; ip != nil && !ip.IsUnspecified() && step == Takes {
				to = &net.UDPAddr{IP: ip, Port: clientPort}
			}
			if _, err := conn.WriteTo(reply.ToBytes(), to); err != nil {
				return err
			}
		}
		if step != Ignored {
			tell(step)
		}
		if step == Takes {
			_ = conn.SetReadDeadline(time.Now().Add(settles))
		}
	}
}

// askOthers looks for a server as a client does that no one knows, and waits for who answers.
func askOthers(ctx context.Context, client net.PacketConn) error {
	mac := make(net.HardwareAddr, 6)
	_, _ = rand.Read(mac) // it never fails
	mac[0] = mac[0]&0xfc | 2
	m, err := dhcpv4.NewDiscovery(mac, dhcpv4.WithBroadcast(true))
	if err != nil {
		return err
	}
	end := time.After(othersIn)
	for {
		if _, err := client.WriteTo(m.ToBytes(), &net.UDPAddr{IP: net.IPv4bcast,
			Port: serverPort}); err != nil {
			return err
		}
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-end:
			return nil
		case <-time.After(askAgain):
		}
	}
}

// watchOthers ends all when another server offers or confirms an address.
func watchOthers(client net.PacketConn, own netip.Addr, end context.CancelCauseFunc) {
	buf := make([]byte, maxMessage)
	for {
		n, _, err := client.ReadFrom(buf)
		if err != nil {
			return
		}
		m, err := dhcpv4.FromBytes(buf[:n])
		if err != nil || m.OpCode != dhcpv4.OpcodeBootReply {
			continue
		}
		if a, is := netip.AddrFromSlice(m.ServerIdentifier().To4()); is && a != own {
			end(&OtherServerError{a})
			return
		}
	}
}

// listen opens a port on one adapter alone.
func listen(ctx context.Context, adapter string, port int) (net.PacketConn, error) {
	config := net.ListenConfig{Control: func(_, _ string, c syscall.RawConn) error {
		var err error
		control := c.Control(func(fd uintptr) {
			err = errors.Join(unix.SetsockoptInt(int(fd), unix.SOL_SOCKET, unix.SO_REUSEADDR, 1),
				unix.SetsockoptInt(int(fd), unix.SOL_SOCKET, unix.SO_BROADCAST, 1),
				unix.SetsockoptString(int(fd), unix.SOL_SOCKET, unix.SO_BINDTODEVICE, adapter))
		})
		return errors.Join(control, err)
	}}
	conn, err := config.ListenPacket(ctx, "udp4", fmt.Sprintf("0.0.0.0:%d", port))
	switch {
	case errors.Is(err, unix.EPERM), errors.Is(err, unix.EACCES):
		return nil, ErrRights
	case errors.Is(err, unix.EADDRINUSE):
		return nil, fmt.Errorf("port %d is in use on this machine: is a DHCP server or client "+
			"running", port)
	}
	return conn, err
}
