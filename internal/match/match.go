// Package match says how each device stands against the shelf: which version it
// should run, by which images it gets there, why, and how it would be returned.
//
// It is pure: devices, images, targets and holds go in, a Row for each device comes
// out. The list, the flash and the rollback all ask here; the rule stands once.
package match

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"catena/internal/device"
	"catena/internal/firmware"
	"catena/internal/firmware/version"
	"catena/internal/site"
)

// Status is how a device stands.
type Status string

const (
	Stranded    Status = "stranded"    // the last job left it needing hands
	Interrupted Status = "interrupted" // it is open in a job that died
	Unsafe      Status = "unsafe"      // its version was withdrawn
	Current     Status = "current"     // it runs what it should
	Outdated    Status = "behind"      // it should run something later
	Ahead       Status = "ahead"       // it runs something later than it should
	NoImage     Status = "no-image"    // the shelf has nothing for it
	NoAccess    Status = "no-access"   // it refuses the login
	Away        Status = "away"        // it does not answer
	Held        Status = "held"        // the site says to leave it alone
)

// Statuses in the order in which lists show them: what wants a person first.
var Statuses = []Status{Stranded, Interrupted, Unsafe, Away, NoAccess, Outdated, NoImage, Ahead,
	Held,
	Current}

// NeedsPerson reports whether an operator must do something about a device with this status before
// Catena can.
func (s Status) NeedsPerson() bool {
	switch s {
	case Stranded, Interrupted, Unsafe, Away, NoAccess:
		return true
	}
	return false
}

// Hop is one image on a device's path, and the rollback from it.
type Hop struct {
	From        string // the version before
	Image       *firmware.Image
	ForRollback *firmware.Image // of the version before; nil: none
	Slots       bool            // the device keeps the version before in its other slot
}

// lost reports whether the hop cannot be rolled back.
func (h Hop) lost() bool { return h.ForRollback == nil && !h.Slots }

// Row is one component of a device against the shelf.
type Row struct {
	Device    device.Device
	Component string
	Version   string // what the component runs
	Status    Status
	Target    string // the version it should run; empty: none
	Wanted    string // the versions that its target allows; empty: the newest
	Path      []Hop  // how it gets there; empty where it should not be flashed
	Brought   bool   // its target comes with an image of its parent
	Rule      string // the target that applies, in words
	Reason    string
}

// Image is that of the target, or nil where the device should not be flashed.
func (r Row) Image() *firmware.Image {
	if len(r.Path) == 0 {
		return nil
	}
	return r.Path[len(r.Path)-1].Image
}

// Rollback names the rollback: one is there only where every hop has one.
func (r Row) Rollback() firmware.Rollback {
	switch {
	case len(r.Path) == 0 || slices.ContainsFunc(r.Path, Hop.lost):
		return firmware.ByNothing
	case len(r.Path) == 1 && r.Path[0].Slots:
		return firmware.BySlot
	}
	return firmware.ByImage
}

// Withdrawal says that versions of a model must not run any more.
type Withdrawal struct {
	Vendor, Model string
	Versions      string // a version or a constraint
	Reason        string // with the advisory's identifier, where there is one
}

// Input is all that a match depends on besides the device.
type Input struct {
	Images    []firmware.Image
	Site      site.Site
	Withdrawn []Withdrawal
	Order     func(vendor, model string) version.Order // nil: natural
	// Left returns what the last job left of a device: Stranded or Interrupted, with the reason;
	// an empty status: nothing. It may be nil.
	Left func(id string) (Status, string)
}

// Matcher is an Input, ready to be asked. It is for one goroutine.
type Matcher struct {
	models map[string]*model
	site   site.Site
	brings bool // some image brings versions to children
	order  func(vendor, model string) version.Order
	left   func(id string) (Status, string)
}

// model is what the shelf has for one model.
type model struct {
	order     version.Order
	images    map[string][]candidate // by component, oldest first
	withdrawn []withdrawn
	answers   map[question]answer
}

// A site has many devices that ask the same: one model, hardware, component, version
// and target.
type question struct {
	hardware, component, version, rule string
	slots                              bool
}

type answer struct {
	status Status
	target string
	path   []Hop // shared: no one changes it
	reason string
}

type candidate struct {
	*firmware.Image
	needs, back version.Constraint
}

