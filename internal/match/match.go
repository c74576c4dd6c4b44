// Package match says how each device stands against the shelf: which image it
// should get, why, and how it would be returned.
//
// It is pure: devices, images and holds go in, a Row for each device comes out.
// The forecast, the flash and the list all ask here; the rule stands once.
package match

import (
	"fmt"
	"strings"

	"catena/internal/firmware"
	"catena/internal/firmware/version"
	"catena/internal/site"
)

// Standing is how a device stands.
type Standing string

const (
	Current   Standing = "current"   // it runs what it should
	Behind    Standing = "behind"    // a later image is on the shelf
	Ahead     Standing = "ahead"     // it runs something later than the shelf has
	Unmatched Standing = "unmatched" // the shelf has nothing for it
	Locked    Standing = "locked"    // it refuses the login
	Away      Standing = "away"      // it does not answer
	Held      Standing = "held"      // the site says to leave it alone
)

// Standings in the order in which lists show them: what wants a person first.
var Standings = []Standing{Away, Locked, Behind, Unmatched, Ahead, Held, Current}

// WayBack is how a device would be returned to what it runs.
type WayBack string

const (
	ByImage WayBack = "image" // the image of its version is on the shelf
	None    WayBack = "none"
)

// Row is one device against the shelf.
type Row struct {
	Device    site.Device
	Component string
	Standing  Standing
	Target    string          // the version it should run; empty: none
	Image     *firmware.Image // of the target, where the device should be flashed
	Back      *firmware.Image // the way back from the target; nil: none
	Reason    string
}

// WayBack names the way back.
func (r Row) WayBack() WayBack {
	if r.Back != nil {
		return ByImage
	}
	return None
}

// Matcher is a shelf and a site file, ready to be asked.
type Matcher struct {
	images map[string][]firmware.Image // by lower-case vendor and model
	site   site.Site
}

// New makes a matcher.
func New(images []firmware.Image, s site.Site) *Matcher {
	m := &Matcher{images: map[string][]firmware.Image{}, site: s}
	for _, image := range images {
		for _, model := range image.Models {
			k := key(image.Vendor, model)
			m.images[k] = append(m.images[k], image)
		}
	}
	return m
}

func key(vendor, model string) string { return strings.ToLower(vendor + "\x00" + model) }

// All matches every device.
func (m *Matcher) All(devices []site.Device) []Row {
	out := make([]Row, 0, len(devices))
	for _, d := range devices {
		out = append(out, m.Device(d))
	}
	return out
}

// Device matches one device.
func (m *Matcher) Device(d site.Device) Row {
	row := Row{Device: d, Component: firmware.Main}
	hold, held := m.site.Held(d)
	switch {
	case d.Reach == site.Away || d.Reach == site.Silent:
		row.Standing, row.Reason = Away, d.Trouble
		return row
	case d.Reach == site.Locked:
		row.Standing, row.Reason = Locked, d.Trouble
		return row
	case held:
		row.Standing, row.Reason = Held, "the site file holds it"
		if hold.Because != "" {
			row.Reason += ": " + hold.Because
		}
		return row
	}
	best, why := m.best(d)
	if best == nil {
		row.Standing, row.Reason = Unmatched, why
		return row
	}
	row.Target = best.Version
	switch c := version.Compare(d.Version, best.Version); {
	case c == 0:
		row.Standing, row.Reason = Current, "runs the newest recommended"
	case c > 0:
		row.Standing, row.Reason = Ahead, fmt.Sprintf("the shelf has nothing later than %s", best.Version)
	default:
		row.Standing, row.Image = Behind, best
		row.Back = m.WayBack(d, *best)
		row.Reason = "the newest recommended"
		if why != "" {
			row.Reason += "; " + why
		}
		if row.Back == nil {
			row.Reason += fmt.Sprintf("; no way back: %s is not on the shelf", d.Version)
		}
	}
	return row
}

// best is the newest image that may be sent to the device now, and what should be
// known about newer ones that may not. Where there is none it says why.
func (m *Matcher) best(d site.Device) (best *firmware.Image, why string) {
	of := m.images[key(d.Vendor, d.Model)]
	if len(of) == 0 {
		return nil, fmt.Sprintf("no image for %s %s on the shelf", d.Vendor, d.Model)
	}
	var passed *firmware.Image
	for i := range of {
		image := &of[i]
		reason := cannot(*image, d)
		switch {
		case reason == "" && (best == nil || version.Compare(image.Version, best.Version) > 0):
			best = image
		case reason != "" && (passed == nil || version.Compare(image.Version, passed.Version) > 0):
			passed, why = image, fmt.Sprintf("%s is not for it: %s", image.Version, reason)
		}
	}
	if best != nil && (passed == nil || version.Compare(passed.Version, best.Version) <= 0) {
		why = ""
	}
	return best, why
}

// cannot says why an image may not be sent to a device; empty: it may.
func cannot(image firmware.Image, d site.Device) string {
	switch {
	case !image.Fits(d.Vendor, d.Model, d.Hardware):
		return fmt.Sprintf("it is for hardware %s", image.Hardware)
	case image.Component != firmware.Main:
		return fmt.Sprintf("it is for the component %s; only whole devices are flashed", image.Component)
	case len(image.After) > 0:
		return fmt.Sprintf("the component %s must go first; only whole devices are flashed", strings.Join(image.After, ", "))
	case image.Status != firmware.Recommended:
		return fmt.Sprintf("it is %s", image.Status)
	case version.Compare(image.Version, d.Version) > 0 && !firmware.Meets(image.Needs, d.Version):
		return fmt.Sprintf("it needs %s to run before", image.Needs)
	}
	return ""
}

// WayBack is the image of what the device runs, where the target lets one return
// to it.
func (m *Matcher) WayBack(d site.Device, target firmware.Image) *firmware.Image {
	if !firmware.Meets(target.Back, d.Version) {
		return nil
	}
	return m.Exact(d, d.Version)
}

// To matches a device to one version that a person named, earlier or later than
// what it runs. Where it must not be sent there, the row has no image and says why.
func (m *Matcher) To(d site.Device, v string) Row {
	row := m.Device(d)
	row.Target, row.Image, row.Back = v, nil, nil
	switch row.Standing {
	case Away, Locked, Held:
		return row
	}
	target, now := m.Exact(d, v), m.Exact(d, d.Version)
	switch {
	case version.Equal(d.Version, v):
		row.Reason = "it runs " + v + " already"
	case target == nil:
		row.Reason = fmt.Sprintf("no image of %s for %s %s on the shelf", v, d.Vendor, d.Model)
	case version.Compare(v, d.Version) < 0 && now != nil && !firmware.Meets(now.Back, v):
		row.Reason = fmt.Sprintf("%s lets one return only to %s", d.Version, now.Back)
	case version.Compare(v, d.Version) > 0 && !firmware.Meets(target.Needs, d.Version):
		row.Reason = fmt.Sprintf("%s needs %s to run before", v, target.Needs)
	default:
		row.Image, row.Back, row.Reason = target, m.WayBack(d, *target), "asked for"
	}
	return row
}

// Exact is the image of one version for a device. Its status does not matter: what
// a device ran is the best it can be returned to. A withdrawn one is not taken.
func (m *Matcher) Exact(d site.Device, v string) *firmware.Image {
	of := m.images[key(d.Vendor, d.Model)]
	for i := range of {
		if image := &of[i]; image.Component == firmware.Main && image.Status != firmware.Withdrawn &&
			image.Fits(d.Vendor, d.Model, d.Hardware) && version.Equal(image.Version, v) {
			return image
		}
	}
	return nil
}
