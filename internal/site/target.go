package site

import (
	"cmp"
	"fmt"
	"path"
	"slices"
	"strings"

	"catena/internal/device"
	"catena/internal/firmware"
	"catena/internal/firmware/version"
	"catena/internal/yamldoc"
)

// TargetsFile is the name of the file, in a site folder, that the target commands write.
// It has the same form as the list of targets in a site file.
const TargetsFile = "targets.yaml"

// Newest is the version of a target that follows the shelf: the newest recommended
// image, or the newest without any advice where none is recommended.
const Newest = "newest"

// Target says which version is wanted where: for a device, for a model, for a group,
// or for a model within a group.
type Target struct {
	Device string `yaml:"device,omitempty" json:"device,omitempty"` // as Hold.Device
	Group  string `yaml:"group,omitempty" json:"group,omitempty"`
	Model  string `yaml:"model,omitempty" json:"model,omitempty"`
	Kind   string `yaml:"kind,omitempty" json:"kind,omitempty"`
	// the component that it is about; empty: the main one
	Component string `yaml:"component,omitempty" json:"component,omitempty"`
	// newest, a version, or a constraint such as ">= 3.1, < 4"
	Version string `yaml:"version" json:"version"`
	Because string `yaml:"because,omitempty" json:"because,omitempty"`
}

// String says what the target is for and what it wants.
func (t Target) String() string { return t.For() + ": " + t.Version }

// For says what the target is for.
func (t Target) For() string {
	var parts []string
	for _, p := range [][2]string{{"device", t.Device}, {"group", t.Group}, {"model", t.Model},
		{"kind", t.Kind}, {"component", t.Component}} {
		if p[1] != "" {
			parts = append(parts, p[0]+" "+p[1])
		}
	}
	return strings.Join(parts, ", ")
}

// rank is how specific the target is: a device before a model within a group, before a kind within
// a group, before a group, before a model, before a kind.
func (t Target) rank() int {
	switch {
	case t.Device != "":
		return 6
	case t.Group != "" && t.Model != "":
		return 5
	case t.Group != "" && t.Kind != "":
		return 4
	case t.Group != "":
		return 3
	case t.Model != "":
		return 2
	}
	return 1
}

// Exact returns the one version that the target names, if it does.
func (t Target) Exact() (string, bool) {
	if t.Version == Newest || strings.ContainsAny(t.Version, "<>=!,") {
		return "", false
	}
	return t.Version, true
}

// Check returns what is wrong with a target alone.
func (t Target) Check() error {
	if t.Component == firmware.Main {
		return fmt.Errorf("component: main is the default; leave it out")
	}
	if t.Device == "" && t.Group == "" && t.Model == "" && t.Kind == "" {
		return fmt.Errorf("a target needs a device, a group, a model or a kind")
	}
	if t.Device != "" && (t.Group != "" || t.Model != "" || t.Kind != "") {
		return fmt.Errorf("a target for a device has no group, no model and no kind")
	}
	if t.Model != "" && t.Kind != "" {
		return fmt.Errorf("a target for a model has no kind")
	}
	if t.Kind != "" && !device.IsKind(t.Kind) {
		return fmt.Errorf("%q is not a kind; write for example camera", t.Kind)
	}
	if _, err := path.Match(t.Device, ""); err != nil {
		return fmt.Errorf("%q is not a name", t.Device)
	}
	if t.Version == Newest {
		return nil
	}
	if t.Version == "hold" {
		return fmt.Errorf("a target cannot hold a device; add it to hold: in site.yaml")
	}
	if t.Version == "" {
		return fmt.Errorf("a target needs a version: newest, 3.2.1, or \">= 3.1, < 4\"")
	}
	_, err := version.ParseConstraint(t.Version)
	return err
}

// Same tells whether two targets are for the same devices by the same words.
func (t Target) Same(b Target) bool { return strings.EqualFold(t.For(), b.For()) }

// checkTargets refuses targets that make no sense or contradict each other.
func checkTargets(targets []Target, groups map[string][]string,
	at func(i int, format string, args ...any) error) error {
	for i, t := range targets {
		if err := t.Check(); err != nil {
			return at(i, "%v", err)
		}
		if _, ok := groups[t.Group]; t.Group != "" && groups != nil && !ok {
			return at(i, "there is no group %s", t.Group)
		}
		for _, b := range targets[:i] {
			if t.Same(b) && t.Version != b.Version {
				return at(i, "%s has the target %s above and %s here; remove one", t.For(),
					b.Version, t.Version)
			}
		}
	}
	return nil
}

// ParseTargets reads a file of targets; name is what errors call it.
func ParseTargets(name string, data []byte) ([]Target, error) {
	var f struct {
		Targets []Target `yaml:"targets"`
	}
	doc, err := yamldoc.Decode(name, data, &f)
	if err != nil {
		return nil, err
	}
	return f.Targets, checkTargets(f.Targets, nil, func(i int, format string, args ...any) error {
		return doc.Errorf(fmt.Sprintf("$.targets[%d]", i), "targets: "+format, args...)
	})
}

// Join adds targets from a file to those of the site. It refuses a group that the
// site does not have, and two targets that contradict each other.
func (s *Site) Join(name string, targets []Target) error {
	all := append(append([]Target{}, s.Targets...), targets...)
	err := checkTargets(all, orEmpty(s.Groups), func(_ int, format string, args ...any) error {
		return &yamldoc.Error{Name: name, Message: fmt.Sprintf(format, args...)}
	})
	if err == nil {
		s.Targets = all
	}
	return err
}

func orEmpty(groups map[string][]string) map[string][]string {
	if groups == nil {
		return map[string][]string{}
	}
	return groups
}

// TargetFor returns the most specific target for a component of a device; ok is false where there
// is none. contradicts is another one, as specific, that wants something else.
func (s Site) TargetFor(d device.Device, component string) (target Target, ok bool,
	contradicts *Target) {
	for _, t := range s.Targets {
		if !s.meant(t, d) || cmp.Or(t.Component, firmware.Main) != component {
			continue
		}
		switch {
		case !ok || t.rank() > target.rank():
			target, ok, contradicts = t, true, nil
		case t.rank() == target.rank() && t.Version != target.Version:
			contradicts = &t
		}
	}
	return target, ok, contradicts
}

func (s Site) meant(t Target, d device.Device) bool {
	return (t.Device == "" || d.Answers(t.Device)) &&
		(t.Model == "" || strings.EqualFold(t.Model, d.Model)) &&
		(t.Kind == "" || t.Kind == d.Kind) &&
		(t.Group == "" || s.InGroup(t.Group, d))
}

// InGroup tells whether a device belongs to a group.
func (s Site) InGroup(group string, d device.Device) bool {
	for _, pattern := range s.Groups[group] {
		if d.Answers(pattern) {
			return true
		}
	}
	item, _ := s.Inventory.Find(d)
	return slices.Contains(item.Groups, group)
}

// GroupsOf lists the groups that a device belongs to, in the order of their names.
func (s Site) GroupsOf(d device.Device) []string {
	var out []string
	for _, g := range s.groupNames() {
		if s.InGroup(g, d) {
			out = append(out, g)
		}
	}
	return out
}
