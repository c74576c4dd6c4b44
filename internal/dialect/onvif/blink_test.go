package onvif_test

import (
	"log/slog"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/device"
	"catena/internal/dialect"
	"catena/internal/dialect/onvif"
	"catena/internal/login"
	"catena/internal/sim"
)

func TestBlink(t *testing.T) {
	for name, c := range map[string]struct {
		auxiliary, relays []string
		output            string
		deeds             []string
		refused           string
	}{
		"a lamp": {[]string{"tt:Wiper|On", "tt:Wiper|Off", "tt:IRLamp|On",
			"tt:IRLamp|Off"}, nil, "",
			[]string{"auxiliary tt:IRLamp|On", "auxiliary tt:IRLamp|Off"}, ""},
		"an indicator before a lamp": {[]string{"tt:IRLamp|On", "tt:IRLamp|Off", "x:StatusLED|On",
			"x:StatusLED|Off"}, nil, "",
			[]string{"auxiliary x:StatusLED|On", "auxiliary x:StatusLED|Off"}, ""},
		"a washer is never turned on": {[]string{"tt:Washer|On", "tt:Washer|Off"}, nil, "", nil,
			"no indicator"},
		"a relay is never chosen": {nil, []string{"R1", "R2"}, "", nil,
			"relay outputs (R1, R2)"},
		"a relay that is named": {nil, []string{"R1", "R2"}, "R2",
			[]string{"relay R2 active", "relay R2 inactive"}, ""},
		"a relay that is not there": {nil, []string{"R1"}, "R9", nil, "no such relay output"},
		"a name that would be XML": {nil, []string{"R1"}, "R1</x><y>", nil,
			"no such relay output"},
	} {
		t.Run(name, func(t *testing.T) {
			for _, auth := range []string{"token", "digest"} {
				s, err := sim.Start(sim.Scenario{Login: sim.Login{User: "keeper",
					Password: "quoin"}, Devices: []sim.Device{
					{Name: "cam-11", Kind: "camera", Model: "WX-40", Serial: "S", Version: "1",
						Host: 11, Auth: auth, Auxiliary: c.auxiliary, Relays: c.relays}}},
					"", slog.New(slog.DiscardHandler))
				require.NoError(t, err)
				t.Cleanup(s.Stop)
				at := dialect.At{Endpoint: device.Endpoint{Address: s.StandIns()[0].Address}}
				show := func(password string, on bool) error {
					l, err := onvif.Dialect{}.Open(at,
						login.Credential{User: "keeper", Password: password}).Locate()
					require.NoError(t, err)
					_, err = l.Show(t.Context(), on, c.output)
					return err
				}
				err = show("quoin", true)
				if c.refused != "" {
					require.ErrorIs(t, err, device.ErrRefused)
					assert.ErrorContains(t, err, c.refused)
				} else {
					require.NoError(t, err)
					require.NoError(t, show("quoin", false))
				}
				assert.Equal(t, c.deeds, s.StandIns()[0].Log)
				err = show("wrong", true)
				if c.refused == "" {
					assert.ErrorIs(t, err, device.ErrLoginRefused)
				}
			}
		})
	}
}
