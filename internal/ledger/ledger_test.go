package ledger_test

import (
	"database/sql"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/ledger"
)

func create(t *testing.T) (*ledger.Ledger, string) {
	dir := t.TempDir()
	l, err := ledger.Create(dir, time.Now, ledger.Writer{})
	require.NoError(t, err)
	t.Cleanup(func() { _ = l.Close() })
	return l, dir
}

func TestEntriesComeBackInOrder(t *testing.T) {
	l, dir := create(t)
	require.NoError(t, l.Append(started, "j1", "", map[string]int{"parallel": 8}))
	require.NoError(t, l.Append(step, "j1", "d1", map[string]string{"step": "checking"}))
	require.NoError(t, l.Append(step, "j2", "d1", map[string]string{"step": "sending"}))

	other, err := ledger.Open(dir, time.Now, ledger.Writer{}) // as another terminal would
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
	for format, words := range map[int]string{3: "by an earlier Catena, in format 3",
		9: "by a later Catena, in format 9"} {
		db, err := sql.Open("sqlite", filepath.Join(dir, ledger.Folder, "ledger.db"))
		require.NoError(t, err)
		_, err = db.Exec(fmt.Sprintf("PRAGMA user_version = %d", format))
		require.NoError(t, errors.Join(err, db.Close()))
		_, err = ledger.Open(dir, time.Now, ledger.Writer{})
		var wrong *ledger.FormatError
		require.ErrorAs(t, err, &wrong)
		assert.Equal(t, format, wrong.Found)
		assert.ErrorContains(t, err, words)
	}
}

// What Extend reads and what it appends belong together: no one's entry comes between.
func TestExtend(t *testing.T) {
	l, dir := create(t)
	other, err := ledger.Open(dir, time.Now, ledger.Writer{})
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
	assert.Equal(t, 41, count, "and the one that says who wrote them")
}

func TestOpenWithoutALedger(t *testing.T) {
	_, err := ledger.Open(t.TempDir(), time.Now, ledger.Writer{})
	assert.ErrorIs(t, err, ledger.ErrNone)
}

