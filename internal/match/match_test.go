package match_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"catena/internal/device"
	"catena/internal/firmware"
	"catena/internal/firmware/version"
	"catena/internal/match"
	"catena/internal/site"
)

func image(model, version string, change ...func(*firmware.Image)) firmware.Image {
	i := firmware.Image{Manifest: firmware.Manifest{Vendor: "Wexcombe", Models: []string{model},
		Version:   version,
		Component: firmware.Main, Advice: firmware.Recommended, SHA256: model + version}}
	for _, c := range change {
		c(&i)
	}
	return i
}

func camera(version string, change ...func(*device.Device)) device.Device {
	d := device.Device{ID: "d1", Name: "cam-11", Access: device.OK,
		Reading: device.Reading{Identity: device.Identity{Vendor: "Wexcombe", Model: "WX-40",
			Hardware: "B"}, Version: version}}
	for _, c := range change {
		c(&d)
	}
	return d
}

func TestStatuses(t *testing.T) {
	needs := func(c string) func(*firmware.Image) { return func(i *firmware.Image) { i.Needs = c } }
	back := func(c string) func(*firmware.Image) { return func(i *firmware.Image) { i.Back = c } }
	hardware := func(c string) func(*firmware.Image) {
		return func(i *firmware.Image) { i.Hardware = c }
	}
	status := func(s firmware.Advice) func(*firmware.Image) {
		return func(i *firmware.Image) { i.Advice = s }
	}
	reach := func(r device.Access) func(*device.Device) {
		return func(d *device.Device) {
			d.Access, d.Trouble = r, device.Because(device.NoLogin, "its trouble")
		}
	}
	old, new := image("WX-40", "3.1.0"), image("WX-40", "3.2.1")
	for name, c := range map[string]struct {
		shelf  []firmware.Image
		device device.Device
		hold   string
		status match.Status
		target string
		back   firmware.Rollback
		reason string
	}{
		"behind": {[]firmware.Image{old, new}, camera("3.1.0"), "", match.Outdated,
			"3.2.1", firmware.ByImage, "the newest recommended"},
		"order of versions": {[]firmware.Image{image("WX-40", "3.9"), image("WX-40", "3.10")},
			camera("3.9"), "", match.Outdated, "3.10", firmware.ByImage, ""},
		"no rollback": {[]firmware.Image{new}, camera("3.1.0"), "", match.Outdated, "3.2.1",
			firmware.ByNothing, "no rollback from 3.2.1"},
		"one-way": {[]firmware.Image{old, image("WX-40", "3.2.1", back(">= 3.2"))},
			camera("3.1.0"), "", match.Outdated, "3.2.1", firmware.ByNothing, "no rollback"},
		"current": {[]firmware.Image{old, new}, camera("V3.2.1"), "", match.Current,
			"3.2.1", firmware.ByNothing, "runs the newest"},
		"ahead": {[]firmware.Image{old, new}, camera("3.3"), "", match.Ahead, "3.2.1",
			firmware.ByNothing, "nothing later than 3.2.1"},
		"other model": {[]firmware.Image{image("WX-20", "9")}, camera("3.1.0"), "",
			match.NoImage, "", firmware.ByNothing, "no image for Wexcombe WX-40"},
		"other hardware": {[]firmware.Image{image("WX-40", "4.0", hardware(">= C"))},
			camera("3.1.0"), "", match.NoImage, "", firmware.ByNothing,
			"no image on the shelf is for hardware \"B\""},
		"withdrawn": {[]firmware.Image{old,
			image("WX-40", "3.3", status(firmware.Withdrawn))}, camera("3.1.0"), "", match.Current,
			"3.1.0", firmware.ByNothing, ""},
		"needs another first": {[]firmware.Image{new, image("WX-40", "4.0", needs(">= 3.2"))},
			camera("3.1.0"), "", match.Outdated, "4.0", firmware.ByNothing, "no rollback from 3.2.1"},
		"component": {[]firmware.Image{image("WX-40", "4.0",
			func(i *firmware.Image) { i.Component = "lens" })}, camera(
			"3.1.0"), "", match.NoImage, "", firmware.ByNothing, "no image for Wexcombe WX-40"},
		"held": {[]firmware.Image{old, new}, camera("3.1.0"), "cam-1*", match.Held,
			"", firmware.ByNothing, "site.yaml holds it: winter"},
		"no-access": {[]firmware.Image{old, new}, camera("", reach(device.LoginRefused)),
			"", match.NoAccess, "", firmware.ByNothing, "its trouble"},
		"away": {[]firmware.Image{old, new}, camera("3.1.0", reach(device.Away)),
			"cam-11", match.Away, "", firmware.ByNothing, "its trouble"},
	} {
		t.Run(name, func(t *testing.T) {
			var s site.Site
			if c.hold != "" {
				s.Hold = []site.Hold{{Device: c.hold, Because: "winter"}}
			}
			row := match.New(match.Input{Images: c.shelf, Site: s}).Device(c.device)
			assert.Equal(t, c.status, row.Status)
			assert.Equal(t, c.target, row.Target)
			assert.Equal(t, c.back, row.Rollback())
			assert.Contains(t, row.Reason, c.reason)
			assert.Equal(t, c.status == match.Outdated, row.Image() != nil,
				"an image only where the device should be flashed")
		})
	}
}

