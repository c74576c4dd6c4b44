package workspace

import (
	"fmt"
	"reflect"
	"slices"
	"strings"
	"time"

	"catena/internal/firmware"
	"catena/internal/firmware/version"
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
// names for sorting and in expressions, too.
type Row struct {
	ID         string   `json:"id" expr:"id"`
	Name       string   `json:"name" expr:"name"`
	Address    string   `json:"address" expr:"address"`
	Vendor     string   `json:"vendor" expr:"vendor"`
	Model      string   `json:"model" expr:"model"`
	Hardware   Version  `json:"hardware" expr:"hardware"`
	Serial     string   `json:"serial" expr:"serial"`
	Version    Version  `json:"version" expr:"version"`
	Component  string   `json:"component" expr:"component"`
	Status     string   `json:"status" expr:"status"`
	Target     Version  `json:"target" expr:"target"`
	Path       []string `json:"path" expr:"path"`   // the versions on the way, the target last
	Image      string   `json:"image" expr:"image"` // SHA-256, of the target
	File       string   `json:"file" expr:"file"`
	Rollback   string   `json:"rollback" expr:"rollback"`
	TargetRule string   `json:"target_rule" expr:"target_rule"`
	Reason     string   `json:"reason" expr:"reason"`
	Protocol   string   `json:"protocol" expr:"protocol"`
	FoundVia   []string `json:"found_via" expr:"found_via"`
	Access     string   `json:"access" expr:"access"`
	Groups     []string `json:"groups" expr:"groups"`
	// the job in which it failed on the way to the target
	FailedIn string `json:"failed_in" expr:"failed_in"`
	MAC      string `json:"mac" expr:"mac"`   // its hardware address
	Says     string `json:"says" expr:"says"` // what it says of itself in words
	// when it was last read, or said something new
	Seen time.Time `json:"seen,omitzero" expr:"seen"`
	// when a job last proved it on a new version
	Updated time.Time `json:"updated,omitzero" expr:"updated"`

	Match match.Row `json:"-" expr:"-"`
}

// Columns are the names of a Row's fields in JSON, in their order.
var Columns = columnsOf(reflect.TypeFor[Row]())

func columnsOf(t reflect.Type) []string {
	var out []string
	for f := range t.Fields() {
		if name, _, _ := strings.Cut(f.Tag.Get("json"), ","); name != "-" {
			out = append(out, name)
		}
	}
	return out
}

// Field is the text of the field of that column; empty where there is none.
func (r Row) Field(column string) string {
	i := slices.Index(Columns, column)
	if i < 0 {
		return ""
	}
	switch v := reflect.ValueOf(r).Field(i).Interface().(type) {
	case []string:
		return strings.Join(v, " ")
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

// Sendable tells whether the device's dialect can send it an image.
func (r Row) Sendable() bool { return Dialects.Updates(r.Match.Device.Endpoint) }

// Mains are the rows of main components: one for each device.
func Mains(rows []Row) []Row {
	return slices.DeleteFunc(slices.Clone(rows), func(r Row) bool {
		return r.Component != firmware.Main
	})
}

// row makes the row of a match.
func (w *Workspace) row(m match.Row) (Row, error) {
	updated, err := w.history.Updated(m.Device.ID)
	order, d := w.matcher.Order(m.Device), m.Device
	r := Row{ID: d.ID, Name: d.Name, Address: strings.TrimSuffix(d.Address, ":0"), Vendor: d.Vendor,
		Model:    d.Model,
		Hardware: Version{Text: d.Hardware}, Serial: d.Serial, Version: Version{m.Version, order},
		Component: m.Component,
		Status:    string(m.Status), Target: Version{m.Target, order}, Path: []string{},
		TargetRule: strings.TrimPrefix(m.Rule, ": "), Reason: m.Reason, Protocol: d.Dialect,
		FoundVia: notNil(d.FoundVia), Access: string(d.Access), Groups: notNil(w.Site.GroupsOf(d)),
		MAC: d.MAC, Says: d.Says, Seen: w.seen[d.ID], Updated: updated, Match: m}
	for _, h := range m.Path {
		r.Path = append(r.Path, h.Image.Version)
	}
	if image := m.Image(); image != nil {
		r.Image, r.File, r.Rollback = image.SHA256, image.File, string(m.Rollback())
	}
	return r, err
}

// cautious adds to a row with a path what speaks against flashing it by itself.
func (w *Workspace) cautious(r Row) (Row, error) {
	if len(r.Path) == 0 {
		return r, nil
	}
	id, err := w.history.FailedIn(r.ID, r.Component, r.Target.Text)
	if err != nil {
		return r, err
	}
	if id != "" {
		r.FailedIn = id
		r.Reason = fmt.Sprintf("it failed on the way there in %s: name it to try again; %s", id,
			r.Reason)
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
