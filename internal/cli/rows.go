package cli

import (
	"cmp"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"github.com/expr-lang/expr"

	"catena/internal/cli/view"
	"catena/internal/firmware/version"
	"catena/internal/match"
	"catena/internal/site"
)

// V is a version in an expression: it compares in the order of versions.
type V string

// device is one device as lists, expressions and machine-readable output see it.
// The names of its fields in JSON are a promise.
type device struct {
	ID        string     `json:"id" expr:"id"`
	Name      string     `json:"name" expr:"name"`
	Address   string     `json:"address" expr:"address"`
	Vendor    string     `json:"vendor" expr:"vendor"`
	Model     string     `json:"model" expr:"model"`
	Hardware  V          `json:"hardware" expr:"hardware"`
	Serial    string     `json:"serial" expr:"serial"`
	Version   V          `json:"version" expr:"version"`
	Component string     `json:"component" expr:"component"`
	Standing  string     `json:"standing" expr:"standing"`
	Target    V          `json:"target" expr:"target"`
	Image     string     `json:"image" expr:"image"` // SHA-256
	File      string     `json:"file" expr:"file"`
	WayBack   string     `json:"way_back" expr:"way_back"`
	Reason    string     `json:"reason" expr:"reason"`
	Dialect   string     `json:"dialect" expr:"dialect"`
	Heard     []string   `json:"heard" expr:"heard"`
	Reach     site.Reach `json:"reach" expr:"reach"`

	row match.Row
}

func toDevice(r match.Row) device {
	d := device{ID: r.Device.ID, Name: r.Device.Name, Address: r.Device.Address, Vendor: r.Device.Vendor, Model: r.Device.Model,
		Hardware: V(r.Device.Hardware), Serial: r.Device.Serial, Version: V(r.Device.Version), Component: r.Component,
		Standing: string(r.Standing), Target: V(r.Target), Reason: r.Reason, Dialect: r.Device.Dialect, Heard: r.Device.Heard,
		Reach: r.Device.Reach, row: r}
	if d.Heard == nil {
		d.Heard = []string{}
	}
	if r.Image != nil {
		d.Image, d.File, d.WayBack = r.Image.SHA256, r.Image.File, string(r.WayBack())
	}
	return d
}

// columns of CSV, and names for --sort.
var deviceColumns = []string{"id", "name", "address", "vendor", "model", "hardware", "serial", "version", "component",
	"standing", "target", "image", "file", "way_back", "reason", "dialect", "heard", "reach"}

func (d device) field(name string) string {
	return map[string]string{"id": d.ID, "name": d.Name, "address": d.Address, "vendor": d.Vendor, "model": d.Model,
		"hardware": string(d.Hardware), "serial": d.Serial, "version": string(d.Version), "component": d.Component,
		"standing": d.Standing, "target": string(d.Target), "image": d.Image, "file": d.File, "way_back": d.WayBack,
		"reason": d.Reason, "dialect": d.Dialect, "heard": strings.Join(d.Heard, " "), "reach": string(d.Reach)}[name]
}

// matched returns every known device against the shelf.
func (a *app) matched(h *home) ([]device, *match.Matcher, error) {
	known, err := h.ledger.Devices()
	if err != nil {
		return nil, nil, err
	}
	s, err := a.openShelf()
	if err != nil {
		return nil, nil, err
	}
	images, err := s.List()
	if err != nil {
		return nil, nil, err
	}
	m := match.New(images, h.site)
	var out []device
	for _, r := range m.All(known) {
		out = append(out, toDevice(r))
	}
	return out, m, nil
}

// choice is what --where and --sort say.
type choice struct {
	where, sort string
}

// apply keeps the devices for which the expression holds, in the order wanted: by
// default what wants a person first, then by name.
func (c choice) apply(devices []device) ([]device, error) {
	if c.where != "" {
		var err error
		if devices, err = filter(devices, c.where); err != nil {
			return nil, err
		}
	}
	if c.sort != "" && !slices.Contains(deviceColumns, c.sort) {
		return nil, usage("--sort %q is no field; there are %s", c.sort, strings.Join(deviceColumns, ", "))
	}
	slices.SortStableFunc(devices, func(x, y device) int {
		if c.sort != "" {
			return version.Compare(x.field(c.sort), y.field(c.sort))
		}
		return cmp.Or(slices.Index(match.Standings, match.Standing(x.Standing))-slices.Index(match.Standings, match.Standing(y.Standing)),
			version.Compare(x.Name, y.Name))
	})
	return devices, nil
}

func filter(devices []device, where string) ([]device, error) {
	less := func(op string, holds func(int) bool) []expr.Option {
		name := "version" + op
		return []expr.Option{
			expr.Function(name, func(p ...any) (any, error) {
				return holds(version.Compare(fmt.Sprint(p[0]), fmt.Sprint(p[1]))), nil
			}, new(func(V, string) bool), new(func(string, V) bool), new(func(V, V) bool)),
			expr.Operator(op, name),
		}
	}
	options := []expr.Option{expr.Env(device{}), expr.AsBool()}
	for op, holds := range map[string]func(int) bool{
		"<": func(c int) bool { return c < 0 }, "<=": func(c int) bool { return c <= 0 },
		">": func(c int) bool { return c > 0 }, ">=": func(c int) bool { return c >= 0 },
		"==": func(c int) bool { return c == 0 }, "!=": func(c int) bool { return c != 0 },
	} {
		options = append(options, less(op, holds)...)
	}
	program, err := expr.Compile(where, options...)
	if err != nil {
		return nil, usage("--where: %w\nwrite for example: model == \"WX-40\" && version < \"3.2\"", err)
	}
	var out []device
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

// print prints devices in the format asked for; table makes the table.
func (a *app) printDevices(devices []device, table func([]device) view.Table) error {
	switch a.format {
	case "json":
		return a.printJSON(devices)
	case "csv":
		var rows [][]string
		for _, d := range devices {
			var row []string
			for _, c := range deviceColumns {
				row = append(row, d.field(c))
			}
			rows = append(rows, row)
		}
		return view.CSV(a.out, deviceColumns, rows)
	}
	t := table(devices)
	t.Draw(a.out, a.style(a.out))
	return nil
}

// printJSON prints one array, with a line for each of its values.
func (a *app) printJSON(values any) error {
	raw, err := json.Marshal(values)
	if err != nil {
		return err
	}
	var list []json.RawMessage
	if json.Unmarshal(raw, &list) != nil {
		_, err = fmt.Fprintf(a.out, "%s\n", raw)
		return err
	}
	lines := make([]string, len(list))
	for i, v := range list {
		lines[i] = string(v)
	}
	_, err = fmt.Fprintf(a.out, "[%s]\n", strings.Join(lines, ",\n "))
	return err
}

// standingTone is the colour of a standing.
func standingTone(s string) view.Tone {
	switch match.Standing(s) {
	case match.Current:
		return view.Good
	case match.Behind:
		return view.Warn
	case match.Locked, match.Away:
		return view.Bad
	}
	return view.Quiet
}

// counted writes how many devices have which standing: 3 behind, 1 locked.
func counted(devices []device) string {
	n := map[string]int{}
	for _, d := range devices {
		n[d.Standing]++
	}
	var parts []string
	for _, s := range match.Standings {
		if c := n[string(s)]; c > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", c, s))
		}
	}
	return strings.Join(parts, ", ")
}
