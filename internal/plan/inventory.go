package plan

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"

	"catena/internal/device"
	"catena/internal/firmware"
	"catena/internal/inventory"
	"catena/internal/record"
	"catena/internal/sheet"
	"catena/internal/site"
	"catena/internal/workspace"
)

// Import is a list of devices that was read from a file, compared with the site. Nothing has been
// taken from it yet.
type Import struct {
	Columns []inventory.Column `json:"columns"`
	Changes []ImportChange     `json:"changes"`
	Left    []LeftOut          `json:"left_out"`
	// Missing are devices of the list that are not known here, Unlisted known ones that neither the
	// list nor the inventory has.
	Missing  []Listed `json:"not_found"`
	Unlisted []Listed `json:"not_listed"`

	result inventory.Inventory
}

// ImportChange is something that an import would change.
type ImportChange struct {
	Row    int    `json:"row"`
	Device string `json:"device"` // its name here, or how the list calls it
	Known  bool   `json:"known"`  // it is a device of the site
	What   string `json:"what"`   // name, place, groups, spare, or a free field
	Was    string `json:"was"`
	Is     string `json:"is"`
}

// LeftOut is a row that is not taken, or not as it is written.
type LeftOut struct {
	Row    int    `json:"row"`
	Reason string `json:"reason"`
	Taken  bool   `json:"taken"` // it is taken, with a change
}

// Listed is a device that the list or the site has alone.
type Listed struct {
	Name    string `json:"name"`
	Vendor  string `json:"vendor"`
	Model   string `json:"model"`
	Serial  string `json:"serial"`
	Address string `json:"address"`
	Place   string `json:"place"`
	Remark  string `json:"remark"` // such as another serial number at its address
}

// ReadImport reads a list of devices from a CSV or XLSX file. as says how headings are read, as in
// inventory.Read. Its errors are those of the file and an inventory.HeadingError.
func (w *Site) ReadImport(path, sheetName string, as map[string]string) (i Import, err error) {
	rows, err := sheet.Read(path, sheetName)
	if err != nil {
		return i, err
	}
	table, err := inventory.Read(rows, as, site.CheckName)
	if err != nil {
		return i, err
	}
	i = Import{Columns: table.Columns, Changes: []ImportChange{}, Left: []LeftOut{}}
	known, err := record.Devices(w.Ledger)
	if err != nil {
		return i, err
	}
	w.refuseNames(&table, known)
	i.result, err = w.Site.Inventory.Merge(table)
	if err != nil {
		return i, err
	}
	after := w.Site
	after.List(i.result)
	of := map[string]device.Device{} // by the key of the item
	for _, d := range known {
		if item, is := i.result.Find(d); is {
			of[item.Key] = d
		}
	}
	fields := i.result.FieldNames()
	for _, l := range table.Lines {
		switch {
		case l.Problem != "":
			i.Left = append(i.Left, LeftOut{l.Row, l.Problem, false})
			continue
		case l.Remark != "":
			i.Left = append(i.Left, LeftOut{l.Row, l.Remark, true})
		}
		if item, is := i.result.Like(l.Item); is {
			d, known := of[item.Key]
			i.Changes = append(i.Changes, w.importChanges(l.Row, item, d, known, after, fields)...)
		}
	}
	i.Missing, i.Unlisted, err = w.listed(i.result, known)
	return i, err
}

// refuseNames leaves out the rows whose names mean another device of the site.
func (w *Site) refuseNames(t *inventory.Table, known []device.Device) {
	alone, err := inventory.Of(nil)
	if err != nil {
		return
	}
	for at, l := range t.Lines {
		if l.Problem != "" || l.Item.Name == "" || l.Item.Key == l.Item.Name {
			continue
		}
		one, err := alone.Set(l.Item)
		if err != nil {
			continue
		}
		for _, d := range known {
			if _, is := one.Find(d); is || !strings.EqualFold(d.Name, l.Item.Name) {
				continue
			}
			t.Lines[at] = inventory.Line{Row: l.Row, Problem: fmt.Sprintf("another device is called %s "+
				"(%s %s)", d.Name, d.Model, d.Serial)}
		}
	}
}

