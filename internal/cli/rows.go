package cli

import (
	"cmp"
	"encoding/json"
	"fmt"
	"reflect"
	"slices"
	"strings"

	"github.com/expr-lang/expr"

	"catena/internal/cli/view"
	"catena/internal/firmware"
	"catena/internal/firmware/version"
	"catena/internal/job"
	"catena/internal/match"
	"catena/internal/shelf"
	"catena/internal/workspace"
)

// V is a version in an expression: it compares in the order of its maker.
type V struct {
	Text  string
	order version.Order
}

func (v V) String() string               { return v.Text }
func (v V) MarshalText() ([]byte, error) { return []byte(v.Text), nil }

// device is one device as lists, expressions and machine-readable output see it.
// The names of its fields in JSON are a promise.
type row struct {
	ID         string   `json:"id" expr:"id"`
	Name       string   `json:"name" expr:"name"`
	Address    string   `json:"address" expr:"address"`
	Vendor     string   `json:"vendor" expr:"vendor"`
	Model      string   `json:"model" expr:"model"`
	Hardware   V        `json:"hardware" expr:"hardware"`
	Serial     string   `json:"serial" expr:"serial"`
	Version    V        `json:"version" expr:"version"`
	Component  string   `json:"component" expr:"component"`
	Status     string   `json:"status" expr:"status"`
	Target     V        `json:"target" expr:"target"`
	Path       []string `json:"path" expr:"path"`   // the versions on the way, the target last
	Image      string   `json:"image" expr:"image"` // SHA-256, of the target
	File       string   `json:"file" expr:"file"`
	Rollback   string   `json:"rollback" expr:"rollback"`
	TargetRule string   `json:"target_rule" expr:"target_rule"`
	Reason     string   `json:"reason" expr:"reason"`
	Dialect    string   `json:"dialect" expr:"dialect"`
	FoundVia   []string `json:"found_via" expr:"found_via"`
	Access     string   `json:"access" expr:"access"`
	Groups     []string `json:"groups" expr:"groups"`
	FailedIn   string   `json:"failed_in" expr:"failed_in"` // the job in which it failed on the way to the target
	MAC        string   `json:"mac" expr:"mac"`             // its hardware address
	Says       string   `json:"says" expr:"says"`           // what it says of itself in words

	match match.Row
}

func (p *picture) row(r match.Row) row {
	order := p.matcher.Order(r.Device)
	d := row{ID: r.Device.ID, Name: r.Device.Name, Address: strings.TrimSuffix(r.Device.Address, ":0"), Vendor: r.Device.Vendor, Model: r.Device.Model,
		Hardware: V{Text: r.Device.Hardware}, Serial: r.Device.Serial, Version: V{r.Version, order}, Component: r.Component,
		Status: string(r.Status), Target: V{r.Target, order}, TargetRule: strings.TrimPrefix(r.Rule, ": "), Reason: r.Reason, Dialect: r.Device.Dialect,
		FoundVia: r.Device.FoundVia, Access: string(r.Device.Access), MAC: r.Device.MAC, Says: r.Device.Says, Groups: p.home.site.GroupsOf(r.Device), Path: []string{}, match: r}
	if d.FoundVia == nil {
		d.FoundVia = []string{}
	}
	if d.Groups == nil {
		d.Groups = []string{}
	}
	for _, h := range r.Path {
		d.Path = append(d.Path, h.Image.Version)
	}
	if image := r.Image(); image != nil {
		d.Image, d.File, d.Rollback = image.SHA256, image.File, string(r.Rollback())
	}
	return d
}

// deviceColumns are the columns of CSV and the names for --sort: the fields of a row, by
// their names in JSON. A field that is added there is in all of these.
var deviceColumns = columnsOf(reflect.TypeFor[row]())

func columnsOf(t reflect.Type) []string {
	var out []string
	for f := range t.Fields() {
		if name := f.Tag.Get("json"); name != "" {
			out = append(out, name)
		}
	}
	return out
}

// field is the text of the field with that name.
func (d row) field(name string) string {
	i := slices.Index(deviceColumns, name)
	if i < 0 {
		return ""
	}
	switch v := reflect.ValueOf(d).Field(i).Interface().(type) {
	case []string:
		return strings.Join(v, " ")
	default:
		return fmt.Sprint(v)
	}
}

// picture is a site with its shelf: every device known, matched.
type picture struct {
	home    *home
	shelf   *shelf.Shelf
	matcher *match.Matcher
	devices []row
	jobs    []job.State
}

// look opens the site and the shelf and matches every device. The caller closes the
// home.
func (a *app) look() (*picture, error) {
	h, err := a.openSite()
	if err != nil {
		return nil, err
	}
	p := &picture{home: h}
	if err := p.match(a); err != nil {
		h.Close()
		return nil, err
	}
	return p, nil
}

