package workspace

import (
	"cmp"
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strings"
	"time"

	"catena/internal/contact"
	"catena/internal/device"
	"catena/internal/dialect/hand"
	"catena/internal/firmware"
	"catena/internal/firmware/version"
	"catena/internal/inventory"
	"catena/internal/match"
)

// Version is a version in an expression: it compares in the order of its maker.
type Version struct {
	Text  string
	order version.Order
}

func (v Version) String() string { return v.Text }

// MarshalText writes the version as it is.
func (v Version) MarshalText() ([]byte, error) { return []byte(v.Text), nil }

// Row is one component of a device as lists, expressions and machine-readable output see
// it. The names of its fields in JSON are a promise; they are the columns of CSV, and the
// names for sorting and in expressions, too. What each is about stands in the help and in
// docs/files.md.
type Row struct {
	ID         string    `json:"id" expr:"id" about:"its ID"`
	Name       string    `json:"name" expr:"name" about:"its name"`
	Address    string    `json:"address" expr:"address" about:"its address and port"`
	Parent     string    `json:"parent" expr:"parent" about:"the parent that it is reached through"`
	Vendor     string    `json:"vendor" expr:"vendor" about:"its vendor"`
	Model      string    `json:"model" expr:"model" about:"its model"`
	Kind       string    `json:"kind" expr:"kind" about:"camera, recorder, switch, controller ..."`
	Hardware   Version   `json:"hardware" expr:"hardware" about:"its hardware revision"`
	Serial     string    `json:"serial" expr:"serial" about:"its serial number"`
	Version    Version   `json:"version" expr:"version" about:"the current version of the component"`
	Component  string    `json:"component" expr:"component" about:"main, or a part with its own version"`
	Status     string    `json:"status" expr:"status" about:"unsafe, behind, current ... (catena match --help)"`
	Target     Version   `json:"target" expr:"target" about:"its target version"`
	Path       []string  `json:"path" expr:"path" about:"the intermediate versions, and the target last"`
	Image      string    `json:"image" expr:"image" about:"SHA-256 of the target's image"`
	File       string    `json:"file" expr:"file" about:"the file name of that image"`
	Rollback   string    `json:"rollback" expr:"rollback" about:"its rollback: slot, image, or none"`
	TargetRule string    `json:"target_rule" expr:"target_rule" about:"the rule that sets its target"`
	Reason     string    `json:"reason" expr:"reason" about:"the reason for its status"`
	Protocol   string    `json:"protocol" expr:"protocol" about:"the protocol for reading and flashing it"`
	FoundVia   []string  `json:"found_via" expr:"found_via" about:"the protocols that found it"`
	Access     string    `json:"access" expr:"access" about:"ok, login-refused, identity-changed, silent, unreadable or away"`
	Groups     []string  `json:"groups" expr:"groups" about:"its groups"`
	FailedIn   string    `json:"failed_in" expr:"failed_in" about:"the job in which it failed on the same path"`
	ParkedIn   string    `json:"parked_in" expr:"parked_in" about:"the job that parked it"`
	Entered    time.Time `json:"entered,omitzero" expr:"entered" about:"when it was entered, if it was not left"`
	MAC        string    `json:"mac" expr:"mac" about:"its MAC address"`
	Says       string    `json:"says" expr:"says" about:"its own description"`
	Seen       time.Time `json:"seen,omitzero" expr:"seen" about:"when it was last read"`
	Updated    time.Time `json:"updated,omitzero" expr:"updated" about:"when a job last verified a new version"`
	Newer      Version   `json:"newer" expr:"newer" about:"the latest version in a feed, if later than its target"`
	Ready      string    `json:"ready" expr:"ready" about:"yes, or what forbade an update when it was read; empty: not known"`
	MayChange  string    `json:"may_change" expr:"may_change" about:"whether its login may update it: yes, no or untested"`
	Site       string    `json:"site" expr:"site" about:"the name of its site"`
	Place      string    `json:"place" expr:"place" about:"its place (places: in site.yaml, or the inventory)"`
	Spare      bool      `json:"spare" expr:"spare" about:"it is a spare: kept, and not in service"`
	// Free are the free fields of the inventory.
	Free map[string]string `json:"fields" expr:"fields" about:"the free fields of the inventory: fields.warranty"`

	HasNotes bool      `json:"-" expr:"-"` // a version on its path has release notes
	Match    match.Row `json:"-" expr:"-"`
	sendable bool      `json:"-" expr:"-"`
}

