// Package standard lists the dialects of open standards. A new one is a folder beside this one, and
// a word here.
package standard

import (
	"catena/internal/dialect"
	"catena/internal/dialect/bacnet"
	"catena/internal/dialect/onvif"
	"catena/internal/dialect/redfish"
	"catena/internal/dialect/snmp"
)

// All returns the dialects of open standards.
func All() []dialect.Dialect {
	return []dialect.Dialect{onvif.Dialect{}, redfish.Dialect{}, snmp.Dialect{}, bacnet.Dialect{}}
}
