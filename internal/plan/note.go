package plan

import (
	"bytes"
	"crypto/sha256"
	"fmt"
	"io"
	"os"
	"path/filepath"

	"catena/internal/atomicfile"
	"catena/internal/device"
	"catena/internal/photo"
	"catena/internal/record"
)

// Note records a note about a device, with a photograph or without; photograph may be nil. The
// photograph is made smaller and loses its metadata; with keepPosition, the note has where it was
// taken. Its errors are those of package photo, of the disk and of the ledger.
func (w *Site) Note(d device.Device, text, by string, photograph io.Reader, keepPosition bool) (
	record.Note, error) {
	n := record.Note{Text: text, By: by}
	if photograph != nil {
		raw, err := io.ReadAll(io.LimitReader(photograph, photo.MaxFile+1))
		if err != nil {
			return n, err
		}
		var b bytes.Buffer
		if err := photo.Shrink(&b, bytes.NewReader(raw)); err != nil {
			return n, err
		}
		if keepPosition {
			if n.Position, err = photo.Position(raw); err != nil {
				return n, err
			}
		}
		n.Photo = fmt.Sprintf("%s-%.8x.jpg", d.ID, sha256.Sum256(b.Bytes()))
		if err := os.MkdirAll(filepath.Join(w.Dir, record.PhotosFolder), 0o755); err != nil {
			return n, err
		}
		err = atomicfile.Write(filepath.Join(w.Dir, record.PhotosFolder, n.Photo), 0o644,
			func(f io.Writer) error { _, err := f.Write(b.Bytes()); return err })
		if err != nil {
			return n, err
		}
	}
	return n, record.AddNote(w.Ledger, d.ID, n)
}

// Notes are those about a device, the oldest first.
func (w *Site) Notes(id string) ([]record.Note, error) { return record.Notes(w.Ledger, id) }
