// Package care changes single devices outside of jobs: their settings and their addresses. Each
// change is in the ledger before it happens and again when it is over, and no job works on the
// device until then.
//
// Its central types are Store, where the settings of devices are saved, and Care, which carries out
// the changes. It never sends an image.
package care

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
	"catena/internal/login"
	"catena/internal/settings"
	"catena/internal/text"
)

// Store is where the settings of a site's devices are saved. Only who can open the logins can read
// them.
type Store struct {
	Dir  string // the site folder
	Book login.Book
	Now  func() time.Time
}

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
	Carried  []device.Value  `json:"carried,omitempty"` // single values, in the order to write them
}

// maxSaved bounds a file of settings, in bytes: the longest backup, in base64.
const maxSaved = 64 << 20

// Save saves a device's settings and carried values, and returns the name of the save.
func (s Store) Save(d device.Device, version string, f settings.Format, raw []byte,
	carried []device.Value) (string, error) {
	at := s.Now().UTC().Truncate(time.Second)
	x := Saved{Device: d.ID, Name: d.Name, Identity: d.Identity, Version: version, At: at, Format: f,
		Data: raw, Carried: carried}
	folder := filepath.Join(s.Dir, SettingsFolder, d.ID)
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return "", err
	}
	for n := 1; ; n++ {
		x.Save = at.Format("20060102T150405Z") + "_" + atomicfile.Word(version)
		if n > 1 {
			x.Save += fmt.Sprintf("_%d", n)
		}
		path := filepath.Join(folder, x.Save+".age")
		if _, err := os.Stat(path); err == nil {
			continue
		}
		return x.Save, s.seal(path, x)
	}
}

// seal writes a save into a file that only who can open the logins can read.
func (s Store) seal(path string, x Saved) error {
	plain, err := json.Marshal(x)
	if err != nil {
		return err
	}
	sealed, err := s.Book.Seal(plain)
	if err != nil {
		return err
	}
	return atomicfile.Write(path, 0o600, func(w io.Writer) error {
		_, err := w.Write(sealed)
		return err
	})
}

// SaveDefaults saves the settings that a version of a model comes with, unless they are saved
// already.
func (s Store) SaveDefaults(d device.Device, version string, f settings.Format, raw []byte) error {
	id, name := defaultsOf(d, version)
	folder := filepath.Join(s.Dir, SettingsFolder, id)
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return err
	}
	path := filepath.Join(folder, name+".age")
	if _, err := os.Stat(path); err == nil {
		return nil
	}
	return s.seal(path, Saved{Save: name, Device: id, Version: version,
		At:     s.Now().UTC().Truncate(time.Second),
		Format: f, Data: raw})
}

// Defaults returns the settings that a version of a model comes with.
func (s Store) Defaults(d device.Device, version string) ([]byte, error) {
	id, name := defaultsOf(d, version)
	x, err := s.read(id, name)
	return x.Data, err
}

// defaultsOf is where they are kept: no device has such an ID.
func defaultsOf(d device.Device, version string) (folder, name string) {
	of := fmt.Sprintf("%q %q %q", d.Vendor, d.Model, version)
	return "defaults", fmt.Sprintf("%s_%.4x", atomicfile.Word(d.Model+"_"+version),
		sha256.Sum256([]byte(of)))
}

// All returns the saves of a device, the newest first. One that cannot be read is an error that
// names its file.
func (s Store) All(id string) ([]Saved, error) {
	names, err := os.ReadDir(filepath.Join(s.Dir, SettingsFolder, id))
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return nil, err
	}
	var out []Saved
	for _, f := range names {
		name, isSave := strings.CutSuffix(f.Name(), ".age")
		if !isSave {
			continue
		}
		x, err := s.read(id, name)
		if err != nil {
			return nil, err
		}
		out = append(out, x)
	}
	slices.SortFunc(out, func(a, b Saved) int { return strings.Compare(b.Save, a.Save) })
	return out, nil
}

// On returns the settings that were saved last while a device ran a version; nil: none were.
func (s Store) On(d device.Device, version string) ([]byte, error) {
	all, err := s.All(d.ID)
	i := slices.IndexFunc(all, func(x Saved) bool {
		return x.Version == version && x.Format != settings.None
	})
	if i < 0 {
		return nil, err
	}
	return all[i].Data, err
}

// Load returns the data of one save of a device.
func (s Store) Load(d device.Device, name string) ([]byte, error) {
	x, err := s.read(d.ID, name)
	return x.Data, err
}

func (s Store) read(id, name string) (x Saved, err error) {
	path := filepath.Join(s.Dir, SettingsFolder, id, filepath.Base(name)+".age")
	f, err := os.Open(path)
	if err != nil {
		return x, err
	}
	defer func() { _ = f.Close() }()
	sealed, err := io.ReadAll(io.LimitReader(f, maxSaved))
	if err != nil {
		return x, err
	}
	plain, err := s.Book.Unseal(sealed)
	if err == nil {
		err = json.Unmarshal(plain, &x)
	}
	if err != nil {
		return x, fmt.Errorf("%s cannot be read: %w", path, err)
	}
	if x.Device != id || x.Save != name {
		return x, fmt.Errorf("%s does not match its name: it was saved as %s/%s", path, x.Device,
			x.Save)
	}
	return x, nil
}

// CarriedLines are the carried values of a save, as settings in the format settings.KeyValue.
func (x Saved) CarriedLines() (out []byte) {
	for _, v := range x.Carried {
		out = fmt.Appendf(out, "%s = %s\n", v.Name, text.Clean(string(v.Value)))
	}
	return out
}

// CarriedNames are the names of the carried values of a save, separated by commas.
func (x Saved) CarriedNames() string {
	var names []string
	for _, v := range x.Carried {
		names = append(names, v.Name)
	}
	return strings.Join(names, ", ")
}