// importChanges are what changes for the device of an item; d is that device, if it is known.
func (w *Site) importChanges(row int, item inventory.Item, d device.Device, known bool,
	after site.Site, fields []string) (out []ImportChange) {
	name := item.Key
	was, _ := w.Site.Inventory.Like(item)
	if known {
		name, was = d.Name, w.itemOf(d)
	}
	add := func(what, before, now string) {
		if before != now {
			out = append(out, ImportChange{row, name, known, what, before, now})
		}
	}
	oldName, oldPlace, oldGroups := was.Name, was.Place, strings.Join(was.Groups, ", ")
	newPlace, newGroups := item.Place, strings.Join(item.Groups, ", ")
	if known {
		oldName = d.Name
		_, oldPlace = w.Site.Place(d)
		_, newPlace = after.Place(d)
		oldGroups = strings.Join(w.Site.GroupsOf(d), ", ")
		newGroups = strings.Join(after.GroupsOf(d), ", ")
	}
	if item.Name != "" && item.Key != item.Name && !strings.EqualFold(oldName, item.Name) {
		add("name", oldName, item.Name)
	}
	add("place", oldPlace, newPlace)
	add("groups", oldGroups, newGroups)
	add("spare", yesNo(was.Spare), yesNo(item.Spare))
	if item.Key != item.Serial && (!known || d.Serial == "") {
		add("serial", was.Serial, item.Serial)
	}
	for _, f := range fields {
		add(f, was.Fields[f], item.Fields[f])
	}
	return out
}

func yesNo(b bool) string {
	if b {
		return "yes"
	}
	return ""
}

// itemOf is the item of a device; its Key is empty where there is none.
func (w *Site) itemOf(d device.Device) inventory.Item {
	item, _ := w.Site.Inventory.Find(d)
	return item
}

// NotTaken is a name that an import could not give to a device.
type NotTaken struct{ Device, Name, Reason string }

// Take writes what an import has read into the inventory, and gives the known devices their names.
// It returns the names that could not be given.
func (w *Site) Take(i Import) (not []NotTaken, err error) {
	if err := w.WriteInventory(i.result); err != nil {
		return nil, err
	}
	known, err := record.Devices(w.Ledger)
	if err != nil {
		return nil, err
	}
	for at, d := range known {
		item := w.itemOf(d)
		if item.Name == "" || item.Key == item.Name || strings.EqualFold(item.Name, d.Name) {
			continue
		}
		err := w.Call(known, d, item.Name)
		var refused *workspace.NameError
		switch {
		case errors.As(err, &refused):
			not = append(not, NotTaken{d.Name, item.Name, refused.Reason})
		case err != nil:
			return not, err
		default:
			known[at].Name = item.Name
		}
	}
	return not, nil
}

// Inventory compares the inventory with the devices of the site: missing are those that only the
// inventory has, unlisted those that it does not have. Without an inventory there are none.
func (w *Site) Inventory() (missing, unlisted []Listed, err error) {
	if len(w.Site.Inventory.Items) == 0 {
		return nil, nil, nil
	}
	known, err := record.Devices(w.Ledger)
	if err != nil {
		return nil, nil, err
	}
	return w.listed(w.Site.Inventory, known)
}

func (w *Site) listed(n inventory.Inventory, known []device.Device) (missing, unlisted []Listed,
	err error) {
	items, devices := n.Compare(known)
	gone, err := w.RetiredDevices()
	if err != nil {
		return nil, nil, err
	}
	differs := map[string]device.Device{} // by the key of the item
	for _, d := range known {
		if i, is := n.Differs(d); is {
			differs[i.Key] = d
		}
	}
	retired := func(i inventory.Item) bool {
		return slices.ContainsFunc(gone, func(r Retired) bool {
			at, is := n.Find(r.Device)
			return is && at.Key == i.Key
		})
	}
	missing, unlisted = []Listed{}, []Listed{}
	for _, i := range items {
		if i.Spare || retired(i) { // a spare lies in a cabinet
			continue
		}
		l := Listed{Name: i.Called(), Vendor: i.Vendor, Model: i.Model, Serial: i.Serial,
			Address: i.Address, Place: i.Place}
		if d, is := differs[i.Key]; is {
			l.Remark = fmt.Sprintf("%s has its name or address, and reports the serial number %s", d.Name,
				d.Serial)
		}
		missing = append(missing, l)
	}
	for _, d := range devices {
		_, place := w.Site.Place(d)
		unlisted = append(unlisted, Listed{Name: d.Name, Vendor: d.Vendor, Model: d.Model,
			Serial: d.Serial, Address: d.Host(), Place: place})
	}
	return missing, unlisted, nil
}

