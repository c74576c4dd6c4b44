package login

import (
	"bufio"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"time"
)

// A keeper is a process that keeps the passphrase of a site's logins in its memory for some hours,
// and gives it to the other programs of its user through a socket. What it trusts is the user's own
// processes: who can run as that user can read the logins that they read.

// maxAnswer bounds what a keeper says, in bytes; keeperWithin how long it may take.
const (
	maxAnswer    = 4 << 10
	keeperWithin = 3 * time.Second
)

// ErrLocked is returned where no one keeps the passphrase.
var ErrLocked = errors.New("the logins are not unlocked")

// KeeperSocket is where the keeper of a site folder listens. Its folder is made, for its owner
// alone, before one listens there; the error is that it cannot be, is not there, or belongs to
// someone else.
func KeeperSocket(dir string, make bool) (string, error) {
	whole, err := filepath.Abs(dir)
	if err == nil {
		whole, err = filepath.EvalSymlinks(whole)
	}
	if err != nil {
		return "", err
	}
	folder, err := keeperFolder()
	if err != nil {
		return "", err
	}
	if make {
		if err := os.MkdirAll(folder, 0o700); err != nil {
			return "", err
		}
	}
	if err := ownFolder(folder); err != nil {
		return "", err
	}
	sum := sha256.Sum256([]byte(whole))
	return filepath.Join(folder, hex.EncodeToString(sum[:6])+".sock"),
		nil // a path of a socket is short
}

// Keep gives the passphrase to those who ask, until ctx ends. ready is called once it listens.
func Keep(ctx context.Context, socket, passphrase string, ready func()) error {
	_ = os.Remove(socket) // of one that died
	l, err := net.Listen("unix", socket)
	if err != nil {
		return err
	}
	defer func() { _ = os.Remove(socket) }()
	if err := os.Chmod(socket, 0o600); err != nil {
		_ = l.Close() // the error tells
		return err
	}
	stop := context.AfterFunc(ctx, func() { _ = l.Close() })
	defer stop()
	ready()
	for {
		c, err := l.Accept()
		if ctx.Err() != nil {
			return nil
		}
		if err != nil {
			return err
		}
		_ = c.SetDeadline(time.Now().Add(keeperWithin))
		word := ""
		if sameUser(c) == nil {
			word, _ = bufio.NewReader(io.LimitReader(c,
				16)).ReadString('\n') // none: it asks for nothing
		}
		switch word {
		case give:
			_, _ = io.WriteString(c, passphrase) // who asked sees that it is not whole
		case end:
			_ = c.Close()
			return nil
		}
		_ = c.Close()
	}
}

// What is asked of a keeper.
const (
	give = "give\n"
	end  = "end\n"
)

// Release ends the keeper of a site folder, if there is one.
func Release(dir string) error {
	_, err := ask(dir, end)
	if errors.Is(err, ErrLocked) {
		return nil
	}
	return err
}

// Kept is the passphrase that the keeper of a site folder keeps. Its error is ErrLocked where there
// is none.
func Kept(dir string) (string, error) {
	said, err := ask(dir, give)
	if err == nil && said == "" {
		err = fmt.Errorf("%w: it does not answer", ErrLocked)
	}
	return said, err
}

// ask asks the keeper of a site folder.
func ask(dir, word string) (string, error) {
	socket, err := KeeperSocket(dir, false)
	if err != nil {
		return "", ErrLocked
	}
	c, err := net.DialTimeout("unix", socket, keeperWithin)
	if err != nil {
		return "", ErrLocked
	}
	defer func() { _ = c.Close() }()
	_ = c.SetDeadline(time.Now().Add(keeperWithin))
	if _, err := io.WriteString(c, word); err != nil {
		return "", fmt.Errorf("%w: it does not answer", ErrLocked)
	}
	raw, err := io.ReadAll(io.LimitReader(c, maxAnswer))
	return string(raw), err
}
