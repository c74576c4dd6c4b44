// Package site reads and edits the site file, site.yaml, and the targets of targets.yaml, and
// answers what they say about a device: its name, group, hold, place, uplinks and target. It is
// pure: it takes bytes and devices and returns values. The devices themselves are in record.
package site

import (
	"cmp"
	"fmt"
	"maps"
	"net/netip"
	"path"
	"slices"
	"strings"
	"time"

	"github.com/goccy/go-yaml"

	"catena/internal/bacnet"
	"catena/internal/device"
	"catena/internal/firmware"
	"catena/internal/inventory"
	"catena/internal/text"
	"catena/internal/yamldoc"
)

// File is the name of the site file; the folder that holds it is the site folder.
const File = "site.yaml"

// Site is the content of a site file.
type Site struct {
	Name     string              `yaml:"site"`
	Networks []Network           `yaml:"networks"`
	Groups   map[string][]string `yaml:"groups"` // names of devices, with wildcards, by group
	Kinds    map[string][]string `yaml:"kinds"`  // the same, by kind: camera, switch, sensor ...
	Hold     []Hold              `yaml:"hold"`
	Targets  []Target            `yaml:"-"` // of targets.yaml, by Join
	// Inventory is that of inventory.yaml, by List. What the site file states itself counts first.
	Inventory inventory.Inventory `yaml:"-"`
	// where copies of saved settings are kept: a folder, https://…, or sftp://…
	SecondPlace string     `yaml:"second_place"`
	Lockstep    []Lockstep `yaml:"lockstep"`
	Uplinks     []Uplink   `yaml:"uplinks"`
	Cover       []Cover    `yaml:"cover"`
	Limits      Limits     `yaml:"limits"`
	Windows     []Window   `yaml:"windows"` // none: work may be done at any time
	// of windows, as IANA names it; empty: this machine's
	Timezone   string            `yaml:"timezone"`
	StopAfter  StopAfter         `yaml:"stop_after"`
	Patience   firmware.Patience `yaml:"patience"`   // with all its devices
	Signatures Signatures        `yaml:"signatures"` // which an order must have
	Tell       []Tell            `yaml:"tell"`       // who is told of what happens in a job
	Audit      Audit             `yaml:"audit"`
	Before     []Question        `yaml:"before"` // what a person checks off before an update
	After      []Question        `yaml:"after"`  // what a person checks after it
	// What stands on a report, besides: who made it, a word to the customer, and a picture.
	Engineer string `yaml:"engineer"`
	Note     string `yaml:"note"`
	Logo     string `yaml:"logo"` // a file in the site folder
	// Language is that of the customer's edition of a report: en, de, or another one with a file
	// report/LANGUAGE.yaml in the site folder.
	Language string `yaml:"language"`
	// Places are where devices are, by name, in the order in which they are walked to.
	Places yaml.MapSlice `yaml:"places"`
	Units  []Unit        `yaml:"units"`
	ByHand []ByHand      `yaml:"by_hand"`
	// where images for them are laid ready, such as a stick; empty: in the site folder
	Stick string `yaml:"stick"`
	// Names are what devices are called here, by address, serial number or MAC
	// address.
	Names map[string]string `yaml:"names"`
}

// Audit says what an audit requires of devices.
type Audit struct {
	// Authority is a file in the site folder with the certificates, in PEM, of who must have signed
	// those of devices; empty: anyone, also a device itself.
	Authority string `yaml:"authority"`
}

// Network is a part of the site's network that is looked through. What answers
// from outside its ranges is not the site's and is skipped.
type Network struct {
	Name    string   `yaml:"name"`
	Adapter string   `yaml:"adapter"` // the laptop's own, by name; empty: all
	Ranges  []string `yaml:"ranges"`
	Except  []string `yaml:"except"`
	Ports   []string `yaml:"ports"` // empty: the usual ones; see ParsePort
	Wide    bool     `yaml:"wide"`  // a range of more than a /16 is meant
	// addresses of BBMDs, which bring BACnet's broadcasts to networks behind routers
	BBMD []string `yaml:"bbmd"`
}

