package inventory

import (
	"cmp"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strings"
	"unicode"

	"catena/internal/text"
)

// The columns that a table may have besides free fields.
const (
	name    = "name"
	place   = "place"
	group   = "groups"
	vendor  = "vendor"
	model   = "model"
	serial  = "serial"
	mac     = "mac"
	address = "address"
	spare   = "spare"
	// Skipped is the column of what is not taken.
	Skipped = "-"
)

// Columns are those that a table may have besides free fields.
var Columns = []string{name, place, group, vendor, model, serial, mac, address, spare}

// headings are the words by which a column is known, without spaces and signs.
var headings = map[string]string{
	"name": name, "device": name, "devicename": name, "hostname": name,
	"place": place, "location": place, "room": place, "position": place,
	"group": group, "groups": group,
	"vendor": vendor, "manufacturer": vendor, "maker": vendor, "make": vendor,
	"model": model, "type": model, "devicetype": model, "modelnumber": model,
	"serial": serial, "serialnumber": serial, "serialno": serial, "serialnr": serial, "sn": serial,
	"mac": mac, "macaddress": mac, "ethernetaddress": mac, "hardwareaddress": mac,
	"address": address, "ip": address, "ipaddress": address, "ipv4": address, "ipv4address": address,
	"spare": spare,
	// what an export writes besides, and the devices themselves know better
	"parent": Skipped, "kind": Skipped, "hardware": Skipped, "version": Skipped, "components": Skipped,
	"status": Skipped, "target": Skipped, "seen": Skipped, "updated": Skipped, "id": Skipped,
	"ready": Skipped,
}

// identities are the columns of which a table needs one.
var identities = []string{serial, mac, address, name}

// Column is how a column of a table is read.
type Column struct {
	Heading string `json:"heading"`
	// As is one of Columns, "fields." and the name of a free field, or Skipped.
	As string `json:"as"`
}

// Line is a row of a table that was read, or was not.
type Line struct {
	Row  int  // in the file, from 1
	Item Item // empty where there is a Problem
	// Problem is why the row is left out; Remark is what was changed in it. Both may be empty.
	Problem, Remark string
}

// Table is a list of devices as it was read.
type Table struct {
	Columns []Column
	Lines   []Line
}

// HeadingError is returned for a table whose columns are not understood.
type HeadingError struct{ Reason string }

func (e *HeadingError) Error() string { return e.Reason }

// maxHeading is how many rows may stand above the headings.
const maxHeading = 20

// Read reads the rows of a table, of which one of the first names the columns. as says how headings
// are read that the program does not know, or reads in another way: by heading one of Columns, a
// word for a free field, or Skipped. checkName refuses what cannot be a device's name. Its error is
// a HeadingError.
func Read(rows [][]string, as map[string]string, checkName func(string) error) (Table, error) {
	at := slices.IndexFunc(rows[:min(len(rows), maxHeading)], func(row []string) bool {
		return slices.ContainsFunc(row, func(cell string) bool {
			column, err := columnOf(cell, as)
			return err == nil && slices.Contains(identities, column)
		})
	})
	if at < 0 {
		return Table{}, &HeadingError{fmt.Sprintf("none of the first %d rows has a column for a serial "+
			"number, MAC address, address or name; say which heading is which, for example "+
			"--column 'Code=serial'", maxHeading)}
	}
	var t Table
	taken := map[string]string{}
	used := map[string]bool{}
	for _, cell := range rows[at] {
		column, err := columnOf(cell, as)
		if err != nil {
			return t, err
		}
		cell = text.Clean(cell)
		used[normal(cell)] = true
		if other, is := taken[column]; is && column != Skipped {
			return t, &HeadingError{fmt.Sprintf("%q and %q are both read as %s; leave one out: "+
				"--column '%[2]s=-'", other, cell, column)}
		}
		taken[column] = cell
		t.Columns = append(t.Columns, Column{cell, column})
	}
	for heading := range as {
		if !used[normal(heading)] {
			return t, &HeadingError{fmt.Sprintf("--column: the table has no heading %q", heading)}
		}
	}
	for i, row := range rows[at+1:] {
		if !slices.ContainsFunc(row, func(c string) bool { return strings.TrimSpace(c) != "" }) {
			continue
		}
		l := Line{Row: at + 2 + i}
		item, err := t.item(row)
		if err == nil {
			l.Item, l.Remark, err = item.typed(checkName)
		}
		if err != nil {
			l.Item, l.Problem = Item{}, err.Error()
		}
		t.Lines = append(t.Lines, l)
	}
	t.refuseTwins()
	return t, nil
}

