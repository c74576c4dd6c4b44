// Package job carries out what was decided: it flashes devices, several at once,
// follows each through its steps, proves it after its restart, and returns the
// ones that fail.
//
// Its central type is Engine. Three promises hold in it: an intent is in the
// ledger before its effect is on the device; a write is never interrupted; and a
// version counts only when the device, after its restart, says so itself.
package job

import (
	"strings"
	"time"

	"catena/internal/firmware"
	"catena/internal/firmware/version"
	"catena/internal/site"
)

// Step is where a device is in a job, or how it ended.
type Step string

const (
	Waiting    Step = "waiting"
	Checking   Step = "checking"   // log in, look at its state and version
	Sending    Step = "sending"    // the image goes over the wire
	Writing    Step = "writing"    // the device writes it
	Restarting Step = "restarting" // it goes away and comes back
	Proving    Step = "proving"    // is it the same device, on the version sent, and well?

	Done     Step = "done"     // proven on the new version
	Skipped  Step = "skipped"  // not touched: it was there already, or the job was stopped before it
	Failed   Step = "failed"   // not touched, or still as before
	Returned Step = "returned" // failed, and proven back on the earlier version
	Stranded Step = "stranded" // needs hands
)

// Ends are the steps at which a device stays.
var Ends = []Step{Done, Skipped, Failed, Returned, Stranded}

// End tells whether a device stays at this step.
func (s Step) End() bool {
	for _, e := range Ends {
		if s == e {
			return true
		}
	}
	return false
}

// Purpose is what a job is for.
type Purpose string

const (
	Flash    Purpose = "flash"
	Rollback Purpose = "rollback"
)

// Item is what is to be done with one device.
type Item struct {
	Device site.Device
	From   string // what its main component runs, as it was last read
	Path   []Hop  // the images, one after the other; never empty
	Order  version.Order
}

// Hop is one image on the path, and the rollback to the version before it.
type Hop struct {
	From  string // the version of the image's component before
	Image firmware.Image
	Back  *firmware.Image // nil: none
}

// To is what the path leads to: the version of the main component, and of others
// that it changes.
func (i Item) To() string {
	last := map[string]string{}
	var order []string
	for _, h := range i.Path {
		if c := h.Image.Component; c != firmware.Main {
			if last[c] == "" {
				order = append(order, c)
			}
		}
		last[h.Image.Component] = h.Image.Version
	}
	var parts []string
	if v := last[firmware.Main]; v != "" {
		parts = append(parts, v)
	}
	for _, c := range order {
		parts = append(parts, c+" "+last[c])
	}
	return strings.Join(parts, ", ")
}

// label is how a hop's image is called in the record.
func label(i firmware.Image) string {
	if i.Component == firmware.Main {
		return i.Version
	}
	return i.Component + " " + i.Version
}

// Plan is a job before it starts.
type Plan struct {
	Purpose  Purpose
	Parallel int // devices worked on at the same time
	Items    []Item
}

// Timing says how patient the engine is.
type Timing struct {
	// Grace is how long a device that should restart by itself may stay up, beyond
	// the time it announced, before it is asked to. It may be writing all the while.
	Grace       time.Duration
	WriteWithin time.Duration // for a device to write what it was sent
	BackWithin  time.Duration // for a device to come back from its restart
	ProveWithin time.Duration // for a device that is back to be as it should
}

// Usual is the timing for real devices: some take minutes to write and to start.
var Usual = Timing{
	Grace: 3 * time.Minute, WriteWithin: 30 * time.Minute, BackWithin: 10 * time.Minute, ProveWithin: time.Minute,
}

// The bodies of a job's entries in the ledger.

type startedBody struct {
	Purpose  Purpose     `json:"purpose"`
	Parallel int         `json:"parallel"`
	Items    []startItem `json:"items"`
}

type startItem struct {
	Device string     `json:"device"` // its ID
	Name   string     `json:"name"`
	From   string     `json:"from"`
	To     string     `json:"to"`
	Path   []startHop `json:"path"`
}

type startHop struct {
	Component string `json:"component"`
	Version   string `json:"version"`
	SHA256    string `json:"sha256"`
	Size      int64  `json:"size"`           // bytes
	Back      string `json:"back,omitempty"` // SHA-256 of the rollback
}

type stepBody struct {
	Step      Step   `json:"step"`
	To        string `json:"to"`
	Returning bool   `json:"returning,omitempty"` // on its rollback
}

type endBody struct {
	End     Step   `json:"end"`
	Version string `json:"version,omitempty"` // what it was last heard to run
	Reason  string `json:"reason,omitempty"`
	Advice  string `json:"advice,omitempty"` // what a person should do
}
