package export

import (
	"encoding/base64"
	"net/http"
	"os"
	"path"

	"catena/internal/plan"
	"catena/internal/record"
	"catena/internal/report"
)

// Bounds of the photographs in a report, in bytes.
const (
	maxPhoto  = 2 << 20
	maxPhotos = 24 << 20 // of all that one job shows
)

// notesOf are the notes about a device. room is how many bytes of photographs may still be shown; a
// photograph that is not there, or is none, is only named.
func notesOf(w *plan.Site, id string, room *int64) (out []report.Note, err error) {
	all, err := w.Notes(id)
	for _, n := range all {
		x := report.Note{At: n.At, By: n.By, Text: n.Text}
		if n.Photo != "" {
			x.Photo = path.Join(record.PhotosFolder, n.Photo)
			x.Picture = picture(w.Dir, x.Photo, room)
		}
		out = append(out, x)
	}
	return out, err
}

// picture reads a photograph of the site folder as a data: address. The folder may be someone
// else's: nothing outside of it, and nothing but a JPEG, gets into a report that is given away.
func picture(dir, name string, room *int64) string {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return ""
	}
	defer func() { _ = root.Close() }()
	i, err := root.Stat(name)
	if err != nil || !i.Mode().IsRegular() || i.Size() > maxPhoto || i.Size() > *room {
		return ""
	}
	raw, err := root.ReadFile(name)
	if err != nil || http.DetectContentType(raw) != "image/jpeg" {
		return ""
	}
	*room -= i.Size()
	return "data:image/jpeg;base64," + base64.StdEncoding.EncodeToString(raw)
}
