// Package bundle packs a night into one file and unpacks it on another machine.
//
// Its functions are Pack and Unpack. A pack is verified whole before anything of it is used.
package bundle

import (
	"archive/zip"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/gofrs/flock"

	"catena/internal/device"
	"catena/internal/files"
	"catena/internal/firmware"
	"catena/internal/inventory"
	"catena/internal/ledger"
	"catena/internal/login"
	"catena/internal/order"
	"catena/internal/plan"
	"catena/internal/record"
	"catena/internal/shelf"
	"catena/internal/signature"
	"catena/internal/site"
	"catena/internal/workspace"
)

// A pack is one file with all that a night needs: the site with its families, an order with its
// signatures, its images forth and back, and what is known of the devices. It is a zip whose
// entries are stored as they are:
//
//	site/…         site.yaml, targets.yaml, inventory.yaml, families/, orders/; logins.age on request
//	origin.json    which site it is, for the record of what is done with it
//	devices.json   the devices known, under their IDs, which the order means
//	keys.json      the keys that are trusted since the first contact
//	shelf.zip      the images with their manifests, as catena's shelf exports them
//	checksums      the SHA-256 of each of these, a line each, as sha256sum prints them
const (
	packSite      = "site/"
	packOrigin    = "origin.json"
	packDevices   = "devices.json"
	packKeys      = "keys.json"
	packShelf     = "shelf.zip"
	packChecksums = "checksums"
)

// Bounds of a pack that is read: no site comes near them.
const (
	mostPacked     = 10_000   // entries
	mostPackedText = 64 << 20 // bytes of an entry, but for the images
)

// Error is returned for a file that is not a pack, or is not whole.
type Error struct{ Path, Reason string }

func (e *Error) Error() string { return e.Path + " cannot be unpacked: " + e.Reason }

// Pack writes an order and all that it needs into a file, whole or not at all. With logins, the
// encrypted file of the logins goes with it. It returns how many images it holds.
func Pack(ctx context.Context, w *plan.Site, name, to string, logins bool) (images int, err error) {
	o, err := w.ReadSigned(name)
	if err == nil && w.ReadOnly() == nil { // who unpacks it and syncs later starts here
		err = (&Sync{Dir: w.Dir, Ledger: w.Ledger}).recordFiles()
	}
	if err != nil {
		return 0, err
	}
	work, err := os.MkdirTemp(filepath.Dir(to), ".pack-*")
	if err != nil {
		return 0, err
	}
	defer func() { _ = os.RemoveAll(work) }() // what is left of it
	list, err := imagesOf(w, o)
	if err != nil {
		return 0, err
	}
	if err := w.Shelf.Export(ctx, filepath.Join(work, packShelf), list, nil); err != nil {
		return 0, err
	}
	f, err := os.Create(filepath.Join(work, "pack"))
	if err != nil {
		return 0, err
	}
	p := &packer{zip: zip.NewWriter(f)}
	packFiles(w, p, name, logins)
	p.file(packShelf, filepath.Join(work, packShelf))
	trusted, _, err := record.Keys(w.Ledger)
	origin, failed := record.OriginOf(w.Ledger)
	if err = errors.Join(err, failed); err == nil {
		p.json(packOrigin, record.Origin{ID: origin.ID, Site: origin.Site})
		p.json(packDevices, w.Devices())
		p.json(packKeys, trusted)
		p.bytes(packChecksums, []byte(strings.Join(p.sums, "")))
	}
	if err := errors.Join(err, p.err, p.zip.Close(), f.Sync(), f.Close()); err != nil {
		return 0, err
	}
	return len(list), os.Rename(f.Name(), to)
}

// imagesOf are the images of an order, forth and back.
func imagesOf(w *plan.Site, o order.Order) ([]firmware.Image, error) {
	var out []firmware.Image
	taken := map[string]bool{}
	for _, d := range o.Devices {
		for _, h := range d.Path {
			for _, i := range []*order.Image{&h.Image, h.Back} {
				if i == nil || *i == (order.Image{}) || taken[i.SHA256] { // the device's other slot holds it
					continue
				}
				on, there := w.Image(i.SHA256)
				if !there {
					return nil, fmt.Errorf("%w: %s (%.12s…)", shelf.ErrGone, i.File, i.SHA256)
				}
				taken[i.SHA256] = true
				out = append(out, on)
			}
		}
	}
	return out, nil
}

