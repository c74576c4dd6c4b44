//go:build unix

package login

import (
	"fmt"
	"io/fs"
)

// private refuses a secret that others can read.
func private(info fs.FileInfo) error {
	if info.Mode().Perm()&0o077 != 0 {
		return fmt.Errorf("others can read it; restrict it: chmod 600")
	}
	return nil
}
