package sim

import (
	"errors"
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

// units are the children of a stand-in, and the images that it keeps for them.
type units struct {
	of     *standIn
	maker  string
	atOnce int // how many take an image at the same time

	mu     sync.Mutex
	all    []*unit
	images map[string]storedImage // by digest; a restart of the parent forgets them
	stores int                    // images that were left here, in all
	most   int                    // the largest number that took one at the same time
}

type storedImage struct{ model, version string }

// unit is one of them. What it does is told by when it started.
type unit struct {
	ChildDevice
	version  string // what it runs
	next     string // what is being installed
	began    time.Time
	restart  time.Time // when it went away to run it
	installs int
	asked    time.Time // when someone was asked to hold it to its base
}

func newUnits(s *standIn, maker string, atOnce int) *units {
	u := &units{of: s, maker: maker, atOnce: atOnce, images: map[string]storedImage{}}
	for _, c := range s.Children {
		u.all = append(u.all, &unit{ChildDevice: c, version: c.Version})
	}
	s.units = u
	return u
}

// Why an image is not installed.
var (
	errNoUnit   = errors.New("there is no such unit")
	errNotKept  = errors.New("the image is not here")
	errBusy     = errors.New("the limit of units that take an image is reached")
	errInstalls = errors.New("it takes an image already")
	errNotHeld  = errors.New("it is not on its base")
	errForeign  = errors.New("the image is for another model")
)

// state is how a unit is now: idle, installing, starting.
func (u *units) state(c *unit) (state string, percent int) {
	pace := u.of.pace
	if c.next != "" && c.restart.IsZero() {
		if done := time.Since(c.began); done < pace.Write {
			return "installing", int(100 * done / pace.Write)
		}
		c.restart = c.began.Add(pace.Write)
	}
	if !c.restart.IsZero() {
		if c.Faults.NeverReturns && c.next != c.Version || time.Since(c.restart) < pace.Restart {
			return "starting", 100
		}
		if !c.Faults.KeepsVersion {
			c.version = c.next
		}
		c.next, c.restart = "", time.Time{}
	}
	return "idle", 0
}

// well tells whether a unit is.
func (c *unit) well() bool { return !(c.Faults.Sick && c.version != c.Version) }

// held tells whether a unit is on its base: one that needs a hand, so long after someone was asked.
func (c *unit) held() bool {
	return c.Hand == 0 || !c.asked.IsZero() && time.Since(c.asked) > c.Hand
}

// each does something with all units, by their places from 1, while none of them changes.
func (u *units) each(do func(place int, c *unit, state string, percent int)) {
	u.mu.Lock()
	defer u.mu.Unlock()
	for i, c := range u.all {
		state, percent := u.state(c)
		do(i+1, c, state, percent)
	}
}

// keep keeps an image.
func (u *units) keep(digest, model, version string) {
	u.mu.Lock()
	defer u.mu.Unlock()
	u.images[digest] = storedImage{model, version}
	u.stores++
}

// forget is what a restart of the parent does; its children are cut off until it is back.
func (u *units) forget() (interrupted int) {
	u.mu.Lock()
	defer u.mu.Unlock()
	clear(u.images)
	for _, c := range u.all {
		if state, _ := u.state(c); state == "installing" {
			interrupted++
		}
	}
	return interrupted
}

// install has the unit at a place take an image that is kept.
func (u *units) install(place int, digest string) error {
	u.mu.Lock()
	defer u.mu.Unlock()
	if place < 1 || place > len(u.all) {
		return errNoUnit
	}
	c, busy := u.all[place-1], 0
	for _, other := range u.all {
		if state, _ := u.state(other); state == "installing" {
			busy++
		}
	}
	image, is := u.images[digest]
	state, _ := u.state(c)
	switch {
	case !is:
		return errNotKept
	case image.model != c.Model:
		return errForeign
	case state != "idle":
		return errInstalls
	case busy >= u.atOnce:
		return errBusy
	case !c.held():
		return errNotHeld
	}
	c.next, c.began, c.restart = image.version, time.Now(), time.Time{}
	c.installs++
	u.most = max(u.most, busy+1)
	return nil
}

// ask has someone hold a unit to its base.
func (u *units) ask(place int) {
	u.mu.Lock()
	defer u.mu.Unlock()
	if place >= 1 && place <= len(u.all) && u.all[place-1].asked.IsZero() {
		u.all[place-1].asked = time.Now()
	}
}

// ChildCounts are what a parent saw of its children.
type ChildCounts struct {
	Stores   int            `json:"stores"`   // images that were left with it
	Most     int            `json:"most"`     // the largest number that took one at the same time
	Installs map[string]int `json:"installs"` // by serial number
}

func (u *units) counts() *ChildCounts {
	if u == nil {
		return nil
	}
	u.mu.Lock()
	defer u.mu.Unlock()
	out := &ChildCounts{Stores: u.stores, Most: u.most, Installs: map[string]int{}}
	for _, c := range u.all {
		out.Installs[c.Serial] += c.installs
	}
	return out
}
