package order

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/goccy/go-yaml"

	"catena/internal/firmware"
	"catena/internal/text"
	"catena/internal/yamldoc"
)

// FileFormat is the number of this form of an order's file.
const FileFormat = 1

// Parse reads an order's file; name is what errors call it. Its errors name line and column;
// what the rules contradict themselves in is told by New.
func Parse(name string, data []byte) (Order, error) {
	var o Order
	doc, err := yamldoc.Decode(name, data, &o)
	if err != nil {
		return o, err
	}
	switch {
	case o.Format != FileFormat:
		return o, doc.Errorf("$.order",
			"order: must be %d; a file of a later format requires a newer Catena", FileFormat)
	case CheckName(o.Name) != nil:
		return o, doc.Errorf("$.name", "name: %v", CheckName(o.Name))
	case o.Purpose != Forward && o.Purpose != Backward:
		return o, doc.Errorf("$.purpose", "purpose: must be %s or %s", Forward, Backward)
	case len(o.Devices) == 0:
		return o, doc.Errorf("$.devices",
			"devices: is missing; an order without devices does nothing")
	case o.WaitFor < 0:
		return o, doc.Errorf("$.wait_for", "wait_for: write for example 10m")
	case o.WaitAway < 0:
		return o, doc.Errorf("$.wait_away", "wait_away: write for example 30m")
	case o.GiveUp < 0:
		return o, doc.Errorf("$.give_up", "give_up: write for example 30m")
	case o.Station != nil && o.Station.Until.IsZero():
		return o, doc.Errorf("$.station", "station: until: is missing; write for example "+
			"2026-12-08T00:00:00Z")
	}
	sum := sha256.Sum256(data)
	o.Digest = hex.EncodeToString(sum[:])
	known := map[string]bool{}
	for i := range o.Devices {
		d := &o.Devices[i]
		at := fmt.Sprintf("$.devices[%d]", i)
		if known[d.ID] {
			return o, doc.Errorf(at, "devices: %s (%s) is listed twice", d.Name, d.ID)
		}
		known[d.ID] = true
		if err := d.check(); err != nil {
			return o, doc.Errorf(at, "devices: %s: %v", d.Name, err)
		}
	}
	return o.resolved(), o.Rules.check(doc)
}

// check completes a device of a file and says what is wrong with it.
func (d *Device) check() error {
	switch {
	case d.ID == "" || d.Name == "":
		return errors.New("requires device: its name, and id: as catena show has it")
	case len(d.Path) == 0:
		return errors.New("path: is missing; list its images")
	case d.By != "" && d.By != ByHand:
		return fmt.Errorf("by: must be %s, or left out", ByHand)
	case d.Takes < 0 || d.Returns < 0:
		return errors.New("takes and returns: must not be negative")
	}
	for i := range d.Path {
		h := &d.Path[i]
		if h.Component == "" {
			h.Component = firmware.Main
		}
		if h.From == "" || h.To == "" {
			return errors.New("path: each image requires from: and to:, versions")
		}
		var images []Image
		if !h.Slots || !h.Switches() {
			images = append(images, h.Image)
		}
		if h.Back != nil {
			images = append(images, *h.Back)
		}
		for _, image := range images {
			raw, err := hex.DecodeString(image.SHA256)
			if err != nil || len(raw) != 32 || strings.ToLower(image.SHA256) != image.SHA256 {
				return fmt.Errorf("sha256: %q is not 64 hexadecimal digits", image.SHA256)
			}
			if image.Size <= 0 {
				return errors.New("size: must be the image's, in bytes")
			}
		}
	}
	return nil
}

// CheckName refuses names of orders that cannot be typed, or cannot be a file's.
func CheckName(name string) error {
	if len(name) > 64 || !text.IsName(name) || strings.ContainsFunc(name,
		func(r rune) bool { return r > '~' }) {
		return fmt.Errorf("%q cannot be an order's name; use letters, digits, and the signs . _ - only",
			name)
	}
	return nil
}

// head stands at the top of an order's file.
const head = `# A work order. It may be read and changed with an editor, until it is signed.
# Devices are meant by id, images by sha256; the names beside them are for readers.
`

// File is an order as its file has it.
func (o Order) File() ([]byte, error) {
	name := func(id string) string {
		for _, d := range o.Devices {
			if d.ID == id {
				return d.Name
			}
		}
		return o.Names[id]
	}
	out := o.references(func(id string) string { return strings.TrimSpace(id + " " + name(id)) })
	for i := range out.Devices {
		for j := range out.Devices[i].Path {
			if hop := &out.Devices[i].Path[j]; hop.Component == firmware.Main {
				hop.Component = ""
			}
		}
	}
	raw, err := yaml.MarshalWithOptions(out, yaml.IndentSequence(true))
	return append([]byte(head), raw...), err
}

// references is a copy of an order whose references to devices are written another way: in a
// file an ID has the device's name behind it.
func (o Order) references(as func(id string) string) Order {
	all := func(ids []string) []string {
		var out []string
		for _, id := range ids {
			out = append(out, as(id))
		}
		return out
	}
	o.Devices = slices.Clone(o.Devices)
	for i := range o.Devices {
		d := &o.Devices[i]
		d.Through, d.After, d.Path = all(d.Through), all(d.After), slices.Clone(d.Path)
	}
	o.Rules.Cover = slices.Clone(o.Rules.Cover)
	for i := range o.Rules.Cover {
		o.Rules.Cover[i].Of = all(o.Rules.Cover[i].Of)
	}
	o.Rules.Lockstep = slices.Clone(o.Rules.Lockstep)
	for i := range o.Rules.Lockstep {
		o.Rules.Lockstep[i].Of = all(o.Rules.Lockstep[i].Of)
	}
	feeds := o.Rules.Feeds
	o.Rules.Feeds = nil
	for id, fed := range feeds {
		if o.Rules.Feeds == nil {
			o.Rules.Feeds = map[string][]string{}
		}
		o.Rules.Feeds[as(id)] = all(fed)
	}
	return o
}

// resolved is an order of a file with plain IDs, and the names that stood behind them.
func (o Order) resolved() Order {
	names := map[string]string{}
	out := o.references(func(ref string) string {
		id, name, _ := strings.Cut(strings.TrimSpace(ref), " ")
		names[id] = name
		return id
	})
	for _, d := range out.Devices {
		delete(names, d.ID)
	}
	out.Names = names
	return out
}