// columnOf is how a column with a heading is read.
func columnOf(heading string, as map[string]string) (string, error) {
	for h, column := range as {
		if normal(h) != normal(heading) {
			continue
		}
		if slices.Contains(Columns, column) || column == Skipped {
			return column, nil
		}
		if !IsField(column) {
			return "", &HeadingError{fmt.Sprintf("--column '%s=%s': that is none of %s, and cannot be "+
				"the name of a field: use small letters, digits and _", h, column,
				strings.Join(Columns, ", "))}
		}
		return "fields." + column, nil
	}
	if column, is := headings[normal(heading)]; is {
		return column, nil
	}
	if f := fieldName(heading); f != "" {
		return "fields." + f, nil
	}
	return Skipped, nil
}

// normal is a heading without spaces, signs and capital letters.
func normal(heading string) string {
	return strings.Map(func(r rune) rune {
		if unicode.IsLetter(r) || unicode.IsDigit(r) {
			return unicode.ToLower(r)
		}
		return -1
	}, heading)
}

// IsField tells whether a free field may be called so: an expression can name it.
func IsField(s string) bool { return s != "" && fieldName(s) == s }

// fieldName is the name of the free field with a heading; empty: it can have none.
func fieldName(heading string) string {
	s := strings.Map(func(r rune) rune {
		if r < unicode.MaxASCII && (unicode.IsLetter(r) || unicode.IsDigit(r)) {
			return unicode.ToLower(r)
		}
		return '_'
	}, strings.TrimPrefix(text.Clean(heading), "fields."))
	for strings.Contains(s, "__") {
		s = strings.ReplaceAll(s, "__", "_")
	}
	return strings.TrimLeft(strings.Trim(s, "_"), "0123456789_")
}

// rounded is a number as a spreadsheet program shows it that has lost its digits.
var rounded = text.Later(`^\d[.,]\d+E\+\d+$`)

// item makes the item of a row.
func (t Table) item(row []string) (i Item, err error) {
	i.Fields = map[string]string{}
	for at, c := range t.Columns {
		if at >= len(row) {
			break
		}
		cell := text.Clean(row[at])
		if cell == "" {
			continue
		}
		switch c.As {
		case name:
			i.Name = cell
		case place:
			i.Place = cell
		case group:
			i.Groups, err = groups(cell)
		case vendor:
			i.Vendor = cell
		case model:
			i.Model = cell
		case serial:
			if rounded().MatchString(cell) {
				err = fmt.Errorf("the serial number %s was rounded by the spreadsheet program; format "+
					"the column as text and enter it again", cell)
			}
			i.Serial = cell
		case mac:
			i.MAC = cleanMAC(cell)
			if i.MAC == "" {
				err = fmt.Errorf("%q is not a MAC address", cell)
			}
		case address:
			i.Address = cell
			if !isAddress(cell) {
				err = fmt.Errorf("%q is not an address", cell)
			}
		case spare:
			i.Spare, err = yes(cell)
		case Skipped:
		default:
			i.Fields[strings.TrimPrefix(c.As, "fields.")] = cell
		}
		if err != nil {
			return i, err
		}
	}
	return i, nil
}

func isAddress(s string) bool { _, err := netip.ParseAddr(s); return err == nil }

// groups reads a list of groups: separated by commas, semicolons or spaces.
func groups(cell string) (out []string, err error) {
	separates := func(r rune) bool { return strings.ContainsRune(",; ", r) }
	for _, g := range strings.FieldsFunc(cell, separates) {
		if text.Name(g) != g {
			return nil, fmt.Errorf("%q cannot be the name of a group; use letters, digits, and the "+
				"signs . _ - only", g)
		}
		out = append(out, g)
	}
	return out, nil
}

