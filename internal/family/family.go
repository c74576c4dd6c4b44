// Package family is the language in which a family of devices is described: how its version strings
// sort, how an image without a manifest is recognised, and, step by step, how its devices are read,
// updated, restarted, rolled back and located.
//
// Its central types are Family, one checked file, and Program, the parsed steps. It is pure:
// callers bring the bytes of the files, and the steps are carried out in dialect/scripted.
package family

import (
	"bytes"
	"encoding/hex"
	"errors"
	"fmt"
	"path"
	"regexp"
	"regexp/syntax"
	"slices"
	"strings"

	"catena/internal/device"
	"catena/internal/firmware"
	"catena/internal/firmware/format"
	"catena/internal/firmware/version"
	"catena/internal/text"
	"catena/internal/yamldoc"
)

// Head is how much of an image patterns may look at, in bytes from its start.
const Head = 1 << 20

// Family is one family file.
type Family struct {
	Name     string    `yaml:"family"`
	Vendor   string    `yaml:"vendor"`
	Models   []string  `yaml:"models"`
	Versions Versions  `yaml:"versions"`
	Images   []Pattern `yaml:"images"`
	// PlainBasic allows the password to be shown on the wire: HTTP Basic without TLS.
	PlainBasic bool `yaml:"plain_basic"`
	// Lockout is the number of wrong logins after which one of its devices locks; 0: not known.
	Lockout int `yaml:"lockout"`
	// DefaultLogin is the login that such a device has before someone changes it; nil: not known.
	DefaultLogin *DefaultLogin `yaml:"default_login"`
	// Cautions are what a person must know before one of them is updated, by short names.
	Cautions map[string]string `yaml:"cautions"`
	// Kind is what its devices are: camera, recorder, switch, controller, gateway, sensor ...
	Kind string `yaml:"kind"`
	// From is the maker's page from which images are downloaded.
	From string `yaml:"from"`
	// Patience is how long its devices may take.
	Patience firmware.Patience `yaml:"patience"`
	// File is where it was read from; who reads it sets it.
	File string `yaml:"-"`
	// Program is how its devices are talked to; nil: the file does not say.
	Program *Program `yaml:"-"`
	// Children is the family of the devices that are reached only through one of these; nil: none.
	Children *Family `yaml:"-"`

	order version.Order
}

// DefaultLogin is a login that a maker publishes.
type DefaultLogin struct {
	User     string `yaml:"user"`
	Password string `yaml:"password"`
}

// standards are the names by which the program calls what it speaks without a family.
var standards = []string{"onvif", "redfish", "snmp", "bacnet"}

// Versions is how the family's version strings sort; see version.NewOrder.
type Versions struct {
	Order  string   `yaml:"order"`
	Prefix []string `yaml:"prefix"`
	Suffix []string `yaml:"suffix"`
	List   []string `yaml:"list"`
}

// Pattern recognises an image of the family. Whatever of file, at, content and format
// is given must hold. Model, component and version come from groups of these names in
// file or content, or are fixed here.
type Pattern struct {
	File    string `yaml:"file"`    // RE2 on the file's name
	Content string `yaml:"content"` // RE2 on the first MiB
	At      *At    `yaml:"at"`
	// an open format (package format); its version counts where no group gives one
	Format string `yaml:"format"`
	// What a whole image has. One that is recognised and is not so is damaged, as by a
	// download that broke off.
	Size int64 `yaml:"size"` // bytes; 0: any
	Ends *Ends `yaml:"ends"`

	Model     string `yaml:"model"`
	Component string `yaml:"component"`
	Version   string `yaml:"version"`

	// what such an image does to a device, as in a manifest
	Settings firmware.Settings `yaml:"settings"`
	Restarts int               `yaml:"restarts"`

	file, content *regexp.Regexp
	bytes, end    []byte
	window        int // bytes of the content that are searched
}

// Ends is what stands at the end of an image: a text, or bytes in hexadecimal.
type Ends struct {
	Text string `yaml:"text"`
	Hex  string `yaml:"hex"`
}

// Sample is what rules look at of an image.
type Sample struct {
	Name  string // of its file
	Size  int64  // bytes
	Head  []byte // its first MiB
	Tail  []byte // its last bytes, at most Tail
	Facts format.Facts
	// Archive is the extension of an archive's file name, such as .tar.gz; empty: it is not one.
	Archive string
}

