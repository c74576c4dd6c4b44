package notify

import (
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"time"

	"catena/internal/atomicfile"
)

// ErrNotAllowed is returned for a command of a site folder that the user of this machine has not
// allowed.
var ErrNotAllowed = errors.New("it is not allowed on this machine")

// Approvals are the commands that the user of this machine has allowed, in a file outside of all
// site folders: no folder can allow its own. What was allowed is the words of a command, and the
// content of each file of the site folder that is one of them: another word or another content is
// another command.
type Approvals struct{ File string }

// approval is a command that was allowed.
type approval struct {
	Digest  string    `json:"digest"`
	Site    string    `json:"site"` // the folder, for readers
	Command []string  `json:"command"`
	At      time.Time `json:"at"`
}

// Allows reports whether a command of a site folder was allowed. If the file cannot be read, none
// was.
func (a Approvals) Allows(site string, command []string) bool {
	all, err := a.read()
	if err != nil {
		return false
	}
	digest, err := digestOf(site, command)
	return err == nil && slices.ContainsFunc(all, func(x approval) bool { return x.Digest == digest })
}

// Allow allows commands of a site folder.
func (a Approvals) Allow(site string, commands [][]string, at time.Time) error {
	var more []approval
	for _, c := range commands {
		digest, err := digestOf(site, c)
		if err != nil {
			return err
		}
		more = append(more, approval{digest, site, c, at.UTC()})
	}
	if err := os.MkdirAll(filepath.Dir(a.File), 0o700); err != nil {
		return err
	}
	return atomicfile.Transform(a.File, 0o600, func(old []byte) ([]byte, error) {
		var all []approval
		if len(old) > 0 {
			if err := json.Unmarshal(old, &all); err != nil {
				return nil, fmt.Errorf("%s: %w; remove it, and allow commands again", a.File, err)
			}
		}
		return json.MarshalIndent(append(all, more...), "", "  ")
	})
}

func (a Approvals) read() (all []approval, err error) {
	raw, err := os.ReadFile(a.File)
	if errors.Is(err, os.ErrNotExist) {
		return nil, nil
	}
	if err == nil {
		err = json.Unmarshal(raw, &all)
	}
	return all, err
}

// mostHashed bounds a file of a command, in bytes.
const mostHashed = 64 << 20

// digestOf returns the digest of a command of a site folder: of the folder, the words, and the
// files among them.
func digestOf(site string, command []string) (string, error) {
	dir, err := filepath.Abs(site)
	if err == nil {
		dir, err = filepath.EvalSymlinks(dir)
	}
	if err != nil {
		return "", err
	}
	whole := sha256.New()
	if err := json.NewEncoder(whole).Encode([]any{dir, command}); err != nil {
		return "", err
	}
	for _, word := range command {
		path := word
		if !filepath.IsAbs(path) {
			path = filepath.Join(dir, word)
		}
		if info, err := os.Stat(path); err != nil || !info.Mode().IsRegular() {
			continue
		}
		f, err := os.Open(path)
		if err != nil {
			return "", err
		}
		n, err := io.Copy(whole, io.LimitReader(f, mostHashed+1))
		_ = f.Close()
		if err != nil || n > mostHashed {
			return "", errors.Join(err, fmt.Errorf("%s is too large for an allowed command", path))
		}
	}
	return fmt.Sprintf("%x", whole.Sum(nil)), nil
}
