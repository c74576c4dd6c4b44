// Package order holds the orders of a site and the dispatcher that decides which device may
// start when.
//
// Its central type is State: an order and the progress of its devices. State.Next returns what
// may start now; State.Apply records what happened. Nothing else decides: a forecast runs the
// two on a virtual clock (Play), a job runs them with real devices, and a resumed job applies
// the events of its ledger. So a job does what its forecast promised, and each rule is written
// once.
//
// The package is pure: no I/O, no clock, no goroutine. It decides when a device is written to,
// never how.
package order

import (
	"slices"
	"strings"
	"time"

	"catena/internal/firmware"
)

// Purpose is what an order is for.
type Purpose string

const (
	Forward  Purpose = "flash"    // bring devices to their targets
	Backward Purpose = "rollback" // bring them back to what they ran before
)

// Order is what is to be done, and under which rules. Devices are called by their IDs: a name
// may change. It stands in a file that a person can read, change and sign, and in the record
// of the job that carries it out.
type Order struct {
	Format  int       `yaml:"order" json:"-"` // of the file; always 1
	Name    string    `yaml:"name" json:"name,omitempty"`
	Note    string    `yaml:"note,omitempty" json:"note,omitempty"`
	Site    string    `yaml:"site" json:"site,omitempty"`
	Purpose Purpose   `yaml:"purpose" json:"purpose"`
	Made    time.Time `yaml:"made" json:"made,omitzero"`
	// GiveUp bounds the waiting for one device in all its steps, never a write; 0: each
	// step has its own patience.
	GiveUp time.Duration `yaml:"give_up,omitempty" json:"give_up,omitempty"` // JSON: ns
	// Stage says that images are only sent: the devices are parked until they are restarted.
	Stage bool `yaml:"stage,omitempty" json:"stage,omitempty"`
	// WaitAway is how long devices that are away are asked again before they fail; 0: once.
	WaitAway time.Duration `yaml:"wait_away,omitempty" json:"wait_away,omitempty"` // JSON: ns
	// WaitFor is how long a device is waited for that an interlock forbids to update; 0: it is asked
	// once.
	WaitFor time.Duration `yaml:"wait_for,omitempty" json:"wait_for,omitempty"` // JSON: ns
	// the first goes first where nothing else decides
	Devices  []Device  `yaml:"devices" json:"devices"`
	Rules    Rules     `yaml:"rules" json:"rules"`
	Cautions []Caution `yaml:"cautions,omitempty" json:"cautions,omitempty"`
	// Checks are what a person checks after the work; none of them is accepted before.
	Checks []Caution `yaml:"checks,omitempty" json:"checks,omitempty"`
	// Station says that the site's station carries the order out; nil: a person does.
	Station *Errand `yaml:"station,omitempty" json:"station,omitempty"`
	// Names are those of devices that the rules mean and that are not worked on, by ID.
	Names map[string]string `yaml:"-" json:"names,omitempty"`

	// What is known only when it is read, or starts.
	// the SHA-256 of the file that it was read from; empty: it was made on the spot
	Digest string `yaml:"-" json:"digest,omitempty"`
	// fingerprints of the keys that signed it
	Signed []string `yaml:"-" json:"signed,omitempty"`
	// Rehearsal: it is carried out on stand-ins, so no command may be proposed for its job: the
	// site has another job of that ID, or none.
	Rehearsal bool `yaml:"-" json:"rehearsal,omitempty"`
	// Start is when a scheduled job starts; zero: at once.
	Start time.Time `yaml:"-" json:"start,omitzero"`
	// when the window ends; zero: it does not
	Closes time.Time `yaml:"-" json:"closes,omitzero"`
	// the longest there is, in ns; 0: always open
	Window time.Duration `yaml:"-" json:"window,omitempty"`
}

// Errand is what an order says to the station of its site.
type Errand struct {
	After time.Time `yaml:"after,omitempty" json:"after,omitzero"` // not before
	Until time.Time `yaml:"until" json:"until"`                    // nor from then on
}

// Downstream returns the names of the devices of the order that are reached through one of them, or
// fed by it.
func (o Order) Downstream(id string) (names []string) {
	for _, d := range o.Devices {
		if slices.Contains(d.Through, id) {
			names = append(names, d.Name)
		}
	}
	return names
}

