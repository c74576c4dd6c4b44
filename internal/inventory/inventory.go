// Package inventory reads and writes the inventory of a site: the list of devices that a customer
// or an office keeps, with their names, places, groups and free fields. It finds the device that an
// item of the list is about. It is pure.
package inventory

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/goccy/go-yaml"

	"catena/internal/device"
	"catena/internal/text"
	"catena/internal/yamldoc"
)

// File is the name of the file, in a site folder, that holds the inventory.
const File = "inventory.yaml"

// Item is what the inventory states about one device. A field that is empty is not stated.
type Item struct {
	// Key is how the file calls it: a serial number, MAC address, address or name.
	Key     string            `yaml:"-"`
	Name    string            `yaml:"name,omitempty"`
	Place   string            `yaml:"place,omitempty"`
	Groups  []string          `yaml:"groups,omitempty"`
	Vendor  string            `yaml:"vendor,omitempty"`
	Model   string            `yaml:"model,omitempty"`
	Serial  string            `yaml:"serial,omitempty"`
	MAC     string            `yaml:"mac,omitempty"`
	Address string            `yaml:"address,omitempty"`
	Spare   bool              `yaml:"spare,omitempty"`
	Fields  map[string]string `yaml:"fields,omitempty"` // free fields, such as warranty

	bare bool // nothing but its key identifies it: a serial number or a name
}

// Content is the shape of the file: its items by key.
type Content struct {
	Devices map[string]Item `yaml:"devices"`
}

// Inventory is a list of items, in the order of the file.
type Inventory struct {
	Items []Item
	// by serial number, MAC address, address and name, each in lower case
	by [4]map[string]int
}

// Of makes an inventory of items. Its error names the two items that are one by a serial number, an
// address or a name.
func Of(items []Item) (Inventory, error) {
	n := Inventory{Items: items}
	for i := range n.by {
		n.by[i] = map[string]int{}
	}
	for i, item := range items {
		for kind, word := range item.words() {
			if word == "" {
				continue
			}
			if other, is := n.by[kind][word]; is {
				return n, fmt.Errorf("%s and %s have the same %s: %s", items[other].Key, item.Key,
					kinds[kind], word)
			}
			n.by[kind][word] = i
		}
	}
	return n, nil
}

// kinds are what the words of an item are, in the order in which they count.
var kinds = [4]string{"serial number", "MAC address", "address", "name"}

// words are how a device may be known, as kinds.
func (i Item) words() [4]string {
	if i.bare {
		return [4]string{strings.ToLower(i.Key), "", "", strings.ToLower(i.Key)}
	}
	return [4]string{strings.ToLower(i.Serial), i.MAC, i.Address, strings.ToLower(i.Name)}
}

// Keyed returns the item with the key that identifies it best.
func (i Item) Keyed() Item {
	key := cmp.Or(i.Serial, i.MAC, i.Address, i.Name)
	i.Key, i.bare = cmp.Or(key, i.Key), key == "" && i.Key != ""
	return i
}

// Called is how the list calls the device of an item: its name, or else its key.
func (i Item) Called() string { return cmp.Or(i.Name, i.Key) }

// Find returns the item of a device: the one with its serial number, else with its MAC address,
// else with its address, else with its name. An item with another serial number is not the
// device's.
func (n Inventory) Find(d device.Device) (Item, bool) {
	if len(n.Items) == 0 { // most sites have none, and this is asked for every device
		return Item{}, false
	}
	return n.Like(itemOf(d))
}

// itemOf is what an inventory could know a device by.
func itemOf(d device.Device) Item {
	i := Item{Serial: d.Serial, MAC: d.MAC, Address: d.Host(), Name: d.Name}
	if d.Through != "" {
		i.Address = "" // its parent's
	}
	return i
}

// Like returns the item that is about the same device as another one, by the same rules.
func (n Inventory) Like(known Item) (Item, bool) {
	for kind, word := range known.words() {
		at, is := n.by[kind][word]
		if word == "" || !is {
			continue
		}
		i := n.Items[at]
		if i.Serial == "" || known.Serial == "" || strings.EqualFold(i.Serial, known.Serial) {
			return i, true
		}
	}
	return Item{}, false
}

// Differs returns the item with a device's MAC address, address or name that is about another
// device by its serial number: the device may have been exchanged, or the list is wrong.
func (n Inventory) Differs(d device.Device) (Item, bool) {
	if _, is := n.Find(d); is {
		return Item{}, false
	}
	for kind, word := range itemOf(d).words() {
		if at, is := n.by[kind][word]; is && word != "" {
			return n.Items[at], true
		}
	}
	return Item{}, false
}

// Compare compares the list with the devices that are known: missing are the items that are about
// none of them, unlisted the devices that it does not have.
func (n Inventory) Compare(known []device.Device) (missing []Item, unlisted []device.Device) {
	has := map[string]bool{}
	for _, d := range known {
		if item, is := n.Find(d); is {
			has[item.Key] = true
		} else {
			unlisted = append(unlisted, d)
		}
	}
	for _, i := range n.Items {
		if !has[i.Key] {
			missing = append(missing, i)
		}
	}
	return missing, unlisted
}

