package plan

import (
	"slices"

	"catena/internal/order"
)

// Notes are the release notes of an image of an order.
type Notes struct {
	Model   string   `json:"model"`
	Version string   `json:"version"`
	Text    string   `json:"text"`    // Markdown
	Devices []string `json:"devices"` // names of those that pass through this version
}

// NotesOf returns the release notes of every version that the devices of an order pass through, in
// the order of the devices and their paths.
func (w *Site) NotesOf(o order.Order) (out []Notes, err error) {
	at := map[string]int{} // by digest of the image: its place in out; -1: it has no notes
	for _, d := range o.Devices {
		for _, h := range d.Path {
			i, seen := at[h.Image.SHA256]
			if !seen {
				i = -1
				if image, has := w.Image(h.Image.SHA256); has {
					text, err := w.Shelf.Notes(image)
					if err != nil {
						return nil, err
					}
					if text != "" {
						i, out = len(out), append(out, Notes{Model: d.Model, Version: h.To, Text: text})
					}
				}
				at[h.Image.SHA256] = i
			}
			if i >= 0 && !slices.Contains(out[i].Devices, d.Name) {
				out[i].Devices = append(out[i].Devices, d.Name)
			}
		}
	}
	return out, nil
}