func with(change func(*firmware.Image)) func(*firmware.Image) { return change }

func needs(c string) func(*firmware.Image) {
	return with(func(i *firmware.Image) { i.Needs = c })
}

func back(c string) func(*firmware.Image) { return with(func(i *firmware.Image) { i.Back = c }) }

func path(r match.Row) string {
	var out []string
	for _, h := range r.Path {
		s := h.Image.Version
		if h.ForRollback == nil {
			s += "!" // no rollback
		}
		out = append(out, s)
	}
	return strings.Join(out, " ")
}

func TestPaths(t *testing.T) {
	shelf := []firmware.Image{
		image("WX-40", "1.4"), image("WX-40", "1.9"), image("WX-40", "2.0", needs(">= 1.9")),
		image("WX-40", "2.5", needs(">= 2.0")),
		image("WX-40", "3.0", needs(">= 2.0"), back(">= 2.5")),
		image("WX-40", "3.1", needs(">= 3.0"), back(">= 3.0")),
	}
	without := func(versions ...string) []firmware.Image {
		var out []firmware.Image
		for _, i := range shelf {
			if !slices.Contains(versions, i.Version) {
				out = append(out, i)
			}
		}
		return out
	}
	withdrawn := append(without("2.0"),
		image("WX-40", "2.0", needs(">= 1.9"), with(func(i *firmware.Image) {
			i.Advice = firmware.Withdrawn
		})))
	for name, c := range map[string]struct {
		shelf    []firmware.Image
		from, to string
		path     string
		reason   string
	}{
		"one hop":          {shelf, "3.0", "3.1", "3.1", ""},
		"shortest":         {shelf, "1.4", "3.1", "1.9 2.0 3.0! 3.1", ""},
		"not on the shelf": {shelf, "1.8", "2.0", "1.9! 2.0", ""},
		"intermediate version is missing": {without("2.0", "2.5"), "1.4", "3.1", "",
			"3.0 needs >= 2.0; nothing on the shelf leads there from 1.4"},
		"withdrawn is not an intermediate version": {withdrawn, "1.4", "3.1", "",
			"needs >= 2.0; nothing on the shelf leads there from 1.4"},
		"down one":                      {shelf, "3.1", "3.0", "3.0", ""},
		"down by intermediate versions": {shelf, "3.1", "2.0", "3.0 2.5 2.0", ""},
		"down is barred": {without("2.5"), "3.0", "2.0", "",
			"3.0 allows a rollback only to >= 2.5"},
	} {
		t.Run(name, func(t *testing.T) {
			m := match.New(match.Input{Images: c.shelf})
			row := m.To(camera(c.from), firmware.Main, c.to)
			assert.Equal(t, c.path, path(row))
			assert.Contains(t, row.Reason, c.reason)
		})
	}
	m := match.New(match.Input{Images: without("2.0", "2.5")})
	row := m.Device(camera("1.4"))
	assert.Equal(t, match.Outdated, row.Status)
	assert.Equal(t, "3.1", row.Target)
	assert.Nil(t, row.Image(), "refused, with the intermediate version named")
	assert.Contains(t, row.Reason, "needs >= 2.0")
}

