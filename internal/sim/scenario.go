// Package sim brings simulated sites up: stand-ins that speak the real protocols on loopback
// addresses.
//
// A stand-in checks what it receives as a real device would, and truly restarts: its listener goes
// away and comes back, and only then does it tell the new version. Its faults are switches in the
// scenario file. Each kind has a package, and kinds.go lists them. They share only the
// reading of YAML with the rest of the program, so that a mistake in a dialect is not mirrored
// here.
package sim

import (
	_ "embed"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"catena/internal/sim/drive"
	"catena/internal/sim/router"
	"catena/internal/sim/standin"
	"catena/internal/yamldoc"
)

// What a scenario is made of.
type (
	// Device is one stand-in.
	Device = standin.Device
	// ChildDevice is a device that only its parent reaches.
	ChildDevice = standin.ChildDevice
	// Faults are what is wrong with a stand-in.
	Faults = standin.Faults
	// Login is a login that a stand-in accepts.
	Login = standin.Login
	// Pace is how long a stand-in takes.
	Pace = standin.Pace
)

// OneAddress is the place where every stand-in has its own port.
const OneAddress = standin.OneAddress

// What drives and routers ask for besides the login.
const (
	ServiceCode    = drive.ServiceCode
	SecondPassword = router.SecondPassword
)

// Scenario is a simulated site, as its YAML file has it.
type Scenario struct {
	Site    string        `yaml:"site"`
	Login   Login         `yaml:"login"`
	Pace    Pace          `yaml:"pace"`
	Devices []Device      `yaml:"devices"`
	Images  []ImageRecipe `yaml:"images"`
}

// ImageRecipe is an image that the demo makes for the site's shelf.
type ImageRecipe struct {
	Maker    string            `yaml:"maker"`
	Models   []string          `yaml:"models"`
	Version  string            `yaml:"version"`
	File     string            `yaml:"file"`
	Bytes    int64             `yaml:"bytes"`
	Part     string            `yaml:"part"`    // of the device; empty: the device itself
	After    []string          `yaml:"after"`   // as on a manifest
	Pairs    map[string]string `yaml:"pairs"`   // as on a manifest
	Needs    string            `yaml:"needs"`   // as on a manifest
	Advice   string            `yaml:"advice"`  // as on a manifest
	Because  string            `yaml:"because"` // as on a manifest
	Notes    string            `yaml:"notes"`   // the text of its release notes
	Bare     bool              `yaml:"bare"`    // it comes without a manifest
	Bundle   string            `yaml:"bundle"`  // the zip file that it comes in
	Cautions map[string]string `yaml:"cautions"`
	Takes    string            `yaml:"takes"`
	Settings string            `yaml:"settings"` // as on a manifest
}

//go:embed marrow-hill.yaml
var marrowHill []byte

// MarrowHill is the demo's scenario.
func MarrowHill() Scenario {
	s, err := ParseScenario("marrow-hill.yaml", marrowHill)
	if err != nil {
		panic(err) // it is part of the program
	}
	return s
}

//go:embed fleet.yaml
var threeSites []byte

// ThreeSites are three small sites of the same canal.
func ThreeSites() Scenario {
	s, err := ParseScenario("fleet.yaml", threeSites)
	if err != nil {
		panic(err) // it is part of the program
	}
	return s
}

// ParseScenario reads a scenario file; name is what errors call it.
func ParseScenario(name string, data []byte) (Scenario, error) {
	s := Scenario{
		Pace: Pace{Write: 300 * time.Millisecond, Restart: 800 * time.Millisecond,
			Delay: 100 * time.Millisecond},
	}
	doc, err := yamldoc.Decode(name, data, &s)
	if err != nil {
		return s, err
	}
	hosts := map[int]string{}
	for i, d := range s.Devices {
		at := func(key, format string, args ...any) error {
			return doc.Errorf(fmt.Sprintf("$.devices[%d].%s", i, key), key+": "+format, args...)
		}
		switch {
		case kinds[d.Kind].equip == nil:
			return s, at("kind", "must be one of %s",
				strings.Join(slices.Sorted(maps.Keys(kinds)), ", "))
		case d.Host < 1 || d.Host > 253:
			return s, at("host", "must be from 1 to 253")
		case hosts[d.Host] != "":
			return s, at("host", "%d is %s already", d.Host, hosts[d.Host])
		case !slices.Contains([]string{"", "token", "digest", "mixed", "json"}, d.Auth):
			return s, at("auth", "must be token, digest, mixed or json")
		case d.Restarts != "" && d.Restarts != "alone" && d.Restarts != "asked":
			return s, at("restarts", "must be alone or asked")
		}
		hosts[d.Host] = d.Name + "'s"
	}
	return s, nil
}
