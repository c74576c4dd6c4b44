//go:build !windows

package machine

import (
	"fmt"
	"os"
	"syscall"
)

// owned returns an error for a folder that others can read, or that is someone else's.
func owned(dir string) error {
	info, err := os.Lstat(dir)
	if err != nil {
		return err
	}
	of, is := info.Sys().(*syscall.Stat_t)
	if !info.IsDir() || info.Mode().Perm()&0o077 != 0 || is && int(of.Uid) != os.Getuid() {
		return fmt.Errorf("%s is not a folder of this user alone; remove it", dir)
	}
	return nil
}
