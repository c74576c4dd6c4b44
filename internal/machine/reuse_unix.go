//go:build unix

package machine

import "syscall"

// Reuse lets several sockets be bound to one port, as the Control of a net.ListenConfig: one for
// each address, and one for a group.
func Reuse(_, _ string, c syscall.RawConn) error {
	var failed error
	err := c.Control(func(fd uintptr) {
		failed = syscall.SetsockoptInt(int(fd), syscall.SOL_SOCKET, syscall.SO_REUSEADDR, 1)
	})
	if err != nil {
		return err
	}
	return failed
}