// Groups are those that items name, sorted.
func (n Inventory) Groups() []string {
	all := map[string]bool{}
	for _, i := range n.Items {
		for _, g := range i.Groups {
			all[g] = true
		}
	}
	return slices.Sorted(maps.Keys(all))
}

// FieldNames are the free fields that items have, sorted.
func (n Inventory) FieldNames() []string {
	all := map[string]bool{}
	for _, i := range n.Items {
		for f := range i.Fields {
			all[f] = true
		}
	}
	return slices.Sorted(maps.Keys(all))
}

// Set puts an item in the place of the one with its key, or at the end.
func (n Inventory) Set(item Item) (Inventory, error) {
	items := slices.Clone(n.Items)
	if at := slices.IndexFunc(items, func(i Item) bool { return i.Key == item.Key }); at >= 0 {
		items[at] = item
	} else {
		items = append(items, item)
	}
	return Of(items)
}

// Rename gives the item with a key another name. An item whose key is its name gets another key.
func (n Inventory) Rename(key, name string) (Inventory, error) {
	items := slices.Clone(n.Items)
	for at := range items {
		if i := &items[at]; i.Key == key {
			byName := strings.EqualFold(i.Key, i.Name)
			if i.Name = name; byName {
				*i = i.Keyed()
			}
		}
	}
	return Of(items)
}

// Parse reads an inventory; name is what errors call the file. checkName refuses what cannot be a
// device's name; nil: every name can.
func Parse(name string, data []byte, checkName func(string) error) (Inventory, error) {
	var c Content
	doc, err := yamldoc.Decode(name, data, &c)
	if err != nil {
		return Inventory{}, err
	}
	var order struct {
		Devices yaml.MapSlice `yaml:"devices"`
	}
	if _, err := yamldoc.Decode(name, data, &order); err != nil {
		return Inventory{}, err
	}
	var items []Item
	for _, entry := range order.Devices {
		key := fmt.Sprint(entry.Key)
		item := c.Devices[key]
		item.Key = key
		err := item.check()
		if err == nil && checkName != nil && item.Name != "" && item.Name != key {
			err = checkName(item.Name)
		}
		if err != nil {
			return Inventory{}, doc.Errorf("$.devices", "%s: %v", key, err)
		}
		if item.named() == "" { // the key says what it is
			switch {
			case cleanMAC(key) != "":
				item.MAC = cleanMAC(key)
			case isAddress(key):
				item.Address = key
			case item.Serial+item.MAC+item.Address+item.Name == "":
				item.bare = true
			case item.Serial == "":
				item.Serial = key
			}
		}
		items = append(items, item.clean())
	}
	n, err := Of(items)
	if err != nil {
		return n, doc.Errorf("$.devices", "%v", err)
	}
	return n, nil
}

// named is what, besides its key, identifies an item.
func (i Item) named() string {
	for _, word := range []string{i.Serial, i.MAC, i.Address, i.Name} {
		if strings.EqualFold(word, i.Key) {
			return word
		}
	}
	return ""
}

// cleanMAC is device.CleanMAC, which also takes twelve digits without separators.
func cleanMAC(s string) string {
	if s = strings.TrimSpace(s); len(s) == 12 && !strings.ContainsAny(s, ":-.") {
		s = s[:4] + "." + s[4:8] + "." + s[8:]
	}
	return device.CleanMAC(s)
}

func (i Item) check() error {
	if text.Clean(i.Key) != i.Key || i.Key == "" {
		return fmt.Errorf("the key is not a serial number, MAC address, address or name")
	}
	for _, g := range i.Groups {
		if !text.IsName(g) {
			return fmt.Errorf("%q cannot be the name of a group; use letters, digits, and the signs "+
				". _ - only", g)
		}
	}
	for f := range i.Fields {
		if !IsField(f) {
			return fmt.Errorf("%q cannot be the name of a field; use small letters, digits and _", f)
		}
	}
	if i.MAC != "" && cleanMAC(i.MAC) == "" {
		return fmt.Errorf("%q is not a MAC address", i.MAC)
	}
	if i.Address != "" && !isAddress(i.Address) {
		return fmt.Errorf("%q is not an address", i.Address)
	}
	return nil
}

// clean makes the texts of an item harmless.
func (i Item) clean() Item {
	for _, s := range []*string{&i.Name, &i.Place, &i.Vendor, &i.Model, &i.Serial} {
		*s = text.Clean(*s)
	}
	i.MAC = cleanMAC(i.MAC)
	fields := map[string]string{}
	for f, v := range i.Fields {
		if v = text.Clean(v); v != "" {
			fields[f] = v
		}
	}
	i.Fields = fields
	return i
}

const heading = `# The inventory of the site: what a list of devices states about them.
# catena import, name and device write this file; comments are not preserved.
`

// Format writes an inventory as a file.
func Format(n Inventory) ([]byte, error) {
	devices := yaml.MapSlice{}
	for _, i := range n.Items {
		devices = append(devices, yaml.MapItem{Key: i.Key, Value: i})
	}
	raw, err := yaml.Marshal(yaml.MapSlice{{Key: "devices", Value: devices}})
	return append([]byte(heading), raw...), err
}