type withdrawn struct {
	component string
	versions  version.Constraint
	reason    string
}

// New makes a matcher.
func New(in Input) *Matcher {
	if in.Order == nil {
		in.Order = func(string, string) version.Order { return version.Order{} }
	}
	m := &Matcher{models: map[string]*model{}, site: in.Site, order: in.Order, left: in.Left}
	for i := range in.Images {
		image := &in.Images[i]
		m.brings = m.brings || len(image.Brings) > 0
		for _, name := range image.Models {
			m.model(image.Vendor, name).take(image)
		}
	}
	for _, w := range in.Withdrawn {
		of := m.model(w.Vendor, w.Model)
		if c, err := version.ParseConstraint(w.Versions); err == nil && !c.Empty() {
			of.withdrawn = append(of.withdrawn, withdrawn{firmware.Main, c, w.Reason})
		}
	}
	for _, of := range m.models {
		for _, images := range of.images {
			slices.SortStableFunc(images, func(a, b candidate) int {
				return of.order.Compare(a.Version, b.Version)
			})
		}
	}
	return m
}

func (m *Matcher) model(vendor, name string) *model {
	k := strings.ToLower(vendor + "\x00" + name)
	if m.models[k] == nil {
		m.models[k] = &model{order: m.order(vendor, name), images: map[string][]candidate{},
			answers: map[question]answer{}}
	}
	return m.models[k]
}

func (of *model) take(image *firmware.Image) {
	c := candidate{Image: image}
	c.needs, _ = version.ParseConstraint(image.Needs) // the manifest was checked
	c.back, _ = version.ParseConstraint(image.Back)
	of.images[image.Component] = append(of.images[image.Component], c)
	if image.Advice == firmware.Withdrawn {
		v, _ := version.ParseConstraint("= " + image.Version)
		reason := "it was withdrawn"
		if image.Because != "" {
			reason += ": " + image.Because
		}
		of.withdrawn = append(of.withdrawn, withdrawn{image.Component, v, reason})
	}
}

// why a version must not run; empty: it may.
func (of *model) unsafe(component, v string) string {
	for _, w := range of.withdrawn {
		if w.component == component && w.versions.Holds(of.order, v) {
			return w.reason
		}
	}
	return ""
}

// All matches every device, and has the versions that belong together agree. The rows
// of one device follow each other: its main component, then the others by name.
func (m *Matcher) All(devices []device.Device) []Row {
	out := make([]Row, 0, len(devices))
	for _, d := range devices {
		out = append(out, m.rows(d)...)
	}
	m.Agree(out)
	m.bring(out)
	return out
}

func (m *Matcher) rows(d device.Device) []Row {
	rows := []Row{m.Device(d)}
	if m.left != nil {
		if status, why := m.left(d.ID); status != "" {
			rows[0].Status, rows[0].Reason = status, why+"; "+rows[0].Reason
		}
	}
	if slices.Contains([]device.Access{device.Away, device.Silent, device.LoginRefused,
		device.IdentityChanged}, d.Access) {
		return rows
	}
	for _, name := range slices.Sorted(maps.Keys(d.Components)) {
		rows = append(rows, m.component(d, name, d.Components[name]))
	}
	return rows
}

// Order is how the versions of a device sort.
func (m *Matcher) Order(d device.Device) version.Order { return m.model(d.Vendor, d.Model).order }

// Device matches the main component of a device to its target.
func (m *Matcher) Device(d device.Device) Row {
	return m.component(d, firmware.Main, d.Version)
}

func (m *Matcher) component(d device.Device, component, v string) Row {
	row := Row{Device: d, Component: component, Version: v}
	switch d.Access {
	case device.Away, device.Silent:
		row.Status, row.Reason = Away, d.Why()
		return row
	case device.LoginRefused, device.IdentityChanged:
		row.Status, row.Reason = NoAccess, d.Why()
		return row
	case device.Unreadable:
		row.Status, row.Reason = NoImage, d.Why()
		return row
	}
	of := m.model(d.Vendor, d.Model)
	rule, held := m.rule(d, component)
	row.Rule = rule.String()
	if rule.Version != site.Newest {
		row.Wanted = rule.Version
	}
	if held != "" {
		row.Status, row.Reason = Held, held
	} else {
		q := question{d.Hardware, component, v, row.Rule, hasSlots(d, component)}
		a, ok := of.answers[q]
		if !ok {
			a = of.answer(d, component, v, rule)
			of.answers[q] = a
		}
		row.Status, row.Target, row.Path, row.Reason = a.status, a.target, a.path, a.reason
	}
	if why := of.unsafe(component, v); why != "" {
		row.Status, row.Reason = Unsafe, fmt.Sprintf("%s must not be used: %s; %s", v, why, row.Reason)
	}
	return row
}