// Columns are the names of a Row's fields in JSON, in their order.
var Columns = tagsOf(reflect.TypeFor[Row](), "expr")

// Abouts tell what each of the Columns is about.
var Abouts = tagsOf(reflect.TypeFor[Row](), "about")

func tagsOf(t reflect.Type, key string) []string {
	var out []string
	for f := range t.Fields() {
		if f.Tag.Get("json") != "-" {
			out = append(out, f.Tag.Get(key))
		}
	}
	return out
}

// Field is the text of the field of that column; empty where there is none.
func (r *Row) Field(column string) string {
	if free, is := strings.CutPrefix(column, freePrefix); is {
		return r.Free[free]
	}
	i := slices.Index(Columns, column)
	if i < 0 {
		return ""
	}
	return r.field(i)
}

// freePrefix starts the name of a free field.
const freePrefix = "fields."

// IsColumn tells whether a word is one of the Columns, or a free field of the inventory.
func IsColumn(word string) bool {
	free, is := strings.CutPrefix(word, freePrefix)
	return slices.Contains(Columns, word) || is && inventory.IsField(free)
}

// Fields are the texts of all Columns.
func (r *Row) Fields() []string {
	out := make([]string, len(Columns))
	for i := range out {
		out[i] = r.field(i)
	}
	return out
}

func (r *Row) field(i int) string {
	switch v := reflect.ValueOf(r).Elem().Field(i).Interface().(type) {
	case string:
		return v
	case Version:
		return v.Text
	case []string:
		return strings.Join(v, " ")
	case map[string]string:
		var out []string
		for _, name := range slices.Sorted(maps.Keys(v)) {
			out = append(out, name+"="+v[name])
		}
		return strings.Join(out, "; ")
	case time.Time:
		if v.IsZero() {
			return ""
		}
		return v.Format(time.RFC3339)
	default:
		return fmt.Sprint(v)
	}
}

// Part is how a row is called: a component other than the main one is named.
func (r Row) Part() string {
	if r.Component == firmware.Main {
		return r.Name
	}
	return r.Name + " / " + r.Component
}

// Where is its address, or which device it is reached through.
func (r Row) Where() string {
	if r.Parent != "" {
		return "via " + r.Parent
	}
	if r.Match.Device.Dialect == hand.Name {
		return "by hand"
	}
	return r.Address
}

// InTree is its name in a list where children stand below their parent.
func (r Row) InTree() string {
	if r.Parent != "" {
		return "└ " + r.Name
	}
	return r.Name
}

// Stands returns the status in words: with whether the device has an image that waits for its
// restart.
func (r Row) Stands() string {
	if r.ParkedIn != "" {
		return r.Status + ", parked"
	}
	return r.Status
}

// Sendable tells whether the device's dialect can send it an image.
func (r Row) Sendable() bool { return r.sendable }

// sendsTo tells whether a device's dialect can send it an image. Each dialect is asked once: that
// opens a session, and a list may have thousands of devices.
func (w *Workspace) sendsTo(e device.Endpoint) bool {
	can, asked := w.sends[e.Dialect]
	if !asked {
		can = w.Dialects.Updates(e)
		w.sends[e.Dialect] = can
	}
	return can
}

// Mains are the rows of main components: one for each device.
func Mains(rows []Row) []Row {
	return slices.DeleteFunc(slices.Clone(rows), func(r Row) bool {
		return r.Component != firmware.Main
	})
}

// Apart tells the devices in service from the spares, which are listed apart.
func Apart(rows []Row) (inService, spares []Row) {
	for _, r := range rows {
		if r.Spare {
			spares = append(spares, r)
		} else {
			inService = append(inService, r)
		}
	}
	return inService, spares
}

// Ready is the field ready of a device that nothing is known to forbid an update of.
const Ready = "yes"