func (p *picture) match(a *app) error {
	known, err := workspace.Devices(p.home.ledger)
	if err != nil {
		return err
	}
	if p.shelf, err = a.openShelf(); err != nil {
		return err
	}
	if err := p.shelf.Remember(p.home.dir); err != nil {
		return err
	}
	images, err := p.shelf.List()
	if err != nil {
		return err
	}
	families, err := a.families(p.home.dir, p.shelf)
	if err != nil {
		return err
	}
	withdrawn, err := withdrawals(p.shelf)
	if err != nil {
		return err
	}
	if p.jobs, err = job.Jobs(p.home.ledger); err != nil {
		return err
	}
	p.matcher = match.New(match.Input{Images: images, Site: p.home.site, Withdrawn: withdrawn, Order: families.Order, Left: p.left})
	p.devices = nil
	for _, r := range p.matcher.All(known) {
		d := p.row(r)
		if id, ok := job.FailedIn(p.jobs, d.ID, d.Component, d.Target.Text); ok && len(d.Path) > 0 {
			d.FailedIn = id
			d.Reason = fmt.Sprintf("it failed on the way there in %s: name it to try again; %s", id, d.Reason)
		}
		if len(d.Path) > 0 && !d.takesImages() { // the second opens a session
			d.Reason = "no way is known yet to send it an image; " + d.Reason
		}
		p.devices = append(p.devices, d)
	}
	return nil
}

// left is what the last job left of a device. The device is the truth: one that a later
// scan has read is no longer interrupted, nor stranded because it was away.
func (p *picture) left(id string) (match.Status, string) {
	s, d, ok := job.Left(p.jobs, id)
	if !ok {
		return "", ""
	}
	read, err := workspace.ReadSince(p.home.ledger, id, d.Since)
	switch {
	case err == nil && read && (d.Step != job.Stranded || d.Cause.Away()):
		return "", ""
	case d.Step == job.Stranded:
		return match.Stranded, "in " + s.ID + ": " + d.Reason
	}
	return match.Interrupted, fmt.Sprintf("%s died while it was %s", s.ID, d.Step)
}

// withdrawals are what feeds and advisories say must not run.
func withdrawals(s *shelf.Shelf) ([]match.Withdrawal, error) {
	var out []match.Withdrawal
	fromFeeds, err := s.Withdrawals()
	if err != nil {
		return nil, err
	}
	for _, w := range fromFeeds {
		out = append(out, match.Withdrawal{Vendor: w.Vendor, Model: w.Model, Versions: w.Versions, Reason: w.Because})
	}
	advisories, err := s.Advisories()
	if err != nil {
		return nil, err
	}
	for _, a := range advisories {
		for _, st := range a.Statements {
			out = append(out, match.Withdrawal{Vendor: st.Vendor, Model: st.Model, Versions: st.Versions, Reason: "advisory " + a.ID + ", " + a.Title})
		}
	}
	return out, nil
}

// takesImages tells whether the device's dialect can send it an image.
func (d row) takesImages() bool {
	return workspace.Dialects.Updates(d.match.Device.Endpoint)
}

// part is how a row is called in tables: a component other than the main one is named.
func (d row) part() string {
	if d.Component == firmware.Main {
		return d.Name
	}
	return d.Name + " / " + d.Component
}

// choose keeps the devices that are named, if any are, and for which --where holds.
func (p *picture) choose(names []string, c choice) (devices []row, err error) {
	devices = p.devices
	if len(names) > 0 {
		if devices, err = pick(devices, names); err != nil {
			return nil, err
		}
	}
	return c.apply(devices)
}

// choice is what --where and --sort say.
type choice struct {
	where, sort string
}

// apply keeps the devices for which the expression holds, in the order wanted: by
// default what wants a person first, then by name.
func (c choice) apply(devices []row) ([]row, error) {
	if c.where != "" {
		var err error
		if devices, err = filter(devices, c.where); err != nil {
			return nil, err
		}
	}
	if c.sort != "" && !slices.Contains(deviceColumns, c.sort) {
		return nil, usage("--sort %q is not a field; there are %s", c.sort, strings.Join(deviceColumns, ", "))
	}
	devices = slices.Clone(devices) // the picture keeps its own order
	slices.SortStableFunc(devices, func(x, y row) int {
		if c.sort != "" {
			return version.Compare(x.field(c.sort), y.field(c.sort))
		}
		return cmp.Or(slices.Index(match.Statuses, match.Status(x.Status))-slices.Index(match.Statuses, match.Status(y.Status)),
			version.Compare(x.Name, y.Name), strings.Compare(x.mainFirst(), y.mainFirst()))
	})
	return devices, nil
}