// yes reads a yes or a no.
func yes(cell string) (bool, error) {
	switch strings.ToLower(cell) {
	case "yes", "y", "x", "true", "1", "spare":
		return true, nil
	case "no", "n", "false", "0":
		return false, nil
	}
	return false, fmt.Errorf("spare: %q is neither yes nor no", cell)
}

// typed makes a name that can be typed of what a list calls a device, and keys the item.
func (i Item) typed(checkName func(string) error) (Item, string, error) {
	remark := ""
	if i.Name != "" && checkName(i.Name) != nil {
		made := text.Name(i.Name)
		if err := checkName(made); err != nil {
			return i, "", err
		}
		remark = fmt.Sprintf("%q becomes %s", i.Name, made)
		i.Name = made
	}
	i = i.Keyed()
	if i.Key == "" {
		return i, "", fmt.Errorf("it has no serial number, MAC address, address or name")
	}
	return i, remark, nil
}

// refuseTwins leaves out rows that are about the same device, or give two devices one name: none of
// them is more right than the other one.
func (t *Table) refuseTwins() {
	first := map[string]int{}
	twins := map[int]string{}
	for at, l := range t.Lines {
		for kind, word := range l.Item.words() {
			if word == "" {
				continue
			}
			word = kinds[kind] + " " + word
			other, is := first[word]
			if !is {
				first[word] = at
				continue
			}
			for _, x := range [][2]int{{at, other}, {other, at}} {
				twins[x[0]] = fmt.Sprintf("row %d has the same %s", t.Lines[x[1]].Row, word)
			}
		}
	}
	for _, at := range slices.Sorted(maps.Keys(twins)) {
		t.Lines[at] = Line{Row: t.Lines[at].Row, Problem: cmp.Or(t.Lines[at].Problem, twins[at])}
	}
}

// Merge takes the items of a table into an inventory: cells that the table has replace what the
// inventory states, free fields one by one. An item is the same one if it has the same serial
// number, or else the same MAC address, address or name. Whether it is a spare is stated by the
// table only if it has the column.
func (n Inventory) Merge(t Table) (Inventory, error) {
	items := slices.Clone(n.Items)
	hasSpare := slices.ContainsFunc(t.Columns, func(c Column) bool { return c.As == spare })
	for _, l := range t.Lines {
		if l.Problem != "" {
			continue
		}
		item := l.Item
		at := -1
		if old, is := n.Like(item); is { // unless an earlier row gave it another key
			at = slices.IndexFunc(items, func(i Item) bool { return i.Key == old.Key })
		}
		if at < 0 {
			at, items = len(items), append(items, item)
		} else {
			items[at] = items[at].with(item, hasSpare)
		}
		for i := range items { // the newer list knows which device has them now
			if i != at {
				items[i].giveUp(items[at])
			}
		}
	}
	return Of(items)
}

// giveUp clears the name and the addresses that another item has now.
func (i *Item) giveUp(to Item) {
	for _, x := range []struct {
		had *string
		has string
	}{{&i.Name, to.Name}, {&i.MAC, to.MAC}, {&i.Address, to.Address}} {
		if x.has != "" && strings.EqualFold(*x.had, x.has) {
			*x.had = ""
		}
	}
}

// with is an item with what another one states besides.
func (i Item) with(o Item, spare bool) Item {
	for _, x := range []struct {
		to   *string
		from string
	}{{&i.Name, o.Name}, {&i.Place, o.Place}, {&i.Vendor, o.Vendor}, {&i.Model, o.Model},
		{&i.Serial, o.Serial}, {&i.MAC, o.MAC}, {&i.Address, o.Address}} {
		*x.to = cmp.Or(x.from, *x.to)
	}
	if len(o.Groups) > 0 {
		i.Groups = o.Groups
	}
	if spare {
		i.Spare = o.Spare
	}
	i.Fields = maps.Clone(i.Fields)
	if i.Fields == nil {
		i.Fields = map[string]string{}
	}
	maps.Copy(i.Fields, o.Fields)
	return i.Keyed()
}
