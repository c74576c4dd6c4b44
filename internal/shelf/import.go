package shelf

import (
	"archive/zip"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/gofrs/flock"

	"catena/internal/family"
	"catena/internal/files"
	"catena/internal/firmware"
	"catena/internal/firmware/advisory"
	"catena/internal/firmware/format"
)

// Bounds of one import. Firmware rarely shrinks below a tenth of its size;
// deflate can shrink zeros to a thousandth, which is how an archive blows up.
const (
	maxFiles    = 10_000
	maxDepth    = 3        // archives within archives
	maxImage    = 8 << 30  // bytes of one image
	maxTotal    = 64 << 30 // bytes of all images of one import
	maxRatio    = 200      // unpacked to packed bytes, once …
	ratioCounts = 32 << 20 // … this many are unpacked
)

// Outcome says what became of one file of an import.
type Outcome string

const (
	New     Outcome = "new"
	There   Outcome = "already there"
	Aside   Outcome = "not recognised" // kept aside until someone says what it is
	Refused Outcome = "refused"
)

// Result is one line of an import's summary.
type Result struct {
	Source  string         `json:"source"` // the file as given, then its path in the archive
	Outcome Outcome        `json:"outcome"`
	Reason  string         `json:"reason,omitempty"`
	Image   firmware.Image `json:"image,omitzero"`

	Advisory string `json:"advisory,omitempty"` // its identifier, where it is not an image
}

// Options say how an import treats what it finds.
type Options struct {
	// Manifest writes the manifest of an image that has none; the error says why it cannot.
	// nil: such an image is not recognised.
	Manifest func(family.Sample) (firmware.Manifest, error)
	// Progress is told the bytes read so far. It may be nil.
	Progress func(bytes int64)
}

// Import adds files, folders and archives (.zip, .tar, .tgz, .tar.gz, .tar.xz, and
// archives within them) with their manifests. Each file that is refused is one Result;
// the others are still added. The error is for what stops the import as a
// whole: the shelf cannot be written, or the context ended.
func (s *Shelf) Import(ctx context.Context, paths []string, o Options) ([]Result, error) {
	dir, release, err := s.workFolder()
	if err != nil {
		return nil, err
	}
	defer release()
	in := &importer{shelf: s, ended: ctx.Err, Options: o, dir: dir}
	for _, p := range paths {
		if err := in.source(p); err != nil {
			return in.results, err
		}
	}
	return in.results, nil
}

// Size is how many bytes the images of files, folders and zip files have, unpacked,
// as far as that can be told without unpacking.
func Size(paths []string) (total int64) {
	for _, p := range paths {
		_ = filepath.WalkDir(p, func(name string, entry os.DirEntry, err error) error {
			if err != nil || !entry.Type().IsRegular() {
				return nil // the import itself will say so
			}
			if archiveKind(name) == "zip" {
				if z, err := zip.OpenReader(name); err == nil {
					for _, f := range z.File {
						total += int64(min(f.UncompressedSize64, maxImage))
					}
					return z.Close()
				}
			}
			if info, err := entry.Info(); err == nil {
				total += info.Size()
			}
			return nil
		})
	}
	return total
}

// workFolder makes a folder for what one import unpacks, and removes those whose import was
// killed: a living one holds the lock in its own.
func (s *Shelf) workFolder() (dir string, release func(), err error) {
	// In turn: between making a folder and locking it no one must take it for a dead one's.
	turn := flock.New(filepath.Join(s.dir, ".imports.lock"))
	if err := turn.Lock(); err != nil {
		return "", nil, err
	}
	defer func() { _ = turn.Unlock() }()
	left, _ := files.In(filepath.Join(s.dir, "tmp"), "import-*")
	for _, old := range left {
		lock := flock.New(filepath.Join(old, "lock"))
		if ok, err := lock.TryLock(); ok || err != nil { // an error: it is not a folder of an import
			_ = lock.Unlock()
			_ = os.RemoveAll(old)
		}
	}
	folders, _ := files.In(s.dir, "*")
	for _, folder := range folders {
		// files that were being replaced; what is no folder has none
		halves, _ := files.In(folder, ".*-*")
		for _, name := range halves {
			if info, err := os.Stat(name); err == nil && time.Since(info.ModTime()) > staleAfter {
				_ = os.Remove(name)
			}
		}
	}
	dir, err = os.MkdirTemp(filepath.Join(s.dir, "tmp"), "import-*")
	if err != nil {
		return "", nil, err
	}
	lock := flock.New(filepath.Join(dir, "lock"))
	if _, err := lock.TryLock(); err != nil {
		return "", nil, errors.Join(err, os.RemoveAll(dir))
	}
	return dir, func() {
		_ = lock.Unlock()
		_ = os.RemoveAll(dir)
	}, nil
}

