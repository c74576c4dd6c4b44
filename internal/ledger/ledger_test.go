package ledger_test

import (
	"database/sql"
	"errors"
	"fmt"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/ledger"
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
	require.NoError(t, l.Append(started, "j1", "", map[string]int{"parallel": 8}))
	require.NoError(t, l.Append(step, "j1", "d1", map[string]string{"step": "checking"}))
	require.NoError(t, l.Append(step, "j2", "d1", map[string]string{"step": "sending"}))

	other, err := ledger.Open(dir, time.Now) // as another terminal would
	require.NoError(t, err)
	defer func() { _ = other.Close() }()
	entries, err := other.Entries(ledger.Filter{Job: "j1"})
	require.NoError(t, err)
	require.Len(t, entries, 2)
	assert.Equal(t, started, entries[0].Kind)
	assert.JSONEq(t, `{"step":"checking"}`, string(entries[1].Body))
	entries, err = other.Entries(ledger.Filter{Device: "d1", Last: 1})
	require.NoError(t, err)
	require.Len(t, entries, 1)
	assert.Equal(t, "j2", entries[0].Job)
}

// The kinds are whoever's who appends.
const started, step ledger.Kind = "started", "step"

// A ledger of another format is refused in words, and left as it is.
func TestAnotherFormat(t *testing.T) {
	l, dir := create(t)
	require.NoError(t, l.Close())
	for format, words := range map[int]string{1: "by an earlier Catena, in format 1",
		9: "by a later Catena, in format 9"} {
		db, err := sql.Open("sqlite", filepath.Join(dir, ledger.Folder, "ledger.db"))
		require.NoError(t, err)
		_, err = db.Exec(fmt.Sprintf("PRAGMA user_version = %d", format))
		require.NoError(t, errors.Join(err, db.Close()))
		_, err = ledger.Open(dir, time.Now)
		var wrong *ledger.FormatError
		require.ErrorAs(t, err, &wrong)
		assert.Equal(t, format, wrong.Found)
		assert.ErrorContains(t, err, words)
	}
}

// What Extend reads and what it appends belong together: nobody's entry comes between.
func TestExtend(t *testing.T) {
	l, dir := create(t)
	other, err := ledger.Open(dir, time.Now)
	require.NoError(t, err)
	defer func() { _ = other.Close() }()
	var group sync.WaitGroup
	for _, l := range []*ledger.Ledger{l, other} {
		group.Go(func() {
			for range 20 {
				assert.NoError(t, l.Extend(&ledger.Filter{Kind: step},
					func(chosen []ledger.Entry) ([]ledger.Entry, error) {
						e, err := ledger.NewEntry(step, "", "", len(chosen))
						return []ledger.Entry{e}, err
					}))
			}
		})
	}
	group.Wait()
	entries, err := l.Entries(ledger.Filter{Kind: step})
	require.NoError(t, err)
	for i, e := range entries {
		assert.Equal(t, fmt.Sprint(i), string(e.Body), "each has counted all before it")
	}
	assert.Error(t, l.Extend(nil, func([]ledger.Entry) ([]ledger.Entry, error) {
		return nil, errors.New("no")
	}))
	count, _, err := l.Check()
	require.NoError(t, err)
	assert.Equal(t, 40, count)
}

func TestOpenWithoutALedger(t *testing.T) {
	_, err := ledger.Open(t.TempDir(), time.Now)
	assert.ErrorIs(t, err, ledger.ErrNone)
}

func TestCheckNamesTheEntryThatWasChanged(t *testing.T) {
	l, dir := create(t)
	for range 5 {
		require.NoError(t, l.Append(step, "j1", "d1", map[string]string{"step": "sending"}))
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
	require.NoError(t, l.SetProgress("j1",
		map[string]ledger.Progress{"d1": {Done: 5, Total: 9}, "d2": {Done: 2, Total: 9}}))
	p, err := l.Progress("j1")
	require.NoError(t, err)
	assert.Len(t, p, 2)
	assert.Equal(t, int64(5), p["d1"].Done)
}
