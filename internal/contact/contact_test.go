package contact_test

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/device"
	"catena/internal/family"
	"catena/internal/ledger"
	"catena/internal/login"
	"catena/internal/workspace"
)

// A group's login goes to members that are known by more than their own word.
func TestGroupLogins(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "site.yaml"), []byte(
		"site: X\ngroups: {chamber-1: [cam-11, 10.20.4.12, S-13]}\nnames: {10.20.4.14: cam-11}\n"),
		0o600))
	w, err := workspace.Open(dir, time.Now, ledger.Writer{})
	require.NoError(t, err)
	defer w.Close()
	var book login.Book
	_, err = book.Add(login.Entry{Kind: login.Group, Of: "chamber-1", User: "keeper", Password: "p"})
	require.NoError(t, err)
	x, err := w.Access(family.Set{}, book)
	require.NoError(t, err)
	at := func(address string) device.Endpoint { return device.Endpoint{Address: address + ":80"} }
	serial := device.Reading{Identity: device.Identity{Serial: "S-13"}}
	for name, c := range map[string]struct {
		device device.Device
		gets   bool
	}{
		"it calls itself so": {device.Device{ID: "d1", Name: "cam-11",
			Endpoint: at("10.20.4.11")}, false},
		"a person called it so": {device.Device{ID: "d1", Name: "cam-11", Named: true,
			Endpoint: at("10.20.4.11")}, true},
		"the site file calls it so": {device.Device{ID: "d1", Name: "cam-11",
			Endpoint: at("10.20.4.14")}, true},
		"its address is named": {device.Device{Name: "x", Endpoint: at("10.20.4.12")}, true},
		"a newcomer says a number": {device.Device{Endpoint: at("10.20.4.13"), Reading: serial},
			false},
		"known by its number": {device.Device{ID: "d1", Endpoint: at("10.20.4.13"),
			Reading: serial}, true},
		"moved, and says the same number": {device.Device{ID: "d1", Moved: "10.20.4.13:80",
			Endpoint: at("10.20.4.99"), Reading: serial}, false},
	} {
		assert.Equal(t, c.gets, len(x.Logins(c.device)) == 1, name)
	}
}