// staleAfter is when a half-written file is no one's any more: it takes moments to replace
// one.
const staleAfter = 24 * time.Hour

// importer carries one import from source to source.
type importer struct {
	Options
	shelf   *Shelf
	ended   func() error // why the import must stop; nil: it need not
	results []Result
	dir     string  // for what is unpacked
	read    int64   // bytes staged in this import
	budget  *budget // of the archive that is being unpacked; nil: none is
	files   int
	depth   int  // archives within archives
	deep    bool // too many
}

// batch is what one source (a folder, an archive, the files of one call) holds
// before its manifests and images are brought together.
type batch struct {
	source    string
	manifests []manifestFile
	images    map[string]staged // by slash path within the source
	notes     map[string][]byte
	names     map[string]bool // of all files in it
	bad       bool            // a manifest could not be read: what has none may well be its image
}

func newBatch(source string) *batch {
	return &batch{source: source, images: map[string]staged{}, notes: map[string][]byte{},
		names: map[string]bool{}}
}

type manifestFile struct {
	path     string
	manifest firmware.Manifest
}

type staged struct {
	temp   string
	digest string
	size   int64
	used   bool
}

// errSkip marks what refuses one source, not the import.
type errSkip struct{ reason error }

func (e errSkip) Error() string { return e.reason.Error() }

func refuse(format string, args ...any) error { return errSkip{fmt.Errorf(format, args...)} }

func (in *importer) source(p string) error {
	in.deep = false
	b := newBatch(p)
	defer b.clear()
	defer func() { in.budget = nil }()
	var skip errSkip
	err := in.fill(b, p)
	if err == nil {
		err = in.unpack(b)
	}
	if errors.As(err, &skip) {
		in.results = append(in.results, Result{Source: p, Outcome: Refused, Reason: skip.Error()})
		return nil // nothing of a source that cannot be trusted as a whole
	} else if err != nil {
		return err
	}
	return in.settle(b)
}

// fill reads one source into the batch.
func (in *importer) fill(b *batch, p string) error {
	info, err := os.Stat(p)
	if err != nil {
		return refuse("cannot be read: %w", err)
	}
	switch {
	case info.IsDir():
		return in.folder(b, p)
	case isManifest(p):
		return in.manifestWithImage(b, p)
	case archiveKind(p) != "":
		manifests, err := manifestsOf(p)
		if err != nil {
			return err
		}
		whole, err := in.takenWhole(staged{temp: p, size: info.Size()}, p)
		if err != nil {
			return err
		}
		if len(manifests) == 0 && !whole {
			in.budget = &budget{outer: info.Size()}
			return in.archive(b, p, p, info.Size())
		}
	}
	return in.imageWithManifest(b, p)
}

// takenWhole reports whether an archive is an image that a device takes as it is: then someone says
// so, or a rule of a family that names it.
func (in *importer) takenWhole(a staged, name string) (bool, error) {
	if in.Manifest == nil {
		return false, nil
	}
	sample, err := readSelf(a)
	if err != nil {
		return false, refuse("%s cannot be read: %w", name, err)
	}
	sample.Name = name
	sample.Archive, _ = archiveExtension(name)
	_, err = in.Manifest(sample)
	return err == nil || errors.Is(err, format.ErrDamaged), nil
}

// unpack reads the archives of a batch that are not images themselves: no manifest in it names
// them, and no rule.
func (in *importer) unpack(b *batch) error {
	named := map[string]bool{}
	for _, c := range b.manifests {
		named[imagePath(c)] = true
	}
	for _, rel := range slices.Sorted(maps.Keys(b.images)) {
		if archiveKind(rel) == "" || named[rel] {
			continue
		}
		image := b.images[rel]
		whole, err := in.takenWhole(image, rel)
		if err != nil {
			return err
		}
		if whole {
			continue
		}
		delete(b.images, rel)
		err = in.unpackOne(b, rel, image)
		_ = os.Remove(image.temp)
		if err != nil {
			return err
		}
	}
	return nil
}

