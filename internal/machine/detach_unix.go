//go:build !windows

package machine

import "syscall"

// OnItsOwn gives a program its own session: no terminal can end it.
func OnItsOwn() *syscall.SysProcAttr { return &syscall.SysProcAttr{Setsid: true} }
