// Package shelf is the local store of firmware images, shared by all sites of one
// user.
//
// Its central type is Shelf: a folder in which images lie under their SHA-256 and
// a manifest lies beside each. An image is on the shelf when its manifest is; the image
// is there, whole and on the disk, before its manifest is. Whatever interrupts an
// import leaves at most temporary files, which the next import removes, or an
// image without a manifest, which no one sees.
package shelf

import (
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"

	"github.com/goccy/go-yaml"

	"catena/internal/atomicfile"
	"catena/internal/files"
	"catena/internal/firmware"
	"catena/internal/firmware/version"
)

// Shelf is an open shelf. Several processes may use the same one.
type Shelf struct {
	dir string
}

// ErrDamaged is returned when an image on the shelf is not what its manifest says.
var ErrDamaged = errors.New("the image on the shelf is damaged")

// ErrGone is returned for an image that is not on the shelf any more.
var ErrGone = errors.New("the image is not on the shelf")

// Open opens the shelf in dir, and makes the folder where there is none.
func Open(dir string) (*Shelf, error) {
	for _, sub := range []string{"images", "manifests", "notes", "aside", "advisories", "families",
		"feeds", "tmp"} {
		if err := os.MkdirAll(filepath.Join(dir, sub), 0o755); err != nil {
			return nil, fmt.Errorf("the shelf cannot be used: %w", err)
		}
	}
	return &Shelf{dir}, nil
}

// Dir is the shelf's folder.
func (s *Shelf) Dir() string { return s.dir }

func (s *Shelf) imagePath(digest string) string {
	return filepath.Join(s.dir, "images", digest[:2], digest)
}

func (s *Shelf) manifestPath(digest string) string {
	return filepath.Join(s.dir, "manifests", digest+".yaml")
}

func (s *Shelf) notesPath(digest string) string {
	return filepath.Join(s.dir, "notes", digest+".md")
}

// List returns every image on the shelf: by vendor, first model and component, newest
// version first. What cannot be read is left out; Faults names it.
func (s *Shelf) List() ([]firmware.Image, error) {
	images, _, err := s.read()
	return images, err
}

// Fault is something on the shelf that cannot be used. One bad file keeps no one from the
// others.
type Fault struct {
	SHA256 string `json:"sha256"` // of the image, as far as the file's name says
	File   string `json:"file"`   // its path
	Reason string `json:"reason"`
}

// Faults are the manifests that cannot be read, and those whose image is gone.
func (s *Shelf) Faults() ([]Fault, error) {
	_, faults, err := s.read()
	return faults, err
}

func (s *Shelf) read() (images []firmware.Image, faults []Fault, err error) {
	names, err := files.In(filepath.Join(s.dir, "manifests"), "*.yaml")
	if err != nil {
		return nil, nil, err
	}
	for _, name := range names {
		digest := strings.TrimSuffix(filepath.Base(name), ".yaml")
		image, err := s.load(digest)
		switch {
		case err == nil:
			images = append(images, image)
		case s.gone(name): // just dropped by another process
		default:
			faults = append(faults, Fault{SHA256: digest, File: name, Reason: err.Error()})
		}
	}
	slices.SortFunc(images, func(a, b firmware.Image) int {
		return cmp.Or(strings.Compare(a.Vendor, b.Vendor),
			strings.Compare(a.Models[0], b.Models[0]),
			strings.Compare(a.Component, b.Component), version.Compare(b.Version, a.Version),
			strings.Compare(a.SHA256, b.SHA256))
	})
	return images, faults, nil
}

func (s *Shelf) gone(path string) bool {
	_, err := os.Stat(path)
	return errors.Is(err, fs.ErrNotExist)
}

