package machine

import (
	"os"
	"os/exec"
	"slices"
	"strings"
)

// Self returns this program as a command with other arguments, that no terminal can end. Its
// environment lacks the variables named: what they hold goes through its input, where others cannot
// list it.
func Self(without []string, args ...string) (*exec.Cmd, error) {
	self, err := os.Executable()
	if err != nil {
		return nil, err
	}
	cmd := exec.Command(self, args...)
	cmd.Args[0] = os.Args[0]
	cmd.Env = slices.DeleteFunc(os.Environ(), func(v string) bool {
		name, _, _ := strings.Cut(v, "=")
		return slices.Contains(without, name)
	})
	cmd.SysProcAttr = OnItsOwn()
	return cmd, nil
}
