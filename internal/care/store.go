package workspace

import (
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"catena/internal/atomicfile"
	"catena/internal/device"
	"catena/internal/settings"
	"catena/internal/text"
)

// SettingsFolder is where a site keeps the settings of its devices: a folder for each, named by its
// ID, with a file for each time that they were saved, encrypted for the site's own key.
const SettingsFolder = "settings"

// Saved is a device's settings as they were at a time.
type Saved struct {
	Save     string          `json:"save"` // its name: the time, and the version
	Device   string          `json:"device"`
	Name     string          `json:"name"`
	Identity device.Identity `json:"identity"`
	Version  string          `json:"version"`
	At       time.Time       `json:"at"`
	Format   settings.Format `json:"format"`
	Data     []byte          `json:"data"`
}

// maxSaved bounds a file of settings, in bytes: the longest backup, in base64.
const maxSaved = 64 << 20

// SaveSettings keeps a device's settings, and returns the name of the save. Only who can open the
// logins can read it.
func (x *Access) SaveSettings(dir string, d device.Device, version string, f settings.Format, raw []byte,
	at time.Time) (string, error) {
	at = at.UTC().Truncate(time.Second)
	s := Saved{Device: d.ID, Name: d.Name, Identity: d.Identity, Version: version, At: at, Format: f, Data: raw}
	folder := filepath.Join(dir, SettingsFolder, d.ID)
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return "", err
	}
	for n := 1; ; n++ {
		s.Save = at.Format("20060102T150405Z") + "_" + fileWord(version)
		if n > 1 {
			s.Save += fmt.Sprintf("_%d", n)
		}
		path := filepath.Join(folder, s.Save+".age")
		if _, err := os.Stat(path); err == nil {
			continue
		}
		return s.Save, x.seal(path, s)
	}
}

// seal writes a save into a file that only who can open the logins can read.
func (x *Access) seal(path string, s Saved) error {
	plain, err := json.Marshal(s)
	if err != nil {
		return err
	}
	sealed, err := x.Book.Seal(plain)
	if err != nil {
		return err
	}
	return atomicfile.Write(path, 0o600, func(w io.Writer) error {
		_, err := w.Write(sealed)
		return err
	})
}

// KeepDefaults keeps the settings that a version of a model comes with, unless they are kept already.
func (x *Access) KeepDefaults(dir string, d device.Device, version string, f settings.Format, raw []byte,
	at time.Time) error {
	id, name := defaultsOf(d, version)
	folder := filepath.Join(dir, SettingsFolder, id)
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return err
	}
	path := filepath.Join(folder, name+".age")
	if _, err := os.Stat(path); err == nil {
		return nil
	}
	return x.seal(path, Saved{Save: name, Device: id, Version: version, At: at.UTC().Truncate(time.Second),
		Format: f, Data: raw})
}

// KeptDefaults are the settings that a version of a model comes with.
func (x *Access) KeptDefaults(dir string, d device.Device, version string) ([]byte, error) {
	id, name := defaultsOf(d, version)
	s, err := x.savedSettings(dir, id, name)
	return s.Data, err
}

// defaultsOf is where they are kept: no device has such an ID.
func defaultsOf(d device.Device, version string) (folder, name string) {
	of := fmt.Sprintf("%q %q %q", d.Vendor, d.Model, version)
	return "defaults", fmt.Sprintf("%s_%.4x", fileWord(d.Model+"_"+version), sha256.Sum256([]byte(of)))
}

// fileWord is a version as a part of a file's name.
func fileWord(version string) string {
	word := strings.Map(func(r rune) rune {
		if strings.ContainsRune(`/\:*?"<>|`, r) || r <= ' ' || r >= 0x7f { // one byte each
			return '-'
		}
		return r
	}, text.Clean(version))
	return word[:min(len(word), 40)]
}

// Settings are the saves of a device, the newest first. One that cannot be read is an error that names
// its file.
func (x *Access) Settings(dir, id string) ([]Saved, error) {
	names, err := os.ReadDir(filepath.Join(dir, SettingsFolder, id))
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return nil, err
	}
	var out []Saved
	for _, f := range names {
		name, isSave := strings.CutSuffix(f.Name(), ".age")
		if !isSave {
			continue
		}
		s, err := x.savedSettings(dir, id, name)
		if err != nil {
			return nil, err
		}
		out = append(out, s)
	}
	slices.SortFunc(out, func(a, b Saved) int { return strings.Compare(b.Save, a.Save) })
	return out, nil
}

// SettingsOn are those that were saved last while a device ran a version; nil: none were.
func (x *Access) SettingsOn(dir, id, version string) ([]byte, error) {
	all, err := x.Settings(dir, id)
	i := slices.IndexFunc(all, func(s Saved) bool { return s.Version == version })
	if i < 0 {
		return nil, err
	}
	return all[i].Data, err
}

// SavedSettings is the data of one save.
func (x *Access) SavedSettings(dir, id, name string) ([]byte, error) {
	s, err := x.savedSettings(dir, id, name)
	return s.Data, err
}

func (x *Access) savedSettings(dir, id, name string) (s Saved, err error) {
	path := filepath.Join(dir, SettingsFolder, id, filepath.Base(name)+".age")
	f, err := os.Open(path)
	if err != nil {
		return s, err
	}
	defer func() { _ = f.Close() }()
	sealed, err := io.ReadAll(io.LimitReader(f, maxSaved))
	if err != nil {
		return s, err
	}
	plain, err := x.Book.Unseal(sealed)
	if err == nil {
		err = json.Unmarshal(plain, &s)
	}
	if err != nil {
		return s, fmt.Errorf("%s cannot be read: %w", path, err)
	}
	if s.Device != id || s.Save != name {
		return s, fmt.Errorf("%s is not what its name says: it was saved as %s/%s", path, s.Device, s.Save)
	}
	return s, nil
}