// Tail is how many of an image's last bytes rules look at.
const Tail = 64

// maxSteps bounds what the search of a content costs: how many times an instruction of the
// pattern may meet a byte. It is about a second.
const maxSteps = 20 << 20

// searched is how many bytes of an image are searched for a pattern: the first MiB for a
// usual one, less for one that costs more.
func searched(pattern string) (int, error) {
	parsed, err := syntax.Parse(pattern, syntax.Perl)
	if err != nil {
		return 0, err
	}
	program, err := syntax.Compile(parsed.Simplify())
	if err != nil {
		return 0, err
	}
	return min(Head, maxSteps/len(program.Inst)), nil
}

// At is what stands at an offset of an image: a text, or bytes in hexadecimal.
type At struct {
	Offset int    `yaml:"offset"`
	Text   string `yaml:"text"`
	Hex    string `yaml:"hex"`
}

// Parse reads a family file; name is what errors call it.
func Parse(name string, data []byte) (Family, error) {
	doc, root, err := yamldoc.Keys(name, data, names(inFile|inProgram))
	if err != nil {
		return Family{}, err
	}
	f, err := parse(doc, Family{})
	if err == nil {
		err = f.parsePrograms(doc, root)
	}
	return f, err
}

// parse reads what a family says besides its programs; what it does not say stays as given.
func parse(doc *yamldoc.Doc, f Family) (Family, error) {
	if err := doc.Into(&f, names(inFile)...); err != nil {
		return f, err
	}
	switch {
	case f.Name == "":
		return f, doc.Errorf("$.family", "family: is missing; give the family a name")
	case slices.Contains(standards, strings.ToLower(f.Name)):
		return f, doc.Errorf("$.family", "family: %s is the name of a standard's own; give the family "+
			"another one", f.Name)
	case f.Vendor == "":
		return f, doc.Errorf("$.vendor", "vendor: is missing; name the maker")
	case len(f.Models) == 0 || slices.Contains(f.Models, ""):
		return f, doc.Errorf("$.models", "models: must list the models of the family")
	}
	var err error
	f.order, err = version.NewOrder(f.Versions.Order, f.Versions.Prefix, f.Versions.Suffix,
		f.Versions.List)
	if err != nil {
		return f, doc.Errorf("$.versions", "versions: %v", err)
	}
	if l := f.DefaultLogin; l != nil && l.User+l.Password == "" {
		return f, doc.Errorf("$.default_login", "default_login: a user or a password is missing")
	}
	if f.Lockout < 0 || f.Lockout > 1000 {
		return f, doc.Errorf("$.lockout", "lockout: must be from 1 to 1000; leave it out if "+
			"it is not known")
	}
	if step, message := f.Patience.Check(); message != "" {
		return f, doc.Errorf("$.patience."+step, "%s", message)
	}
	if f.Kind != "" && !device.IsKind(f.Kind) {
		return f, doc.Errorf("$.kind", "kind: %q is not a kind; write for example sensor", f.Kind)
	}
	if message := firmware.CheckFrom(f.From); message != "" {
		return f, doc.Errorf("$.from", "%s", message)
	}
	for name, text := range f.Cautions {
		if !firmware.IsCautionName(name) || strings.TrimSpace(text) == "" {
			return f, doc.Errorf("$.cautions", "cautions: %s: needs a short name of lower-case letters "+
				"and -, and a sentence", name)
		}
	}
	for i := range f.Images {
		if err := f.Images[i].compile(); err != nil {
			return f, doc.Errorf(fmt.Sprintf("$.images[%d]", i), "images: %v", err)
		}
	}
	return f, nil
}