// Device is a device that is worked on.
type Device struct {
	Name   string `yaml:"device" json:"name"`
	ID     string `yaml:"id" json:"device"`
	Model  string `yaml:"model" json:"model,omitempty"`
	Kind   string `yaml:"kind,omitempty" json:"kind,omitempty"`
	Serial string `yaml:"serial,omitempty" json:"serial,omitempty"`
	From   string `yaml:"from" json:"from"` // what its main component runs
	Path   []Hop  `yaml:"path" json:"path"` // the images, one after the other
	// Takes is from its check to its proof, Returns its rollback, should it fail, as
	// expected; Because says by what: history, manifest, or size.
	Takes   time.Duration `yaml:"takes" json:"takes,omitempty"` // JSON: ns
	Returns time.Duration `yaml:"returns,omitempty" json:"returns,omitempty"`
	Because string        `yaml:"because,omitempty" json:"because,omitempty"`
	// Through are the devices that it is reached through or fed by, whether they are worked
	// on or not, also by way of others.
	Through []string `yaml:"through,flow,omitempty" json:"through,omitempty"`
	// Parent is the device that tells of it, of a child: one of those that it is reached through.
	Parent string `yaml:"parent,omitempty" json:"parent,omitempty"`
	// First says that it goes before those that are reached through it; else it goes after.
	First bool `yaml:"first,omitempty" json:"first,omitempty"`
	// By is hand where a person brings the images to it; else Catena sends them.
	By string `yaml:"by,omitempty" json:"by,omitempty"`
	// Parked says that it has its image, and waits for its restart.
	Parked bool `yaml:"parked,omitempty" json:"parked,omitempty"`
	// Again says that it gets what it runs already, once more: its restart must then be seen.
	Again bool `yaml:"again,omitempty" json:"again,omitempty"`
	// who must have ended before, besides
	After []string `yaml:"after,flow,omitempty" json:"after,omitempty"`
}

// ByHand is the By of a device that a person updates.
const ByHand = "hand"

// Hop is one image on a device's path, and how it is rolled back.
type Hop struct {
	Component string `yaml:"component,omitempty" json:"component"` // left out in a file: main
	From      string `yaml:"from" json:"from"`
	To        string `yaml:"to" json:"to"`
	// left out: To is in the device's other slot, and is only switched to
	Image Image `yaml:"image,omitempty" json:"image,omitzero"`
	// the image of From; nil: none
	Back *Image `yaml:"rollback,omitempty" json:"rollback,omitempty"`
	// Slots says that the device keeps From in its other slot: a switch brings it back.
	Slots bool `yaml:"slots,omitempty" json:"slots,omitempty"`
}

// Switches tells whether nothing is sent: the device starts what its other slot holds.
func (h Hop) Switches() bool { return h.Image == Image{} }

// Caution is what a person must know, and accept, before an order starts.
type Caution struct {
	Name    string   `yaml:"name" json:"name"` // a short word
	Text    string   `yaml:"text" json:"text"`
	Devices []string `yaml:"devices,flow" json:"devices"` // names of those that it is about
	// Accepted says by whom and when it was accepted; empty: it was not.
	Accepted string `yaml:"accepted,omitempty" json:"accepted,omitempty"`
}

// Image is an image on the shelf.
type Image struct {
	File   string `yaml:"file" json:"file,omitempty"`
	SHA256 string `yaml:"sha256" json:"sha256"` // 64 hexadecimal digits
	Size   int64  `yaml:"size" json:"size"`     // bytes
}

// To is what the path leads to: the version of the main component, and of others that it
// changes.
func (d Device) To() string {
	last := map[string]string{}
	var others []string
	for _, h := range d.Path {
		if h.Component != firmware.Main && last[h.Component] == "" {
			others = append(others, h.Component)
		}
		last[h.Component] = h.To
	}
	var parts []string
	if v := last[firmware.Main]; v != "" {
		parts = append(parts, v)
	}
	for _, c := range others {
		parts = append(parts, c+" "+last[c])
	}
	return strings.Join(parts, ", ")
}

// Rollback returns how the device would be rolled back.
func (d Device) Rollback() firmware.Rollback {
	switch {
	case !d.Returnable():
		return firmware.ByNothing
	case len(d.Path) == 1 && d.Path[0].Slots:
		return firmware.BySlot
	}
	return firmware.ByImage
}

// Returnable reports whether every image of the path can be rolled back.
func (d Device) Returnable() bool {
	return len(d.Path) > 0 && !slices.ContainsFunc(d.Path, func(h Hop) bool {
		return h.Back == nil && !h.Slots
	})
}

// ModelAndImages is what devices have in common that share a pilot: the model, and the images.
func (d Device) ModelAndImages() string {
	words := []string{d.Model}
	for _, h := range d.Path {
		words = append(words, h.Image.SHA256)
	}
	return strings.Join(words, " ")
}

// Accepts reports whether someone has accepted a caution of the order.
func (o Order) Accepts(caution string) bool {
	return slices.ContainsFunc(o.Cautions, func(c Caution) bool {
		return c.Name == caution && c.Accepted != ""
	})
}

// Unaccepted are the names of the cautions that no one has accepted.
func (o Order) Unaccepted() (names []string) {
	for _, c := range o.Cautions {
		if c.Accepted == "" && !slices.Contains(names, c.Name) {
			names = append(names, c.Name)
		}
	}
	return names
}

// AcceptAll accepts the cautions that are named, and returns those that no one has accepted.
func (o *Order) AcceptAll(names []string, by string) []string {
	for i := range o.Cautions {
		c := &o.Cautions[i]
		if slices.Contains(names, c.Name) || slices.Contains(names, firmware.AllCautions) {
			c.Accepted = by
		}
	}
	return o.Unaccepted()
}