// rule is what the site wants of a component of a device, and why it is held, if it is.
func (m *Matcher) rule(d device.Device, component string) (site.Target, string) {
	if hold, ok := m.site.Held(d); ok {
		return site.Target{}, because("site.yaml holds it", hold.Why())
	}
	rule, ok, other := m.site.TargetFor(d, component)
	switch {
	case !ok:
		return site.Target{Version: site.Newest}, ""
	case other != nil:
		return rule, fmt.Sprintf("two targets contradict each other: %s, and %s", rule, *other)
	}
	return rule, ""
}

func because(what, why string) string {
	if why == "" {
		return what
	}
	return what + ": " + why
}

// answer says how a component that may be flashed stands.
func (of *model) answer(d device.Device, component, runs string, rule site.Target) answer {
	usable := of.usable(d, component)
	target, why := of.target(usable, rule)
	if target == nil {
		switch {
		case len(of.images[component]) == 0 && component != firmware.Main:
			why = fmt.Sprintf("no image for the component %s of %s %s on the shelf", component,
				d.Vendor, d.Model)
		case len(of.images[component]) == 0:
			why = fmt.Sprintf("no image for %s %s on the shelf", d.Vendor, d.Model)
		case len(usable) == 0:
			why = fmt.Sprintf("no image on the shelf is for hardware %q", d.Hardware)
		}
		return answer{status: NoImage, reason: why}
	}
	a := answer{status: Outdated, target: target.Version}
	_, exact := rule.Exact()
	switch c := of.order.Compare(runs, target.Version); {
	case c == 0:
		a.status, a.reason = Current, "runs "+why
		return a
	case c > 0:
		a.status, a.reason = Ahead, fmt.Sprintf("the shelf has nothing later than %s",
			target.Version)
		if !exact && holds(of.order, rule, runs) && of.unsafe(component, runs) == "" {
			return a // it works, and nothing asks for an earlier one
		}
	}
	a.path, a.reason = of.route(usable, component, runs, target)
	if a.path == nil {
		return a
	}
	a.reason = why
	slotted(a.path, d, component)
	if i := slices.IndexFunc(a.path, Hop.lost); i >= 0 {
		a.reason += "; no rollback from " + a.path[i].Image.Version
	}
	return a
}

// hasSlots tells whether a component has two slots.
func hasSlots(d device.Device, component string) bool {
	_, has := d.Idle[component]
	return has
}

// slotted marks the hops of a component that has two slots.
func slotted(path []Hop, d device.Device, component string) {
	for i := range path {
		path[i].Slots = hasSlots(d, component)
	}
}

func holds(o version.Order, rule site.Target, v string) bool {
	c, err := version.ParseConstraint(rule.Version)
	return rule.Version == site.Newest || err == nil && c.Holds(o, v)
}

// usable are the images for this very device, oldest first.
func (of *model) usable(d device.Device, component string) []candidate {
	var out []candidate
	for _, c := range of.images[component] {
		if c.Fits(d.Vendor, d.Model, d.Hardware) {
			out = append(out, c)
		}
	}
	return out
}

