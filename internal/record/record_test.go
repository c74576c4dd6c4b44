package record_test

import (
	"fmt"
	"maps"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/device"
	"catena/internal/ledger"
	"catena/internal/record"
	"catena/internal/scan"
)

func TestSeeKeepsOnlyWhatIsNew(t *testing.T) {
	l, err := ledger.Create(t.TempDir(), time.Now, ledger.Writer{})
	require.NoError(t, err)
	defer func() { _ = l.Close() }()
	cam := &device.Device{Name: "cam-11",
		Reading: device.Reading{Version: "3.1.0", Services: []string{"device"}}}
	gate := &device.Device{Name: "gate-1", Reading: device.Reading{Version: "K41"}}
	require.NoError(t, record.Update(l, "", cam, gate))
	assert.Regexp(t, `^d[0-9]{9}$`, cam.ID)
	assert.NotEqual(t, cam.ID, gate.ID)
	require.NoError(t, record.Update(l, "", cam, gate))
	entries, err := l.Entries(ledger.Filter{Kind: record.Found})
	require.NoError(t, err)
	assert.Len(t, entries, 2, "nothing had changed")

	cam.Version = "3.2.1"
	require.NoError(t, record.Update(l, "j1", cam, gate))
	devices, err := record.Devices(l)
	require.NoError(t, err)
	assert.Len(t, devices, 2)
	known, err := record.Device(l, cam.ID)
	require.NoError(t, err)
	assert.Equal(t, "3.2.1", known.Version)
}

// Children of a parent that is new get its ID with it.
func TestChildrenGetTheirParentsID(t *testing.T) {
	l, err := ledger.Create(t.TempDir(), time.Now, ledger.Writer{})
	require.NoError(t, err)
	defer func() { _ = l.Close() }()
	hub := &device.Device{Name: "hub-1"}
	handset := &device.Device{Name: "handset-1", Endpoint: device.Endpoint{Through: scan.Unnumbered +
		"hub-1", Unit: "S1"}}
	require.NoError(t, record.Update(l, "", hub, handset))
	known, err := record.Device(l, handset.ID)
	require.NoError(t, err)
	assert.Equal(t, []string{hub.ID, "S1"}, []string{known.Through, known.Unit})
	_, err = record.Device(l, "d3")
	assert.Error(t, err)
}

// Two laptops that find the same devices in another order call them the same.
func TestIDsComeFromTheIdentity(t *testing.T) {
	find := func(numbers ...int) map[string]string {
		l, err := ledger.Create(t.TempDir(), time.Now, ledger.Writer{})
		require.NoError(t, err)
		defer func() { _ = l.Close() }()
		ids := map[string]string{}
		for _, n := range numbers {
			d := device.Device{Name: fmt.Sprint("found-", n), Endpoint: device.Endpoint{
				Address: fmt.Sprintf("10.20.4.%d:80", n)}}
			switch n % 4 {
			case 0:
				d.Model, d.Serial = "WX-40", fmt.Sprint("WX4-", n)
			case 1:
				d.MAC = fmt.Sprintf("02:00:5e:00:53:%02x", n)
			case 2: // nothing is known but where it is
			case 3:
				d.Address = "" // a person declares it by its name
			}
			require.NoError(t, record.Update(l, "", &d))
			ids[d.Name] = d.ID
		}
		return ids
	}
	one := find(1, 2, 3, 4, 5, 6, 7, 8)
	assert.Equal(t, one, find(8, 3, 6, 1, 7, 2, 5, 4))
	assert.Len(t, slices.Compact(slices.Sorted(maps.Values(one))), 8)
}

func TestKeys(t *testing.T) {
	l, err := ledger.Create(t.TempDir(), time.Now, ledger.Writer{})
	require.NoError(t, err)
	defer func() { _ = l.Close() }()
	tls := device.Key{Address: "10.20.4.11:443", Kind: "TLS certificate", Fingerprint: "SHA256:a"}
	other := tls
	other.Fingerprint = "SHA256:b"
	require.NoError(t, record.Trust(l, []device.Key{tls}))
	require.NoError(t, record.Trust(l, []device.Key{tls}), "what is known is not written again")
	require.NoError(t, record.Distrust(l, []device.Key{other}))
	trusted, strange, err := record.Keys(l)
	require.NoError(t, err)
	assert.Equal(t, []device.Key{tls}, trusted)
	assert.Equal(t, []device.Key{other}, strange)
	require.NoError(t, record.Trust(l, []device.Key{other}))
	trusted, strange, err = record.Keys(l)
	require.NoError(t, err)
	assert.Equal(t, []device.Key{other}, trusted)
	assert.Empty(t, strange)
	n, _, err := l.Check()
	require.NoError(t, err)
	assert.EqualValues(t, 4, n)
}

// A scan that started before a job proved something does not overwrite that.
func TestAScanDoesNotOverwriteAProof(t *testing.T) {
	now := time.Now()
	l, err := ledger.Create(t.TempDir(), func() time.Time { return now }, ledger.Writer{})
	require.NoError(t, err)
	defer func() { _ = l.Close() }()
	cam := device.Device{Name: "cam-11", Reading: device.Reading{Version: "3.1.0"}}
	require.NoError(t, record.Update(l, "", &cam))
	startedAt := now
	now = now.Add(time.Minute)
	proven := cam
	proven.Version = "3.2.1"
	require.NoError(t, record.Update(l, "j1", &proven))
	now = now.Add(time.Minute)
	old := cam
	old.Services = []string{"x"}
	require.NoError(t, record.UpdateSince(l, "", startedAt, &old))
	devices, err := record.Devices(l)
	require.NoError(t, err)
	assert.Equal(t, "3.2.1", devices[0].Version)
	require.NoError(t, record.UpdateSince(l, "", now, &old), "a later scan counts")
	devices, err = record.Devices(l)
	require.NoError(t, err)
	assert.Equal(t, "3.1.0", devices[0].Version)
}

// What a ledger of someone else says of devices is harmless when it is read: names are names, and
// no text steers a terminal.
func TestDevicesOfSomeoneElse(t *testing.T) {
	l, err := ledger.Create(t.TempDir(), time.Now, ledger.Writer{})
	require.NoError(t, err)
	defer func() { _ = l.Close() }()
	require.NoError(t, l.Append(record.Found, "", "d1", device.Device{ID: "d1",
		Name:     "cam\x1b[2J$(id) 9\n",
		Endpoint: device.Endpoint{Address: "10.20.4.9:80\x1b[31m", Dialect: "onvif\x07"},
		Reading: device.Reading{Identity: device.Identity{Vendor: "Wex\x1b]0;x\x07combe",
			Model: "WX\n40"},
			Version: "3.1\r0", Says: "\x1b[5mhello"}, FoundVia: []string{"m\x1bdns"}}))
	require.NoError(t, l.Append(record.Found, "", "d2", device.Device{ID: "d2", Name: "10.20.4.10:80",
		Endpoint: device.Endpoint{Address: "10.20.4.10:80"}}))
	all, err := record.Devices(l)
	require.NoError(t, err)
	require.Len(t, all, 2)
	d := all[0]
	assert.Equal(t, "cam-2J-id-9", d.Name)
	assert.Equal(t, "10.20.4.10:80", all[1].Name, "an address stays one")
	for _, text := range append([]string{d.Name, d.Address, d.Dialect, d.Vendor, d.Model, d.Version,
		d.Says},
		d.FoundVia...) {
		assert.NotRegexp(t, `[\x00-\x1f\x7f]`, text)
	}
}
