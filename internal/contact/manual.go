package contact

import (
	"path/filepath"

	"catena/internal/atomicfile"
	"catena/internal/device"
	"catena/internal/dialect"
	"catena/internal/dialect/hand"
	"catena/internal/site"
)

// HandFolder is where, in the site folder or on the site's stick, images are laid ready for a
// person.
const HandFolder = "by-hand"

// ByHand reports whether an operator updates a device, and not Catena.
func ByHand(s site.Site, d device.Device) bool {
	_, is := s.Hand(d)
	return is || d.Dialect == hand.Name
}

// manual returns how a person updates a device; nil: Catena updates it.
func (x *Access) manual(d device.Device) *dialect.Manual {
	said, is := x.site.Hand(d)
	h := dialect.Manual{Stick: x.site.Stick, Folder: filepath.Join(HandFolder,
		atomicfile.Word(d.Name)),
		How:    said.How,
		Within: said.Within, Known: d.Reading}
	switch {
	case !is && d.Dialect != hand.Name:
		return nil
	case !is:
		u, _ := x.site.Unit(d.Name)
		h.How, h.Within = u.How, u.Within
	}
	switch {
	case h.Stick == "":
		h.Folder = filepath.Join(x.dir, h.Folder)
	case !filepath.IsAbs(h.Stick):
		h.Stick = filepath.Join(x.dir, h.Stick)
	}
	return &h
}