// target is the image that a target wants, and why. The images are gone through from the
// one that someone recommends to the one that something better has superseded, and among
// equals from the newest to the oldest; the first that the target allows is it. With
//
//	2.08   recommended
//	2.09   withdrawn
//	2.11   (no advice)
//
// an unfinished version (a beta, a release candidate, a nightly build) is only chosen where the
// target names one.
//
// newest means 2.08, since someone vouches for it; a target of 2.11, or of ">= 2.09",
// means 2.11; and nothing ever means 2.09.
func (of *model) target(usable []candidate, rule site.Target) (*candidate, string) {
	exact, named := rule.Exact()
	newest := rule.Version == site.Newest
	advices := []firmware.Advice{firmware.Recommended, firmware.NoAdvice, firmware.Superseded}
	if newest {
		advices = advices[:2] // a superseded image is sent only where a target asks for it
	}
	for _, advice := range advices {
		for i := len(usable) - 1; i >= 0; i-- {
			c := &usable[i]
			switch {
			case c.Advice != advice || of.unsafe(c.Component, c.Version) != "":
			case !named && version.Unfinished(c.Version) && !version.Unfinished(rule.Version):
			case named && of.order.Equal(c.Version, exact):
				return c, "the target of " + rule.For()
			case named || !holds(of.order, rule, c.Version):
			case newest && advice == firmware.Recommended:
				return c, "the newest recommended"
			case newest:
				return c, "the newest on the shelf"
			default:
				return c, fmt.Sprintf("the newest within %s, the target of %s", rule.Version,
					rule.For())
			}
		}
	}
	if newest {
		return nil, "every image for it is superseded or withdrawn"
	}
	return nil, fmt.Sprintf("the shelf has no usable image for the target %s", rule)
}

// route is the shortest path of images from one version to a target: each may be sent to
// the version before it. Where there is none it says which image is missing.
//
// Versions are the nodes of a graph, and an image is an edge to its own version from each
// version that it may be sent to (step). For example, where K42 needs ">= K41" and K44
// needs ">= K42":
//
//	K40 ──✗──► K44      K41 ──► K42 ──► K44
//
// the walk is breadth first, so that the first path that arrives has the fewest hops: each
// one is a write and a restart. Among paths of the same length the one by newer versions is
// taken. No path leads outside the versions between start and target, through a withdrawn
// image, or through one that must not run; only the target itself may be marked so, where a
// person named it.
func (of *model) route(
	usable []candidate, component, from string, target *candidate,
) ([]Hop, string) {
	up := of.order.Compare(from, target.Version) < 0
	// no intermediate version lies before the start or beyond the target
	between := func(v string) bool {
		a, b := of.order.Compare(v, from), of.order.Compare(v, target.Version)
		return up && a > 0 && b <= 0 || !up && a < 0 && b >= 0
	}
	start := candidate{Image: &firmware.Image{Manifest: firmware.Manifest{Version: from,
		Component: component}}}
	for _, c := range usable {
		if of.order.Equal(c.Version, from) && c.Advice != firmware.Withdrawn {
			start = c
		}
	}
	type node struct {
		at     candidate
		before int
	}
	nodes := []node{{start, -1}}
	seen := make([]bool, len(usable))
	for n := 0; n < len(nodes); n++ {
		at := nodes[n].at
		if n > 0 && at.SHA256 == target.SHA256 {
			var path []Hop
			for i := n; i > 0; i = nodes[i].before {
				before := nodes[nodes[i].before].at
				path = append(path, Hop{From: before.Version, Image: nodes[i].at.Image,
					ForRollback: of.back(before, nodes[i].at)})
			}
			slices.Reverse(path)
			return path, ""
		}
		for i := len(usable) - 1; i >= 0; i-- {
			c := usable[i]
			intermediate := c.SHA256 == target.SHA256 || c.Advice != firmware.Withdrawn &&
				of.unsafe(component, c.Version) == ""
			if !seen[i] && intermediate && between(c.Version) && of.step(at, c) {
				seen[i] = true
				nodes = append(nodes, node{c, n})
			}
		}
	}
	return nil, of.missing(usable, start, target, up)
}

// step tells whether an image may be sent to a device that runs another.
func (of *model) step(from, to candidate) bool {
	if !to.needs.Holds(of.order, from.Version) {
		return false
	}
	return of.order.Compare(to.Version, from.Version) > 0 || from.back.Holds(of.order, to.Version)
}

// back is the rollback after a hop: the image of the version before, where it is on
// the shelf, the new one lets one return to it, and it may be sent to the new one.
func (of *model) back(before, after candidate) *firmware.Image {
	if before.SHA256 == "" || !after.back.Holds(of.order, before.Version) ||
		!before.needs.Holds(of.order, after.Version) {
		return nil
	}
	return before.Image
}

