package machine

import (
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"

	"github.com/gofrs/flock"

	"catena/internal/files"
)

// Scratch is a private file for a text that holds secrets while a person edits it: readable by its
// owner alone, in memory where the system offers a folder for that. It is removed on every signal
// that ends the program; what a kill leaves is swept at the next start.
type Scratch struct {
	Path string
	lock *flock.Flock
	stop func()
}

// scratchFolder is where such files are; it is this user's alone.
func scratchFolder() string {
	for _, dir := range []string{os.Getenv("XDG_RUNTIME_DIR"), "/dev/shm"} {
		if info, err := os.Stat(dir); dir != "" && err == nil && info.IsDir() {
			return filepath.Join(dir, "catena-"+strconv.Itoa(os.Getuid()))
		}
	}
	return filepath.Join(os.TempDir(), "catena-"+strconv.Itoa(os.Getuid()))
}

// NewScratch writes a text into a new private file. The caller removes it.
func NewScratch(text []byte) (*Scratch, error) {
	dir := scratchFolder()
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	if err := owned(dir); err != nil {
		return nil, err
	}
	f, err := os.CreateTemp(dir, "edit-*.txt") // for its owner alone
	if err != nil {
		return nil, err
	}
	s := &Scratch{Path: f.Name(), lock: flock.New(f.Name() + ".lock")}
	if _, err := s.lock.TryLock(); err != nil {
		_ = os.Remove(f.Name())
		return nil, err
	}
	signals := make(chan os.Signal, 1)
	signal.Notify(signals, syscall.SIGHUP, syscall.SIGTERM, syscall.SIGQUIT)
	go func() {
		if sent, ends := <-signals; ends {
			s.Remove()
			number, _ := sent.(syscall.Signal)
			os.Exit(128 + int(number))
		}
	}()
	s.stop = func() { signal.Stop(signals); close(signals) }
	_, err = f.Write(text)
	if err := f.Close(); err != nil {
		s.Remove()
		return nil, err
	}
	if err != nil {
		s.Remove()
		return nil, err
	}
	return s, nil
}

// Edit has a person edit the file, and returns its text.
func (s *Scratch) Edit(editor []string, in, out *os.File) ([]byte, error) {
	c := exec.Command(editor[0], append(editor[1:], s.Path)...)
	c.Stdin, c.Stdout, c.Stderr = in, out, out
	if err := c.Run(); err != nil {
		return nil, err
	}
	return files.Read(s.Path, files.Order)
}

// Remove removes the file.
func (s *Scratch) Remove() {
	if s.stop != nil {
		s.stop()
		s.stop = nil
	}
	_ = os.Remove(s.Path)
	_ = s.lock.Unlock()
	_ = os.Remove(s.lock.Path())
}

// SweepScratch removes the files that programs left that were killed, with what their editors made
// beside them.
func SweepScratch() {
	dir := scratchFolder()
	locks, _ := files.In(dir, "*.lock") // a folder that is not there has none
	for _, path := range locks {
		lock := flock.New(path)
		if free, err := lock.TryLock(); err != nil || !free {
			continue
		}
		left, _ := files.In(dir, "*")
		for _, file := range left {
			if strings.Contains(filepath.Base(file), strings.TrimSuffix(filepath.Base(path), ".lock")) {
				_ = os.Remove(file)
			}
		}
		_ = lock.Unlock()
		_ = os.Remove(path)
	}
}
