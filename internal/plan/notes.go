package plan

import (
	"slices"
	"strings"

	"catena/internal/care"
	"catena/internal/job"
	"catena/internal/order"
	"catena/internal/workspace"
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

// Brought is a version that a device of an order hands on to its children itself.
type Brought struct {
	Device, Version string // of the parent; the version that it gets
	Model, To       string // of the children; the version that they get with it
}

// BroughtBy returns what the last images of an order bring to children that the site has.
func (w *Site) BroughtBy(o order.Order) (out []Brought) {
	children := map[string][]string{} // the models of the children, by the parent's ID
	for _, r := range w.Rows {
		children[r.Match.Device.Through] = append(children[r.Match.Device.Through], r.Model)
	}
	for _, d := range o.Devices {
		if len(d.Path) == 0 {
			continue
		}
		last := d.Path[len(d.Path)-1]
		image, has := w.Image(last.Image.SHA256)
		if !has {
			continue
		}
		models := children[d.ID]
		slices.Sort(models)
		for _, model := range slices.Compact(models) {
			if v := image.BringsTo(model); v != "" {
				out = append(out, Brought{Device: d.Name, Version: last.To, Model: model, To: v})
			}
		}
	}
	return out
}

// Children are the questions to the devices that got their version with an image of a job, from a
// parent that it has updated.
func (w *Site) Children(s job.State) (out []care.Question) {
	done := map[string]bool{}
	for _, d := range s.Devices {
		done[d.Name] = d.Step == job.Done
	}
	for _, b := range w.BroughtBy(s.Order) {
		if !done[b.Device] {
			continue
		}
		for _, r := range workspace.Mains(w.Rows) {
			if r.Parent == b.Device && strings.EqualFold(r.Model, b.Model) {
				out = append(out, care.Question{Device: r.Match.Device})
			}
		}
	}
	return out
}
