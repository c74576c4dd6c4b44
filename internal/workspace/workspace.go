// Package workspace is an open site: what its ledger records of devices and keys, and
// what every command needs before it starts. It never talks to a device, and prints
// nothing.
package workspace

import (
	"catena/internal/dialect"
	"catena/internal/dialect/httpjson"
	"catena/internal/dialect/onvif"
	"catena/internal/dialect/redfish"
	"catena/internal/dialect/snmp"
)

// Dialects are all that this program has. A new one is a folder in internal/dialect, a
// word here, and a call of its conformance suite.
var Dialects = dialect.NewRegistry(onvif.Dialect{}, httpjson.Dialect{}, redfish.Dialect{}, snmp.Dialect{})