func (p *Pattern) compile() (err error) {
	if p.File == "" && p.Content == "" && p.At == nil && p.Format == "" {
		return fmt.Errorf("a pattern requires file, content, at or format")
	}
	if p.Format != "" && !slices.Contains(format.Names, p.Format) {
		return fmt.Errorf("format %q is not one of %s", p.Format, strings.Join(format.Names, ", "))
	}
	groups := map[string]bool{"model": p.Model != "", "version": p.Version != "" || p.Format != ""}
	for _, r := range []struct {
		text string
		to   **regexp.Regexp
	}{{p.File, &p.file}, {p.Content, &p.content}} {
		if r.text == "" {
			continue
		}
		*r.to, err = regexp.Compile(r.text)
		if err != nil {
			return err
		}
		for _, g := range (*r.to).SubexpNames() {
			groups[g] = true
		}
	}
	if !groups["version"] {
		return fmt.Errorf("no version: add a group (?P<version>…), or set it here")
	}
	if p.Content != "" {
		p.window, err = searched(p.Content)
		if err != nil {
			return err
		}
	}
	if message := firmware.CheckEffects(p.Settings, p.Restarts); message != "" {
		return errors.New(message)
	}
	if p.Size < 0 {
		return fmt.Errorf("size: must be the bytes of a whole image")
	}
	if p.Ends != nil {
		p.end, err = given(p.Ends.Text, p.Ends.Hex)
		if err != nil || len(p.end) == 0 || len(p.end) > Tail {
			return fmt.Errorf("ends: requires either text or hex, of at most %d bytes", Tail)
		}
	}
	if p.At == nil {
		return nil
	}
	p.bytes, err = given(p.At.Text, p.At.Hex)
	if err != nil {
		return fmt.Errorf("at: hex: %w", err)
	}
	if len(p.bytes) == 0 || p.At.Text != "" && p.At.Hex != "" || p.At.Offset < 0 ||
		p.At.Offset+len(p.bytes) > Head {
		return fmt.Errorf("at: requires an offset within the first MiB, and either text or hex")
	}
	return nil
}

// given are the bytes of a text or of hexadecimal digits.
func given(text, digits string) ([]byte, error) {
	if digits == "" {
		return []byte(text), nil
	}
	return hex.DecodeString(strings.ReplaceAll(digits, " ", ""))
}

// whole returns what shows that an image which the pattern recognises is not whole.
func (p *Pattern) whole(s Sample) error {
	if p.Size != 0 && s.Size != p.Size {
		return fmt.Errorf("%w: it has %d bytes, a complete one has %d", format.ErrDamaged, s.Size,
			p.Size)
	}
	if p.end != nil && !bytes.HasSuffix(s.Tail, p.end) {
		return fmt.Errorf("%w: it does not end like a complete image", format.ErrDamaged)
	}
	return nil
}

// namesArchive reports whether the pattern is for archives that a device takes whole: its file
// pattern matches the archive's name, and would not without the extension. Any other rule is for
// what is in an archive.
func (p *Pattern) namesArchive(name, extension string) bool {
	return p.file != nil && p.file.MatchString(name) &&
		!p.file.MatchString(strings.TrimSuffix(name, extension)+".")
}

// found returns what a pattern takes from an image, or false.
func (p *Pattern) found(s Sample) (map[string]string, bool) {
	name, head, facts := path.Base(s.Name), s.Head, s.Facts
	if p.Format != "" && p.Format != facts.Format ||
		s.Archive != "" && !p.namesArchive(name, s.Archive) {
		return nil, false
	}
	out := map[string]string{"model": p.Model, "component": p.Component, "version": p.Version}
	take := func(r *regexp.Regexp, m [][]byte) {
		for i, g := range r.SubexpNames() {
			if _, known := out[g]; known && i < len(m) && len(m[i]) > 0 && out[g] == "" {
				out[g] = text.Clean(string(m[i]))
			}
		}
	}
	if p.At != nil && !bytes.HasPrefix(head[min(p.At.Offset, len(head)):], p.bytes) {
		return nil, false
	}
	if p.file != nil {
		m := p.file.FindSubmatch([]byte(name))
		if m == nil {
			return nil, false
		}
		take(p.file, m)
	}
	if p.content != nil {
		m := p.content.FindSubmatch(head[:min(len(head), p.window)])
		if m == nil {
			return nil, false
		}
		take(p.content, m)
	}
	if p.Format != "" {
		for key, said := range map[string]string{"model": facts.Model, "component": facts.Component,
			"version": facts.Version} {
			if out[key] == "" {
				out[key] = said
			}
		}
	}
	return out, true
}

// Set is all families that are known.
type Set struct {
	families []Family
}

// SameNameError is returned for two families that have one name.
type SameNameError struct{ Name, File, Other string }

func (e *SameNameError) Error() string {
	return fmt.Sprintf("two families are called %s (%s and %s); rename one", e.Name, e.File, e.Other)
}

// ConflictError is returned for two families that claim one model.
type ConflictError struct{ Family, Other, Vendor, Model string }

func (e *ConflictError) Error() string {
	return fmt.Sprintf("the families %s and %s both claim the model %s of %s; take it out of one",
		e.Family, e.Other, e.Model, e.Vendor)
}