func TestCheckNamesTheEntryThatWasChanged(t *testing.T) {
	l, dir := create(t)
	for range 5 {
		require.NoError(t, l.Append(step, "j1", "d1", map[string]string{"step": "sending"}))
	}
	count, _, err := l.Check()
	require.NoError(t, err)
	assert.Equal(t, 6, count)

	db, err := sql.Open("sqlite", filepath.Join(dir, ledger.Folder, "ledger.db"))
	require.NoError(t, err)
	defer func() { _ = db.Close() }()
	_, err = db.Exec(`UPDATE entries SET device = 'd2' WHERE n = 3`)
	require.ErrorContains(t, err, "do not change")
	_, err = db.Exec(`DROP TRIGGER entries_stay; UPDATE entries SET device = 'd2' WHERE n = 3`)
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
	other, err := ledger.Open(dir, time.Now, ledger.Writer{})
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

// What was cut, emptied, replaced or removed is not a whole ledger.
func TestWhatIsMissingShows(t *testing.T) {
	entries := func(t *testing.T, n int) string {
		dir := t.TempDir()
		l, err := ledger.Create(dir, time.Now, ledger.Writer{})
		require.NoError(t, err)
		for i := range n {
			require.NoError(t, l.Append(step, "j1", "d1", i))
		}
		require.NoError(t, l.Close())
		return dir
	}
	database := func(dir string) string { return filepath.Join(dir, ledger.Folder, "ledger.db") }
	change := func(t *testing.T, dir, how string) {
		db, err := sql.Open("sqlite", database(dir))
		require.NoError(t, err)
		_, err = db.Exec(how)
		require.NoError(t, errors.Join(err, db.Close()))
	}
	for name, c := range map[string]struct {
		harm func(t *testing.T, dir string)
		says string
	}{
		"cut": {func(t *testing.T, dir string) {
			change(t, dir, `DROP TRIGGER entries_remain; DELETE FROM entries WHERE seq > 3`)
		}, "it ends at entry 3, and .catena-head records 6: the end was cut off"},
		"emptied": {func(t *testing.T, dir string) {
			change(t, dir, `DROP TRIGGER entries_remain; DELETE FROM entries`)
		}, "it ends at entry 0"},
		"replaced": {func(t *testing.T, dir string) {
			raw, err := os.ReadFile(database(entries(t, 7)))
			require.NoError(t, err)
			require.NoError(t, os.WriteFile(database(dir), raw, 0o600))
		}, "the ledger was replaced"},
		"removed": {func(t *testing.T, dir string) {
			require.NoError(t, os.RemoveAll(filepath.Join(dir, ledger.Folder)))
		}, "is gone; it had 6 entries"},
		"truncated to nothing": {func(t *testing.T, dir string) {
			require.NoError(t, os.Truncate(database(dir), 0))
		}, "is gone; it had 6 entries"},
		"without its triggers": {func(t *testing.T, dir string) {
			change(t, dir, `DROP TRIGGER entries_stay`)
		}, "the protection of its entries was removed"},
		"with a trigger that does nothing": {func(t *testing.T, dir string) {
			change(t, dir, `DROP TRIGGER entries_stay; CREATE TRIGGER entries_stay BEFORE UPDATE ON entries BEGIN SELECT 1; END`)
		}, `has a trigger "entries_stay" that Catena does not create`},
		"with a trigger that changes what is written": {func(t *testing.T, dir string) {
			change(t, dir, `CREATE TRIGGER more AFTER INSERT ON entries BEGIN INSERT INTO entries
				VALUES (new.seq+1, new.writer, new.n+1, new."order", new.at, new.kind, new.job, new.device,
				new.body, new.hash); END`)
		}, `has a trigger "more" that Catena does not create`},
		"with a view in the place of the entries": {func(t *testing.T, dir string) {
			change(t, dir, `ALTER TABLE entries RENAME TO kept;
				CREATE VIEW entries AS SELECT * FROM kept`)
		}, "that Catena does not create, so it is not opened"},
		"with one more table": {func(t *testing.T, dir string) {
			change(t, dir, `CREATE TABLE other (a)`)
		}, `has a table "other" that Catena does not create`},
		"with one more table, and as if it were being made": {func(t *testing.T, dir string) {
			change(t, dir, `CREATE TABLE other (a); PRAGMA user_version = 0`)
		}, `has a table "other" that Catena does not create`},
	} {
		t.Run(name, func(t *testing.T) {
			dir := entries(t, 5)
			c.harm(t, dir)
			l, err := ledger.Open(dir, time.Now, ledger.Writer{})
			if err == nil {
				defer func() { _ = l.Close() }()
				_, _, err = l.Check()
			}
			assert.ErrorContains(t, err, c.says)
		})
	}
	l, err := ledger.Create(t.TempDir(), time.Now, ledger.Writer{})
	require.NoError(t, err)
	defer func() { _ = l.Close() }()
	_, _, err = l.Check()
	assert.ErrorContains(t, err, "it has no entries")
}

// Who asks whether a job lives does not keep anybody from taking a lock that is free.
func TestAskingTakesNothing(t *testing.T) {
	l, dir := create(t)
	other, err := ledger.Open(dir, time.Now, ledger.Writer{})
	require.NoError(t, err)
	defer func() { _ = other.Close() }()
	ends := make(chan struct{})
	var group sync.WaitGroup
	group.Go(func() {
		for {
			select {
			case <-ends:
				return
			default:
				other.Held("j1")
			}
		}
	})
	for range 1000 {
		release, ok, err := l.Hold("j1")
		require.NoError(t, err)
		require.True(t, ok, "it was free")
		release()
	}
	close(ends)
	group.Wait()
	assert.Empty(t, l.Locks(), "a lock that was released leaves nothing")
}

func TestExport(t *testing.T) {
	l, _ := create(t)
	require.NoError(t, l.Append(step, "j1", "d1", map[string]string{"a": "b"}))
	var b strings.Builder
	count, err := l.Export(&b)
	require.NoError(t, err)
	assert.Equal(t, 2, count)
	_, last, err := l.Check()
	require.NoError(t, err)
	assert.Contains(t, b.String(), `"body":{"a":"b"}`)
	assert.Contains(t, b.String(), fmt.Sprintf(`"hash":"%x"`, last))
}

// A power cut keeps what Append has returned for: SQLite's log is synced before Append
// returns, and what is copied from it into the database is synced before the log is used
// again. strace shows the system calls of this test's own program, run on its own.
func TestPowerCut(t *testing.T) {
	if dir := os.Getenv("CATENA_TEST_APPENDS"); dir != "" {
		l, err := ledger.Create(dir, time.Now, ledger.Writer{})
		require.NoError(t, err)
		for i := range 400 {
			require.NoError(t, l.Append(step, "j1", "d1", strings.Repeat("x", 8000)))
			require.NoError(t, l.SetProgress("j1",
				map[string]ledger.Progress{"d1": {Done: int64(i)}}))
			_, _ = os.Stderr.WriteString("appended\n")
		}
		require.NoError(t, l.Close())
		return
	}
	strace, err := exec.LookPath("strace")
	if err != nil {
		t.Skip("there is no strace here")
	}
	out := filepath.Join(t.TempDir(), "calls")
	c := exec.Command(strace, "-f", "-y", "-e", "trace=pwrite64,write,fsync,fdatasync,ftruncate",
		"-s", "16", "-o", out,
		os.Args[0], "-test.run", "^TestPowerCut$")
	c.Env = append(os.Environ(), "CATENA_TEST_APPENDS="+t.TempDir())
	if said, err := c.CombinedOutput(); err != nil {
		t.Skipf("strace cannot follow a process here: %v\n%s", err, said)
	}
	raw, err := os.ReadFile(out)
	require.NoError(t, err)
	// A line may break off where another thread comes between; its arguments are all there.
	call := regexp.MustCompile(
		`^\d+ +(\w+)\(\d+<([^>]*)>(?:, "((?:[^"\\]|\\.)*)".*, (\d+)(?:\)| <unfinished))?`)
	var logOpen, dataOpen bool // written and not synced
	appended, copied, reused := 0, 0, 0
	for line := range strings.Lines(string(raw)) {
		m := call.FindStringSubmatch(line)
		if m == nil {
			continue
		}
		switch name, file := m[1], filepath.Base(m[2]); {
		case name == "write" && strings.HasPrefix(m[3], "appended"):
			appended++
			require.False(t, logOpen, "Append returned before its entry was on the disk")
		case name == "pwrite64" && file == "ledger.db-wal":
			if m[4] == "0" {
				reused++
				require.False(t, dataOpen,
					"the log is used again, and the database is not on the disk")
			}
			logOpen = true
		case name == "pwrite64" && file == "ledger.db":
			copied++
			require.False(t, logOpen, "the database is written from a log that is not on the disk")
			dataOpen = true
		case (name == "fsync" || name == "fdatasync") && file == "ledger.db-wal":
			logOpen = false
		case (name == "fsync" || name == "fdatasync") && file == "ledger.db":
			dataOpen = false
		}
	}
	assert.Equal(t, 400, appended)
	assert.Greater(t, copied, 100, "the log was copied into the database")
	assert.Greater(t, reused, 1, "and used again")
}

// Two processes that append at the same time leave the head at the last entry.
func TestTheHeadIsTheLastEntry(t *testing.T) {
	for round := range 10 {
		dir := t.TempDir()
		a, err := ledger.Create(dir, time.Now, ledger.Writer{})
		require.NoError(t, err)
		b, err := ledger.Open(dir, time.Now, ledger.Writer{})
		require.NoError(t, err)
		var group sync.WaitGroup
		for i := range 16 {
			l := []*ledger.Ledger{a, b}[i%2]
			group.Go(func() {
				for n := range 3 {
					assert.NoError(t, l.Append("x", "j1", "", n))
				}
			})
		}
		group.Wait()
		head, err := os.ReadFile(filepath.Join(dir, ledger.Head))
		require.NoError(t, err)
		assert.Equal(t, fmt.Sprintf("%016d", 49), string(head[:16]), "round %d", round)
		require.NoError(t, errors.Join(a.Close(), b.Close()))
	}
}

// A question that is asked for the first time waits for the connection, and does not stop the one
// who has it.
func TestAFirstQuestionBlocksNoOne(t *testing.T) {
	l, _ := create(t)
	asked := make(chan error, 1)
	require.NoError(t, l.Extend(nil, func([]ledger.Entry) ([]ledger.Entry, error) {
		go func() { _, err := l.Last(); asked <- err }()
		time.Sleep(100 * time.Millisecond) // it waits now
		known := make(chan string, 1)
		go func() { known <- l.Canonical("d1") }()
		select {
		case id := <-known:
			assert.Equal(t, "d1", id)
		case <-time.After(10 * time.Second):
			return nil, errors.New("both wait for ever")
		}
		return nil, nil
	}))
	require.NoError(t, <-asked)
}
