// Package job carries out what was decided: it flashes devices, several at once,
// follows each through its steps, proves it after its restart, and returns the
// ones that fail.
//
// Its central type is Engine. Three promises hold in it: an intent is in the
// ledger before its effect is on the device; a write is never interrupted; and a
// version counts only when the device, after its restart, says so itself.
package job

import (
	"time"

	"catena/internal/device"
	"catena/internal/firmware"
	"catena/internal/firmware/version"
	"catena/internal/order"
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

	Done Step = "done" // proven on the new version
	// not touched: it was there already, or the job was stopped before it
	Skipped  Step = "skipped"
	Parked   Step = "parked"   // it has the image, and waits for its restart
	Failed   Step = "failed"   // not touched, or still as before
	Returned Step = "returned" // failed, and proven back on the earlier version
	Stranded Step = "stranded" // needs hands
)

// Ends are the steps at which a device stays.
var Ends = []Step{Done, Parked, Skipped, Failed, Returned, Stranded}

// End tells whether a device stays at this step.
func (s Step) End() bool {
	for _, e := range Ends {
		if s == e {
			return true
		}
	}
	return false
}

// Label is how an image of a component is called in the record.
func Label(component, version string) string {
	if component == firmware.Main {
		return version
	}
	return component + " " + version
}

// Plan is a job before it starts.
type Plan struct {
	Order   order.Order
	Devices map[string]Known // those of the order, by ID
	// Downstream are the devices that are reached through each one of the order, by its ID: those that
	// answered when they were seen last.
	Downstream map[string][]device.Device
}

// Known is a device of a plan: how it was last seen, and how its versions sort.
type Known struct {
	device.Device
	Versions   version.Order
	Alters     bool                 // an image of its path clears or converts its settings
	Clears     bool                 // one clears them
	Resend     bool                 // what the other slot holds has failed on it
	Restarts   int                  // until it runs an image of its path; 0: as its dialect says
	Interlocks []firmware.Interlock // of the images of its path, forth
	Renamed    map[string]string    // settings that they call otherwise, by path
	Patience   firmware.Patience    // as its family and its images say; zero: as usual
}

// Usual is the patience for real devices: some take minutes to write and to start.
var Usual = firmware.Patience{Grace: 3 * time.Minute, Writing: 30 * time.Minute,
	Restarting: 10 * time.Minute, Proving: time.Minute}