func (of *model) missing(usable []candidate, from candidate, target *candidate, up bool) string {
	if !up {
		if !from.back.Holds(of.order, target.Version) {
			return fmt.Sprintf("%s allows a rollback only to %s", from.Version, from.back)
		}
		return fmt.Sprintf("%s cannot be reached from %s", target.Version, from.Version)
	}
	// The lowest image on the way that is needed and cannot be sent.
	need, to := target.needs, target.Version
	for range usable { // each round goes one intermediate version down
		i := slices.IndexFunc(usable, func(c candidate) bool {
			return of.order.Compare(c.Version, from.Version) > 0 &&
				need.Holds(of.order, c.Version) && c.Advice != firmware.Withdrawn &&
				of.order.Compare(c.Version, to) < 0
		})
		if i < 0 || of.step(from, usable[i]) {
			break
		}
		need, to = usable[i].needs, usable[i].Version
	}
	return fmt.Sprintf("%s needs %s; nothing on the shelf leads there from %s", to, need,
		from.Version)
}

// Withdrawn returns why a version must not run on a device, by manifests, feeds or advisories;
// empty: it may.
func (m *Matcher) Withdrawn(d device.Device, component, v string) string {
	return m.model(d.Vendor, d.Model).unsafe(component, v)
}

// Again says how a device gets what its main component runs already, once more.
func (m *Matcher) Again(d device.Device) Row {
	row := m.Device(d)
	row.Path = nil
	if row.Status == Away || row.Status == NoAccess || row.Status == Held {
		return row
	}
	of := m.model(d.Vendor, d.Model)
	usable := of.usable(d, firmware.Main)
	i := slices.IndexFunc(usable, func(c candidate) bool {
		return of.order.Equal(c.Version, d.Version)
	})
	if why := of.unsafe(firmware.Main, d.Version); why != "" {
		row.Reason = fmt.Sprintf("%s is never sent: %s", d.Version, why)
		return row
	}
	if i < 0 {
		row.Reason = fmt.Sprintf("no image of %s for %s %s on the shelf", d.Version, d.Vendor,
			d.Model)
		return row
	}
	row.Target, row.Reason = d.Version, "requested again"
	row.Path = []Hop{{From: d.Version, Image: usable[i].Image, ForRollback: usable[i].Image}}
	return row
}

// To matches a component of a device to one version that a person named, earlier or later than
// its current version. Where it must not be sent there, the row has no path and says why. A version
// that the device's other slot holds is not sent.
func (m *Matcher) To(d device.Device, component, v string) Row {
	runs := d.Of(component)
	row := m.component(d, component, runs)
	if row.Status == Away || row.Status == NoAccess || row.Status == Held {
		row.Path = nil
		return row
	}
	of := m.model(d.Vendor, d.Model)
	row.Target, row.Path = v, nil
	is := func(other string) bool { return of.order.Equal(other, v) }
	if is(runs) {
		row.Reason = "it already runs " + v
		return row
	}
	usable := of.usable(d, component)
	i := slices.IndexFunc(usable, func(c candidate) bool { return is(c.Version) })
	switch {
	case of.unsafe(component, v) != "":
	case d.Keeps(component, is):
		row.Path = []Hop{{From: runs, Slots: true,
			Image: &firmware.Image{Manifest: firmware.Manifest{Component: component, Version: v}}}}
		row.Reason = "requested; its other slot has it"
		return row
	}
	switch {
	case of.unsafe(component, v) != "":
		row.Reason = fmt.Sprintf("%s is never sent: %s", v, of.unsafe(component, v))
		return row
	case i < 0:
		row.Reason = fmt.Sprintf("no image of %s for %s %s on the shelf", v, d.Vendor, d.Model)
		return row
	}
	row.Path, row.Reason = of.route(usable, component, runs, &usable[i])
	if row.Path != nil {
		slotted(row.Path, d, component)
		row.Reason = "asked for"
	}
	return row
}

// For returns the images of the shelf for a component of this very device, oldest first, also those
// that must not be sent.
func (m *Matcher) For(d device.Device, component string) (out []*firmware.Image) {
	for _, c := range m.model(d.Vendor, d.Model).usable(d, component) {
		out = append(out, c.Image)
	}
	return out
}

// Named returns the versions of a component that a withdrawal names one by one.
func (m *Matcher) Named(d device.Device, component string) (out []string) {
	for _, w := range m.model(d.Vendor, d.Model).withdrawn {
		if v, one := w.versions.Exact(); one && w.component == component {
			out = append(out, v)
		}
	}
	return out
}
