package standin

import (
	"errors"
	"maps"
	"slices"
	"sync"
	"time"
)

// ChildDevice is a device behind a stand-in, which only that one reaches.
type ChildDevice struct {
	Name    string `yaml:"name"`
	Model   string `yaml:"model"`
	Serial  string `yaml:"serial"`
	Version string `yaml:"version"`
	Faults  Faults `yaml:"faults"` // keeps_version, never_returns, sick
	// it takes an image only while someone holds it to its base, which takes so long
	Hand time.Duration `yaml:"hand"`
}

// Units are the children of a stand-in, and the images that it keeps for them.
type Units struct {
	of     *StandIn
	maker  string
	atOnce int // how many take an image at the same time

	mu     sync.Mutex
	All    []*Unit
	images map[string]storedImage // by digest; a restart of the parent forgets them
	stores int                    // images that were left here, in all
	most   int                    // the largest number that took one at the same time
}

type storedImage struct{ model, version string }

// Unit is one of them. What it does is told by when it started.
type Unit struct {
	ChildDevice
	Runs      string // the version that it runs now
	Next      string // the version being installed
	startedAt time.Time
	restart   time.Time // when it went away to run it
	installs  int
	asked     time.Time // when someone was asked to hold it to its base
}

// NewUnits returns the children of a stand-in. atOnce is how many take an image at the same time.
func NewUnits(s *StandIn, maker string, atOnce int) *Units {
	u := &Units{of: s, maker: maker, atOnce: atOnce, images: map[string]storedImage{}}
	for _, c := range s.Children {
		u.All = append(u.All, &Unit{ChildDevice: c, Runs: c.Version})
	}
	s.units = u
	return u
}

// Why an image is not installed.
var (
	ErrNoUnit   = errors.New("there is no such unit")
	ErrNotKept  = errors.New("the image is not here")
	errBusy     = errors.New("the limit of units that take an image is reached")
	errInstalls = errors.New("it takes an image already")
	errNotHeld  = errors.New("it is not on its base")
	errForeign  = errors.New("the image is for another model")
)

// state is how a unit is now: idle, installing, starting.
func (u *Units) state(c *Unit) (state string, percent int) {
	pace := u.of.Pace
	if c.Next != "" && c.restart.IsZero() {
		if done := time.Since(c.startedAt); done < pace.Write {
			return "installing", int(100 * done / pace.Write)
		}
		c.restart = c.startedAt.Add(pace.Write)
	}
	if !c.restart.IsZero() {
		if c.Faults.NeverReturns && c.Next != c.Version || time.Since(c.restart) < pace.Restart {
			return "starting", 100
		}
		if !c.Faults.KeepsVersion {
			c.Runs = c.Next
		}
		c.Next, c.restart = "", time.Time{}
	}
	return "idle", 0
}

// Well tells whether a unit is.
func (c *Unit) Well() bool { return !(c.Faults.Sick && c.Runs != c.Version) }

// Held tells whether a unit is on its base: one that needs a hand, so long after someone was asked.
func (c *Unit) Held() bool {
	return c.Hand == 0 || !c.asked.IsZero() && time.Since(c.asked) > c.Hand
}

// Each does something with all units, by their places from 1, while none of them changes.
func (u *Units) Each(do func(place int, c *Unit, state string, percent int)) {
	u.mu.Lock()
	defer u.mu.Unlock()
	for i, c := range u.All {
		state, percent := u.state(c)
		do(i+1, c, state, percent)
	}
}

// Keep keeps an image.
func (u *Units) Keep(digest, model, version string) {
	u.mu.Lock()
	defer u.mu.Unlock()
	u.images[digest] = storedImage{model, version}
	u.stores++
}

// Kept returns the digests of the images that are kept.
func (u *Units) Kept() []string {
	u.mu.Lock()
	defer u.mu.Unlock()
	return slices.AppendSeq([]string{}, maps.Keys(u.images))
}

// forget is the effect of a parent's restart; its children are cut off until it is back.
func (u *Units) forget() (interrupted int) {
	u.mu.Lock()
	defer u.mu.Unlock()
	clear(u.images)
	for _, c := range u.All {
		if state, _ := u.state(c); state == "installing" {
			interrupted++
		}
	}
	return interrupted
}

// Install has the unit at a place take an image that is kept.
func (u *Units) Install(place int, digest string) error {
	u.mu.Lock()
	defer u.mu.Unlock()
	if place < 1 || place > len(u.All) {
		return ErrNoUnit
	}
	c, busy := u.All[place-1], 0
	for _, other := range u.All {
		if state, _ := u.state(other); state == "installing" {
			busy++
		}
	}
	image, is := u.images[digest]
	state, _ := u.state(c)
	switch {
	case !is:
		return ErrNotKept
	case image.model != c.Model:
		return errForeign
	case state != "idle":
		return errInstalls
	case busy >= u.atOnce:
		return errBusy
	case !c.Held():
		return errNotHeld
	}
	c.Next, c.startedAt, c.restart = image.version, time.Now(), time.Time{}
	c.installs++
	u.most = max(u.most, busy+1)
	return nil
}

// Ask has someone hold a unit to its base.
func (u *Units) Ask(place int) {
	u.mu.Lock()
	defer u.mu.Unlock()
	if place >= 1 && place <= len(u.All) && u.All[place-1].asked.IsZero() {
		u.All[place-1].asked = time.Now()
	}
}

// ChildCounts are a parent's counts of its children.
type ChildCounts struct {
	Stores   int            `json:"stores"`   // images that were left with it
	Most     int            `json:"most"`     // the largest number that took one at the same time
	Installs map[string]int `json:"installs"` // by serial number
}

func (u *Units) counts() *ChildCounts {
	if u == nil {
		return nil
	}
	u.mu.Lock()
	defer u.mu.Unlock()
	out := &ChildCounts{Stores: u.stores, Most: u.most, Installs: map[string]int{}}
	for _, c := range u.All {
		out.Installs[c.Serial] += c.installs
	}
	return out
}
