//go:build unix

package login

import (
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"syscall"
)

// keeperFolder is the user's folder for what lives as long as a session.
func keeperFolder() (string, error) {
	if run := os.Getenv("XDG_RUNTIME_DIR"); run != "" {
		return filepath.Join(run, "catena"), nil
	}
	return filepath.Join(os.TempDir(), "catena-"+strconv.Itoa(os.Getuid())), nil
}

// ownFolder refuses a folder that others may open, or that is another's.
func ownFolder(path string) error {
	i, err := os.Lstat(path)
	if err != nil {
		return err
	}
	owner, is := i.Sys().(*syscall.Stat_t)
	if !i.IsDir() || i.Mode().Perm()&0o077 != 0 || !is || int(owner.Uid) != os.Getuid() {
		return fmt.Errorf("%s is not a folder of this user alone", path)
	}
	return nil
}