// unpackOne reads one archive of a batch.
func (in *importer) unpackOne(b *batch, rel string, image staged) error {
	if in.budget == nil { // it lay in a folder
		in.budget = &budget{outer: image.size}
		defer func() { in.budget = nil }()
	}
	return in.nested(b, rel, image)
}

// folder takes every regular file of a folder. A link is not followed: it could
// lead anywhere.
func (in *importer) folder(b *batch, dir string) error {
	return filepath.WalkDir(dir, func(p string, entry os.DirEntry, err error) error {
		if err != nil {
			return refuse("cannot be read: %w", err)
		}
		if !entry.Type().IsRegular() {
			return nil
		}
		rel, err := filepath.Rel(dir, p)
		if err != nil {
			return err
		}
		return in.file(b, filepath.ToSlash(rel), p)
	})
}

// manifestWithImage takes a manifest given by name and the image it names beside it.
func (in *importer) manifestWithImage(b *batch, p string) error {
	b.source = filepath.Dir(p)
	if err := in.file(b, filepath.Base(p), p); err != nil {
		return err
	}
	for _, c := range b.manifests {
		for _, name := range []string{c.manifest.File, c.manifest.Notes} {
			if name == "" || !filepath.IsLocal(name) {
				continue
			}
			if info, err := os.Stat(filepath.Join(b.source, name)); err == nil &&
				info.Mode().IsRegular() {
				if err := in.file(b, path.Clean(filepath.ToSlash(name)),
					filepath.Join(b.source, name)); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

// imageWithManifest takes an image given by name and the manifests beside it that name it.
func (in *importer) imageWithManifest(b *batch, p string) error {
	b.source = filepath.Dir(p)
	if err := in.file(b, filepath.Base(p), p); err != nil {
		return err
	}
	var err error
	b.manifests, err = manifestsOf(p)
	return err
}

// manifestsOf are the manifests beside an image that name it.
func manifestsOf(p string) (of []manifestFile, err error) {
	beside, err := files.In(filepath.Dir(p), "*.y*ml")
	if err != nil {
		return nil, err
	}
	for _, name := range beside {
		data, err := files.Read(name, files.Key)
		if err != nil {
			continue
		}
		if manifest, err := firmware.ParseManifest(name, data); err == nil &&
			manifest.File == filepath.Base(p) {
			of = append(of, manifestFile{filepath.Base(name), manifest})
		}
	}
	return of, nil
}

func (in *importer) file(b *batch, rel, p string) error {
	f, err := os.Open(p)
	if err != nil {
		return refuse("cannot be read: %w", err)
	}
	defer func() { _ = f.Close() }()
	return in.entry(b, rel, f)
}

// entry takes one file of a source: a manifest, release notes, or an image.
func (in *importer) entry(b *batch, rel string, r io.Reader) error {
	if err := in.ended(); err != nil {
		return err
	}
	if in.files++; in.files > maxFiles {
		return refuse("contains more than %d files", maxFiles)
	}
	if b.names[rel] {
		return refuse("holds %s twice", rel)
	}
	b.names[rel] = true
	switch {
	case isManifest(rel):
		data, err := io.ReadAll(io.LimitReader(r, firmware.MaxManifest+1))
		if err != nil {
			return refuse("%s cannot be read: %w", rel, err)
		}
		manifest, err := firmware.ParseManifest(rel, data)
		if err != nil {
			b.bad = true
			in.refused(b, rel, err.Error())
			return nil
		}
		b.manifests = append(b.manifests, manifestFile{rel, manifest})
		return nil
	case strings.EqualFold(path.Ext(rel), ".md"):
		return in.releaseNotes(b, rel, r)
	}
	if strings.EqualFold(path.Ext(rel), ".json") {
		start := make([]byte, 64<<10)
		n, err := io.ReadFull(r, start)
		if err != nil && err != io.EOF && err != io.ErrUnexpectedEOF {
			return refuse("%s cannot be read: %w", rel, err)
		}
		r = io.MultiReader(bytes.NewReader(start[:n]), r)
		if advisory.Is(start[:n]) {
			return in.advisory(b, rel, r)
		}
	}
	image, err := in.stage(r, rel)
	if err != nil {
		return err
	}
	b.images[rel] = image
	return nil
}

// releaseNotes keeps the release notes of an image until that is settled.
func (in *importer) releaseNotes(b *batch, rel string, r io.Reader) error {
	data, err := io.ReadAll(io.LimitReader(r, maxNotes+1))
	if err != nil {
		return refuse("%s cannot be read: %w", rel, err)
	}
	if len(data) > maxNotes {
		in.refused(b, rel, fmt.Sprintf("release notes of more than %d bytes", maxNotes))
		return nil
	}
	b.notes[rel] = data
	return nil
}

// advisory keeps a security advisory.
func (in *importer) advisory(b *batch, rel string, r io.Reader) error {
	raw, err := io.ReadAll(io.LimitReader(r, advisory.MaxSize+1))
	if err != nil {
		return refuse("%s cannot be read: %w", rel, err)
	}
	a, err := advisory.Parse(raw)
	if err != nil {
		in.refused(b, rel, err.Error())
		return nil
	}
	result := Result{Source: in.place(b, rel), Outcome: New, Advisory: a.ID}
	result.Reason = fmt.Sprintf("%s; it names %d versions as affected", a.Title, len(a.Statements))
	if len(a.Unclear) > 0 {
		result.Reason += "; not understood: " + strings.Join(a.Unclear[:min(3, len(a.Unclear))],
			", ")
	}
	kept := in.shelf.advisoryPath(a.ID)
	if old, err := os.ReadFile(kept); err == nil && bytes.Equal(old, raw) {
		result.Outcome = There
	}
	in.results = append(in.results, result)
	return in.shelf.write(kept, raw)
}

// nested reads an archive that lay in a folder or an archive.
func (in *importer) nested(b *batch, rel string, a staged) error {
	if in.depth == maxDepth {
		in.deep = true
		return refuse("contains %s, nested more than %d archives deep", rel, maxDepth)
	}
	in.depth++
	defer func() { in.depth-- }()
	inner := newBatch(in.place(b, rel))
	defer inner.clear()
	var skip errSkip
	err := in.archive(inner, a.temp, rel, a.size)
	if err == nil {
		err = in.unpack(inner)
	}
	if errors.As(err, &skip) && !in.spent() {
		in.refused(b, rel, skip.Error())
		return nil
	}
	if err != nil {
		return err
	}
	return in.settle(inner)
}

// spent tells whether the import as a whole has reached a bound.
func (in *importer) spent() bool {
	return in.files > maxFiles || in.read > maxTotal || in.deep || in.budget != nil &&
		in.budget.spent
}

// clear removes what was staged and not put on the shelf.
func (b *batch) clear() {
	for _, image := range b.images {
		_ = os.Remove(image.temp) // gone where it was put on the shelf
	}
}

// maxNotes is the largest file of release notes that is kept, in bytes.
const maxNotes = 1 << 20

// stage writes an image under a temporary name in the shelf and syncs it, so that
// a rename is all that is left to do.
func (in *importer) stage(r io.Reader, rel string) (staged, error) {
	f, err := os.CreateTemp(in.dir, "image-*")
	if err != nil {
		return staged{}, err
	}
	h := sha256.New()
	n, err := io.Copy(io.MultiWriter(f, h), &counted{in: in, r: io.LimitReader(r, maxImage+1)})
	var read errRead
	switch {
	case n > maxImage:
		err = refuse("%s is larger than %d GiB", rel, int64(maxImage)>>30)
	case errors.As(err, &read):
		err = in.ended()
		if err == nil {
			err = refuse("%s cannot be read to its end: %w", rel, read.err)
		}
	case err == nil:
		err = f.Sync()
	}
	err = errors.Join(err, f.Close())
	if err != nil {
		_ = os.Remove(f.Name())
		return staged{}, err
	}
	return staged{temp: f.Name(), digest: hex.EncodeToString(h.Sum(nil)), size: n}, nil
}

// errRead tells what came from the source from what came from the shelf's disk.
type errRead struct{ err error }

func (e errRead) Error() string { return e.err.Error() }

// counted reads on while the import may continue, and tells how far it is.
type counted struct {
	in *importer
	r  io.Reader
}

func (c *counted) Read(p []byte) (int, error) {
	if err := c.in.ended(); err != nil {
		return 0, errRead{err}
	}
	n, err := c.r.Read(p)
	c.in.read += int64(n)
	if c.in.Progress != nil {
		c.in.Progress(c.in.read)
	}
	if c.in.read > maxTotal {
		return n, errRead{fmt.Errorf("the import has more than %d GiB", int64(maxTotal)>>30)}
	}
	if err != nil && err != io.EOF {
		err = errRead{err}
	}
	return n, err
}

// settle brings the manifests and images of a batch together and puts on the shelf what fits.
// A batch is one folder or one archive: what lies in another one does not count. First each
// manifest takes the image that it names; then each image that no manifest has named is held
// against the rules of the families. What neither explains is set aside with the reason, and
// what contradicts (another digest, a cut-off file) is refused. One that is refused changes
// nothing, and the others are still added.
func (in *importer) settle(b *batch) error {
	for _, c := range b.manifests {
		if err := in.settleManifest(b, c); err != nil {
			return err
		}
	}
	for _, rel := range slices.Sorted(maps.Keys(b.images)) {
		if !b.images[rel].used {
			if err := in.settleBare(b, rel); err != nil {
				return err
			}
		}
	}
	return nil
}

// settleBare puts an image on the shelf that no manifest names: by a rule that
// recognises it, or aside.
func (in *importer) settleBare(b *batch, rel string) error {
	image := b.images[rel]
	sample, err := readSelf(image)
	sample.Name = rel
	sample.Archive, _ = archiveExtension(rel)
	facts := sample.Facts
	if errors.Is(err, format.ErrDamaged) {
		in.refused(b, rel, err.Error())
		return nil
	}
	if err != nil {
		return err
	}
	reason := "no manifest names it"
	switch {
	case b.bad:
		reason = "no readable manifest names it" // what that manifest says may well differ
	case in.Manifest != nil:
		manifest, err := in.Manifest(sample)
		if errors.Is(err, format.ErrDamaged) {
			in.refused(b, rel, err.Error())
			return nil
		}
		if err == nil {
			manifest.SHA256 = image.digest
			return in.keep(b, rel, manifest, strings.TrimSuffix(rel, path.Ext(rel))+".md")
		}
		reason += ", and " + err.Error()
	}
	if facts.Format != "" {
		reason += "; it is " + facts.String()
	}
	if old, err := in.shelf.load(image.digest); err == nil {
		in.results = append(in.results,
			Result{Source: in.place(b, rel), Outcome: There, Image: old})
		return nil
	}
	in.results = append(in.results, Result{Source: in.place(b, rel), Outcome: Aside, Reason: reason,
		Image: firmware.Image{Manifest: firmware.Manifest{SHA256: image.digest,
			File: path.Base(rel)}, Size: image.size}})
	return in.shelf.putAside(Unknown{File: path.Base(rel), SHA256: image.digest, Size: image.size,
		Reason: reason}, image.temp)
}

// readSelf reads as much of an image as rules may look at, and what it says of itself
// where it is of an open format.
func readSelf(image staged) (sample family.Sample, err error) {
	f, err := os.Open(image.temp)
	if err != nil {
		return sample, err
	}
	defer func() { _ = f.Close() }()
	sample.Size = image.size
	sample.Facts, _, err = format.Read(f, image.size)
	if err != nil {
		return sample, err
	}
	sample.Head, err = io.ReadAll(io.NewSectionReader(f, 0, min(image.size, family.Head)))
	if err != nil {
		return sample, err
	}
	from := max(0, image.size-family.Tail)
	sample.Tail, err = io.ReadAll(io.NewSectionReader(f, from, image.size-from))
	return sample, err
}

// imagePath is where the image of a manifest lies within its source.
func imagePath(c manifestFile) string {
	return path.Join(path.Dir(c.path), path.Clean(c.manifest.File))
}

func (in *importer) settleManifest(b *batch, c manifestFile) error {
	if !filepath.IsLocal(filepath.FromSlash(c.manifest.File)) {
		in.refused(b, c.path, fmt.Sprintf("its file %q leads out of the folder", c.manifest.File))
		return nil
	}
	rel := imagePath(c)
	image, ok := b.images[rel]
	if !ok {
		in.refused(b, c.path, fmt.Sprintf("its file %s is missing", c.manifest.File))
		return nil
	}
	used := image
	used.used = true
	b.images[rel] = used
	if image.digest != c.manifest.SHA256 {
		in.refused(b, rel, fmt.Sprintf(
			"does not match its manifest %s: its SHA-256 is %s…, the manifest specifies %s…",
			c.path, image.digest[:12], c.manifest.SHA256[:12]))
		return nil
	}
	return in.keep(b, rel, c.manifest, path.Join(path.Dir(c.path), c.manifest.Notes))
}

// keepNotes keeps the release notes that came with an image, where they did.
func (in *importer) keepNotes(b *batch, rel string, manifest firmware.Manifest) error {
	if notes, ok := b.notes[rel]; ok {
		return in.shelf.write(in.shelf.notesPath(manifest.SHA256), notes)
	}
	return nil
}

// keep puts an image with its manifest on the shelf, where it is not there yet, and with
// the release notes that came with it. A manifest that is refused changes nothing.
func (in *importer) keep(b *batch, rel string, manifest firmware.Manifest, notes string) error {
	image := b.images[rel]
	if old, err := in.shelf.load(manifest.SHA256); err == nil {
		result := Result{Source: in.place(b, rel), Outcome: There, Image: old}
		if d := difference(old.Manifest, manifest); d != "" {
			result.Outcome, result.Reason = Refused, fmt.Sprintf(
				"another manifest for this image is on the shelf, and its %s differs", d)
		}
		in.results = append(in.results, result)
		if result.Outcome == Refused {
			return nil
		}
		return in.keepNotes(b, notes, manifest)
	}
	err := in.shelf.put(manifest, image.temp)
	var no *RefusedError
	if errors.As(err, &no) {
		in.refused(b, rel, no.Reason)
		return nil
	}
	err = errors.Join(err, in.keepNotes(b, notes, manifest),
		in.shelf.Forget(Unknown{SHA256: image.digest}))
	if err != nil {
		return err
	}
	in.results = append(in.results, Result{Source: in.place(b, rel), Outcome: New,
		Image: firmware.Image{Manifest: manifest, Size: image.size}})
	return nil
}

// circle says whether a manifest, together with those on the shelf, would have
// components of a model wait for each other.
func (s *Shelf) circle(manifest firmware.Manifest) (string, error) {
	if len(manifest.After) == 0 {
		return "", nil
	}
	images, err := s.List()
	if err != nil {
		return "", err
	}
	for _, model := range manifest.Models {
		after := map[string][]string{manifest.Component: manifest.After}
		for _, i := range images {
			if i.IsFor(manifest.Vendor, model) {
				after[i.Component] = append(after[i.Component], i.After...)
			}
		}
		seen := map[string]bool{}
		for next := slices.Clone(manifest.After); len(next) > 0; next = next[1:] {
			if next[0] == manifest.Component {
				return fmt.Sprintf("after: on %s, %s would have to come after itself, through %s",
					model, manifest.Component, strings.Join(manifest.After, ", ")), nil
			}
			if !seen[next[0]] {
				seen[next[0]] = true
				next = append(next, after[next[0]]...)
			}
		}
	}
	return "", nil
}

// difference names the first key in which two manifests for one image disagree; where
// the file lay and how the notes are called does not matter.
func difference(a, b firmware.Manifest) string {
	for _, d := range []struct {
		key  string
		same bool
	}{
		{"vendor", a.Vendor == b.Vendor}, {"models", slices.Equal(a.Models, b.Models)},
		{"hardware", a.Hardware == b.Hardware}, {"component", a.Component == b.Component},
		{"version", a.Version == b.Version}, {"needs", a.Needs == b.Needs},
		{"back", a.Back == b.Back},
		{"after", slices.Equal(a.After, b.After)}, {"pairs", maps.Equal(a.Pairs, b.Pairs)},
		{"brings", maps.Equal(a.Brings, b.Brings)},
		{"settings", a.Settings == b.Settings},
		{"cautions", maps.Equal(a.Cautions, b.Cautions)},
		{"requires", maps.Equal(a.Requires, b.Requires)},
		{"interlocks", slices.Equal(a.Interlocks, b.Interlocks)}, {"renamed", maps.Equal(a.Renamed,
			b.Renamed)},
	} {
		if !d.same {
			return d.key
		}
	}
	return ""
}

func (in *importer) refused(b *batch, rel, reason string) {
	in.results = append(in.results, Result{Source: in.place(b, rel), Outcome: Refused,
		Reason: reason})
}

func (in *importer) place(b *batch, rel string) string {
	return filepath.Join(b.source, filepath.FromSlash(rel))
}

func isManifest(name string) bool {
	ext := strings.ToLower(path.Ext(filepath.ToSlash(name)))
	return ext == ".yaml" || ext == ".yml"
}
