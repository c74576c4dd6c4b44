package match_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"catena/internal/firmware"
	"catena/internal/match"
	"catena/internal/site"
)

func image(model, version string, change ...func(*firmware.Image)) firmware.Image {
	i := firmware.Image{Card: firmware.Card{Vendor: "Wexcombe", Models: []string{model}, Version: version,
		Component: firmware.Main, Status: firmware.Recommended, SHA256: model + version}}
	for _, c := range change {
		c(&i)
	}
	return i
}

func device(version string, change ...func(*site.Device)) site.Device {
	d := site.Device{ID: "d1", Name: "cam-11", Vendor: "Wexcombe", Model: "WX-40", Hardware: "B", Version: version, Reach: site.Answers}
	for _, c := range change {
		c(&d)
	}
	return d
}

func TestStandings(t *testing.T) {
	needs := func(c string) func(*firmware.Image) { return func(i *firmware.Image) { i.Needs = c } }
	back := func(c string) func(*firmware.Image) { return func(i *firmware.Image) { i.Back = c } }
	hardware := func(c string) func(*firmware.Image) { return func(i *firmware.Image) { i.Hardware = c } }
	status := func(s firmware.Status) func(*firmware.Image) { return func(i *firmware.Image) { i.Status = s } }
	reach := func(r site.Reach) func(*site.Device) {
		return func(d *site.Device) { d.Reach, d.Trouble = r, "its trouble" }
	}
	old, new := image("WX-40", "3.1.0"), image("WX-40", "3.2.1")
	for name, c := range map[string]struct {
		shelf    []firmware.Image
		device   site.Device
		hold     string
		standing match.Standing
		target   string
		back     match.WayBack
		reason   string
	}{
		"behind":              {[]firmware.Image{old, new}, device("3.1.0"), "", match.Behind, "3.2.1", match.ByImage, "the newest recommended"},
		"order of versions":   {[]firmware.Image{image("WX-40", "3.9"), image("WX-40", "3.10")}, device("3.9"), "", match.Behind, "3.10", match.ByImage, ""},
		"no way back":         {[]firmware.Image{new}, device("3.1.0"), "", match.Behind, "3.2.1", match.None, "no way back: 3.1.0 is not on the shelf"},
		"one-way":             {[]firmware.Image{old, image("WX-40", "3.2.1", back(">= 3.2"))}, device("3.1.0"), "", match.Behind, "3.2.1", match.None, "no way back"},
		"current":             {[]firmware.Image{old, new}, device("V3.2.1"), "", match.Current, "3.2.1", match.None, "runs the newest"},
		"ahead":               {[]firmware.Image{old, new}, device("3.3"), "", match.Ahead, "3.2.1", match.None, "nothing later than 3.2.1"},
		"other model":         {[]firmware.Image{image("WX-20", "9")}, device("3.1.0"), "", match.Unmatched, "", match.None, "no image for Wexcombe WX-40"},
		"other hardware":      {[]firmware.Image{image("WX-40", "4.0", hardware(">= C"))}, device("3.1.0"), "", match.Unmatched, "", match.None, "hardware >= C"},
		"withdrawn":           {[]firmware.Image{old, image("WX-40", "3.3", status(firmware.Withdrawn))}, device("3.1.0"), "", match.Current, "3.1.0", match.None, ""},
		"needs another first": {[]firmware.Image{new, image("WX-40", "4.0", needs(">= 3.2"))}, device("3.1.0"), "", match.Behind, "3.2.1", match.None, "4.0 is not for it: it needs >= 3.2"},
		"component":           {[]firmware.Image{image("WX-40", "4.0", func(i *firmware.Image) { i.Component = "lens" })}, device("3.1.0"), "", match.Unmatched, "", match.None, "component lens"},
		"held":                {[]firmware.Image{old, new}, device("3.1.0"), "cam-1*", match.Held, "", match.None, "the site file holds it: winter"},
		"locked":              {[]firmware.Image{old, new}, device("", reach(site.Locked)), "", match.Locked, "", match.None, "its trouble"},
		"away":                {[]firmware.Image{old, new}, device("3.1.0", reach(site.Away)), "cam-11", match.Away, "", match.None, "its trouble"},
	} {
		t.Run(name, func(t *testing.T) {
			var s site.Site
			if c.hold != "" {
				s.Hold = []site.Hold{{Device: c.hold, Because: "winter"}}
			}
			row := match.New(c.shelf, s).Device(c.device)
			assert.Equal(t, c.standing, row.Standing)
			assert.Equal(t, c.target, row.Target)
			assert.Equal(t, c.back, row.WayBack())
			assert.Contains(t, row.Reason, c.reason)
			assert.Equal(t, c.standing == match.Behind, row.Image != nil, "an image only where the device should be flashed")
		})
	}
}
