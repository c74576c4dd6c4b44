package workspace

import (
	"strings"

	"catena/internal/device"
)

// kindOf is what a device is: as the site says, else its family, else what its standard tells.
func (w *Workspace) kindOf(d device.Device) string {
	if kind := w.Site.KindOf(d); kind != "" {
		return kind
	}
	if kind := w.Families.Of(d.Vendor, d.Model).Kind; kind != "" {
		return kind
	}
	switch d.Dialect {
	case "onvif":
		return kindOfServices(d.Services)
	case "redfish":
		return "server"
	}
	return ""
}

// kindOfServices is the kind of an ONVIF device by the namespaces of its services, or by their
// categories (ONVIF Core 5.2, 8.1.2): what records is a recorder, also if it has pictures.
func kindOfServices(services []string) string {
	for _, k := range []struct{ service, kind string }{
		{"recording", "recorder"}, {"media", "camera"}, {"accesscontrol", "controller"},
		{"doorcontrol", "controller"},
	} {
		for _, s := range services {
			s = strings.ToLower(s)
			if s == k.service || strings.Contains(s, "/"+k.service+"/") {
				return k.kind
			}
		}
	}
	return ""
}
