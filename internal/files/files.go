// Package files reads what may come from someone else: folders whose names mean nothing but
// themselves (In), and files that are regular and not larger than they may be (Read).
package files

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
)

// Sizes that files may have, in bytes.
const (
	Key    = 1 << 20   // keys, certificates, signatures, notes
	Family = 1 << 20   // a family file
	Site   = 4 << 20   // site.yaml, targets.yaml
	Order  = 16 << 20  // an order of ten thousand devices has about 8 MiB
	List   = 256 << 20 // what a list has printed: of 100,000 devices about 80 MiB
)

// In returns the files of a folder whose names match a pattern, sorted: only their names are
// matched, whatever the folder is called. A folder that is not there has none.
func In(dir, pattern string) (out []string, err error) {
	entries, err := os.ReadDir(dir)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	for _, e := range entries {
		is, err := filepath.Match(pattern, e.Name())
		if err != nil {
			return nil, err
		}
		if is {
			out = append(out, filepath.Join(dir, e.Name()))
		}
	}
	return out, nil
}

// Read reads a regular file of at most the given number of bytes. A pipe or a device is refused
// before it is opened: it could be waited for without end.
func Read(path string, most int64) ([]byte, error) {
	info, err := os.Stat(path)
	switch {
	case err != nil:
		return nil, err
	case !info.Mode().IsRegular():
		return nil, fmt.Errorf("%s is not a regular file", path)
	case info.Size() > most:
		return nil, fmt.Errorf("%s has %d bytes; at most %d are read", path, info.Size(), most)
	}
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer func() { _ = f.Close() }()
	raw, err := io.ReadAll(io.LimitReader(f, most+1)) // it may grow while it is read
	if err == nil && int64(len(raw)) > most {
		err = fmt.Errorf("%s has more than %d bytes", path, most)
	}
	return raw, err
}