// SetSpare marks a device as a spare, or as one in service, in the inventory.
func (w *Site) SetSpare(d device.Device, spare bool) error {
	item := w.itemOf(d)
	if item.Key == "" {
		item = inventory.Item{Serial: d.Serial, MAC: d.MAC}
		if d.Serial == "" && d.MAC == "" {
			item.Address = d.Host()
		}
		if d.Through != "" && d.Serial == "" {
			item = inventory.Item{Name: d.Name}
		}
		item = item.Keyed()
	}
	item.Spare = spare
	changed, err := w.Site.Inventory.Set(item)
	if err != nil {
		return err
	}
	return w.WriteInventory(changed)
}

// inherit has a replacement take the name, place and groups that the inventory states of the old
// device, and be in service. Free fields stay with the old one: its warranty is not the new one's.
func (w *Site) inherit(old, fresh device.Device) error {
	was, now := w.itemOf(old), w.itemOf(fresh)
	if was.Key == "" && now.Key == "" {
		return nil
	}
	n := w.Site.Inventory
	if now.Key == "" || now.Key == was.Key {
		now = inventory.Item{Serial: fresh.Serial, MAC: fresh.MAC, Address: fresh.Host()}.Keyed()
	}
	now.Name, now.Spare = "", false // Call gives it the name
	now.Place, now.Groups = cmp.Or(was.Place, now.Place), append(now.Groups, was.Groups...)
	slices.Sort(now.Groups)
	now.Groups = slices.Compact(now.Groups)
	if was.Key != "" {
		was.Name, was.Place, was.Address, was.Groups = "", "", "", nil
		var err error
		if n, err = n.Set(was); err != nil {
			return err
		}
	}
	n, err := n.Set(now)
	if err != nil {
		return err
	}
	return w.WriteInventory(n)
}

// InventoryPath is the file of the inventory.
const InventoryPath = inventory.File

// exported are the columns of an exported list, before its free fields. inventory.Read knows them:
// an exported list can be imported again.
var exported = []string{"name", "place", "address", "parent", "vendor", "model", "kind", "hardware",
	"serial", "mac", "version", "components", "status", "target", "groups", "spare", "seen", "updated"}

// Sheets returns the chosen devices as a table, and as a second one the devices of the inventory
// that were not found. All free fields are columns.
func (w *Site) Sheets(chosen []Row) ([]sheet.Table, error) {
	fields := w.Site.Inventory.FieldNames()
	rows := [][]string{append(slices.Clone(exported), fields...)}
	for _, r := range workspace.Mains(chosen) {
		var line []string
		for _, column := range exported {
			cell := r.Field(column)
			switch column {
			case "components":
				cell = w.components(r)
			case "spare":
				cell = yesNo(r.Spare)
			case "groups":
				cell = strings.Join(r.Groups, ", ")
			case "address":
				cell = r.Match.Device.Host()
				if r.Parent != "" {
					cell = ""
				}
			}
			line = append(line, cell)
		}
		for _, f := range fields {
			line = append(line, r.Free[f])
		}
		rows = append(rows, line)
	}
	out := []sheet.Table{{Name: "Devices", Rows: rows}}
	missing, _, err := w.Inventory()
	if err != nil || len(missing) == 0 {
		return out, err
	}
	not := [][]string{{"name", "place", "address", "vendor", "model", "serial", "remark"}}
	for _, l := range missing {
		not = append(not, []string{l.Name, l.Place, l.Address, l.Vendor, l.Model, l.Serial, l.Remark})
	}
	return append(out, sheet.Table{Name: "Not found", Rows: not}), nil
}

// components are the versions of a device's other components.
func (w *Site) components(r Row) string {
	var out []string
	for _, c := range w.Rows {
		if c.ID == r.ID && c.Component != firmware.Main {
			out = append(out, c.Component+" "+c.Version.Text)
		}
	}
	return strings.Join(out, ", ")
}
