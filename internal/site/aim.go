package site

import (
	"fmt"
	"path"
	"strings"

	"catena/internal/firmware/version"
	"catena/internal/yamldoc"
)

// AimsFile is the name of the file, in a site folder, that the aim commands write.
// It has the same form as the list of aims in a site file.
const AimsFile = "aims.yaml"

// Versions that an aim may name besides a version or a constraint.
const (
	Newest = "newest"
	Leave  = "hold" // as it is
)

// Aim says which version is wanted where: for a device, for a model, for a group,
// or for a model within a group.
type Aim struct {
	Device  string `yaml:"device,omitempty" json:"device,omitempty"` // as Hold.Device
	Group   string `yaml:"group,omitempty" json:"group,omitempty"`
	Model   string `yaml:"model,omitempty" json:"model,omitempty"`
	Version string `yaml:"version" json:"version"` // newest, hold, a version, or a constraint such as ">= 3.1, < 4"
	Because string `yaml:"because,omitempty" json:"because,omitempty"`
}

// String says what the aim is for and what it wants.
func (a Aim) String() string { return a.For() + ": " + a.Version }

// For says what the aim is for.
func (a Aim) For() string {
	var parts []string
	for _, p := range [][2]string{{"device", a.Device}, {"group", a.Group}, {"model", a.Model}} {
		if p[1] != "" {
			parts = append(parts, p[0]+" "+p[1])
		}
	}
	return strings.Join(parts, ", ")
}

// rank is how specific the aim is: a device before a model within a group, before
// a group, before a model.
func (a Aim) rank() int {
	switch {
	case a.Device != "":
		return 4
	case a.Group != "" && a.Model != "":
		return 3
	case a.Group != "":
		return 2
	}
	return 1
}

// Exact returns the one version that the aim names, if it does.
func (a Aim) Exact() (string, bool) {
	if a.Version == Newest || a.Version == Leave || strings.ContainsAny(a.Version, "<>=!,") {
		return "", false
	}
	return a.Version, true
}

// Check returns what is wrong with an aim by itself.
func (a Aim) Check() error {
	if a.Device == "" && a.Group == "" && a.Model == "" {
		return fmt.Errorf("an aim needs a device, a group or a model")
	}
	if a.Device != "" && (a.Group != "" || a.Model != "") {
		return fmt.Errorf("an aim for a device needs no group and no model")
	}
	if _, err := path.Match(a.Device, ""); err != nil {
		return fmt.Errorf("%q is no name", a.Device)
	}
	if a.Version == Newest || a.Version == Leave {
		return nil
	}
	if a.Version == "" {
		return fmt.Errorf("an aim needs a version: newest, hold, 3.2.1, or \">= 3.1, < 4\"")
	}
	_, err := version.ParseConstraint(a.Version)
	return err
}

// Same tells whether two aims are for the same devices by the same words.
func (a Aim) Same(b Aim) bool { return strings.EqualFold(a.For(), b.For()) }

// checkAims refuses aims that make no sense or contradict each other.
func checkAims(aims []Aim, groups map[string][]string, at func(i int, format string, args ...any) error) error {
	for i, a := range aims {
		if err := a.Check(); err != nil {
			return at(i, "%v", err)
		}
		if _, ok := groups[a.Group]; a.Group != "" && groups != nil && !ok {
			return at(i, "there is no group %s", a.Group)
		}
		for _, b := range aims[:i] {
			if a.Same(b) && a.Version != b.Version {
				return at(i, "%s is aimed at %s above and at %s here; take one out", a.For(), b.Version, a.Version)
			}
		}
	}
	return nil
}

// ParseAims reads a file of aims; name is what errors call it.
func ParseAims(name string, data []byte) ([]Aim, error) {
	var f struct {
		Aims []Aim `yaml:"aims"`
	}
	doc, err := yamldoc.Decode(name, data, &f)
	if err != nil {
		return nil, err
	}
	return f.Aims, checkAims(f.Aims, nil, func(i int, format string, args ...any) error {
		return doc.Errorf(fmt.Sprintf("$.aims[%d]", i), "aims: "+format, args...)
	})
}

// Join adds aims from a file to those of the site. It refuses a group that the
// site does not have, and two aims that contradict each other.
func (s *Site) Join(name string, aims []Aim) error {
	all := append(append([]Aim{}, s.Aims...), aims...)
	err := checkAims(all, orEmpty(s.Groups), func(i int, format string, args ...any) error {
		return &yamldoc.Error{Name: name, Message: fmt.Sprintf(format, args...)}
	})
	if err == nil {
		s.Aims = all
	}
	return err
}

func orEmpty(groups map[string][]string) map[string][]string {
	if groups == nil {
		return map[string][]string{}
	}
	return groups
}

// AimFor returns the most specific aim for a device; ok is false where there is
// none. contradicts is another one, as specific, that wants something else.
func (s Site) AimFor(d Device) (aim Aim, ok bool, contradicts *Aim) {
	for _, a := range s.Aims {
		if !s.meant(a, d) {
			continue
		}
		switch {
		case !ok || a.rank() > aim.rank():
			aim, ok, contradicts = a, true, nil
		case a.rank() == aim.rank() && a.Version != aim.Version:
			contradicts = &a
		}
	}
	return aim, ok, contradicts
}

func (s Site) meant(a Aim, d Device) bool {
	return (a.Device == "" || d.Answers(a.Device)) && (a.Model == "" || strings.EqualFold(a.Model, d.Model)) &&
		(a.Group == "" || s.InGroup(a.Group, d))
}

// InGroup tells whether a device belongs to a group.
func (s Site) InGroup(group string, d Device) bool {
	for _, pattern := range s.Groups[group] {
		if d.Answers(pattern) {
			return true
		}
	}
	return false
}

// GroupsOf lists the groups that a device belongs to, in the order of their names.
func (s Site) GroupsOf(d Device) []string {
	var out []string
	for _, g := range s.groupNames() {
		if s.InGroup(g, d) {
			out = append(out, g)
		}
	}
	return out
}
