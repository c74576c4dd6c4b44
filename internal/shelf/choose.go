package shelf

import (
	"catena/internal/firmware"
	"catena/internal/firmware/version"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"
)

// ErrNoneChosen is returned where no image of the shelf is chosen.
var ErrNoneChosen = errors.New("no image is chosen")

// ManifestFrom reads a manifest in short: vendor=…,model=…,version=…, and component and hardware
// where needed.
func ManifestFrom(as string) (firmware.Manifest, error) {
	manifest := firmware.Manifest{Manifest: 1, Component: firmware.Main}
	for part := range strings.SplitSeq(as, ",") {
		key, value, ok := strings.Cut(part, "=")
		value = strings.TrimSpace(value)
		switch key = strings.TrimSpace(key); {
		case !ok || value == "":
			return manifest, fmt.Errorf("%q is not key=value", part)
		case key == "vendor":
			manifest.Vendor = value
		case key == "model":
			manifest.Models = append(manifest.Models, value)
		case key == "version":
			manifest.Version = value
		case key == "component":
			manifest.Component = value
		case key == "hardware":
			manifest.Hardware = value
		default:
			return manifest, fmt.Errorf("the keys are vendor, model, version, component and "+
				"hardware, not %q",
				key)
		}
	}
	if manifest.Vendor == "" || len(manifest.Models) == 0 {
		return manifest, errors.New("vendor, model and version are required")
	}
	if err := version.Valid(manifest.Version); err != nil {
		return manifest, fmt.Errorf("%w", err)
	}
	if _, err := version.ParseConstraint(manifest.Hardware); err != nil {
		return manifest, fmt.Errorf("hardware: %w", err)
	}
	return manifest, nil
}

// FindAside finds what was set aside by its file name, or the first digits of its digest.
func (s *Shelf) FindAside(name string) (Unknown, bool) {
	list, _ := s.AsideList() // an unreadable note is not what is looked for
	i := slices.IndexFunc(list, func(u Unknown) bool {
		return u.File == name || len(name) >= 6 && strings.HasPrefix(u.SHA256, name)
	})
	if i < 0 {
		return Unknown{}, false
	}
	return list[i], true
}

// FindFault finds what cannot be used by the first digits of its digest.
func (s *Shelf) FindFault(digits string) (Fault, bool) {
	faults, _ := s.Faults() // then nothing is found, and the list says why
	i := slices.IndexFunc(faults, func(f Fault) bool {
		return len(digits) >= 6 && strings.HasPrefix(f.SHA256, digits)
	})
	if i < 0 {
		return Fault{}, false
	}
	return faults[i], true
}

// Listed is an image as machine-readable lists show it.
type Listed struct {
	firmware.Image
	Newest bool      `json:"newest"` // of its model and component
	Fresh  bool      `json:"fresh"`  // since the last look
	Added  time.Time `json:"added"`
}

// Listed returns which images are the newest of their model and component, and which came
// since the shelf was last listed.
func (s *Shelf) Listed(images []firmware.Image, orderOf func(vendor, model string) version.Order) (
	[]Listed, error) {
	last, err := s.Look()
	if err != nil {
		return nil, err
	}
	kind := func(i firmware.Image) string {
		return strings.ToLower(i.Vendor + "\x00" + i.Models[0] + "\x00" + i.Component)
	}
	newest := map[string]string{} // the newest version, in the maker's order
	for _, i := range images {
		best, ok := newest[kind(i)]
		order := orderOf(i.Vendor, i.Models[0])
		if i.Advice != firmware.Withdrawn && (!ok || order.Compare(i.Version, best) > 0) {
			newest[kind(i)] = i.Version
		}
	}
	var out []Listed
	for _, i := range images {
		l := Listed{Image: i, Newest: i.Advice != firmware.Withdrawn &&
			newest[kind(i)] == i.Version, Added: s.Added(i)}
		l.Fresh = !last.IsZero() && l.Added.After(last)
		out = append(out, l)
	}
	return out, nil
}

// Marks returns what a person should notice of an image.
func (l Listed) Marks() string {
	var marks []string
	if l.Newest {
		marks = append(marks, "newest")
	}
	if l.Fresh {
		marks = append(marks, "new here")
	}
	if l.Because != "" {
		marks = append(marks, l.Because)
	}
	return strings.Join(marks, "; ")
}

// Choose returns the images that are named, or all of a vendor and model.
func (s *Shelf) Choose(names []string, vendor, model string) ([]firmware.Image, error) {
	all, err := s.List()
	if err != nil {
		return nil, err
	}
	var out []firmware.Image
	for _, i := range all {
		if len(names) == 0 && i.IsFor(vendor, model) {
			out = append(out, i)
		}
	}
	for _, name := range names {
		i, err := Find(all, name)
		if err != nil {
			return nil, err
		}
		out = append(out, i)
	}
	if len(out) == 0 {
		return nil, ErrNoneChosen
	}
	return out, nil
}