// Row makes the row of a match.
func (w *Workspace) Row(m match.Row) (Row, error) {
	updated, err := w.history.Updated(m.Device.ID)
	if err != nil {
		return Row{}, err
	}
	parked, err := w.history.ParkedIn(m.Device.ID)
	order, d := w.matcher.Order(m.Device), m.Device
	r := Row{Site: w.Site.Name, ID: d.ID, Name: d.Name,
		Address: strings.TrimSuffix(d.Address, ":0"), Vendor: d.Vendor,
		Model:    d.Model,
		Kind:     d.Kind,
		Hardware: Version{Text: d.Hardware}, Serial: d.Serial, Version: Version{m.Version, order},
		Component: m.Component,
		Status:    string(m.Status), Target: Version{m.Target, order}, Path: []string{},
		TargetRule: strings.TrimPrefix(m.Rule, ": "), Reason: m.Reason,
		Protocol: w.Dialects.Protocol(d.Dialect),
		FoundVia: notNil(d.FoundVia), Access: string(d.Access), Groups: notNil(w.Site.GroupsOf(d)),
		MAC: d.MAC, Says: d.Says, Seen: w.seen[d.ID], Updated: updated, ParkedIn: parked,
		Entered: w.entered[d.ID], Match: m,
		sendable: w.sendsTo(d.Endpoint) || contact.ByHand(w.Site, d)}
	r.Newer = Version{w.newer(m), order}
	_, r.Place = w.Site.Place(d)
	item, _ := w.Site.Inventory.Find(d)
	r.Spare, r.Free, r.Serial = item.Spare, item.Fields, cmp.Or(r.Serial, item.Serial)
	if r.Free == nil {
		r.Free = map[string]string{}
	}
	if forbids, known := d.Forbids[m.Component]; known {
		r.Ready = cmp.Or(forbids, Ready)
	}
	if right := d.MayChange(); right != nil {
		r.MayChange = string(right.Result)
	}
	if d.Through != "" {
		r.Parent = w.nameOf[d.Through]
	}
	if w.unknown[d.ID] {
		r.Version.Text = "?"
	}
	for _, h := range m.Path {
		r.Path = append(r.Path, h.Image.Version)
		r.HasNotes = r.HasNotes || w.Shelf.HasNotes(h.Image.SHA256)
	}
	if image := m.Image(); image != nil {
		r.Image, r.File, r.Rollback = image.SHA256, image.File, string(m.Rollback())
	}
	return r, err
}

// newer is the latest version that a feed offers for a component and that is later than what it
// runs and than its target; empty: there is none.
func (w *Workspace) newer(m match.Row) (out string) {
	d, order := m.Device, w.matcher.Order(m.Device)
	if m.Version == "" {
		return ""
	}
	for _, o := range w.offered {
		i := firmware.Image{Manifest: o.Manifest}
		if cmp.Or(i.Component, firmware.Main) != m.Component || !i.Fits(d.Vendor, d.Model, d.Hardware) ||
			version.Unfinished(i.Version) || w.matcher.Withdrawn(d, m.Component, i.Version) != "" {
			continue
		}
		later := true
		for _, than := range []string{m.Version, m.Target, out} {
			later = later && (than == "" || order.Compare(i.Version, than) > 0)
		}
		if later {
			out = i.Version
		}
	}
	return out
}

// PageOf is the maker's page with images for a device, as a manifest on the shelf or its family has
// it; empty: it is not known.
func (w *Workspace) PageOf(d device.Device) string {
	for _, i := range slices.Backward(w.matcher.For(d, firmware.Main)) {
		if i.From != "" {
			return i.From
		}
	}
	return w.Families.Of(d.Vendor, d.Model).From
}

// cautious adds to a row with a path what speaks against flashing it automatically.
func (w *Workspace) cautious(r Row) (Row, error) {
	if len(r.Path) == 0 {
		return r, nil
	}
	id, back, err := w.history.LeftAlone(r.ID, r.Component, r.Target.Text)
	if err != nil {
		return r, err
	}
	if id != "" {
		r.FailedIn = id
		why := "the update to " + r.Target.Text + " failed in "
		if back {
			why = "rolled back from " + r.Target.Text + " in "
		}
		r.Reason = why + id + "; to try again, name it: catena flash " + r.Name + "; " + r.Reason
	}
	if r.ParkedIn != "" {
		r.Reason = "it was parked with its image in " + r.ParkedIn + " and waits for its restart; " +
			r.Reason
	}
	if !r.Entered.IsZero() {
		r.Reason = "it was entered for an update and could not be left; " + r.Reason
	}
	if !r.Sendable() {
		r.Reason = "Catena cannot send it an image yet; " + r.Reason
	}
	return r, nil
}

func notNil(list []string) []string {
	if list == nil {
		return []string{}
	}
	return list
}