// packFiles packs the files of the site folder, and the shelf's families that it does not have.
func packFiles(w *plan.Site, p *packer, name string, logins bool) {
	names := []string{
		site.File,
		site.TargetsFile,
		inventory.File,
		plan.OrdersFolder + "/" + name + ".yaml",
		plan.OrdersFolder + "/" + name + ".yaml" + signature.Ending,
	}
	if logins {
		names = append(names, login.File)
	}
	for _, key := range w.Site.Signatures.Keys {
		if local := filepath.ToSlash(key); filepath.IsLocal(key) && !strings.Contains(key, " ") {
			names = append(names, local)
		}
	}
	for _, n := range names {
		if from := filepath.Join(w.Dir, filepath.FromSlash(n)); exists(from) {
			p.file(packSite+n, from)
		}
	}
	for _, folder := range []string{w.Dir, w.Shelf.Dir()} {
		// one that cannot be read has none
		families, _ := files.In(filepath.Join(folder, "families"), "*.yaml")
		for _, f := range families {
			n := packSite + "families/" + filepath.Base(f)
			if !slices.Contains(p.names, n) {
				p.file(n, f)
			}
		}
	}
}

func exists(path string) bool {
	_, err := os.Stat(path)
	return err == nil
}

// packer writes entries and remembers their digests. After its first error it does nothing.
type packer struct {
	zip   *zip.Writer
	names []string
	sums  []string
	err   error
}

func (p *packer) add(name string, from io.Reader) {
	if p.err != nil {
		return
	}
	to, err := p.zip.CreateHeader(&zip.FileHeader{Name: name, Method: zip.Store,
		Modified: time.Unix(0, 0).UTC()})
	if err == nil {
		h := sha256.New()
		_, err = io.Copy(io.MultiWriter(to, h), from)
		p.names = append(p.names, name)
		p.sums = append(p.sums, fmt.Sprintf("%x  %s\n", h.Sum(nil), name))
	}
	p.err = err
}

func (p *packer) bytes(name string, content []byte) { p.add(name, bytes.NewReader(content)) }

func (p *packer) json(name string, value any) {
	raw, err := json.Marshal(value)
	p.err = errors.Join(p.err, err)
	p.bytes(name, raw)
}

func (p *packer) file(name, from string) {
	f, err := os.Open(from)
	if err != nil {
		p.err = errors.Join(p.err, err)
		return
	}
	defer func() { _ = f.Close() }() // only read from
	p.add(name, f)
}

// Unpack makes a site folder of a pack, and puts its images on a shelf. Everything is verified
// first; dir must not exist. It returns what became of the images. Its error is an Error
// where the file is not one.
func Unpack(ctx context.Context, from, dir string, s *shelf.Shelf, now func() time.Time,
	by ledger.Writer) (results []shelf.Result, err error) {
	if exists(dir) {
		return nil, &Error{from, dir + " already exists"}
	}
	work, remove, err := workFolder(filepath.Dir(filepath.Clean(dir)))
	if err != nil {
		return nil, err
	}
	defer remove()
	if err := extract(from, work); err != nil {
		return nil, err
	}
	folder := filepath.Join(work, filepath.FromSlash(packSite))
	if _, err := workspace.ReadSite(folder); err != nil {
		return nil, err
	}
	var devices []*device.Device
	var keys []device.Key
	var origin record.Origin
	if err := errors.Join(readJSON(filepath.Join(work, packOrigin), &origin),
		readJSON(filepath.Join(work, packDevices), &devices),
		readJSON(filepath.Join(work, packKeys), &keys)); err != nil {
		return nil, &Error{from, err.Error()}
	}
	l, err := ledger.Create(folder, now, by)
	if err != nil {
		return nil, err
	}
	origin.Because = "unpacked from " + filepath.Base(from)
	err = record.Start(l, origin)
	if err == nil && len(devices) > 0 {
		err = record.Update(l, "", devices...)
	}
	if err == nil {
		err = record.Trust(l, keys)
	}
	if err := errors.Join(err, l.Close()); err != nil {
		return nil, err
	}
	results, err = s.Import(ctx, []string{filepath.Join(work, packShelf)}, shelf.Options{})
	if err != nil {
		return results, err
	}
	for i := range results {
		results[i].Source = strings.TrimPrefix(results[i].Source,
			filepath.Clean(work)+string(filepath.Separator))
	}
	return results, os.Rename(folder, dir)
}

