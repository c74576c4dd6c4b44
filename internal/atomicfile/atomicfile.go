// Package atomicfile replaces files whole: whoever reads one finds the old content or the
// new, never a part of either, and after a power cut too.
package atomicfile

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"github.com/gofrs/flock"
)

// Write replaces the file at path with what write writes, and returns when it is on the
// disk. An error leaves the old content. The new file lies beside the old one until it is
// whole; a crash before the rename leaves it there, under a name that starts with a dot. A link
// stays one: what it leads to is replaced.
func Write(path string, perm fs.FileMode, write func(io.Writer) error) (err error) {
	if real, err := filepath.EvalSymlinks(path); err == nil {
		path = real
	}
	f, err := os.CreateTemp(filepath.Dir(path), "."+filepath.Base(path)+"-*")
	if err != nil {
		return err
	}
	defer func() {
		if err != nil {
			_ = os.Remove(f.Name()) // it is no one's
		}
	}()
	// The content is on the disk before its name is: a rename that survives a power cut
	// never names an empty file.
	if err := errors.Join(write(f), f.Chmod(perm), f.Sync(), f.Close()); err != nil {
		return err
	}
	if err := os.Rename(f.Name(), path); err != nil {
		return err
	}
	SyncDir(filepath.Dir(path))
	return nil
}

// Replace is Write for content that already exists.
func Replace(path string, content []byte, perm fs.FileMode) error {
	return Write(path, perm, func(w io.Writer) error {
		_, err := w.Write(content)
		return err
	})
}

// SyncDir makes a rename in a folder last. Not every system can sync a folder; where it
// cannot, the rename lasts as the system sees fit.
func SyncDir(dir string) {
	if d, err := os.Open(dir); err == nil {
		_ = d.Sync()
		_ = d.Close()
	}
}

const (
	lockWithin = 10 * time.Second // others hold a lock for moments only
	lockAgain  = 20 * time.Millisecond
)

// Transform replaces the content of the file at path with what change makes of it, nil
// where there is no file. No other Transform of the file comes between the reading and
// the writing, in this process or another. An error of change leaves the file as it was.
func Transform(path string, perm fs.FileMode, change func(old []byte) ([]byte, error)) error {
	lock := flock.New(filepath.Join(filepath.Dir(path), "."+filepath.Base(path)+".lock"))
	for since := time.Now(); ; time.Sleep(lockAgain) {
		ok, err := lock.TryLock()
		if err != nil {
			return err
		}
		if ok {
			break
		}
		if time.Since(since) > lockWithin {
			return fmt.Errorf("%s: another program has been writing to it for %s", path, lockWithin)
		}
	}
	defer func() { _ = lock.Unlock() }()
	old, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		old, err = nil, nil
	}
	if err != nil {
		return err
	}
	changed, err := change(old)
	if err != nil {
		return err
	}
	return Replace(path, changed, perm)
}