func filter(devices []row, where string) ([]row, error) {
	less := func(op string, holds func(int) bool) []expr.Option {
		name := "version" + op
		return []expr.Option{
			expr.Function(name, func(p ...any) (any, error) {
				order, texts := version.Order{}, [2]string{}
				for i, side := range p {
					texts[i] = fmt.Sprint(side)
					if v, ok := side.(V); ok {
						order = v.order
					}
				}
				return holds(order.Compare(texts[0], texts[1])), nil
			}, new(func(V, string) bool), new(func(string, V) bool), new(func(V, V) bool)),
			expr.Operator(op, name),
		}
	}
	meets := expr.Function("meets", func(p ...any) (any, error) {
		v, _ := p[0].(V)
		c, err := version.ParseConstraint(fmt.Sprint(p[1]))
		return v.Text != "" && c.Holds(v.order, v.Text), err
	}, new(func(V, string) bool))
	options := []expr.Option{expr.Env(row{}), expr.AsBool(), meets}
	for op, holds := range map[string]func(int) bool{
		"<": func(c int) bool { return c < 0 }, "<=": func(c int) bool { return c <= 0 },
		">": func(c int) bool { return c > 0 }, ">=": func(c int) bool { return c >= 0 },
		"==": func(c int) bool { return c == 0 }, "!=": func(c int) bool { return c != 0 },
	} {
		options = append(options, less(op, holds)...)
	}
	program, err := expr.Compile(where, options...)
	if err != nil {
		return nil, usage("--where: %w\nwrite for example: model == \"WX-40\" && version < \"3.2\", or: meets(version, \">= 2.0, < 4\")", err)
	}
	var out []row
	for _, d := range devices {
		holds, err := expr.Run(program, d)
		if err != nil {
			return nil, usage("--where: %w", err)
		}
		if holds == true {
			out = append(out, d)
		}
	}
	return out, nil
}

// printDevices prints devices in the format asked for; table makes the table.
func (a *app) printDevices(devices []row, table func([]row) view.Table) error {
	if a.format == "table" {
		return a.emit(devices, table(devices))
	}
	all := view.Table{Columns: deviceColumns}
	for _, d := range devices {
		var cells []view.Cell
		for _, c := range deviceColumns {
			cells = append(cells, view.Cell{Text: d.field(c)})
		}
		all.Add(cells...)
	}
	return a.emit(devices, all)
}

// emit prints a list in the format asked for: value as JSON, t as a table or as CSV. A
// table without columns has no CSV, and is not drawn.
func (a *app) emit(value any, t view.Table) error {
	switch a.format {
	case "json":
		return a.printJSON(value)
	case "csv":
		if len(t.Columns) == 0 {
			return usage("this command has no CSV; use --format json")
		}
		var lines [][]string
		for _, r := range t.Rows {
			var line []string
			for _, c := range r {
				line = append(line, c.Text)
			}
			lines = append(lines, line)
		}
		return view.CSV(a.out, t.Columns, lines)
	}
	t.Draw(a.out, a.style(a.out))
	return nil
}

// encode writes a value as JSON for programs that read it, not for a web page.
func encode(value any) (string, error) {
	var b strings.Builder
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	err := e.Encode(value)
	return strings.TrimSuffix(b.String(), "\n"), err
}

// printJSON prints one array, with a line for each of its values, or one object.
func (a *app) printJSON(value any) error {
	var lines []string
	if list := reflect.ValueOf(value); list.Kind() == reflect.Slice {
		for i := range list.Len() {
			line, err := encode(list.Index(i).Interface())
			if err != nil {
				return err
			}
			lines = append(lines, line)
		}
		_, err := fmt.Fprintf(a.out, "[%s]\n", strings.Join(lines, ",\n "))
		return err
	}
	text, err := encode(value)
	if err == nil {
		_, err = fmt.Fprintln(a.out, text)
	}
	return err
}

// statusTone is the colour of a status.
func statusTone(s string) view.Tone {
	switch match.Status(s) {
	case match.Stranded, match.Interrupted, match.Unsafe, match.Away, match.NoAccess:
		return view.Bad // these need a person, and nothing else is coloured
	}
	return view.Quiet
}

// mainFirst sorts the main component before the others.
func (d row) mainFirst() string {
	if d.Component == firmware.Main {
		return ""
	}
	return d.Component
}

// mains are the rows of main components: one for each device.
func mains(devices []row) []row {
	return slices.DeleteFunc(slices.Clone(devices), func(d row) bool { return d.Component != firmware.Main })
}

// many counts devices and, where there are more rows than devices, components.
func many(devices []row) string {
	ids := map[string]bool{}
	for _, d := range devices {
		ids[d.ID] = true
	}
	text := view.Plural(len(ids), "device")
	if len(devices) > len(ids) {
		text += fmt.Sprintf(" with %d components", len(devices))
	}
	return text
}

// counted writes how many devices have which status: 3 behind, 1 locked.
func counted(devices []row) string {
	n := map[string]int{}
	for _, d := range devices {
		n[d.Status]++
	}
	return inWords(n)
}

func inWords(n map[string]int) string {
	var parts []string
	for _, s := range match.Statuses {
		if c := n[string(s)]; c > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", c, s))
		}
	}
	return strings.Join(parts, ", ")
}
