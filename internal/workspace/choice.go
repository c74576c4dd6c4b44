package workspace

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"github.com/expr-lang/expr"

	"catena/internal/device"
	"catena/internal/firmware"
	"catena/internal/firmware/version"
	"catena/internal/match"
	"catena/internal/record"
)

// Choice says which rows a person wants, and in which order.
type Choice struct {
	Names []string // words that each mean a device, or a group of the site; empty: all
	// Except are such words for what is left out; Of knows no names, and leaves nothing out.
	Except []string
	Where  string // an expression over the columns; empty: all
	Sort   string // a column; empty: what needs a person first, then by name
	// Tree: by name, children below their parents, whatever needs a person; Sort is empty
	Tree bool
}

// WhereError is returned for an expression that is not one, or fails.
type WhereError struct{ Err error }

func (e *WhereError) Error() string { return e.Err.Error() }
func (e *WhereError) Unwrap() error { return e.Err }

// ColumnError is returned for a word that is not a column.
type ColumnError struct{ Word string }

func (e *ColumnError) Error() string {
	return fmt.Sprintf("%q is not a field; there are %s", e.Word, strings.Join(Columns, ", "))
}

// Choose returns the rows of a choice. Every name must mean a device. Its errors are
// UnknownDeviceError, WhereError and ColumnError.
func (w *Workspace) Choose(c Choice) ([]Row, error) {
	rows := w.Rows
	if len(c.Names) > 0 {
		var err error
		rows, err = named(rows, w.ungrouped(c.Names))
		if err != nil {
			return nil, err
		}
	}
	if len(c.Except) > 0 {
		out, err := named(w.Rows, w.ungrouped(c.Except))
		if err != nil {
			return nil, err
		}
		rows = slices.DeleteFunc(slices.Clone(rows), func(r Row) bool {
			return slices.ContainsFunc(out, func(o Row) bool { return o.ID == r.ID })
		})
	}
	return c.Of(rows)
}

// ungrouped puts the devices of a group in the place of its name, where no device is called so.
func (w *Workspace) ungrouped(names []string) (out []string) {
	for _, name := range names {
		_, isGroup := w.Site.Groups[name]
		if !isGroup || w.Means(name) == nil {
			out = append(out, name)
			continue
		}
		for _, d := range w.Devices() {
			if w.Site.InGroup(name, d) {
				out = append(out, d.ID)
			}
		}
	}
	return out
}

// named finds the rows of the devices that a person named.
func named(rows []Row, names []string) ([]Row, error) {
	var known []device.Device
	for _, r := range Mains(rows) {
		known = append(known, r.Match.Device)
	}
	var out []Row
	taken := map[string]bool{}
	for _, name := range names {
		devices, err := record.Meant(known, name)
		if err != nil {
			return nil, err
		}
		for _, d := range devices {
			if taken[d.ID] {
				continue
			}
			taken[d.ID] = true
			for _, r := range rows {
				if r.ID == d.ID {
					out = append(out, r)
				}
			}
		}
	}
	return out, nil
}

// Of keeps the rows of one site for which the expression holds, in the order wanted. It leaves the
// rows given as they are. Its errors are a WhereError and a ColumnError.
func (c Choice) Of(rows []Row) ([]Row, error) {
	if c.Sort != "" && !IsColumn(c.Sort) {
		return nil, &ColumnError{Word: c.Sort}
	}
	rows, err := filter(rows, c.Where)
	if err != nil {
		return nil, err
	}
	if c.Sort != "" {
		version.SortBy(rows, func(r *Row) string { return r.Field(c.Sort) }, nil)
		return rows, nil
	}
	families := newFamilies(rows)
	if c.Tree {
		clear(families.urgency)
		for _, r := range rows {
			families.urgency[r.Name] = 0
		}
	}
	slices.SortStableFunc(rows, func(x, y Row) int {
		return cmp.Or(families.urgency[families.head(x)]-families.urgency[families.head(y)],
			version.Compare(families.head(x), families.head(y)), strings.Compare(x.Parent, y.Parent),
			c.urgency(x)-c.urgency(y), version.Compare(x.Name, y.Name),
			strings.Compare(x.mainFirst(), y.mainFirst()))
	})
	return rows, nil
}

// urgency is the row's, where that counts.
func (c Choice) urgency(r Row) int {
	if c.Tree {
		return 0
	}
	return r.urgency()
}

// families are the parents among some rows, with their children: in a list these stand below their
// parent, and together where the most urgent of them belongs.
// by the parent's name, or that of one without children
type families struct{ urgency map[string]int }

func newFamilies(rows []Row) families {
	f := families{map[string]int{}}
	for _, r := range rows {
		if r.Parent == "" {
			f.urgency[r.Name] = len(match.Statuses)
		}
	}
	for _, r := range rows {
		head := f.head(r)
		if was, is := f.urgency[head]; !is || r.urgency() < was {
			f.urgency[head] = r.urgency()
		}
	}
	return f
}

// head is the name of the row's parent, where that is among the rows, else its own.
func (f families) head(r Row) string {
	if _, is := f.urgency[r.Parent]; is && r.Parent != "" {
		return r.Parent
	}
	return r.Name
}

// urgency sorts what needs a person first.
func (r Row) urgency() int { return slices.Index(match.Statuses, match.Status(r.Status)) }

// mainFirst sorts the main component before the others.
func (r Row) mainFirst() string {
	if r.Component == firmware.Main {
		return ""
	}
	return r.Component
}

func filter(rows []Row, where string) ([]Row, error) {
	if where == "" {
		return slices.Clone(rows), nil
	}
	program, err := expr.Compile(where, expressionOptions()...)
	if err != nil {
		return nil, &WhereError{Err: err}
	}
	var out []Row
	for _, r := range rows {
		holds, err := expr.Run(program, r)
		if err != nil {
			return nil, &WhereError{Err: err}
		}
		if holds == true {
			out = append(out, r)
		}
	}
	return out, nil
}

// expressionOptions are the language of an expression: the columns, comparisons of
// versions in the order of their maker, and meets(version, constraint).
func expressionOptions() []expr.Option {
	meets := expr.Function("meets", func(p ...any) (any, error) {
		v, _ := p[0].(Version)
		c, err := version.ParseConstraint(fmt.Sprint(p[1]))
		return v.Text != "" && c.Holds(v.order, v.Text), err
	}, new(func(Version, string) bool))
	options := []expr.Option{expr.Env(Row{}), expr.AsBool(), meets}
	for op, holds := range map[string]func(int) bool{
		"<": func(c int) bool { return c < 0 }, "<=": func(c int) bool { return c <= 0 },
		">": func(c int) bool { return c > 0 }, ">=": func(c int) bool { return c >= 0 },
		"==": func(c int) bool { return c == 0 }, "!=": func(c int) bool { return c != 0 },
	} {
		compare := expr.Function("version"+op, func(sides ...any) (any, error) {
			return holds(compareSides(sides[0], sides[1])), nil
		}, new(func(Version, string) bool), new(func(string, Version) bool),
			new(func(Version, Version) bool))
		options = append(options, compare, expr.Operator(op, "version"+op))
	}
	return options
}

// compareSides compares two sides of an expression of which at least one is a Version: the
// order is the one of the maker of that.
func compareSides(x, y any) int {
	order := version.Order{}
	for _, side := range []any{x, y} {
		if v, ok := side.(Version); ok {
			order = v.order
		}
	}
	return order.Compare(fmt.Sprint(x), fmt.Sprint(y))
}
