// Package machine is what jobs ask of the operating system: that it does not fall asleep
// (KeepAwake), and a process of their own (Self).
package machine

import (
	"os/exec"
	"time"
)

// KeepAwake asks the system not to fall asleep while a job runs, until the returned function is
// called or this program dies; ok is false where the system offers no way that works.
//
// The programs that ask for it hold the wish for as long as they run. They are given one that
// reads our end of a pipe: when we are gone, however we went, the pipe ends, and so does the wish.
func KeepAwake(why string) (release func(), ok bool) {
	words := awakeCommand(why)
	if words == nil {
		return awakeHere()
	}
	path, err := exec.LookPath(words[0])
	if err != nil {
		return func() {}, false
	}
	cmd := exec.Command(path, words[1:]...)
	cmd.SysProcAttr = OnItsOwn() // Ctrl-C is for us
	in, err := cmd.StdinPipe()
	if err != nil {
		return func() {}, false
	}
	// It tells by its first byte that it holds: the program behind it gives ours back.
	out, err := cmd.StdoutPipe()
	if err != nil || cmd.Start() != nil {
		return func() {}, false
	}
	_, _ = in.Write([]byte{'\n'})
	held := make(chan bool, 1)
	go func() {
		n, _ := out.Read(make([]byte, 1))
		held <- n > 0
	}()
	select {
	case ok = <-held:
	case <-time.After(awakeWithin):
	}
	if ok {
		return func() {
			_ = in.Close()
			_ = cmd.Wait() // it ends with its input
		}, true
	}
	_ = in.Close()
	_ = cmd.Process.Kill() // ours; it may ask someone who is not there
	_ = cmd.Wait()
	return func() {}, false
}

// awakeWithin is how long the job waits for that.
const awakeWithin = 2 * time.Second
