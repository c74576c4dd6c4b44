//go:build unix

package sim

import "syscall"

// reuse lets several sockets be bound to the discovery port: one for each address,
// and one for the group.
func reuse(_, _ string, c syscall.RawConn) error {
	var failed error
	err := c.Control(func(fd uintptr) {
		failed = syscall.SetsockoptInt(int(fd), syscall.SOL_SOCKET, syscall.SO_REUSEADDR, 1)
	})
	if err != nil {
		return err
	}
	return failed
}
