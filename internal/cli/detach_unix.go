//go:build !windows

package cli

import "syscall"

// onItsOwn gives a program a session of its own: no terminal can end it.
func onItsOwn() *syscall.SysProcAttr { return &syscall.SysProcAttr{Setsid: true} }
