package wire

import (
	"net"

	"golang.org/x/sys/unix"
)

// unsent is how many bytes written to a connection the other side has not acknowledged;
// 0 where the system does not tell.
func unsent(c *net.TCPConn) int64 {
	return asked(c, func(fd int) (int, error) {
		return unix.GetsockoptInt(fd, unix.SOL_SOCKET, unix.SO_NWRITE)
	})
}