func (s *Shelf) load(digest string) (firmware.Image, error) {
	if raw, err := hex.DecodeString(digest); err != nil || len(raw) != sha256.Size {
		return firmware.Image{}, fmt.Errorf("the name %q is not a digest", digest)
	}
	path := s.manifestPath(digest)
	data, err := os.ReadFile(path)
	if err != nil {
		return firmware.Image{}, err
	}
	manifest, err := firmware.ParseManifest(path, data)
	if err != nil {
		return firmware.Image{}, err
	}
	if manifest.SHA256 != digest {
		return firmware.Image{}, fmt.Errorf(
			"%s: its sha256 is not its name; remove it and add the image again", path)
	}
	info, err := os.Stat(s.imagePath(digest))
	if err != nil {
		return firmware.Image{}, fmt.Errorf(
			"%s has a manifest but no image; remove the manifest or add the image again: %w", path, err)
	}
	return firmware.Image{Manifest: manifest, Size: info.Size()}, nil
}

// OpenImage opens an image for sending: what is read of it is what its digest is of, also if the
// file is changed later. name is what errors call it. It returns ErrDamaged when the digest is
// another, ErrGone where there is none.
func (s *Shelf) OpenImage(digest, name string) (*Sealed, error) {
	f, err := os.Open(s.imagePath(digest))
	if errors.Is(err, os.ErrNotExist) {
		return nil, fmt.Errorf("%w: %s (%.12s…)", ErrGone, name, digest)
	}
	if err != nil {
		return nil, err
	}
	x, err := s.seal(f, digest, name)
	if err != nil {
		_ = f.Close()
		return nil, err
	}
	return x, nil
}

// RefusedError is returned for an image that must not be on the shelf as it is described.
type RefusedError struct{ Reason string }

func (e *RefusedError) Error() string { return e.Reason }

// put makes a staged image and its manifest part of the shelf: the image first. It is the
// one way in, for what is added, settled and pulled: its error is a RefusedError where the
// manifest cannot be kept as it is, would have components wait for each other, or tells of
// another image than the one that is there for the same.
func (s *Shelf) put(manifest firmware.Manifest, staged string) error {
	raw, err := readBack(manifest)
	if err != nil {
		return err
	}
	for _, check := range []func(firmware.Manifest) (string, error){s.circle, s.twin} {
		reason, err := check(manifest)
		if err != nil {
			return err
		}
		if reason != "" {
			return &RefusedError{Reason: reason}
		}
	}
	path := s.imagePath(manifest.SHA256)
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return err
	}
	if err := os.Rename(staged, path); err != nil {
		return err
	}
	atomicfile.SyncDir(filepath.Dir(path))
	return s.write(s.manifestPath(manifest.SHA256), raw)
}

// readBack writes a manifest as YAML that reads back as the same: a name with a brace in it
// does not in the plain form, and is written as JSON, which is YAML, too.
func readBack(manifest firmware.Manifest) ([]byte, error) {
	for _, options := range [][]yaml.EncodeOption{nil, {yaml.JSON()}} {
		raw, err := yaml.MarshalWithOptions(manifest, options...)
		if err != nil {
			return nil, err
		}
		back, err := firmware.ParseManifest("manifest", raw)
		if err == nil && reflect.DeepEqual(back, manifest) {
			return raw, nil
		}
	}
	return nil, &RefusedError{Reason: "its manifest cannot be stored: a name in it changes " +
		"when it is written and read again"}
}

// twin names an image that is on the shelf for the same devices, in the same version.
func (s *Shelf) twin(m firmware.Manifest) (string, error) {
	images, err := s.List()
	if err != nil {
		return "", err
	}
	for _, i := range images {
		same := i.SHA256 != m.SHA256 && i.Component == m.Component && i.Hardware == m.Hardware &&
			version.Equal(i.Version, m.Version)
		if same && slices.ContainsFunc(m.Models,
			func(model string) bool { return i.IsFor(m.Vendor, model) }) {
			return fmt.Sprintf("another image of %s %s %s is on the shelf: %s (%s); find out which one "+
				"is right, and drop the other",
				i.Vendor, strings.Join(i.Models, ", "), i.Version, i.File, i.SHA256[:12]), nil
		}
	}
	return "", nil
}

// write replaces a small file.
func (s *Shelf) write(path string, data []byte) error {
	return atomicfile.Replace(path, data, 0o644)
}