// workFolder makes a folder beside the one to be made, and removes those that killed programs left
// there. Who works in one has its lock.
func workFolder(in string) (work string, remove func(), err error) {
	left, _ := files.In(in, ".unpack-*.lock") // CreateTemp says why a folder cannot be read
	for _, path := range left {
		lock := flock.New(path)
		if free, err := lock.TryLock(); err != nil || !free {
			continue
		}
		_ = os.RemoveAll(strings.TrimSuffix(path, ".lock"))
		_ = lock.Unlock()
		_ = os.Remove(path)
	}
	f, err := os.CreateTemp(in, ".unpack-*.lock")
	if err != nil {
		return "", nil, err
	}
	lock := flock.New(f.Name())
	err = lock.Lock() // one who sweeps may have it for a moment
	work = strings.TrimSuffix(f.Name(), ".lock")
	if err = errors.Join(err, f.Close()); err == nil {
		err = os.Mkdir(work, 0o700)
	}
	remove = func() {
		_ = os.RemoveAll(work)
		_ = lock.Unlock()
		_ = os.Remove(f.Name())
	}
	if err != nil {
		remove()
	}
	return work, remove, err
}

func readJSON(path string, into any) error {
	raw, err := os.ReadFile(path)
	if err != nil {
		return errors.New(filepath.Base(path) + " is missing")
	}
	return json.Unmarshal(raw, into)
}

// extract writes the entries of a pack into a folder, and verifies each of them.
func extract(from, into string) error {
	z, err := zip.OpenReader(from)
	if err != nil {
		return &Error{from, err.Error()}
	}
	defer func() { _ = z.Close() }() // only read from
	if len(z.File) > mostPacked {
		return &Error{from, fmt.Sprintf("it has more than %d entries", mostPacked)}
	}
	digests := map[string]string{}
	for _, f := range z.File {
		digest, err := extractOne(f, into)
		if err != nil {
			return &Error{from, fmt.Sprintf("%q: %v", f.Name, err)}
		}
		digests[f.Name] = digest
	}
	raw, err := os.ReadFile(filepath.Join(into, packChecksums))
	if err != nil {
		return &Error{from, "it has no checksums: it is not a pack, or is incomplete"}
	}
	delete(digests, packChecksums)
	for line := range strings.Lines(string(raw)) {
		digest, name, _ := strings.Cut(strings.TrimSuffix(line, "\n"), "  ")
		if digests[name] != digest {
			return &Error{from, fmt.Sprintf("%q changed after it was packed", name)}
		}
		delete(digests, name)
	}
	for name := range digests {
		return &Error{from, fmt.Sprintf("%q is not among its checksums", name)}
	}
	return nil
}

// extractOne writes an entry. Only stored ones are taken: what they claim to be is what they
// are.
func extractOne(f *zip.File, into string) (digest string, err error) {
	name := filepath.FromSlash(f.Name)
	known := f.Name == packOrigin || f.Name == packDevices || f.Name == packKeys ||
		f.Name == packShelf || f.Name == packChecksums || strings.HasPrefix(f.Name, packSite)
	switch {
	case !known || !filepath.IsLocal(name) || path.Clean(f.Name) != f.Name ||
		// some systems do not tell capitals from small letters
		strings.HasPrefix(strings.ToLower(f.Name), packSite+ledger.Folder):
		return "", errors.New("a pack has no such entry")
	case f.Method != zip.Store || !f.Mode().IsRegular():
		return "", errors.New("it is compressed, which a pack never does")
	case f.Name != packShelf && f.UncompressedSize64 > mostPackedText:
		return "", fmt.Errorf("it has more than %d bytes", mostPackedText)
	}
	to := filepath.Join(into, name)
	if err := os.MkdirAll(filepath.Dir(to), 0o755); err != nil {
		return "", err
	}
	in, err := f.Open()
	if err != nil {
		return "", err
	}
	defer func() { _ = in.Close() }() // its digest tells
	perm := os.FileMode(0o644)
	if f.Name == packSite+login.File {
		perm = 0o600
	}
	out, err := os.OpenFile(to, os.O_CREATE|os.O_EXCL|os.O_WRONLY, perm)
	if err != nil {
		return "", err
	}
	h := sha256.New()
	_, err = io.Copy(io.MultiWriter(out, h), in)
	return hex.EncodeToString(h.Sum(nil)), errors.Join(err, out.Sync(), out.Close())
}
