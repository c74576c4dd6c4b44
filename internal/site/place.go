package site

import (
	"fmt"
	"maps"
	"slices"

	"github.com/goccy/go-yaml"

	"catena/internal/device"
	"catena/internal/inventory"
	"catena/internal/text"
	"catena/internal/yamldoc"
)

func (s Site) checkPlaces(doc *yamldoc.Doc) error {
	for _, p := range s.Places {
		name, isName := p.Key.(string)
		where, isText := p.Value.(string)
		if !isName || !isText || !isPattern(name) || text.Clean(where) == "" {
			return doc.Errorf("$.places", "places: %v: %v: write the name of a device, and its "+
				"place in quotes", p.Key, p.Value)
		}
	}
	return nil
}

// Place is where a device is, and the how manieth place of the site that is; the last one where
// nothing says it.
func (s Site) Place(d device.Device) (at int, where string) {
	i := slices.IndexFunc(s.Places, func(p yaml.MapItem) bool { return d.Answers(fmt.Sprint(p.Key)) })
	if i >= 0 {
		return i, text.Clean(fmt.Sprint(s.Places[i].Value))
	}
	item, _ := s.Inventory.Find(d)
	for i, other := range s.Inventory.Items { // the first device of a place says when it comes
		if item.Place != "" && other.Place == item.Place {
			return len(s.Places) + i, item.Place
		}
	}
	return len(s.Places) + len(s.Inventory.Items), ""
}

// ParseInventory reads an inventory whose names devices can have; name is what errors call the
// file.
func ParseInventory(name string, data []byte) (inventory.Inventory, error) {
	return inventory.Parse(name, data, CheckName)
}

// List adds the inventory to a site. Groups that only the inventory has are groups of the site.
func (s *Site) List(n inventory.Inventory) {
	s.Inventory, s.Groups = n, maps.Clone(s.Groups)
	for _, g := range n.Groups() {
		if s.Groups == nil {
			s.Groups = map[string][]string{}
		}
		if s.Groups[g] == nil {
			s.Groups[g] = []string{}
		}
	}
}
