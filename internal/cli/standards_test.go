package cli

import (
	"context"
	"errors"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"catena/internal/device"
	"catena/internal/dialect"
	"catena/internal/dialect/standard"
	"catena/internal/family"
	"catena/internal/firmware"
	"catena/internal/login"
)

// The documents list what can be done by each standard, as its sessions and the family language
// tell.
func TestDocumentsListTheStandards(t *testing.T) {
	called := map[string]string{
		"onvif":   "ONVIF",
		"redfish": "Redfish",
		"snmp":    "SNMP",
		"bacnet":  "BACnet/IP",
		"http":    "HTTP",
		"ssh":     "SSH",
	}
	stopped, stop := context.WithCancel(t.Context())
	stop()
	const yes, no, byFamily = "yes", "–", "by a family"
	var rows [][]string
	for _, d := range standard.All() {
		name := d.About().Name
		require.Contains(t, called, name)
		s := d.Open(dialect.At{}, login.Credential{})
		can := func(err error, families bool) string {
			switch {
			case !errors.Is(err, device.ErrUnsupported):
				return yes
			case families && slices.Contains(family.Protocols(), name):
				return byFamily
			}
			return no
		}
		_, update := s.Update(firmware.Main)
		_, keeps := s.Settings()
		_, moves := s.Network()
		_, shows := s.Locate()
		_, children := s.Children(stopped)
		rows = append(rows, []string{called[name], yes, yes, yes, can(update, true), can(keeps, true),
			can(moves, true), can(shows, true), can(children, false)})
	}
	for _, name := range family.Protocols() {
		if !slices.ContainsFunc(rows, func(r []string) bool { return r[0] == called[name] }) {
			require.Contains(t, called, name)
			rows = append(rows, append([]string{called[name], yes}, slices.Repeat([]string{byFamily}, 7)...))
		}
	}
	for _, name := range []string{"EtherNet/IP", "Modbus"} { // by discovery alone
		rows = append(rows, append([]string{name, yes, yes, yes}, slices.Repeat([]string{no}, 5)...))
	}
	table := "\n| standard | found | identified | read | updated | settings | address | blink | children |\n" +
		"|---|---|---|---|---|---|---|---|---|\n"
	for _, r := range rows {
		table += "| " + strings.Join(r, " | ") + " |\n"
	}
	between(t, "finding.md", "<!-- made by: go test ./internal/cli -run TestDocumentsListTheStandards",
		"<!-- end -->", table+"\n")
}
