package machine

import (
	"runtime"
	"syscall"
)

// SetThreadExecutionState: ES_CONTINUOUS, and ES_SYSTEM_REQUIRED with it.
const (
	asNow          = 0x80000000
	systemRequired = asNow | 0x00000001
)

func awakeCommand(string) []string { return nil }

// awakeHere says so for a thread, which has to live as long as the wish.
func awakeHere() (func(), bool) {
	set := syscall.NewLazyDLL("kernel32.dll").NewProc("SetThreadExecutionState")
	if set.Find() != nil {
		return func() {}, false
	}
	held, end, ended := make(chan bool), make(chan struct{}), make(chan struct{})
	go func() {
		runtime.LockOSThread()
		defer runtime.UnlockOSThread()
		before, _, _ := set.Call(systemRequired)
		held <- before != 0
		<-end
		_, _, _ = set.Call(asNow)
		close(ended)
	}()
	ok := <-held
	return func() { close(end); <-ended }, ok
}