func TestTargets(t *testing.T) {
	shelf := []firmware.Image{image("WX-40", "3.0"), image("WX-40", "3.1"), image("WX-40", "3.2"),
		image("WX-40", "4.0")}
	groups := map[string][]string{"chamber-1": {"cam-1*"}, "upper": {"cam-11", "cam-5*"}}
	rule := func(device, group, model, version string) site.Target {
		return site.Target{Device: device, Group: group, Model: model, Version: version}
	}
	for name, c := range map[string]struct {
		targets []site.Target
		runs    string
		status  match.Status
		path    string
		rule    string
		reason  string
	}{
		"default": {nil, "3.0", match.Outdated, "4.0", ": newest",
			"the newest recommended"},
		"model": {[]site.Target{rule("", "", "wx-40", "3.1")}, "3.0", match.Outdated,
			"3.1", "model wx-40: 3.1", "the target of model wx-40"},
		"group before model": {[]site.Target{rule("", "", "WX-40", "3.1"),
			rule("", "chamber-1", "", "3.2")}, "3.0", match.Outdated, "3.2", "group chamber-1: 3.2",
			""},
		"both before group": {[]site.Target{rule("", "chamber-1", "WX-40", "3.1"),
			rule("", "upper", "", "3.2")}, "3.0", match.Outdated, "3.1",
			"group chamber-1, model WX-40: 3.1", ""},
		"device before all": {[]site.Target{rule("cam-11", "", "", "3.2"),
			rule("", "chamber-1", "WX-40", "3.1")}, "3.0", match.Outdated, "3.2",
			"device cam-11: 3.2", "the target of device cam-11"},
		"not meant": {[]site.Target{rule("", "", "WX-20", "3.1")}, "3.0", match.Outdated,
			"4.0", ": newest", ""},
		"constraint": {[]site.Target{rule("", "", "WX-40", ">= 3.1, < 4")}, "3.0",
			match.Outdated, "3.2", "", "the newest within >= 3.1, < 4"},
		"met, later on shelf": {[]site.Target{rule("", "", "WX-40", ">= 3.1, < 4")}, "3.1",
			match.Outdated, "3.2", "", ""},
		"met, nothing later": {[]site.Target{rule("", "", "WX-40", "< 4")}, "3.3", match.Ahead,
			"", "", "nothing later"},
		"beyond the constraint": {[]site.Target{rule("", "", "WX-40", "< 4")}, "4.0", match.Ahead,
			"3.2", "", "the newest within < 4"},
		"exactly what it runs": {[]site.Target{rule("", "", "WX-40", "3.1")}, "3.1",
			match.Current, "", "", "runs the target of"},
		"exactly an earlier one": {[]site.Target{rule("", "", "WX-40", "3.1")}, "4.0", match.Ahead,
			"3.1", "", "the target of"},
		"not on the shelf": {[]site.Target{rule("", "", "WX-40", "5.0")}, "4.0",
			match.NoImage, "", "", "no usable image for the target model WX-40: 5.0"},
		"two groups disagree": {[]site.Target{rule("", "chamber-1", "", "3.1"),
			rule("", "upper", "", "3.2")}, "3.0", match.Held, "", "",
			"two targets contradict each other: group chamber-1: 3.1, and group upper: 3.2"},
	} {
		t.Run(name, func(t *testing.T) {
			s := site.Site{Groups: groups}
			assert.NoError(t, s.Join("targets.yaml", c.targets))
			row := match.New(match.Input{Images: shelf, Site: s}).Device(camera(c.runs))
			assert.Equal(t, c.status, row.Status)
			assert.Equal(t, c.path, path(row))
			assert.Contains(t, row.Rule, c.rule)
			assert.Contains(t, row.Reason, c.reason)
		})
	}
}

