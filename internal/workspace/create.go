package workspace

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"
	"unicode"

	"catena/internal/ledger"
	"catena/internal/record"
	"catena/internal/site"
)

// NewSite is what is asked of a new site.
type NewSite struct {
	Name    string
	Dir     string // empty: named like the site
	Adapter string // empty: all
	Ranges  []string
	Ports   []string
}

// WrongSiteError is returned where a site cannot be made as asked; nothing was made.
type WrongSiteError struct{ Err error }

func (e *WrongSiteError) Error() string { return e.Err.Error() }
func (e *WrongSiteError) Unwrap() error { return e.Err }

// Create makes a site folder, and returns where it is. Its error is a WrongSiteError.
func Create(n NewSite, now func() time.Time, by ledger.Writer) (dir string, err error) {
	wrong := func(format string, args ...any) (string, error) {
		return "", &WrongSiteError{fmt.Errorf(format, args...)}
	}
	if dir = n.Dir; dir == "" {
		plain := func(r rune) bool { return unicode.IsLetter(r) || unicode.IsDigit(r) }
		dir = strings.Join(strings.FieldsFunc(strings.ToLower(n.Name),
			func(r rune) bool { return !plain(r) }), "-")
	}
	if dir == "" {
		return wrong("%q cannot be a folder name; name the folder with -C", n.Name)
	}
	path := filepath.Join(dir, site.File)
	if _, err := os.Stat(path); err == nil {
		return wrong("%s already exists; nothing was changed", path)
	}
	for _, r := range n.Ranges {
		if _, err := site.ParseRange(r); err != nil {
			return wrong("--range: %w", err)
		}
	}
	for _, p := range n.Ports {
		if _, err := site.ParsePort(p); err != nil {
			return wrong("--port: %w", err)
		}
	}
	text := site.NewFile(n.Name, n.Adapter, n.Ranges, n.Ports)
	if _, err := site.Parse(site.File, []byte(text)); err != nil {
		return wrong("%w", err)
	}
	if err := os.MkdirAll(filepath.Join(dir, "families"), 0o755); err != nil {
		return "", err
	}
	l, err := ledger.Create(dir, now, by)
	if err != nil {
		return "", err
	}
	// The site file comes last: a folder is a site folder once it is there.
	err = errors.Join(record.Start(l, record.Origin{Site: n.Name}), l.Close())
	if err == nil {
		err = os.WriteFile(path, []byte(ForEditors(dir, "site", "")+text), 0o644)
	}
	return dir, err
}
