//go:build unix

package doctor

import "golang.org/x/sys/unix"

// Free is how many bytes a user can still write beside a file or folder that is there.
func Free(path string) (int64, error) {
	var s unix.Statfs_t
	if err := unix.Statfs(path, &s); err != nil {
		return 0, err
	}
	return int64(s.Bavail) * int64(s.Bsize), nil
}