func TestUnsafe(t *testing.T) {
	shelf := []firmware.Image{image("WX-40", "3.0"),
		image("WX-40", "3.1", with(func(i *firmware.Image) {
			i.Advice, i.Because = firmware.Withdrawn, "it loses its presets"
		})), image("WX-40", "3.2"), image("WX-40", "3.3")}
	in := match.Input{Images: shelf,
		Withdrawn: []match.Withdrawal{{Vendor: "wexcombe", Model: "wx-40", Versions: ">= 3.3",
			Reason: "MH-2026-7: open door"}}}
	for runs, want := range map[string]struct{ path, reason string }{
		// a withdrawn image is not a rollback
		"3.1": {"3.2!", "3.1 must not be used: it was withdrawn: it loses its presets"},
		"3.3": {"3.2", "3.3 must not be used: MH-2026-7: open door"},
		"4.0": {"3.2!", "open door"},
	} {
		row := match.New(in).Device(camera(runs))
		assert.Equal(t, match.Unsafe, row.Status)
		assert.Equal(t, want.path, path(row), runs)
		assert.Contains(t, row.Reason, want.reason)
	}
	assert.Equal(t, match.Current, match.New(in).Device(camera("3.2")).Status,
		"the newest that may run")
	asked := match.New(in).To(camera("3.2"), firmware.Main, "3.1")
	assert.Nil(t, asked.Image())
	assert.Equal(t, "3.1 is never sent: it was withdrawn: it loses its presets", asked.Reason)
	in.Site.Hold = []site.Hold{{Device: "cam-11"}}
	row := match.New(in).Device(camera("3.1"))
	assert.Equal(t, match.Unsafe, row.Status, "a hold does not hide it")
	assert.Nil(t, row.Image(), "and is kept")
}

func TestOrderOfTheMaker(t *testing.T) {
	listed, err := version.NewOrder("listed", nil, nil, []string{"Amber", "Cedar", "Birch"})
	assert.NoError(t, err)
	in := match.Input{Images: []firmware.Image{image("WX-40", "Amber"), image("WX-40", "Birch"),
		image("WX-40", "Cedar")},
		Order: func(string, string) version.Order { return listed }}
	assert.Equal(t, "Birch", match.New(in).Device(camera("cedar")).Target)
}

// 20,000 devices of 100 models against 2,000 images, with targets, intermediate versions and
// groups.
func BenchmarkMatch(b *testing.B) {
	for _, n := range []int{2_000, 20_000} {
		b.Run(fmt.Sprintf("devices=%d", n), func(b *testing.B) {
			in := match.Input{Site: site.Site{Groups: map[string][]string{"first": {"cam-1*"},
				"second": {"cam-2*"}}}}
			for m := range 100 {
				model := fmt.Sprintf("M-%d", m)
				for v := range 20 {
					n := ""
					if v > 0 {
						n = fmt.Sprintf(">= 1.%d", max(0, v-8))
					}
					in.Images = append(in.Images, image(model, fmt.Sprintf("1.%d", v), needs(n)))
				}
				if m%3 == 0 {
					in.Site.Targets = append(in.Site.Targets,
						site.Target{Model: model, Version: "< 1.15"},
						site.Target{Group: "first", Model: model, Version: "1.12"})
				}
			}
			var devices []device.Device
			for i := range n {
				devices = append(devices, camera(fmt.Sprintf("1.%d", i%20), func(d *device.Device) {
					d.Name, d.Model = fmt.Sprintf("cam-%d", i), fmt.Sprintf("M-%d", i%100)
				}))
			}
			b.ResetTimer()
			for b.Loop() {
				if rows := match.New(in).All(devices); len(rows) != n {
					b.Fatal("rows are missing")
				}
			}
		})
	}
}

func parts(v map[string]string) func(*device.Device) {
	return func(d *device.Device) { d.Components = v }
}

