package scan

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/device"
)

// hubAt is a hub with an ID, or a new one.
func hubAt(id, name string) device.Device {
	return device.Device{ID: id, Name: name, Access: device.OK,
		Endpoint: device.Endpoint{Address: name + ":80"},
		Reading:  device.Reading{Identity: device.Identity{Model: "PK-1", Serial: "PK-" + name}}}
}

func handset(unit, version string) device.Child {
	return device.Child{Dialect: "handsets", Unit: unit, Reading: device.Reading{Version: version,
		Identity: device.Identity{Model: "PH-2", Serial: unit}}}
}

// A child is known by its identity: behind its parent, behind another one that it was taken to, and
// as away where its parent does not list it or cannot be asked.
func TestWhichChildItIs(t *testing.T) {
	child := func(id, name, unit, through string) device.Device {
		return device.Device{ID: id, Name: name, Named: true, Access: device.OK,
			Endpoint: device.Endpoint{Dialect: "handsets", Unit: unit, Through: through},
			Reading:  device.Reading{Version: "1.8", Identity: device.Identity{Model: "PH-2", Serial: unit}}}
	}
	known := []device.Device{hubAt("d1", "a"), hubAt("d2", "b"), hubAt("d3", "c"),
		child("d4", "stays", "S4", "d1"), child("d5", "roams", "S5", "d1"), child("d6", "lost", "S6",
			"d1"),
		child("d7", "unasked", "S7", "d3"), child("d8", "elsewhere", "S8", "d9")}
	down := hubAt("d3", "c")
	down.Access = device.LoginRefused
	r := Result{Devices: []device.Device{hubAt("d1", "a"), hubAt("d2", "b"), down, hubAt("", "new")},
		listed: map[string]listing{"a:80": {children: []device.Child{handset("s4", "1.9")}},
			"b:80":   {children: []device.Child{handset("S5", "1.8")}},
			"new:80": {children: []device.Child{handset("S9", "1.8"), handset("S10", "1.8")}}}}
	r.addChildren(&Scanner{}, known)
	r.name(known)
	r.number()
	byName := map[string]device.Device{}
	for _, d := range r.Devices {
		byName[d.Name] = d
	}
	assert.Equal(t, []string{"d4", "d1", "1.9"}, []string{byName["stays"].ID, byName["stays"].Through,
		byName["stays"].Version})
	assert.Equal(t, []string{"d5", "d2"}, []string{byName["roams"].ID, byName["roams"].Through},
		"taken to the next hub")
	assert.Equal(t, "does not answer: a does not list it", byName["lost"].Why())
	assert.Equal(t, "does not answer: its parent c does not answer",
		byName["unasked"].Why())
	assert.NotContains(t, byName, "elsewhere", "no one looked at its parent")
	require.Contains(t, byName, "S9")
	assert.Equal(t, Unnumbered+"new", byName["S9"].Through)
	assert.Empty(t, byName["S9"].ID)
	assert.Len(t, r.Devices, 10)
	assert.Empty(t, r.Warnings)
}

// A child that its parent gives no name gets a short one; all of its identity is needed only where two
// would have the same.
func TestNamesOfChildren(t *testing.T) {
	child := func(serial, unit string) device.Device {
		return device.Device{Endpoint: device.Endpoint{Through: "d1", Unit: unit},
			Reading: device.Reading{Identity: device.Identity{Model: "FND-11", Serial: serial}}}
	}
	r := Result{Devices: []device.Device{child("", "FND-11-501 ed73f95c50ff27b9c483"),
		child("", "FND-11-501 00aa41c2"), child("F501-7", "F501-7 4"), child("", "3"), child("77", "77")}}
	r.name(nil)
	var names []string
	for _, d := range r.Devices {
		names = append(names, d.Name)
	}
	assert.Equal(t, []string{"FND-11-501", "FND-11-501-00aa41c2", "F501-7", "FND-11-3", "FND-11-77"}, names)
}
