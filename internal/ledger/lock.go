package ledger

import (
	"catena/internal/files"
	"catena/internal/text"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/gofrs/flock"
)

// Locks are files that the operating system frees when their process dies, however it dies.
// Who only asks whether a lock is held must take it for a moment, too; so that no one meets a
// lock that is free and seems taken, everybody takes turns by one more lock, asking.
const asking = "asking"

// askWithin bounds the wait for one's turn: others hold it for microseconds.
const askWithin = 10 * time.Second

// inTurn does something with the lock of that name while no one else asks for any.
func (l *Ledger) inTurn(name string, do func(lock *flock.Flock) error) error {
	turn := flock.New(l.lockPath(asking))
	ctx, cancel := context.WithTimeout(context.Background(), askWithin)
	defer cancel()
	ok, err := turn.TryLockContext(ctx, time.Millisecond)
	if err != nil || !ok {
		return fmt.Errorf("the locks of %s cannot be queried: %w", l.dir, err)
	}
	defer func() { _ = turn.Unlock() }()
	return do(flock.New(l.lockPath(name)))
}

func (l *Ledger) lockPath(name string) string {
	return filepath.Join(l.dir, l.fileOf(name)+".lock")
}

// fileOf is how the file of a lock is called. That of a job has its writer's ID, as in its entries:
// two people on one machine may both have a job j1. lockOf turns it round.
func (l *Ledger) fileOf(lock string) string {
	if jobName().MatchString(lock) {
		return strings.ReplaceAll(l.stored(lock), "/", "-")
	}
	return lock
}

func (l *Ledger) lockOf(file string) string {
	if m := jobLock().FindStringSubmatch(file); m != nil {
		return l.jobOf(m[1], m[2])
	}
	return file
}

var (
	jobName = text.Later(`^([^/]+/)?j[0-9]+$`)
	jobLock = text.Later(`^([a-z2-7]{12}|local)-(j[0-9]+)$`)
)

// Hold takes a lock by name for as long as this process lives, or until the returned
// function is called; ok is false when another holds it. Its file goes with its release: one
// that stays is that of a process that died.
func (l *Ledger) Hold(name string) (release func(), ok bool, err error) {
	var lock *flock.Flock
	err = l.inTurn(name, func(free *flock.Flock) error {
		lock = free
		var err error
		ok, err = lock.TryLock()
		return err
	})
	if err != nil || !ok {
		return func() {}, false, err
	}
	return func() {
		_ = l.inTurn(name, func(*flock.Flock) error {
			return errors.Join(lock.Unlock(), os.Remove(l.lockPath(name)))
		})
		_ = lock.Unlock() // also where no turn came
	}, true, nil
}

// Held tells whether a living process holds the lock of that name.
func (l *Ledger) Held(name string) (held bool) {
	if _, err := os.Stat(l.lockPath(name)); err != nil {
		return false
	}
	_ = l.inTurn(name, func(lock *flock.Flock) error {
		if _, err := os.Stat(l.lockPath(name)); err != nil {
			return nil // already released; asking must not bring the file back
		}
		free, err := lock.TryRLock()
		held = err == nil && !free
		return errors.Join(err, lock.Unlock())
	})
	return held
}

// Locks are the names of the locks that are held, or were when their process died.
func (l *Ledger) Locks() []string {
	held, _ := files.In(filepath.Dir(l.lockPath("x")), "*.lock")
	var out []string
	for _, f := range held {
		if name := l.lockOf(strings.TrimSuffix(filepath.Base(f), ".lock")); name != asking {
			out = append(out, name)
		}
	}
	return out
}
