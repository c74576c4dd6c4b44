package site

import (
	"fmt"
	"slices"
	"time"

	"catena/internal/device"
	"catena/internal/firmware/version"
	"catena/internal/text"
	"catena/internal/yamldoc"
)

// Unit are devices that no scan finds: portables that their base does not list, and what has no
// network. A person updates them, and says what they run.
type Unit struct {
	Base     string        `yaml:"base"` // the device that they are reached through, if any
	Vendor   string        `yaml:"vendor"`
	Model    string        `yaml:"model"`
	Hardware string        `yaml:"hardware"`
	Names    []string      `yaml:"names"`
	Version  string        `yaml:"version"` // what they run, as a person reads it from them
	How      string        `yaml:"how"`     // what a person has to do to update one
	Within   time.Duration `yaml:"within"`  // how long they are waited for
}

// ByHand is a device that a scan finds and a person updates.
type ByHand struct {
	Device string        `yaml:"device"` // name, with wildcards, or address or serial number
	How    string        `yaml:"how"`
	Within time.Duration `yaml:"within"`
}

func (s Site) checkHands(doc *yamldoc.Doc) error {
	seen := map[string]bool{}
	for i, u := range s.Units {
		at := fmt.Sprintf("$.units[%d]", i)
		switch {
		case len(u.Names) == 0:
			return doc.Errorf(at, "units: names: is missing; name each of them")
		case u.Vendor == "" || u.Model == "":
			return doc.Errorf(at, "units: requires vendor: and model:, as the images have them")
		case version.Valid(u.Version) != nil:
			return doc.Errorf(at, "units: version: %v; write their current version, in quotes",
				version.Valid(u.Version))
		case u.Within < 0:
			return doc.Errorf(at, "units: within: write for example 2h")
		}
		for _, name := range u.Names {
			if err := CheckName(name); err != nil {
				return doc.Errorf(at, "units: names: %v", err)
			}
			if seen[name] {
				return doc.Errorf(at, "units: names: %s is listed twice", name)
			}
			seen[name] = true
		}
	}
	for i, h := range s.ByHand {
		at := fmt.Sprintf("$.by_hand[%d]", i)
		switch {
		case !isPattern(h.Device):
			return doc.Errorf(at, "by_hand: device must be a name, an address or a serial number")
		case text.Clean(h.How) == "":
			return doc.Errorf(at, "by_hand: how: is missing; describe what an operator has to do")
		case h.Within < 0:
			return doc.Errorf(at, "by_hand: within: write for example 2h")
		}
	}
	return nil
}

// Unit is what the site says of a unit of that name.
func (s Site) Unit(name string) (Unit, bool) {
	for _, u := range s.Units {
		if slices.Contains(u.Names, name) {
			return u, true
		}
	}
	return Unit{}, false
}

// Hand is what a person has to do to update a device that is found, and how long they are waited
// for; false: Catena updates it.
func (s Site) Hand(d device.Device) (ByHand, bool) {
	i := slices.IndexFunc(s.ByHand, func(h ByHand) bool { return d.Answers(h.Device) })
	if i < 0 {
		return ByHand{}, false
	}
	return s.ByHand[i], true
}
