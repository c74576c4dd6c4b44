package ledger_test

import (
	"database/sql"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/ledger"
	"catena/internal/site"
)

func create(t *testing.T) (*ledger.Ledger, string) {
	dir := t.TempDir()
	l, err := ledger.Create(dir, time.Now)
	require.NoError(t, err)
	t.Cleanup(func() { _ = l.Close() })
	return l, dir
}

func TestEntriesComeBackInOrder(t *testing.T) {
	l, dir := create(t)
	require.NoError(t, l.Append(ledger.Started, "j1", "", map[string]int{"parallel": 8}))
	require.NoError(t, l.Append(ledger.Step, "j1", "d1", map[string]string{"step": "checking"}))
	require.NoError(t, l.Append(ledger.Step, "j2", "d1", map[string]string{"step": "sending"}))

	other, err := ledger.Open(dir, time.Now) // as another terminal would
	require.NoError(t, err)
	defer func() { _ = other.Close() }()
	entries, err := other.Entries(ledger.Filter{Job: "j1"})
	require.NoError(t, err)
	require.Len(t, entries, 2)
	assert.Equal(t, ledger.Started, entries[0].Kind)
	assert.JSONEq(t, `{"step":"checking"}`, string(entries[1].Body))
	entries, err = other.Entries(ledger.Filter{Device: "d1", Last: 1})
	require.NoError(t, err)
	require.Len(t, entries, 1)
	assert.Equal(t, "j2", entries[0].Job)
}

func TestOpenWithoutALedger(t *testing.T) {
	_, err := ledger.Open(t.TempDir(), time.Now)
	assert.ErrorIs(t, err, ledger.ErrNone)
}

func TestCheckNamesTheEntryThatWasChanged(t *testing.T) {
	l, dir := create(t)
	for range 5 {
		require.NoError(t, l.Append(ledger.Step, "j1", "d1", map[string]string{"step": "sending"}))
	}
	count, _, err := l.Check()
	require.NoError(t, err)
	assert.Equal(t, 5, count)

	db, err := sql.Open("sqlite", filepath.Join(dir, ledger.Folder, "ledger.db"))
	require.NoError(t, err)
	defer func() { _ = db.Close() }()
	_, err = db.Exec(`UPDATE entries SET device = 'd2' WHERE seq = 3`)
	require.ErrorContains(t, err, "do not change")
	_, err = db.Exec(`DROP TRIGGER entries_stay; UPDATE entries SET device = 'd2' WHERE seq = 3`)
	require.NoError(t, err)
	_, _, err = l.Check()
	assert.ErrorContains(t, err, "entry 3 ")

	_, err = db.Exec(`DROP TRIGGER entries_remain; DELETE FROM entries WHERE seq = 2`)
	require.NoError(t, err)
	_, _, err = l.Check()
	assert.ErrorContains(t, err, "entry 2 is missing")
}

func TestSeeKeepsOnlyWhatIsNew(t *testing.T) {
	l, _ := create(t)
	cam := &site.Device{Name: "cam-11", Version: "3.1.0", Services: []string{"device"}}
	gate := &site.Device{Name: "gate-1", Version: "K41"}
	require.NoError(t, l.See("", cam, gate))
	assert.Equal(t, "d1", cam.ID)
	assert.Equal(t, "d2", gate.ID)
	require.NoError(t, l.See("", cam, gate))
	entries, err := l.Entries(ledger.Filter{Kind: ledger.Seen})
	require.NoError(t, err)
	assert.Len(t, entries, 2, "nothing had changed")

	cam.Version = "3.2.1"
	require.NoError(t, l.See("j1", cam, gate))
	devices, err := l.Devices()
	require.NoError(t, err)
	require.Len(t, devices, 2)
	assert.Equal(t, "3.2.1", devices[0].Version)
}

func TestLocksTellTheLivingFromTheDead(t *testing.T) {
	l, dir := create(t)
	release, ok, err := l.Hold("j1")
	require.NoError(t, err)
	require.True(t, ok)
	other, err := ledger.Open(dir, time.Now)
	require.NoError(t, err)
	defer func() { _ = other.Close() }()
	assert.True(t, other.Held("j1"))
	assert.False(t, other.Held("j2"))
	_, ok, err = other.Hold("j1")
	require.NoError(t, err)
	assert.False(t, ok)
	release()
	assert.False(t, other.Held("j1"))
}

func TestProgressIsTheLastOne(t *testing.T) {
	l, _ := create(t)
	require.NoError(t, l.SetProgress("j1", map[string]ledger.Progress{"d1": {Done: 1, Total: 9}}))
	require.NoError(t, l.SetProgress("j1", map[string]ledger.Progress{"d1": {Done: 5, Total: 9}, "d2": {Done: 2, Total: 9}}))
	p, err := l.Progress("j1")
	require.NoError(t, err)
	assert.Len(t, p, 2)
	assert.Equal(t, int64(5), p["d1"].Done)
}

func TestKeys(t *testing.T) {
	l, err := ledger.Create(t.TempDir(), time.Now)
	require.NoError(t, err)
	defer func() { _ = l.Close() }()
	tls := site.Key{Address: "10.20.4.11:443", Kind: "TLS certificate", Fingerprint: "SHA256:a"}
	other := tls
	other.Fingerprint = "SHA256:b"
	require.NoError(t, l.Meet([]site.Key{tls}))
	require.NoError(t, l.Meet([]site.Key{tls}), "what is known is not written again")
	require.NoError(t, l.Distrust([]site.Key{other}))
	trusted, strange, err := l.Keys()
	require.NoError(t, err)
	assert.Equal(t, []site.Key{tls}, trusted)
	assert.Equal(t, []site.Key{other}, strange)
	require.NoError(t, l.Meet([]site.Key{other}))
	trusted, strange, err = l.Keys()
	require.NoError(t, err)
	assert.Equal(t, []site.Key{other}, trusted)
	assert.Empty(t, strange)
	n, _, err := l.Check()
	require.NoError(t, err)
	assert.EqualValues(t, 3, n)
}
