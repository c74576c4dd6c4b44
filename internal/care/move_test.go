package care_test

import (
	"log/slog"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/device"
	"catena/internal/dialect"
	"catena/internal/dialect/onvif"
	"catena/internal/dialect/redfish"
	"catena/internal/dialect/simtest"
	"catena/internal/login"
	"catena/internal/sim"
)

// A device that moves calls itself otherwise where it is told so by its own protocol; where its
// family does not say how, nothing is changed.
func TestANameOfItsOwn(t *testing.T) {
	place, err := sim.Start(sim.Scenario{Login: sim.Login{User: "keeper", Password: "quoin"},
		Devices: []sim.Device{
			{Name: "cam-11", Kind: "camera", Model: "WX-40", Serial: "1", Version: "1", Host: 11},
			{Name: "recorder-1", Kind: "recorder", Model: "BR-5", Serial: "2", Version: "1", Host: 70},
			{Name: "gate-1", Kind: "gate", Model: "TG-200", Serial: "3", Version: "1", Host: 101},
		}}, "", slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	t.Cleanup(place.Stop)
	if place.OneHost {
		t.Skip("this machine has one loopback address")
	}
	for i, d := range []dialect.Dialect{onvif.Dialect{}, redfish.Dialect{},
		simtest.Family("tollgarth-gates")} {
		at := dialect.At{Endpoint: device.Endpoint{Address: place.StandIns()[i].Address,
			Dialect: d.About().Name, Scheme: []string{"http", "https", "http"}[i]}}
		n, err := d.Open(at, login.Credential{User: "keeper", Password: "quoin"}).Network()
		if i == 2 {
			require.ErrorIs(t, err, device.ErrUnsupported)
			continue
		}
		require.NoError(t, err)
		to := netip.MustParsePrefix(place.Net + ".2" + string(rune('0'+i)) + "/24")
		require.NoError(t, n.Move(t.Context(), dialect.NetworkConfig{Address: to, Name: "north-pier"}))
		assert.Contains(t, place.StandIns()[i].Log, "hostname north-pier")
	}
}
