// Package firmware holds what is known about firmware images: the manifest that
// describes one, and the image as it lies on a shelf. It is pure: it does no
// I/O and reads no clock.
package firmware

import (
	"encoding/hex"
	"fmt"
	"maps"
	"net/url"
	"slices"
	"strings"
	"time"

	"catena/internal/firmware/version"
	"catena/internal/text"
	"catena/internal/yamldoc"
)

// Main is the component that a device has when it has only one.
const Main = "main"

// Advice says what the maker, or who keeps the shelf, thinks of an image.
type Advice string

const (
	NoAdvice    Advice = ""            // no one has said anything
	Recommended Advice = "recommended" // chosen before those without advice
	// a later one takes its place; sent only where a target names it
	Superseded Advice = "superseded"
	Withdrawn  Advice = "withdrawn" // never sent; a device that runs it is unsafe
)

var advices = []Advice{NoAdvice, Recommended, Superseded, Withdrawn}

// Settings says what an update does to a device's own settings.
type Settings string

const (
	Kept      Settings = "kept" // also where the manifest says nothing
	Cleared   Settings = "cleared"
	Converted Settings = "converted" // into a form that an earlier version cannot read
)

var settings = []Settings{"", Kept, Cleared, Converted}

// Manifest describes one image: which devices it is for, what it needs before it may
// be sent, and what may follow. In memory every optional key has its default.
type Manifest struct {
	Manifest int      `yaml:"manifest" json:"-"` // the format; always 1
	Vendor   string   `yaml:"vendor" json:"vendor"`
	Models   []string `yaml:"models,flow" json:"models"`
	// constraint on the hardware revision
	Hardware  string   `yaml:"hardware,omitempty" json:"hardware,omitempty"`
	Component string   `yaml:"component,omitempty" json:"component"`
	Version   string   `yaml:"version" json:"version"`
	File      string   `yaml:"file" json:"file"`     // the image's path, relative to the manifest
	SHA256    string   `yaml:"sha256" json:"sha256"` // 64 hexadecimal digits
	Needs     string   `yaml:"needs,omitempty" json:"needs,omitempty"`
	Back      string   `yaml:"back,omitempty" json:"back,omitempty"`
	After     []string `yaml:"after,omitempty,flow" json:"after,omitempty"`
	// Pairs are versions that must be beside this one: of other components, by their
	// names, and of devices in lockstep, by their models.
	Pairs map[string]string `yaml:"pairs,omitempty" json:"pairs,omitempty"`
	// Brings are the versions that the image brings to the device's children, by their models: the
	// device updates them itself.
	Brings   map[string]string `yaml:"brings,omitempty" json:"brings,omitempty"`
	Settings Settings          `yaml:"settings,omitempty" json:"settings,omitempty"`
	// Restarts is how often a device restarts until it runs it; 0: as its family says.
	Restarts int `yaml:"restarts,omitempty" json:"restarts,omitempty"`
	// Takes is how long an update with it takes, from the first byte to the proof.
	Takes time.Duration `yaml:"takes,omitempty" json:"takes,omitempty"` // JSON: ns
	// Patience is how long a device may take with it, where that is not usual.
	Patience Patience `yaml:"patience,omitempty" json:"patience,omitzero"`
	// Cautions are what a person must know before an update, by short names.
	Cautions map[string]string `yaml:"cautions,omitempty" json:"cautions,omitempty"`
	// Requires are what a person must have seen to before an update, by short names: each is checked
	// off like a caution.
	Requires map[string]string `yaml:"requires,omitempty" json:"requires,omitempty"`
	// Interlocks are what must hold right before the first byte, in the names of the device's family.
	Interlocks []Interlock `yaml:"interlocks,omitempty" json:"interlocks,omitempty"`
	// Renamed are settings that this version calls otherwise than the ones before: by the old path.
	Renamed map[string]string `yaml:"renamed,omitempty" json:"renamed,omitempty"`
	Advice  Advice            `yaml:"advice,omitempty" json:"advice"`
	// why it has this advice
	Because string `yaml:"because,omitempty" json:"because,omitempty"`
	// file name of the release notes
	Notes string `yaml:"notes,omitempty" json:"notes,omitempty"`
	// From is the maker's page from which later images are downloaded.
	From string `yaml:"from,omitempty" json:"from,omitempty"`
}

// Interlock is what must hold before an image is sent, and what a person is told where it does not.
type Interlock struct {
	Holds string `yaml:"holds" json:"holds"` // an expression, as in the interlocks of a family
	Else  string `yaml:"else" json:"else"`
}

