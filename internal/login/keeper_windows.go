package login

import (
	"net"
	"os"
	"path/filepath"
)

// keeperFolder is in the user's own part of the disk, which others cannot open.
func keeperFolder() (string, error) {
	cache, err := os.UserCacheDir()
	return filepath.Join(cache, "catena", "run"), err
}

func ownFolder(string) error { return nil }

func sameUser(net.Conn) error { return nil }
