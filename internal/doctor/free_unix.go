//go:build unix

package doctor

import "golang.org/x/sys/unix"

// Free is how many bytes a user can still write into a folder, or into the nearest one above that
// is there.
func Free(dir string) (int64, error) {
	var s unix.Statfs_t
	if err := unix.Statfs(nearest(dir), &s); err != nil {
		return 0, err
	}
	return int64(s.Bavail) * int64(s.Bsize), nil
}