// maxInterlocks bounds those of an image, and maxHolds each, in bytes.
const (
	maxInterlocks = 16
	maxHolds      = 1000
)

// maxTakes bounds what a manifest may say: no update takes a day.
const maxTakes = 24 * time.Hour

// MaxManifest is the largest manifest that is read, in bytes.
const MaxManifest = 64 << 10

// ParseManifest reads a manifest; name is what errors call the file.
func ParseManifest(name string, data []byte) (Manifest, error) {
	var m Manifest
	if len(data) > MaxManifest {
		return m, &yamldoc.Error{Name: name,
			Message: fmt.Sprintf("a manifest of %d bytes is longer than %d", len(data),
				MaxManifest)}
	}
	doc, err := yamldoc.Decode(name, data, &m)
	if err != nil {
		return m, err
	}
	if key, message := m.Complete(); message != "" {
		return m, doc.Errorf("$."+key, "%s", message)
	}
	return m, nil
}

// Complete gives every optional key its default and checks the manifest. Where
// something is wrong it returns the key and a message; otherwise an empty message.
func (m *Manifest) Complete() (key, message string) {
	if m.Component == "" {
		m.Component = Main
	}
	m.SHA256 = strings.ToLower(m.SHA256)
	switch {
	case m.Manifest != 1:
		return "manifest", "manifest: must be 1; a file of a later format requires a newer Catena"
	case m.Vendor == "":
		return "vendor", "vendor: is missing; name the maker"
	case len(m.Models) == 0:
		return "models", "models: is missing; list the models that the image is for"
	case slices.Contains(m.Models, ""):
		return "models", "models: has an empty entry"
	case m.File == "":
		return "file", "file: is missing; name the image beside this manifest"
	}
	if err := version.Valid(m.Version); err != nil {
		return "version", "version: " + err.Error()
	}
	if raw, err := hex.DecodeString(m.SHA256); err != nil || len(raw) != 32 {
		return "sha256", fmt.Sprintf("sha256: must be 64 hexadecimal digits, the SHA-256 of %s",
			m.File)
	}
	if !slices.Contains(advices, m.Advice) {
		return "advice", fmt.Sprintf("advice: %q is not one of recommended, superseded, withdrawn",
			m.Advice)
	}
	if message := CheckEffects(m.Settings, m.Restarts); message != "" {
		key, _, _ := strings.Cut(message, ":")
		return key, message
	}
	for _, k := range []struct{ key, constraint string }{{"hardware", m.Hardware},
		{"needs", m.Needs}, {"back", m.Back}} {
		if _, err := version.ParseConstraint(k.constraint); err != nil {
			return k.key, k.key + ": " + err.Error()
		}
	}
	for name, constraint := range m.Pairs {
		if p, err := version.ParseConstraint(constraint); err != nil || p.Empty() {
			return "pairs", fmt.Sprintf(
				"pairs: %s: %q is not a constraint; write for example \">= 2.0\"", name, constraint)
		}
	}
	if key, message := m.checkRest(); message != "" {
		return key, message
	}
	seen := map[string]bool{}
	for i, model := range m.Models {
		if seen[strings.ToLower(model)] {
			return fmt.Sprintf("models[%d]", i), fmt.Sprintf("models: %s is listed twice", model)
		}
		seen[strings.ToLower(model)] = true
	}
	if slices.Contains(m.After, m.Component) {
		return "after", fmt.Sprintf("after: %s cannot come after itself", m.Component)
	}
	return "", ""
}

// CheckEffects returns what is wrong with what a manifest, or a rule, says that an image does to a
// device; empty: nothing.
func CheckEffects(s Settings, restarts int) string {
	if !slices.Contains(settings, s) {
		return fmt.Sprintf("settings: %q is not one of kept, cleared, converted", s)
	}
	if restarts < 0 || restarts > 10 {
		return "restarts: is the number of restarts until a device runs it, 1 to 10"
	}
	return ""
}

