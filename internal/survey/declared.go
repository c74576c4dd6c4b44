package survey

import (
	"catena/internal/device"
	"catena/internal/dialect/hand"
	"catena/internal/ledger"
	"catena/internal/record"
	"catena/internal/site"
	"fmt"
	"strings"
)

// saysOf is what a unit says of itself: the site's file speaks for it.
func saysOf(u site.Unit) string { return "site.yaml declares that it runs " + u.Version }

// Declared are the units of the site's file, as they are known now, for a scan to keep: what a job
// or a person has said since stands, until the file says another version. known are all devices;
// gone are units that the file does not have any more.
func Declared(s site.Site, known []device.Device) (units, gone []device.Device, err error) {
	taken, was := map[string]bool{}, map[string]device.Device{}
	for _, d := range known {
		if d.Dialect == hand.Name {
			was[d.Name] = d
			continue
		}
		taken[strings.ToLower(d.Name)] = true
	}
	for _, u := range s.Units {
		for _, name := range u.Names {
			if taken[strings.ToLower(name)] {
				return nil, nil, &record.NameTakenError{Name: name, Device: true}
			}
			d := was[name]
			if d.Says != saysOf(u) {
				d.Version = u.Version
			}
			d.Name, d.Named, d.Access, d.Trouble = name, true, device.OK, nil
			d.FoundVia, d.Says = []string{site.File}, saysOf(u)
			d.Identity = device.Identity{Vendor: u.Vendor, Model: u.Model, Hardware: u.Hardware}
			d.Endpoint = device.Endpoint{Dialect: hand.Name}
			if u.Base != "" {
				bases, err := record.Meant(known, u.Base)
				switch {
				case err != nil:
					return nil, nil, err
				case len(bases) > 1 || bases[0].Dialect == hand.Name:
					return nil, nil, &record.AmbiguousError{Word: u.Base, Count: len(bases)}
				}
				d.Through = bases[0].ID
			}
			units = append(units, d)
			delete(was, name)
		}
	}
	for _, d := range known {
		if _, left := was[d.Name]; left && d.Dialect == hand.Name && d.Access != device.Away {
			d.Access = device.Away
			d.Trouble = device.Because(device.NoAnswer,
				"site.yaml no longer lists it among its units")
			gone = append(gone, d)
		}
	}
	return units, gone, nil
}

// SeeDeclared keeps the units of the site's file, and returns them with the names of those that are
// new.
func SeeDeclared(l *ledger.Ledger, s site.Site) (units []device.Device, fresh []string, err error) {
	known, err := record.Devices(l)
	if err != nil {
		return nil, nil, err
	}
	units, gone, err := Declared(s, known)
	if err != nil {
		return nil, nil, fmt.Errorf("units: %w", err)
	}
	var seen []*device.Device
	for i := range units {
		if units[i].ID == "" {
			fresh = append(fresh, units[i].Name)
		}
		seen = append(seen, &units[i])
	}
	for i := range gone {
		seen = append(seen, &gone[i])
	}
	if len(seen) == 0 {
		return nil, nil, nil
	}
	return units, fresh, record.Update(l, "", seen...)
}
