package ledger

import (
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"catena/internal/files"
)

// reserved is how the names of files start that only take space; the name of a lock follows.
const reserved = "reserve-"

// Reserve takes space on the disk of the ledger, in bytes, until release is called. name is that of
// a lock that the caller holds: a file whose lock no one holds was left by a process that died, and
// is removed. If the disk becomes full in that time, the space is freed for the entries that must
// still be written, and Short reports it. The error is ErrFull where there is not that much.
func (l *Ledger) Reserve(name string, size int64) (release func(), err error) {
	left, _ := files.In(l.dir, reserved+"*") // a folder that cannot be read is an error below
	for _, path := range left {
		if !l.Held(l.lockOf(strings.TrimPrefix(filepath.Base(path), reserved))) {
			_ = os.Remove(path)
		}
	}
	path := filepath.Join(l.dir, reserved+l.fileOf(name))
	f, err := os.Create(path)
	if err != nil {
		return nil, l.failed(err)
	}
	// random: nothing compresses it, and no file system leaves it out
	_, err = io.CopyN(f, rand.Reader, size)
	if err := errors.Join(err, f.Sync(), f.Close()); err != nil {
		_ = os.Remove(path)
		return nil, fmt.Errorf("%w: a job needs %d KiB in %s for its record", ErrFull, size>>10, l.dir)
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	l.reserve, l.short = path, false
	return func() { l.free() }, nil
}

// free removes the reserve, and reports whether there was one.
func (l *Ledger) free() bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.reserve == "" {
		return false
	}
	err := os.Remove(l.reserve)
	l.reserve = ""
	return err == nil
}

// Short reports whether the disk was full, so that the reserve is in use.
func (l *Ledger) Short() bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.short
}

// freed frees the reserve after an error that the disk is full, and reports whether another attempt
// makes sense.
func (l *Ledger) freed(err error) bool {
	if !errors.Is(err, ErrFull) || !l.free() {
		return false
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	l.short = true
	return true
}
