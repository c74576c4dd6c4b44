package address

import (
	"context"
	"errors"
	"net"
	"time"

	"golang.org/x/sys/unix"
)

// Listen hears ARP, LLDP and DHCP on an adapter until ctx ends. Its error is that it may not, or
// that there is no such adapter.
func Listen(ctx context.Context, adapter string, take func(Heard)) error {
	in, err := net.InterfaceByName(adapter)
	if err != nil {
		return err
	}
	all := uint16(unix.ETH_P_ALL)
	network := all<<8 | all>>8 // in the order of the network
	fd, err := unix.Socket(unix.AF_PACKET, unix.SOCK_RAW|unix.SOCK_CLOEXEC, int(network))
	if errors.Is(err, unix.EPERM) || errors.Is(err, unix.EACCES) {
		return errors.New("receiving ARP, LLDP and DHCP requires root, or the capability CAP_NET_RAW")
	}
	if err != nil {
		return err
	}
	defer func() { _ = unix.Close(fd) }()
	if err := unix.Bind(fd, &unix.SockaddrLinklayer{Protocol: network,
		Ifindex: in.Index}); err != nil {
		return err
	}
	wake := unix.NsecToTimeval(int64(200 * time.Millisecond))
	if err := unix.SetsockoptTimeval(fd, unix.SOL_SOCKET, unix.SO_RCVTIMEO, &wake); err != nil {
		return err
	}
	// its multicast group: a bridge's own, which no card listens to on its own
	group := unix.PacketMreq{Ifindex: int32(in.Index), Type: unix.PACKET_MR_MULTICAST, Alen: 6,
		Address: [8]byte{0x01, 0x80, 0xc2, 0, 0, 0x0e}}
	// else LLDP is not heard
	_ = unix.SetsockoptPacketMreq(fd, unix.SOL_PACKET, unix.PACKET_ADD_MEMBERSHIP, &group)
	buf := make([]byte, 2048)
	for ctx.Err() == nil {
		n, from, err := unix.Recvfrom(fd, buf, 0)
		if err != nil {
			continue // no one said anything
		}
		if link, is := from.(*unix.SockaddrLinklayer); is && link.Pkttype == unix.PACKET_OUTGOING {
			continue
		}
		if h, is := parseFrame(buf[:n]); is {
			take(h)
		}
	}
	return nil
}
