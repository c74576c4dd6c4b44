package shelf

import (
	"archive/zip"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/goccy/go-yaml"
	"golang.org/x/crypto/ssh"

	"catena/internal/atomicfile"
	"catena/internal/files"
	"catena/internal/firmware"
	"catena/internal/firmware/advisory"
	"catena/internal/signature"
	"catena/internal/yamldoc"
)

// Unknown is a file that no rule recognised. It is set aside until someone says
// what it is.
type Unknown struct {
	File   string `yaml:"file" json:"file"`
	SHA256 string `yaml:"sha256" json:"sha256"`
	Size   int64  `yaml:"size" json:"size"` // bytes
	Reason string `yaml:"reason" json:"reason"`
}

func (s *Shelf) asidePath(digest string) string { return filepath.Join(s.dir, "aside", digest) }

func (s *Shelf) putAside(u Unknown, staged string) error {
	raw, err := yaml.Marshal(u)
	if err != nil {
		return err
	}
	if err := os.Rename(staged, s.asidePath(u.SHA256)); err != nil {
		return err
	}
	return s.write(s.asidePath(u.SHA256)+".yaml", raw)
}

// AsideList returns what lies aside, by file name.
func (s *Shelf) AsideList() ([]Unknown, error) {
	names, err := files.In(filepath.Join(s.dir, "aside"), "*.yaml")
	if err != nil {
		return nil, err
	}
	var out []Unknown
	for _, name := range names {
		data, err := os.ReadFile(name)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		var u Unknown
		if err == nil {
			_, err = yamldoc.Decode(name, data, &u)
		}
		if err != nil {
			return nil, err
		}
		out = append(out, u)
	}
	slices.SortFunc(out, func(a, b Unknown) int {
		return strings.Compare(a.File+a.SHA256, b.File+b.SHA256)
	})
	return out, nil
}

// Settle puts what lies aside on the shelf under a manifest that a person gave.
func (s *Shelf) Settle(u Unknown, manifest firmware.Manifest) (firmware.Image, error) {
	manifest.File, manifest.SHA256 = u.File, u.SHA256
	if err := s.put(manifest, s.asidePath(u.SHA256)); err != nil {
		return firmware.Image{}, err
	}
	return firmware.Image{Manifest: manifest, Size: u.Size},
		ignoreGone(os.Remove(s.asidePath(u.SHA256) + ".yaml"))
}

// Forget removes what lies aside.
func (s *Shelf) Forget(u Unknown) error {
	return errors.Join(ignoreGone(os.Remove(s.asidePath(u.SHA256)+".yaml")),
		ignoreGone(os.Remove(s.asidePath(u.SHA256))))
}

func ignoreGone(err error) error {
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}

func (s *Shelf) advisoryPath(id string) string {
	return filepath.Join(s.dir, "advisories", strings.ToLower(id)+".json")
}

// Advisories returns the security advisories that were added.
func (s *Shelf) Advisories() ([]advisory.Advisory, error) {
	names, err := files.In(filepath.Join(s.dir, "advisories"), "*.json")
	if err != nil {
		return nil, err
	}
	var out []advisory.Advisory
	for _, name := range names {
		raw, err := os.ReadFile(name)
		if err != nil {
			return nil, err
		}
		a, err := advisory.Parse(raw)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
		out = append(out, a)
	}
	return out, nil
}

// Mark gives an image another status.
func (s *Shelf) Mark(image firmware.Image, status firmware.Advice, because string) error {
	manifest := image.Manifest
	manifest.Advice, manifest.Because = status, because
	if _, message := manifest.Complete(); message != "" {
		return errors.New(message)
	}
	raw, err := readBack(manifest)
	if err != nil {
		return err
	}
	return s.write(s.manifestPath(manifest.SHA256), raw)
}

// Drop takes an image off the shelf: the manifest first, so that no one sees an image
// that is half gone.
func (s *Shelf) Drop(image firmware.Image) error {
	if err := os.Remove(s.manifestPath(image.SHA256)); err != nil {
		return err
	}
	return errors.Join(ignoreGone(os.Remove(s.notesPath(image.SHA256))),
		ignoreGone(os.Remove(s.imagePath(image.SHA256))))
}

// DropFault takes what cannot be used off the shelf.
func (s *Shelf) DropFault(f Fault) error { return os.Remove(f.File) }

// Notes returns an image's release notes, in Markdown; empty: it has none.
func (s *Shelf) Notes(image firmware.Image) (string, error) {
	raw, err := os.ReadFile(s.notesPath(image.SHA256))
	return string(raw), ignoreGone(err)
}

// HasNotes tells whether an image has release notes.
func (s *Shelf) HasNotes(digest string) bool {
	_, err := os.Stat(s.notesPath(digest))
	return err == nil
}

// Check reads every image again and returns those that are not what their manifests say,
// and what cannot be used at all, each with the reason. progress, which may be nil, is told
// the bytes read.
func (s *Shelf) Check(ctx context.Context, progress func(int64)) (count int, damaged []Fault,
	err error) {
	images, damaged, err := s.read()
	if err != nil {
		return 0, nil, err
	}
	count, read := len(damaged), int64(0)
	for _, image := range images {
		if err := ctx.Err(); err != nil {
			return count, damaged, err
		}
		f, err := s.OpenImage(image.SHA256, image.File)
		if err == nil {
			err = f.Close()
		}
		if err != nil {
			damaged = append(damaged,
				Fault{SHA256: image.SHA256, File: s.imagePath(image.SHA256), Reason: err.Error()})
		}
		count++
		if read += image.Size; progress != nil {
			progress(read)
		}
	}
	return count, damaged, nil
}

