package record_test

import (
	"bytes"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/device"
	"catena/internal/ledger"
	"catena/internal/record"
)

// Two laptops that found one device in different ways call it the same once they have met, on both;
// what one laptop told apart stays apart.
func TestUnite(t *testing.T) {
	laptop := func(name string) *ledger.Ledger {
		by, err := ledger.ReadWriter(filepath.Join(t.TempDir(), name))
		require.NoError(t, err)
		l, err := ledger.Create(t.TempDir(), time.Now, by)
		require.NoError(t, err)
		t.Cleanup(func() { _ = l.Close() })
		return l
	}
	at := func(host, serial string, access device.Access) *device.Device {
		d := &device.Device{Name: "cam-" + host, Access: access, Endpoint: device.Endpoint{
			Address: "10.20.4." + host + ":80", Dialect: "onvif"}}
		if serial != "" {
			d.Vendor, d.Model, d.Serial, d.Version = "Wexcombe", "WX-40", serial, "3.1.0"
		}
		return d
	}
	meet := func(a, b *ledger.Ledger) {
		for _, pair := range [][2]*ledger.Ledger{{a, b}, {b, a}} {
			require.NoError(t, pair[0].Seal())
			var chain bytes.Buffer
			_, err := pair[0].WriteChain(&chain, pair[0].Writer().ID(), 0, 1<<40)
			require.NoError(t, err)
			_, err = pair[1].Take(pair[0].Writer().ID(), &chain)
			require.NoError(t, err)
		}
	}
	anna, bea := laptop("anna"), laptop("bea")
	unread := at("11", "", device.LoginRefused)
	require.NoError(
		t,
		record.Update(anna, "", unread, at("12", "WX4-12", device.OK), at("13", "WX4-1", device.OK)),
	)
	twin := at("14", "WX4-1", device.OK) // another one that claims its number
	twin.Model = "WX-20"
	require.NoError(t, record.Update(anna, "", twin))
	read := at("11", "WX4-11", device.OK)
	moved := at("99", "WX4-12", device.OK) // it has another address now
	require.NoError(t, record.Update(bea, "j1", read, moved, at("20", "", device.LoginRefused)))
	require.NotEqual(t, unread.ID, read.ID)
	meet(anna, bea)

	united, err := record.Unite(anna)
	require.NoError(t, err)
	assert.Equal(t, map[string]string{read.ID: unread.ID}, united, "WX4-12 had one ID from the start")
	again, err := record.Unite(anna)
	require.NoError(t, err)
	assert.Empty(t, again)
	meet(anna, bea)
	for _, l := range []*ledger.Ledger{anna, bea} {
		known, err := record.Devices(l)
		require.NoError(t, err)
		var names []string
		for _, d := range known {
			names = append(names, d.Name+" "+d.Serial)
		}
		assert.Equal(
			t,
			[]string{"cam-11 WX4-11", "cam-13 WX4-1", "cam-14 WX4-1", "cam-20 ", "cam-99 WX4-12"},
			names,
		)
		for _, id := range []string{read.ID, unread.ID} {
			d, err := record.Device(l, id)
			require.NoError(t, err)
			assert.Equal(t, []string{unread.ID, "WX4-11", "ok"}, []string{d.ID, d.Serial, string(d.Access)})
			entries, err := l.Entries(ledger.Filter{Kind: record.Found, Device: id})
			require.NoError(t, err)
			assert.Len(t, entries, 3, "both histories, and what they became")
		}
		_, _, err = l.Check()
		require.NoError(t, err)
	}
	assert.Equal(t, unread.ID, bea.Canonical(read.ID))
	entries, err := bea.Entries(ledger.Filter{Job: "j1", Kind: record.Found})
	require.NoError(t, err)
	assert.Equal(t, read.ID, entries[0].Device, "a job has the IDs of its order")
}
