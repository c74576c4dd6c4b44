package ledger

import (
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"os"

	"github.com/gofrs/flock"

	"catena/internal/files"
)

// reserved is the pattern of the names of files that only take space. The process that has one
// holds its lock, so one that can be locked was left by a process that died.
const reserved = "reserve-*"

// Reserve takes space on the disk of the ledger, in bytes, until release is called. If the disk
// becomes full in that time, the space is freed for the entries that must still be written, and
// Short reports it. The error is ErrFull where there is not that much.
func (l *Ledger) Reserve(size int64) (release func(), err error) {
	left, _ := files.In(l.dir, reserved) // a folder that cannot be read is an error below
	for _, path := range left {
		lock := flock.New(path)
		if free, err := lock.TryLock(); err == nil && free {
			_ = lock.Unlock()
			_ = os.Remove(path)
		}
	}
	f, err := os.CreateTemp(l.dir, reserved)
	if err != nil {
		return nil, l.failed(err)
	}
	lock := flock.New(f.Name())
	// random: nothing compresses it, and no file system leaves it out
	_, err = io.CopyN(f, rand.Reader, size)
	if err := errors.Join(err, f.Sync(), f.Close(), lock.Lock()); err != nil {
		_ = lock.Unlock()
		_ = os.Remove(f.Name())
		return nil, fmt.Errorf("%w: a job needs %d KiB in %s for its record", ErrFull, size>>10, l.dir)
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	l.reserve, l.short = lock, false
	return func() { l.free() }, nil
}

// free removes the reserve, and reports whether there was one.
func (l *Ledger) free() bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.reserve == nil {
		return false
	}
	err := errors.Join(l.reserve.Unlock(), os.Remove(l.reserve.Path()))
	l.reserve = nil
	return err == nil
}

// Short reports whether the disk was full, so that the reserve is in use.
func (l *Ledger) Short() bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.short
}

// freed frees the reserve after an error that the disk is full, and reports whether another try
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
