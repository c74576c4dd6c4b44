package machine

import "syscall"

// detachedProcess has a program run without a console (CreateProcess, DETACHED_PROCESS).
const detachedProcess = 0x00000008

// OnItsOwn gives a program no console: closing one does not end it.
func OnItsOwn() *syscall.SysProcAttr {
	return &syscall.SysProcAttr{CreationFlags: detachedProcess | syscall.CREATE_NEW_PROCESS_GROUP}
}