// Export writes images with their manifests and notes into a zip file, which Import
// reads, and with a key its signature beside it. Damaged ones are refused. The file
// is whole or not there.
func (s *Shelf) Export(ctx context.Context, path string, images []firmware.Image,
	key ssh.Signer) (err error) {
	f, err := os.CreateTemp(filepath.Dir(path), ".export-*")
	if err != nil {
		return err
	}
	defer func() { _ = os.Remove(f.Name()) }() // gone after the rename
	defer func() { _ = f.Close() }()           // closed already where all went well
	z := zip.NewWriter(f)
	for _, image := range images {
		if err := ctx.Err(); err != nil {
			return err
		}
		if err := s.exportOne(z, image); err != nil {
			return err
		}
	}
	if err := errors.Join(z.Close(), f.Sync()); err != nil {
		return err
	}
	if key != nil {
		if _, err := f.Seek(0, io.SeekStart); err != nil {
			return err
		}
		armored, err := signature.Sign(f, key, signature.Feed)
		if err != nil {
			return err
		}
		if err := atomicfile.Replace(path+signature.Ending, armored, 0o644); err != nil {
			return err
		}
	}
	return errors.Join(f.Close(), os.Rename(f.Name(), path))
}

func (s *Shelf) exportOne(z *zip.Writer, image firmware.Image) error {
	folder := image.SHA256[:12] + "/"
	file, raw, notes, err := s.Portable(image)
	if err != nil {
		return err
	}
	in, err := s.OpenImage(image.SHA256, image.File)
	if err != nil {
		return err
	}
	defer func() { _ = in.Close() }()
	w, err := z.CreateHeader(&zip.FileHeader{Name: folder + file, Method: zip.Store,
		Modified: time.Unix(0, 0).UTC()})
	if err == nil {
		_, err = io.Copy(w, in) // stored as it is: firmware is packed already
	}
	if err != nil {
		return err
	}
	for name, text := range map[string]string{ManifestFile: raw, NotesFile: notes} {
		if text == "" {
			continue
		}
		w, err := z.Create(folder + name)
		if err == nil {
			_, err = io.WriteString(w, text)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// The names of the files beside an image in an export.
const (
	ManifestFile = "manifest.yaml"
	NotesFile    = "notes.md"
)

// Portable returns what an image is exported with: the name of its file, the manifest that names it
// so, and the release notes, which may be empty.
func (s *Shelf) Portable(image firmware.Image) (file, manifest, notes string, err error) {
	m := image.Manifest
	m.File = filepath.Base(filepath.FromSlash(m.File))
	if notes, err = s.Notes(image); err != nil {
		return "", "", "", err
	}
	m.Notes = ""
	if notes != "" {
		m.Notes = NotesFile
	}
	raw, err := yaml.Marshal(m)
	return m.File, string(raw), notes, err
}

// looked is the file whose time says when the shelf was last looked at.
const looked = "looked"

// Added is when an image came to the shelf or its manifest was changed.
func (s *Shelf) Added(image firmware.Image) time.Time {
	info, err := os.Stat(s.manifestPath(image.SHA256))
	if err != nil {
		return time.Time{}
	}
	return info.ModTime()
}

// Look returns when the shelf was last looked at, and notes that it is now.
func (s *Shelf) Look() (time.Time, error) {
	path := filepath.Join(s.dir, looked)
	var last time.Time
	if info, err := os.Stat(path); err == nil {
		last = info.ModTime()
	}
	return last, s.write(path, []byte{})
}

// sites is the file that lists the site folders that use the shelf.
const sites = "sites"

// Remember notes that a site folder uses this shelf.
func (s *Shelf) Remember(dir string) error {
	abs, err := filepath.Abs(dir)
	if err != nil {
		return err
	}
	known, err := s.Sites()
	if err != nil || slices.Contains(known, abs) {
		return err
	}
	return atomicfile.Transform(filepath.Join(s.dir, sites), 0o644,
		func(old []byte) ([]byte, error) {
			if strings.Contains("\n"+string(old), "\n"+abs+"\n") {
				return old, nil // another program was faster
			}
			return append(old, abs+"\n"...), nil
		})
}

// Sites lists the site folders that have used this shelf.
func (s *Shelf) Sites() ([]string, error) {
	raw, err := os.ReadFile(filepath.Join(s.dir, sites))
	var out []string
	for line := range strings.Lines(string(raw)) {
		out = append(out, strings.TrimSuffix(line, "\n"))
	}
	return out, ignoreGone(err)
}

// ErrNotFound is returned by Find.
var ErrNotFound = errors.New("no such image")

// Find returns the one image that a person means: by a digest's first digits (at
// least six), or by its file name.
func Find(images []firmware.Image, name string) (firmware.Image, error) {
	var found []firmware.Image
	for _, i := range images {
		if i.File == name || filepath.Base(i.File) == name || len(name) >= 6 &&
			strings.HasPrefix(i.SHA256, strings.ToLower(name)) {
			found = append(found, i)
		}
	}
	switch len(found) {
	case 1:
		return found[0], nil
	case 0:
		return firmware.Image{}, fmt.Errorf("%w: %s", ErrNotFound, name)
	}
	return firmware.Image{}, fmt.Errorf("%s matches %d images; name one by its digest", name,
		len(found))
}
