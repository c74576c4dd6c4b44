package doctor

import "golang.org/x/sys/windows"

// Free is how many bytes a user can still write into a folder, or into the nearest one above that
// is there.
func Free(dir string) (int64, error) {
	name, err := windows.UTF16PtrFromString(nearest(dir))
	if err != nil {
		return 0, err
	}
	var free uint64
	err = windows.GetDiskFreeSpaceEx(name, &free, nil, nil)
	return int64(free), err
}
