// Package firmware holds what is known about firmware images: the card that
// describes one, and the image as it lies on a shelf. It is pure: it does no
// I/O and reads no clock.
package firmware

import (
	"encoding/hex"
	"fmt"
	"slices"
	"strings"

	"catena/internal/firmware/version"
	"catena/internal/yamldoc"
)

// Main is the component that a device has when it has only one.
const Main = "main"

// Status says what the maker, or who keeps the shelf, thinks of an image.
type Status string

const (
	Recommended Status = "recommended" // the default
	OK          Status = "ok"          // works, but is not what one would choose
	Superseded  Status = "superseded"  // a later one takes its place
	Withdrawn   Status = "withdrawn"   // must not be sent any more
)

var statuses = []Status{Recommended, OK, Superseded, Withdrawn}

// Card describes one image: which devices it is for, what it needs before it may
// be sent, and what may follow. In memory every optional key has its default.
type Card struct {
	Card      int      `yaml:"card" json:"-"` // the format; always 1
	Vendor    string   `yaml:"vendor" json:"vendor"`
	Models    []string `yaml:"models,flow" json:"models"`
	Hardware  string   `yaml:"hardware,omitempty" json:"hardware,omitempty"` // constraint on the hardware revision
	Component string   `yaml:"component,omitempty" json:"component"`
	Version   string   `yaml:"version" json:"version"`
	File      string   `yaml:"file" json:"file"`     // the image's path, relative to the card
	SHA256    string   `yaml:"sha256" json:"sha256"` // 64 hexadecimal digits
	Needs     string   `yaml:"needs,omitempty" json:"needs,omitempty"`
	Back      string   `yaml:"back,omitempty" json:"back,omitempty"`
	After     []string `yaml:"after,omitempty,flow" json:"after,omitempty"`
	// Pairs are versions that must be beside this one: of other components, by their
	// names, and of devices in lockstep, by their models.
	Pairs    map[string]string `yaml:"pairs,omitempty" json:"pairs,omitempty"`
	Resets   []string          `yaml:"resets,omitempty,flow" json:"resets,omitempty"`
	Cautions []string          `yaml:"cautions,omitempty" json:"cautions,omitempty"`
	Status   Status            `yaml:"status,omitempty" json:"status"`
	Because  string            `yaml:"because,omitempty" json:"because,omitempty"` // why it has this status
	Notes    string            `yaml:"notes,omitempty" json:"notes,omitempty"`     // file name of the release notes
}

// MaxCard is the largest card that is read, in bytes.
const MaxCard = 64 << 10

// ParseCard reads a card; name is what errors call the file.
func ParseCard(name string, data []byte) (Card, error) {
	var c Card
	if len(data) > MaxCard {
		return c, &yamldoc.Error{Name: name, Message: fmt.Sprintf("a card of %d bytes is longer than %d", len(data), MaxCard)}
	}
	doc, err := yamldoc.Decode(name, data, &c)
	if err != nil {
		return c, err
	}
	if key, message := c.Complete(); message != "" {
		return c, doc.Errorf("$."+key, "%s", message)
	}
	return c, nil
}

// Complete gives every optional key its default and checks the card. Where
// something is wrong it returns the key and a message; otherwise an empty message.
func (c *Card) Complete() (key, message string) {
	if c.Component == "" {
		c.Component = Main
	}
	if c.Status == "" {
		c.Status = Recommended
	}
	c.SHA256 = strings.ToLower(c.SHA256)
	switch {
	case c.Card != 1:
		return "card", "card: must be 1, the format of this file"
	case c.Vendor == "":
		return "vendor", "vendor: is missing; name the maker"
	case len(c.Models) == 0:
		return "models", "models: is missing; list the models that the image is for"
	case slices.Contains(c.Models, ""):
		return "models", "models: has an empty entry"
	case c.File == "":
		return "file", "file: is missing; name the image beside this card"
	}
	if err := version.Valid(c.Version); err != nil {
		return "version", "version: " + err.Error()
	}
	if raw, err := hex.DecodeString(c.SHA256); err != nil || len(raw) != 32 {
		return "sha256", fmt.Sprintf("sha256: must be 64 hexadecimal digits, the SHA-256 of %s", c.File)
	}
	if !slices.Contains(statuses, c.Status) {
		return "status", fmt.Sprintf("status: %q is none of recommended, ok, superseded, withdrawn", c.Status)
	}
	for _, k := range []struct{ key, constraint string }{{"hardware", c.Hardware}, {"needs", c.Needs}, {"back", c.Back}} {
		if _, err := version.ParseConstraint(k.constraint); err != nil {
			return k.key, k.key + ": " + err.Error()
		}
	}
	for name, constraint := range c.Pairs {
		if p, err := version.ParseConstraint(constraint); err != nil || p.Empty() {
			return "pairs", fmt.Sprintf("pairs: %s: %q is no constraint; write for example \">= 2.0\"", name, constraint)
		}
	}
	seen := map[string]bool{}
	for i, m := range c.Models {
		if seen[strings.ToLower(m)] {
			return fmt.Sprintf("models[%d]", i), fmt.Sprintf("models: %s stands here twice", m)
		}
		seen[strings.ToLower(m)] = true
	}
	if slices.Contains(c.After, c.Component) {
		return "after", fmt.Sprintf("after: %s cannot come after itself", c.Component)
	}
	return "", ""
}

// Image is a card and the file it describes, as found on a shelf.
type Image struct {
	Card
	Size int64 `json:"size"` // bytes
}

// IsFor tells whether the image is of this vendor and for this model; an empty one
// stands for all. Upper and lower case are the same.
func (i Image) IsFor(vendor, model string) bool {
	return (vendor == "" || strings.EqualFold(i.Vendor, vendor)) &&
		(model == "" || slices.ContainsFunc(i.Models, func(m string) bool { return strings.EqualFold(m, model) }))
}

// Fits tells whether the image is for this very vendor, model and hardware revision.
// A revision that is not known meets no constraint.
func (i Image) Fits(vendor, model, hardware string) bool {
	return vendor != "" && model != "" && i.IsFor(vendor, model) && Meets(version.Order{}, i.Hardware, hardware)
}

// Meets tells whether a version meets a constraint that ParseCard has accepted, in
// the order o. An empty version meets only the empty constraint.
func Meets(o version.Order, constraint, v string) bool {
	c, err := version.ParseConstraint(constraint)
	if err != nil {
		return false
	}
	return c.Empty() || v != "" && c.Holds(o, v)
}
