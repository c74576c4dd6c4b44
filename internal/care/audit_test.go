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
	"catena/internal/ledger"
	"catena/internal/login"
	"catena/internal/record"
	"catena/internal/settings"
	"catena/internal/sim"
	"catena/internal/site"
)

// Settings that differ each time they are read are not compared: that would be a finding at every
// audit, and a controller of BACnet may pause its work while its backup is read.
func TestAnAuditStartsNoBackup(t *testing.T) {
	at, fans := simtest.StartSite(t, sim.Device{Name: "fans", Kind: "ventilation", Model: "VC-3", Host: 1,
		Serial: "S-1", Version: "1.0"})
	dir := t.TempDir()
	l, err := ledger.Create(dir, time.Now, ledger.Writer{})
	require.NoError(t, err)
	f, err := family.Parse("f.yaml", sim.Families()["harrow-dene-ventilation.yaml"])
	require.NoError(t, err)
	set, err := family.NewSet([]family.Family{f})
	require.NoError(t, err)
	known := device.Device{Name: "fans", Endpoint: at.Endpoint, Access: device.OK, Login: "one",
		Reading: device.Reading{Version: "1.0", Identity: device.Identity{Vendor: "Harrow & Dene",
			Model: "VC-3", Serial: "S-1"}}}
	known.Dialect, known.Open = f.Name, true
	require.NoError(t, record.Update(l, "", &known))
	book := login.Book{Entries: []login.Entry{{ID: "one", Kind: login.Site, User: "keeper", Password: "x",
		More: login.More{Secrets: map[string]string{"bacnet": simtest.Password}}}}}
	x, err := contact.New(l, dir, site.Site{}, set, book)
	require.NoError(t, err)
	c := care.Care{Ledger: l, Access: x, Now: time.Now}
	now, err := c.Read(t.Context(), known)
	require.NoError(t, err)
	require.Equal(t, settings.Opaque, now.Format)
	require.Equal(t, []string{"backup"}, fans.StandIns()[0].Log)
	all, err := c.Audit(t.Context(), []care.Checkup{{Device: known, Save: &care.Saved{Save: "then",
		Format: settings.Opaque, Data: []byte("others")}}}, func(int) {})
	require.NoError(t, err)
	require.NoError(t, all[0].Trouble)
	assert.True(t, all[0].Saves)
	assert.True(t, all[0].Vitals.Clock)
	assert.Empty(t, all[0].Drift)
	assert.Equal(t, []string{"backup"}, fans.StandIns()[0].Log, "no other one")
	require.NoError(t, l.Close())
}