func component(name string) func(*firmware.Image) {
	return with(func(i *firmware.Image) { i.Component, i.SHA256 = name, name+i.SHA256 })
}

func pairs(name, constraint string) func(*firmware.Image) {
	return with(func(i *firmware.Image) { i.Pairs = map[string]string{name: constraint} })
}

func after(name string) func(*firmware.Image) {
	return with(func(i *firmware.Image) { i.After = []string{name} })
}

func TestComponents(t *testing.T) {
	old, io2 := image("WX-40", "3.1"), image("WX-40", "1.2", component("io"))
	io3 := image("WX-40", "1.3", component("io"))
	for name, c := range map[string]struct {
		shelf  []firmware.Image
		parts  map[string]string
		order  string
		reason string // of the main component
	}{
		"each its own": {[]firmware.Image{old, image("WX-40", "3.2"), io2, io3},
			map[string]string{"io": "1.2"}, "main 3.2, io 1.3", "the newest recommended"},
		"the other first": {[]firmware.Image{old, image("WX-40", "3.2", after("io")), io2,
			io3}, map[string]string{"io": "1.2"}, "io 1.3, main 3.2", ""},
		"first, and there": {[]firmware.Image{old, image("WX-40", "3.2", after("io")), io2,
			io3}, map[string]string{"io": "1.3"}, "main 3.2", ""},
		"no such component": {[]firmware.Image{old,
			image("WX-40", "3.2", after("io"), pairs("io", ">= 1.3"))}, nil, "main 3.2", ""},
		"a pair is made": {[]firmware.Image{old,
			image("WX-40", "3.2", pairs("io", ">= 1.3")), io2, io3}, map[string]string{"io": "1.2"},
			"main 3.2, io 1.3", ""},
		"a pair cannot be made": {[]firmware.Image{old,
			image("WX-40", "3.2", pairs("io", ">= 1.3")), io2}, map[string]string{"io": "1.2"}, "",
			"main 3.2 requires io >= 1.3, and cam-11 would have 1.2"},
		"a pair would be broken": {[]firmware.Image{image("WX-40", "3.1", pairs("io", "< 1.3")),
			io2, io3}, map[string]string{"io": "1.2"}, "", "runs the newest"},
	} {
		t.Run(name, func(t *testing.T) {
			rows := match.New(match.Input{Images: c.shelf}).All([]device.Device{camera("3.1",
				parts(c.parts))})
			var order []string
			for _, h := range match.Ordered(rows) {
				order = append(order, h.Image.Component+" "+h.Image.Version)
			}
			assert.Equal(t, c.order, strings.Join(order, ", "))
			assert.Contains(t, rows[0].Reason, c.reason)
			assert.Len(t, rows, 1+len(c.parts))
		})
	}
}

func TestAgreeDoesNotDependOnTheOrderOfRows(t *testing.T) {
	m := match.New(match.Input{Images: []firmware.Image{image("WX-40", "3.1"),
		image("WX-40", "3.2", pairs("io", ">= 1.3")),
		image("WX-40", "1.2", component("io")), image("WX-40", "1.3", component("io"))}})
	other := camera("3.1", func(d *device.Device) { d.ID = "d2" })
	rows := m.All([]device.Device{camera("3.1", parts(map[string]string{"io": "1.2"})), other})
	assert.Equal(t, "3.2", path(rows[0]))
	rows[1].Path = nil // the io component is not chosen, and stands apart from its device
	apart := []match.Row{rows[0], rows[2], rows[1]}
	m.Agree(apart)
	assert.Empty(t, path(apart[0]))
	assert.Contains(t, apart[0].Reason, "cam-11 would have 1.2")
}

