// Package shelf is the local store of firmware images, shared by all sites of one
// user.
//
// Its central type is Shelf: a folder in which images lie under their SHA-256 and
// a manifest lies beside each. An image is on the shelf when its manifest is; the image
// is there, whole and on the disk, before its manifest is. Whatever interrupts an
// import leaves at most temporary files, which the next import removes, or an
// image without a manifest, which nobody sees.
package shelf

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/goccy/go-yaml"

	"catena/internal/atomicfile"
	"catena/internal/firmware"
	"catena/internal/firmware/version"
)

// Shelf is an open shelf. Several processes may use the same one.
type Shelf struct {
	dir string
}

// ErrDamaged is returned when an image on the shelf is not what its manifest says.
var ErrDamaged = errors.New("the image on the shelf is damaged")

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

// List returns every image on the shelf: by vendor, first model and component,
// newest version first.
func (s *Shelf) List() ([]firmware.Image, error) {
	names, err := filepath.Glob(filepath.Join(s.dir, "manifests", "*.yaml"))
	if err != nil {
		return nil, err
	}
	var out []firmware.Image
	for _, name := range names {
		image, err := s.load(strings.TrimSuffix(filepath.Base(name), ".yaml"))
		if errors.Is(err, fs.ErrNotExist) {
			continue // dropped by another process meanwhile
		}
		if err != nil {
			return nil, err
		}
		out = append(out, image)
	}
	slices.SortFunc(out, func(a, b firmware.Image) int {
		for _, c := range []int{
			strings.Compare(a.Vendor, b.Vendor), strings.Compare(a.Models[0], b.Models[0]),
			strings.Compare(a.Component, b.Component), version.Compare(b.Version, a.Version),
		} {
			if c != 0 {
				return c
			}
		}
		return strings.Compare(a.SHA256, b.SHA256)
	})
	return out, nil
}

func (s *Shelf) load(digest string) (firmware.Image, error) {
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

// OpenImage opens an image for sending and checks its digest from the very file
// that it returns, which lies at its start. It returns ErrDamaged when the digest
// is another.
func (s *Shelf) OpenImage(image firmware.Image) (*os.File, error) {
	f, err := os.Open(s.imagePath(image.SHA256))
	if err != nil {
		return nil, err
	}
	h := sha256.New()
	_, err = io.Copy(h, f)
	if err == nil {
		if got := hex.EncodeToString(h.Sum(nil)); got != image.SHA256 {
			err = fmt.Errorf("%w: %s reads as %s…; add it to the shelf again", ErrDamaged,
				image.File, got[:12])
		}
	}
	if err == nil {
		_, err = f.Seek(0, io.SeekStart)
	}
	if err != nil {
		_ = f.Close()
		return nil, err
	}
	return f, nil
}

// put makes a staged image and its manifest part of the shelf: the image first.
func (s *Shelf) put(manifest firmware.Manifest, staged string) error {
	path := s.imagePath(manifest.SHA256)
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return err
	}
	if err := os.Rename(staged, path); err != nil {
		return err
	}
	atomicfile.SyncDir(filepath.Dir(path))
	raw, err := yaml.Marshal(manifest)
	if err != nil {
		return err
	}
	return s.write(s.manifestPath(manifest.SHA256), raw)
}

// write replaces a small file.
func (s *Shelf) write(path string, data []byte) error {
	return atomicfile.Replace(path, data, 0o644)
}

func (s *Shelf) temp() (*os.File, error) {
	return os.CreateTemp(filepath.Join(s.dir, "tmp"), "import-*")
}
