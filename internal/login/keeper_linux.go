package login

import (
	"errors"
	"net"
	"os"

	"golang.org/x/sys/unix"
)

// sameUser asks the system who is at the other end (SO_PEERCRED).
func sameUser(c net.Conn) error {
	raw, err := c.(*net.UnixConn).SyscallConn()
	if err != nil {
		return err
	}
	var cred *unix.Ucred
	var asked error
	err = raw.Control(func(fd uintptr) {
		cred, asked = unix.GetsockoptUcred(int(fd), unix.SOL_SOCKET, unix.SO_PEERCRED)
	})
	if err = errors.Join(err, asked); err != nil {
		return err
	}
	if int(cred.Uid) != os.Getuid() {
		return errors.New("it is another user's")
	}
	return nil
}