// NewSet brings families together. Its errors are a ConflictError and a
// SameNameError.
func NewSet(files []Family) (Set, error) {
	owner := map[string]string{}
	var families []Family
	for _, f := range files {
		families = append(families, f)
		if f.Children != nil {
			families = append(families, *f.Children)
		}
	}
	for _, f := range families {
		for _, m := range f.Models {
			k := modelKey(f.Vendor, m)
			if other, ok := owner[k]; ok {
				return Set{}, &ConflictError{Family: other, Other: f.Name, Vendor: f.Vendor,
					Model: m}
			}
			owner[k] = f.Name
		}
	}
	named := map[string]string{} // the file of each name
	for _, f := range families {
		name := strings.ToLower(f.Name)
		if other, ok := named[name]; ok {
			return Set{}, &SameNameError{f.Name, other, f.File}
		}
		named[name] = f.File
	}
	return Set{families}, nil
}

// Families lists them; those of children come right after the one of their parents.
func (s Set) Families() []Family { return s.families }

// Order is how the versions of a model sort: natural where no family says.
func (s Set) Order(vendor, model string) version.Order { return s.Of(vendor, model).order }

// PlainBasic tells whether the password of a model may be shown on the wire.
func (s Set) PlainBasic(vendor, model string) bool { return s.Of(vendor, model).PlainBasic }

// Of is the family of a model; the zero Family: no file says anything of it.
func (s Set) Of(vendor, model string) Family {
	for _, f := range s.families {
		if strings.EqualFold(f.Vendor, vendor) &&
			slices.ContainsFunc(f.Models,
				func(m string) bool { return strings.EqualFold(m, model) }) {
			return f
		}
	}
	return Family{}
}

func modelKey(vendor, model string) string { return strings.ToLower(vendor + "\x00" + model) }

// Manifest writes the manifest of an image that came without one. The digest is the
// caller's to fill in. The error says why no rule recognises it, that two disagree, or, as a
// format.ErrDamaged, that it is recognised and not whole.
func (s Set) Manifest(sample Sample) (firmware.Manifest, error) {
	var manifest firmware.Manifest
	by := ""
	for _, f := range s.families {
		for i := range f.Images {
			got, ok := f.Images[i].found(sample)
			if !ok {
				continue
			}
			if err := f.Images[i].whole(sample); err != nil {
				return manifest, err
			}
			models, err := f.modelsFor(got["model"])
			if err != nil {
				return manifest, err
			}
			if err := version.Valid(got["version"]); err != nil {
				return manifest, fmt.Errorf("the family %s recognises it, but %w", f.Name, err)
			}
			next := firmware.Manifest{Manifest: 1, Vendor: f.Vendor, Models: models,
				Component: orMain(got["component"]), Version: got["version"],
				File: path.Base(sample.Name), Settings: f.Images[i].Settings,
				Restarts: f.Images[i].Restarts}
			if by != "" && (manifest.Vendor != next.Vendor ||
				!slices.Equal(manifest.Models, next.Models) || manifest.Version != next.Version ||
				manifest.Component != next.Component || manifest.Settings != next.Settings ||
				manifest.Restarts != next.Restarts) {
				return manifest, fmt.Errorf("two rules disagree: %s reads %s %s, %s reads %s %s",
					by, strings.Join(manifest.Models, ", "), manifest.Version,
					f.Name, strings.Join(next.Models, ", "), next.Version)
			}
			manifest, by = next, f.Name
		}
	}
	if by == "" {
		return manifest, fmt.Errorf("no family recognises it")
	}
	return manifest, nil
}

func orMain(component string) string {
	if component == "" {
		return firmware.Main
	}
	return component
}

// modelsFor finds the model that a text in a file name means: wx40 is WX-40. An
// empty text means every model of the family.
func (f Family) modelsFor(text string) ([]string, error) {
	if text == "" {
		return f.Models, nil
	}
	for _, m := range f.Models {
		if plain(m) == plain(text) {
			return []string{m}, nil
		}
	}
	return nil, fmt.Errorf("the family %s recognises it, but has no model %s", f.Name, text)
}

// plain keeps letters and digits, in lower case.
func plain(s string) string {
	return strings.Map(func(r rune) rune {
		if r >= 'a' && r <= 'z' || r >= '0' && r <= '9' {
			return r
		}
		return -1
	}, strings.ToLower(s))
}