// Lockstep is a set of devices whose versions must go together, as their images'
// manifests say (pairs).
type Lockstep struct {
	Name string   `yaml:"name"`
	Of   []string `yaml:"of"` // names of devices, with wildcards
}

// Has tells whether a device belongs to the set.
func (l Lockstep) Has(d device.Device) bool { return slices.ContainsFunc(l.Of, d.Answers) }

// Hold says that a device is to be left as it is.
type Hold struct {
	Device  string `yaml:"device"` // name, with wildcards, or address or serial number
	Group   string `yaml:"group"`  // all devices of this group instead
	Because string `yaml:"because"`
	Until   string `yaml:"until"` // the day on which it ends, such as 2027-03-01; empty: it is dropped
}

// Of is what the hold is for, as it is written: a device, a pattern, or a group.
func (h Hold) Of() string { return cmp.Or(h.Device, h.Group) }

// Why is why devices are held, and until when.
func (h Hold) Why() string {
	if h.Until == "" {
		return h.Because
	}
	return h.Because + " (until " + h.Until + ")"
}

// At is the site without the holds that are over at a time.
func (s Site) At(now time.Time) Site {
	s.Hold = slices.DeleteFunc(slices.Clone(s.Hold), func(h Hold) bool {
		ends, err := time.ParseInLocation(time.DateOnly, h.Until, s.Zone())
		return err == nil && !now.Before(ends)
	})
	return s
}

// Parse reads a site file; name is what errors call it.
func Parse(name string, data []byte) (Site, error) {
	var s Site
	doc, err := yamldoc.Decode(name, data, &s)
	if err != nil {
		return s, err
	}
	if text.Clean(s.Name) == "" {
		return s, doc.Errorf("$.site", "site: is missing; give the site a name")
	}
	for _, check := range []func(*yamldoc.Doc) error{
		s.checkNetworks, s.checkHolds, s.checkLockstep, s.checkUplinks, s.checkNames, s.checkGroups,
		s.checkKinds,
		s.checkCover, s.checkLimits, s.checkWindows, s.checkSignatures, s.checkPatience, s.checkHands,
		s.checkPlaces, s.checkTell, s.checkQuestions,
	} {
		if err := check(doc); err != nil {
			return s, err
		}
	}
	return s, nil
}

func (s Site) checkNetworks(doc *yamldoc.Doc) error {
	for i, n := range s.Networks {
		for key, list := range map[string][]string{"ranges": n.Ranges, "except": n.Except} {
			for j, text := range list {
				at := fmt.Sprintf("$.networks[%d].%s[%d]", i, key, j)
				switch r, err := ParseRange(text); {
				case err != nil:
					return doc.Errorf(at, "%s: %v", key, err)
				case key == "ranges" && r.Wide() && !n.Wide:
					return doc.Errorf(at,
						"ranges: %s has more than %d addresses; add wide: true if you mean it",
						text, MaxAddresses)
				}
			}
		}
		for j, text := range n.Ports {
			if _, err := ParsePort(text); err != nil {
				return doc.Errorf(fmt.Sprintf("$.networks[%d].ports[%d]", i, j), "ports: %v", err)
			}
		}
		for j, text := range n.BBMD {
			if _, err := relay(text); err != nil {
				return doc.Errorf(fmt.Sprintf("$.networks[%d].bbmd[%d]", i, j), "bbmd: %v", err)
			}
		}
	}
	return nil
}

// isPattern tells whether a text can name devices.
func isPattern(text string) bool {
	_, err := path.Match(text, "")
	return text != "" && err == nil
}

