//go:build linux || darwin

package wire

import "net"

// asked asks about the socket of a connection; 0 where it cannot be asked.
func asked(c *net.TCPConn, ask func(fd int) (int, error)) (n int64) {
	raw, err := c.SyscallConn()
	if err != nil {
		return 0
	}
	_ = raw.Control(func(fd uintptr) {
		if got, err := ask(int(fd)); err == nil {
			n = int64(got)
		}
	})
	return n
}
