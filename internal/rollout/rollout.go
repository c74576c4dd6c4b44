// Package rollout brings the devices of many sites to one version, in waves: each site gets a
// signed order for its station, and the next wave is released when the one before has ended, has
// soaked, and has stayed under the limit of failures.
//
// Its central type is Rollout, the file that says what is wanted. How far it is, is kept nowhere:
// it follows from the orders and the ledgers of the sites each time that it is looked at. What is
// released next is decided by the dispatcher of package order, with sites in the place of devices.
package rollout

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/goccy/go-yaml"

	"catena/internal/atomicfile"
	"catena/internal/files"
	"catena/internal/order"
	"catena/internal/yamldoc"
)

// Folder is where the rollouts of a folder of sites are.
const Folder = "rollouts"

// FileFormat is the number of this form of a rollout's file.
const FileFormat = 1

// Rollout is what is wanted.
type Rollout struct {
	Format    int             `yaml:"rollout" json:"rollout"`
	Name      string          `yaml:"name" json:"name"` // that of the order at each site, too
	Note      string          `yaml:"note,omitempty" json:"note,omitempty"`
	Made      time.Time       `yaml:"made" json:"made"`
	Where     string          `yaml:"where,omitempty" json:"where,omitempty"` // the devices
	To        string          `yaml:"to,omitempty" json:"to,omitempty"`       // empty: the targets of each site
	Soak      time.Duration   `yaml:"soak" json:"soak"`                       // JSON: ns
	StopAfter order.StopAfter `yaml:"stop_after,omitempty" json:"stop_after,omitzero"`
	Valid     time.Duration   `yaml:"valid" json:"valid"` // of each order, from its release on; JSON: ns
	Accept    []string        `yaml:"accept,omitempty" json:"accept,omitempty"`
	// Held is why nothing more is released; empty: it is not held.
	Held  string   `yaml:"held,omitempty" json:"held,omitempty"`
	Waves [][]Site `yaml:"waves" json:"waves"`
}

// Site is a site of a rollout.
type Site struct {
	Name    string `yaml:"site" json:"site"`
	ID      string `yaml:"id" json:"id"`
	Devices int    `yaml:"devices" json:"devices"` // when the rollout was made
}

// WaveError is returned for waves that make no sense.
type WaveError struct{ Text, Reason string }

func (e *WaveError) Error() string { return fmt.Sprintf("--waves %s: %s", e.Text, e.Reason) }

// Waves divides sites: 1,10%,rest are one site, then a tenth of all, then the others.
func Waves(text string, sites []Site) (out [][]Site, err error) {
	left := slices.Clone(sites)
	parts := strings.Split(text, ",")
	for i, part := range parts {
		part = strings.TrimSpace(part)
		n := 0
		share, isShare := strings.CutSuffix(part, "%")
		switch {
		case part == "rest" && i == len(parts)-1:
			n = len(left)
		case part == "rest":
			return nil, &WaveError{text, "rest is for the last wave"}
		case isShare:
			percent, err := strconv.ParseFloat(share, 64)
			if err != nil || !(percent > 0 && percent <= 100) {
				return nil, &WaveError{text, part + " is not a share such as 10%"}
			}
			n = max(1, int(percent/100*float64(len(sites))))
		default:
			if n, err = strconv.Atoi(part); err != nil || n < 1 {
				return nil, &WaveError{text, "write numbers of sites, shares and rest, such as 1,10%,rest"}
			}
		}
		if n = min(n, len(left)); n > 0 {
			out, left = append(out, left[:n]), left[n:]
		}
	}
	if len(left) > 0 {
		return nil, &WaveError{
			text,
			fmt.Sprintf("%d of %d sites are in no wave; end with rest", len(left),
				len(sites)),
		}
	}
	return out, nil
}

// ErrThere is returned by Create where there is a rollout of that name.
var ErrThere = errors.New("there is a rollout of that name already")

// UnknownError is returned where there is no rollout of a name.
type UnknownError struct{ Name string }

func (e *UnknownError) Error() string { return "there is no rollout " + e.Name }

func path(dir, name string) string { return filepath.Join(dir, Folder, name+".yaml") }

// Create writes a new rollout. Its error is ErrThere, or one of the file.
func Create(dir string, r Rollout) error {
	if _, err := os.Stat(path(dir, r.Name)); err == nil {
		return ErrThere
	}
	if err := os.MkdirAll(filepath.Join(dir, Folder), 0o755); err != nil {
		return err
	}
	return write(dir, r)
}

func write(dir string, r Rollout) error {
	raw, err := yaml.MarshalWithOptions(r, yaml.IndentSequence(true))
	if err != nil {
		return err
	}
	return atomicfile.Replace(path(dir, r.Name), append([]byte("# A rollout. How far it is: catena "+
		"rollout show.\n"), raw...), 0o644)
}

// Names are those of the rollouts of a folder, sorted.
func Names(dir string) (out []string, err error) {
	found, err := files.In(filepath.Join(dir, Folder), "*.yaml")
	for _, f := range found {
		out = append(out, strings.TrimSuffix(filepath.Base(f), ".yaml"))
	}
	slices.Sort(out)
	return out, err
}

// Read reads a rollout. Its error is an UnknownError, or one of the file.
func Read(dir, name string) (r Rollout, err error) {
	if order.CheckName(name) != nil {
		return r, &UnknownError{name}
	}
	raw, err := files.Read(path(dir, name), files.Order)
	if errors.Is(err, fs.ErrNotExist) {
		return r, &UnknownError{name}
	}
	if err != nil {
		return r, err
	}
	doc, err := yamldoc.Decode(path(dir, name), raw, &r)
	switch {
	case err != nil:
		return r, err
	case r.Format != FileFormat:
		return r, doc.Errorf("$.rollout", "rollout: must be %d", FileFormat)
	case r.Name != name:
		return r, doc.Errorf("$.name", "name: must be that of the file, %s", name)
	case len(r.Waves) == 0:
		return r, doc.Errorf("$.waves", "waves: is missing")
	case r.Soak < 0 || r.Valid <= 0:
		return r, doc.Errorf("$.valid", "soak: and valid: are durations such as 24h")
	}
	seen := map[string]bool{}
	for _, s := range r.sites() {
		if s.ID == "" || seen[s.ID] {
			return r, doc.Errorf("$.waves", "waves: the site %s has no ID, or is there twice", s.Name)
		}
		seen[s.ID] = true
	}
	return r, nil
}

// Change changes the file of a rollout.
func Change(dir, name string, how func(*Rollout)) error {
	r, err := Read(dir, name)
	if err != nil {
		return err
	}
	how(&r)
	return write(dir, r)
}

// sites are those of all waves.
func (r Rollout) sites() (out []Site) {
	for _, w := range r.Waves {
		out = append(out, w...)
	}
	return out
}

// Devices is how many devices there were when the rollout was made.
func (r Rollout) Devices() (n int) {
	for _, s := range r.sites() {
		n += s.Devices
	}
	return n
}