func (s Site) checkHolds(doc *yamldoc.Doc) error {
	for i, h := range s.Hold {
		at := fmt.Sprintf("$.hold[%d]", i)
		if _, known := s.Groups[h.Group]; h.Group != "" && (h.Device != "" || !known) {
			return doc.Errorf(at, "hold: group: write one of groups:, and no device beside it")
		}
		if h.Group == "" && !isPattern(h.Device) {
			return doc.Errorf(at, "hold: device must be a name, an address or a serial number")
		}
		if _, err := time.Parse(time.DateOnly, h.Until); h.Until != "" && err != nil {
			return doc.Errorf(at, "hold: until: %q is not a day; write for example 2027-03-01", h.Until)
		}
		if text.Clean(h.Because) == "" {
			return doc.Errorf(fmt.Sprintf("$.hold[%d]", i),
				"hold: because: is missing; give the reason, for those who come after you")
		}
	}
	return nil
}

func (s Site) checkLockstep(doc *yamldoc.Doc) error {
	for i, l := range s.Lockstep {
		for j, pattern := range l.Of {
			if !isPattern(pattern) {
				return doc.Errorf(fmt.Sprintf("$.lockstep[%d].of[%d]", i, j),
					"lockstep: %q is not a name", pattern)
			}
		}
		if len(l.Of) < 2 {
			return doc.Errorf(fmt.Sprintf("$.lockstep[%d]", i),
				"lockstep: a set needs at least two devices (of: […])")
		}
	}
	return nil
}

func (s Site) checkGroups(doc *yamldoc.Doc) error {
	for _, g := range s.groupNames() {
		for j, pattern := range s.Groups[g] {
			if !isPattern(pattern) {
				return doc.Errorf(fmt.Sprintf("$.groups.%s[%d]", g, j), "groups: %q is not a name",
					pattern)
			}
		}
	}
	return nil
}

func (s Site) checkKinds(doc *yamldoc.Doc) error {
	for _, kind := range slices.Sorted(maps.Keys(s.Kinds)) {
		if !device.IsKind(kind) {
			return doc.Errorf("$.kinds", "kinds: %q is not a kind; write for example sensor", kind)
		}
		for _, pattern := range s.Kinds[kind] {
			if !isPattern(pattern) {
				return doc.Errorf("$.kinds", "kinds: %s: %q is not a name", kind, pattern)
			}
		}
	}
	return nil
}

// KindOf is the kind that the site gives a device; empty: none. Of several the first by name.
func (s Site) KindOf(d device.Device) string {
	for _, kind := range slices.Sorted(maps.Keys(s.Kinds)) {
		if slices.ContainsFunc(s.Kinds[kind], d.Answers) {
			return kind
		}
	}
	return ""
}

func (s Site) groupNames() []string { return slices.Sorted(maps.Keys(s.Groups)) }

// Held returns the hold that applies to a device, if any; the first one wins.
func (s Site) Held(d device.Device) (Hold, bool) {
	for _, h := range s.Hold {
		if h.Group != "" && s.InGroup(h.Group, d) || h.Group == "" && d.Answers(h.Device) {
			return h, true
		}
	}
	return Hold{}, false
}

// checkNames wants every name to be one that can be typed, and given once.
func (s Site) checkNames(doc *yamldoc.Doc) error {
	given := map[string]string{}
	for _, key := range slices.Sorted(maps.Keys(s.Names)) {
		name := s.Names[key]
		if err := CheckName(name); err != nil {
			return doc.Errorf("$.names", "names: %v", err)
		}
		if other, ok := given[strings.ToLower(name)]; ok {
			return doc.Errorf("$.names", "names: %s and %s are both called %s", other, key, name)
		}
		given[strings.ToLower(name)] = key
	}
	return nil
}

// looksLikeID is a device's ID: a name must not be another one's.
var looksLikeID = text.Later(`^[dD][0-9]+$`)