func TestLockstep(t *testing.T) {
	hub := func(version string, change ...func(*firmware.Image)) firmware.Image {
		return image("PK-1", version, change...)
	}
	devices := []device.Device{
		camera("1.0", func(d *device.Device) { d.ID, d.Name, d.Model = "d1", "hub-1", "PK-1" }),
		camera("1.0", func(d *device.Device) { d.ID, d.Name, d.Model = "d2", "handset-1", "PH-2" }),
		camera("1.0", func(d *device.Device) { d.ID, d.Name, d.Model = "d3", "handset-2", "PH-2" }),
		// of another hub
		camera("1.0", func(d *device.Device) { d.ID, d.Name, d.Model = "d4", "handset-9", "PH-2" }),
	}
	set := site.Site{Lockstep: []site.Lockstep{{Name: "handsets",
		Of: []string{"hub-1", "handset-[12]"}}}}
	shelf := []firmware.Image{hub("1.0"), hub("2.0", pairs("PH-2", ">= 2")), image("PH-2", "1.0"),
		image("PH-2", "2.0")}
	paths := func(s site.Site, shelf []firmware.Image) (out []string) {
		for _, r := range match.New(match.Input{Images: shelf, Site: s}).All(devices) {
			out = append(out, path(r))
		}
		return out
	}
	assert.Equal(t, []string{"2.0", "2.0", "2.0", "2.0"}, paths(set, shelf), "all go together")
	set.Hold = []site.Hold{{Device: "handset-2"}}
	assert.Equal(t, []string{"", "", "", "2.0"}, paths(set, shelf),
		"one is held, so none of the set goes")
	rows := match.New(match.Input{Images: shelf, Site: set}).All(devices)
	assert.Equal(t, "main 2.0 requires PH-2 >= 2, and handset-2 would have 1.0",
		rows[0].Reason)
}

// "newest" chooses no build that is not a release; a target that names one does.
func TestNewestIsARelease(t *testing.T) {
	images := []firmware.Image{{Size: 1, Manifest: firmware.Manifest{Vendor: "W",
		Models: []string{"M"}, Version: "2.0",
		Component: firmware.Main, SHA256: "2"}}}
	for _, v := range []string{"2.1-beta", "2.1rc2", "2.1-nightly.7"} {
		images = append(images, firmware.Image{Size: 1, Manifest: firmware.Manifest{Vendor: "W",
			Models: []string{"M"}, Version: v,
			Component: firmware.Main, SHA256: v}})
	}
	d := device.Device{ID: "d1", Name: "cam", Access: device.OK,
		Reading: device.Reading{Identity: device.Identity{Vendor: "W", Model: "M"}, Version: "1.0"}}
	assert.Equal(t, "2.0", match.New(match.Input{Images: images}).Device(d).Target)
	assert.Equal(t, "2.1rc2", match.New(match.Input{Images: images, Site: site.Site{
		Targets: []site.Target{{Model: "M", Version: "2.1rc2"}}}}).Device(d).Target)
}

// A rollback is promised only where the earlier image may be sent to the new version, and a
// withdrawn version is not sent again.
func TestPromisesThatCanBeKept(t *testing.T) {
	image := func(v, needs string) firmware.Image {
		return firmware.Image{Size: 1, Manifest: firmware.Manifest{Vendor: "W", Models: []string{"M"},
			Version: v, Needs: needs,
			Component: firmware.Main, SHA256: v}}
	}
	runs := func(v string) device.Device {
		return device.Device{ID: "d1", Name: "cam", Access: device.OK,
			Reading: device.Reading{Identity: device.Identity{Vendor: "W", Model: "M"}, Version: v}}
	}
	m := match.New(match.Input{Images: []firmware.Image{image("1.0", "< 2.0"), image("2.0", "")}})
	assert.NotEqual(t, firmware.ByImage, m.Device(runs("1.0")).Rollback())
	assert.Empty(t, m.To(runs("2.0"), firmware.Main, "1.0").Path)
	m = match.New(match.Input{Images: []firmware.Image{image("2.09", ""), image("2.08", "")},
		Withdrawn: []match.Withdrawal{{Vendor: "W", Model: "M", Versions: "2.09", Reason: "advisory"}}})
	again := m.Again(runs("2.09"))
	assert.Empty(t, again.Path)
	assert.Equal(t, "2.09 is never sent: advisory", again.Reason)
}
