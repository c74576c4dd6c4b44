package care_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/care"
	"catena/internal/contact"
	"catena/internal/device"
	"catena/internal/dialect/simtest"
	"catena/internal/family"
	"catena/internal/job"
	"catena/internal/ledger"
	"catena/internal/login"
	"catena/internal/record"
	"catena/internal/sim"
	"catena/internal/site"
)

// A device that rejects its login is asked once: each further question would bring it closer to
// being locked. One that a job has is left alone.
func TestAskingTriesALoginOnce(t *testing.T) {
	for password, rejected := range map[string]int{simtest.Password: 0, "mitre": 1} {
		at, cameras := simtest.StartSite(t, sim.Device{Name: "cam-11", Kind: "camera", Model: "WX-40",
			Hardware: "B", Host: 1, Serial: "S-1", Version: "1.0"})
		dir := t.TempDir()
		l, err := ledger.Create(dir, time.Now, ledger.Writer{})
		require.NoError(t, err)
		cam := device.Device{Name: "cam-11", Endpoint: at.Endpoint, Access: device.OK, Login: "one",
			Reading: device.Reading{Version: "1.0", Identity: device.Identity{Vendor: "Wexcombe",
				Model: "WX-40", Serial: "S-1"}}}
		cam.Dialect = "onvif"
		require.NoError(t, record.Update(l, "", &cam))
		book := login.Book{Entries: []login.Entry{{ID: "one", Kind: login.Site, User: "keeper",
			Password: password}}}
		x, err := contact.New(l, dir, site.Site{}, family.Set{}, book)
		require.NoError(t, err)
		c := care.Care{Ledger: l, Access: x, Now: time.Now}
		for range 3 {
			known, err := record.Devices(l)
			require.NoError(t, err)
			answers, err := c.Ask(t.Context(), []care.Question{{Device: known[0], ForChange: true,
				Components: []string{"main"}}}, func(int) {})
			require.NoError(t, err)
			if rejected == 0 {
				require.NoError(t, answers[0].Trouble)
				assert.Equal(t, device.Yes, answers[0].Device.MayChange().Result)
				continue
			}
			require.ErrorIs(t, answers[0].Trouble, device.ErrLoginRefused)
		}
		tried := 0
		for _, deed := range cameras.StandIns()[0].Log {
			if deed == "refused login" {
				tried++
			}
		}
		assert.Equal(t, rejected, tried, "%v", cameras.StandIns()[0].Log)
		known, err := record.Devices(l)
		require.NoError(t, err)
		assert.Equal(t, rejected == 1, known[0].Access == device.LoginRefused)
		assert.Len(t, known[0].Refused, rejected)

		release, err := job.Lease(l, known[0])
		require.NoError(t, err)
		answers, err := c.Ask(t.Context(), []care.Question{{Device: known[0]}}, func(int) {})
		require.NoError(t, err)
		var busy *job.BusyError
		assert.ErrorAs(t, answers[0].Trouble, &busy)
		release()
		require.NoError(t, l.Close())
	}
}
