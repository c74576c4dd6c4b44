package record

import (
	"encoding/json"
	"path"
	"time"

	"catena/internal/ledger"
	"catena/internal/text"
)

// noted is a note about a device; the body is a Note.
const noted ledger.Kind = "note"

// Note is what a person wrote about a device.
type Note struct {
	Text  string `json:"text"`
	By    string `json:"by"`
	Photo string `json:"photo,omitempty"` // its file in PhotosFolder; empty: there is none
	// Position is where the photograph was taken: latitude and longitude in degrees (WGS 84); empty:
	// it was not kept.
	Position string    `json:"position,omitempty"`
	At       time.Time `json:"-"`
}

// PhotosFolder is where a site folder has the photographs of notes.
const PhotosFolder = "photos"

// AddNote records a note about a device.
func AddNote(l *ledger.Ledger, id string, n Note) error { return l.Append(noted, "", id, n) }

// Notes are those about a device, the oldest first.
func Notes(l *ledger.Ledger, id string) (out []Note, err error) {
	entries, err := l.Entries(ledger.Filter{Kind: noted, Device: id})
	for _, e := range entries {
		if n, ok := noteOf(e); ok {
			out = append(out, n)
		}
	}
	return out, err
}

// noteOf reads an entry, which may be another laptop's: a photograph is a plain file name.
func noteOf(e ledger.Entry) (n Note, ok bool) {
	if e.Kind != noted || json.Unmarshal(e.Body, &n) != nil {
		return n, false
	}
	n.At, n.Text, n.By = e.At, text.Clean(n.Text), text.Clean(n.By)
	n.Position = text.Clean(n.Position)
	if n.Photo = text.Clean(n.Photo); n.Photo != path.Base(n.Photo) || n.Photo == "." ||
		n.Photo == ".." {
		n.Photo = ""
	}
	return n, true
}