// checkRest checks what is for people, forecasts and children.
func (m *Manifest) checkRest() (key, message string) {
	if message := CheckFrom(m.From); message != "" {
		return "from", message
	}
	for model, v := range m.Brings {
		if err := version.Valid(v); err != nil || model == "" || containsFold(m.Models, model) {
			return "brings", fmt.Sprintf("brings: %s: %s is not the model of a child with its version; "+
				"write for example PH-2: 2.1", model, v)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(m.Requires)) {
		if !IsCautionName(name) || strings.TrimSpace(m.Requires[name]) == "" {
			return "requires", fmt.Sprintf("requires: %q needs a short name of lower-case letters and -, "+
				"and a sentence: write for example bridge-down: The bridge is down.", name)
		}
		if _, both := m.Cautions[name]; both {
			return "requires", fmt.Sprintf("requires: %s is the name of a caution, too", name)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(m.Cautions)) {
		if !IsCautionName(name) {
			return "cautions", fmt.Sprintf(
				"cautions: %q is not a caution's name; write for example gate-blocked: and then the caution",
				name)
		}
	}
	for i, l := range m.Interlocks {
		at := fmt.Sprintf("interlocks[%d]", i)
		switch {
		case i >= maxInterlocks || len(l.Holds) > maxHolds:
			return at, fmt.Sprintf("interlocks: more than %d, or one longer than %d bytes", maxInterlocks,
				maxHolds)
		case l.Holds == "" || l.Else == "":
			return at, "interlocks: each requires holds: and else:, the sentence for the operator"
		}
	}
	for old, fresh := range m.Renamed {
		if old == "" || fresh == "" || old == fresh {
			return "renamed", "renamed: the old path of a setting, and the new one: write for example " +
				"start_level: level_start"
		}
	}
	if m.Takes < 0 || m.Takes > maxTakes {
		return "takes", fmt.Sprintf(
			"takes: %s is not a duration of an update; write for example 6m",
			m.Takes)
	}
	if step, message := m.Patience.Check(); message != "" {
		return "patience." + step, message
	}
	return "", ""
}

// CheckFrom returns what is wrong with a maker's download page; empty: nothing.
func CheckFrom(page string) string {
	if page == "" {
		return ""
	}
	if u, err := url.Parse(page); err != nil || u.Host == "" || u.User != nil ||
		u.Scheme != "https" && u.Scheme != "http" || text.Clean(page) != page {
		return fmt.Sprintf("from: %q is not the address of a page; write for example "+
			"https://firmware.wexcombe.example/wx-40", page)
	}
	return ""
}

// IsCautionName tells whether a caution may be called so: a word that can be typed, and that
// means nothing else.
func IsCautionName(name string) bool {
	return name != "" && name != AllCautions && name != NoRollback && len(name) <= 64 &&
		strings.Trim(name, "abcdefghijklmnopqrstuvwxyz0123456789-") == "" && name[0] != '-'
}

// Rollback is how a device would be returned to what it runs.
type Rollback string

const (
	BySlot    Rollback = "slot"  // its other slot keeps the version
	ByImage   Rollback = "image" // the image of the version is on the shelf
	ByNothing Rollback = "none"
)

// Names of cautions that are not a manifest's.
const (
	AllCautions = "all"         // every caution
	NoRollback  = "no-rollback" // a device cannot be returned
)

// Image is a manifest and the file it describes, as found on a shelf.
type Image struct {
	Manifest
	Size int64 `json:"size"` // bytes
}

// IsFor tells whether the image is of this vendor and for this model; an empty one
// stands for all. Upper and lower case are the same.
func (i Image) IsFor(vendor, model string) bool {
	return (vendor == "" || strings.EqualFold(i.Vendor, vendor)) &&
		(model == "" || containsFold(i.Models, model))
}

// containsFold reports whether a model is among others; upper and lower case are the same.
func containsFold(models []string, model string) bool {
	return slices.ContainsFunc(models, func(m string) bool { return strings.EqualFold(m, model) })
}

// BringsTo is the version that the image brings to children of a model; empty: none.
func (i Image) BringsTo(model string) string {
	for of, v := range i.Brings {
		if strings.EqualFold(of, model) {
			return v
		}
	}
	return ""
}

// Fits tells whether the image is for this very vendor, model and hardware revision.
// A revision that is not known meets no constraint.
func (i Image) Fits(vendor, model, hardware string) bool {
	return vendor != "" && model != "" && i.IsFor(vendor, model) &&
		Meets(version.Order{}, i.Hardware, hardware)
}

// Meets tells whether a version meets a constraint that ParseManifest has accepted, in
// the order o. An empty version meets only the empty constraint.
func Meets(o version.Order, constraint, v string) bool {
	c, err := version.ParseConstraint(constraint)
	if err != nil {
		return false
	}
	return c.Empty() || v != "" && c.Holds(o, v)
}