// CheckName refuses names that cannot be typed, or that mean something else.
func CheckName(name string) error {
	if !text.IsName(name) {
		return fmt.Errorf("%q cannot be a name; use letters, digits, and the signs . _ - only",
			name)
	}
	if _, err := ParseRange(name); err == nil {
		return fmt.Errorf("%q is an address, not a name", name)
	}
	if looksLikeID().MatchString(name) {
		return fmt.Errorf("%q looks like the ID of a device; choose another name", name)
	}
	return nil
}

// NameOf is what the site file calls a device, or else the inventory, if one of them does.
func (s Site) NameOf(d device.Device) (string, bool) {
	if name, is := s.Fixed(d); is {
		return name, true
	}
	d.Name = "" // a device calls itself as it likes: that is not what the inventory calls it
	item, _ := s.Inventory.Find(d)
	return item.Name, item.Name != "" && item.Key != item.Name
}

// Fixed is what the site file calls a device, if it does.
func (s Site) Fixed(d device.Device) (string, bool) {
	for _, key := range slices.Sorted(maps.Keys(s.Names)) {
		if slices.Contains([]string{d.Address, d.Host()}, key) || d.Serial != "" &&
			strings.EqualFold(d.Serial, key) ||
			d.MAC != "" && strings.EqualFold(d.MAC, key) {
			return s.Names[key], true
		}
	}
	return "", false
}

// Meant finds the devices that a person means by a word. An ID comes first, then an address,
// then a name that a person gave: a device that calls itself like another one's ID or address
// is not meant. Then any name, a serial number or a MAC address; else a pattern for
// names; else, from four characters on, the end of a serial number.
func Meant(devices []device.Device, word string) []device.Device {
	for _, is := range []func(device.Device) bool{
		func(d device.Device) bool { return d.ID == word },
		func(d device.Device) bool { return d.Address == word || d.Host() == word },
		func(d device.Device) bool { return d.Named && strings.EqualFold(d.Name, word) },
		func(d device.Device) bool { return strings.EqualFold(d.Name, word) },
		func(d device.Device) bool { return d.Is(word) },
		func(d device.Device) bool { return d.Answers(word) },
		func(d device.Device) bool {
			return len(word) >= 4 &&
				strings.HasSuffix(strings.ToLower(d.Serial), strings.ToLower(word))
		},
	} {
		var out []device.Device
		for _, d := range devices {
			if is(d) {
				out = append(out, d)
			}
		}
		if len(out) > 0 {
			return out
		}
	}
	return nil
}

// Inside returns the network's ranges and exceptions, parsed. Parse has checked
// them, so that none can fail here.
func (n Network) Inside() (ranges, except []Range) {
	parse := func(list []string) (out []Range) {
		for _, text := range list {
			if r, err := ParseRange(text); err == nil {
				out = append(out, r)
			}
		}
		return out
	}
	return parse(n.Ranges), parse(n.Except)
}

// PortList returns the network's ports, parsed; see Inside.
func (n Network) PortList() []Port {
	var out []Port
	for _, text := range n.Ports {
		if p, err := ParsePort(text); err == nil {
			out = append(out, p)
		}
	}
	return out
}

// Relays returns the addresses of the network's BBMDs; see Inside.
func (n Network) Relays() []netip.AddrPort {
	var out []netip.AddrPort
	for _, text := range n.BBMD {
		if a, err := relay(text); err == nil {
			out = append(out, a)
		}
	}
	return out
}

// relay reads the address of a BBMD: 10.20.0.5, or with another port 10.20.0.5:47809.
func relay(text string) (netip.AddrPort, error) {
	at, err := netip.ParseAddrPort(text)
	if err != nil {
		var a netip.Addr
		if a, err = netip.ParseAddr(text); err == nil {
			at = netip.AddrPortFrom(a, bacnet.Port)
		}
	}
	if err != nil || !at.Addr().Is4() || at.Port() == 0 {
		return at, fmt.Errorf("%q is not the address of a BBMD, such as 10.20.0.5", text)
	}
	return at, nil
}
