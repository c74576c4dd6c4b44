package login

import (
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"catena/internal/atomicfile"
)

// markKey is the length of the key that marks are made with, in bytes.
const markKey = 32

// Marked returns a login that was given for one run with a Mark, by which a device that refused it
// is known in later runs. The mark is an HMAC (RFC 2104) under a key that is random and stays in a
// file of this user, outside of all site folders: to those who have only the folder it tells
// nothing of the password. The file is made if there is none.
func Marked(c Credential, file string) (Credential, error) {
	key, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		key, err = newMarkKey(file)
	}
	if err == nil && len(key) != markKey {
		err = fmt.Errorf("%s is damaged; remove it: logins given for one run are then tried again", file)
	}
	if err != nil {
		return c, err
	}
	mac := hmac.New(sha256.New, key)
	_, _ = fmt.Fprintf(mac, "%d:%s%s", len(c.User), c.User, c.Password)
	c.Mark = "given-" + hex.EncodeToString(mac.Sum(nil)[:8])
	return c, nil
}

// newMarkKey makes the file of a key, or reads the one that another process has just made.
func newMarkKey(file string) (key []byte, err error) {
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return nil, err
	}
	err = atomicfile.Transform(file, 0o600, func(old []byte) ([]byte, error) {
		if key = old; old == nil {
			key = make([]byte, markKey)
			_, _ = rand.Read(key) // never fails
		}
		return key, nil
	})
	return key, err
}
