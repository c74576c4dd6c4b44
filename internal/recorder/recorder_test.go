package recorder_test

import (
	"context"
	"database/sql"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/ledger"
	"catena/internal/office/servertest"
	"catena/internal/place"
	"catena/internal/record"
	"catena/internal/recorder"
	"catena/internal/recorder/pgtest"
)

// laptop is a ledger with a writer of its own, and the folder that its chain is sent to.
type laptop struct {
	*ledger.Ledger
	name string
}

func newLaptop(t *testing.T, name string) laptop {
	key := filepath.Join(t.TempDir(), "writer.key")
	require.NoError(t, ledger.Rename(key, name))
	by, err := ledger.ReadWriter(key)
	require.NoError(t, err)
	l, err := ledger.Create(t.TempDir(), time.Now, by)
	require.NoError(t, err)
	t.Cleanup(func() { _ = l.Close() })
	require.NoError(t, l.NameWriter())
	return laptop{l, name}
}

// send brings what is new of its chain to a site's folder, as a sync does.
func (l laptop) send(t *testing.T, at place.Place, folder string, after int64) int64 {
	require.NoError(t, l.Seal())
	var text strings.Builder
	last, err := l.WriteChain(&text, l.Writer().ID(), after, 1<<40)
	require.NoError(t, err)
	digest, err := l.DigestAt(l.Writer().ID(), last)
	require.NoError(t, err)
	require.NoError(
		t,
		at.Put(fmt.Sprintf("%s/chains/%s/%012d-%012d-%s", folder, l.Writer().ID(), after+1, last,
			digest[:16]), strings.NewReader(text.String())),
	)
	return last
}

func TestAnOfficeIsRecorded(t *testing.T) {
	for _, kind := range []string{"sqlite", "postgres"} {
		t.Run(kind, func(t *testing.T) {
			url := filepath.Join(t.TempDir(), "record.db")
			if kind == "postgres" {
				url = pgtest.New(t).URL
			}
			recorded(t, url)
		})
	}
}

func recorded(t *testing.T, url string) {
	f := servertest.New(t)
	c := f.AddSite(t, "marrow-hill", 0)
	var at place.Place
	require.Eventually(t, func() bool {
		var err error
		at, err = place.OpenOffice(t.Context(), c)
		return err == nil
	}, 20*time.Second, 50*time.Millisecond)
	defer at.Close()
	const folder = "marrow-hill-abcdefghijkl"
	anna := newLaptop(t, "anna")
	see := func(id, name, model, version string) {
		require.NoError(t, anna.Append(record.Found, "", id, map[string]any{"id": id, "name": name,
			"reading": map[string]string{"vendor": "Wexcombe", "model": model, "serial": "S-" + id,
				"version": version}}))
	}
	see("d1", "cam-11", "WX-40", "3.1.0")
	see("d2", "cam-12\x00", "WX-20", "2.09")
	require.NoError(t, anna.Append("job-started", "j1", "", map[string]string{"purpose": "flash",
		"name": "night-1"}))
	require.NoError(
		t,
		anna.Append("device-ended", "j1", "d1", map[string]any{"end": "done", "version": "3.2.1"}),
	)
	require.NoError(t, anna.Append("device-ended", "j1", "d2", map[string]any{"end": "stranded"}))
	require.NoError(t, anna.Append("job-closed", "j1", "", struct{}{}))
	see("d1", "cam-11", "WX-40", "3.2.1")
	last := anna.send(t, at, folder, 0)

	by, err := ledger.ReadWriter(filepath.Join(t.TempDir(), "record.key"))
	require.NoError(t, err)
	as, err := f.Keeper()
	require.NoError(t, err)
	as.Address = f.At
	once := func() (n int, problems []string) {
		to, err := recorder.Open(t.Context(), url)
		require.NoError(t, err)
		defer func() { require.NoError(t, to.Close()) }()
		all, err := (&recorder.Recorder{To: to, Mirror: recorder.Mirror{Office: f.Office, As: as, By: by,
			Now: time.Now}}).Once(t.Context())
		require.NoError(t, err)
		require.Len(t, all, 1)
		return all[0].Entries, all[0].Problems
	}
	n, problems := once()
	assert.Equal(t, int(last), n)
	assert.Empty(t, problems)
	n, _ = once()
	assert.Zero(t, n, "each entry once")

	// The same entries again, by a recorder that has lost its place, are not there twice; what is new
	// is.
	require.NoError(t, os.RemoveAll(filepath.Join(f.Dir, recorder.Folder)))
	see("d3", "cam-13", "WX-20", "2.09")
	last = anna.send(t, at, folder, last)
	n, _ = once()
	assert.Equal(t, 2, n, "the reading, and the signature of it")
	// What was changed on its way is not recorded, and named.
	bea := newLaptop(t, "bea")
	require.NoError(t, bea.Append("x", "", "", "whole"))
	require.NoError(t, bea.Seal())
	var text strings.Builder
	end, err := bea.WriteChain(&text, bea.Writer().ID(), 0, 1<<40)
	require.NoError(t, err)
	require.NoError(
		t,
		at.Put(fmt.Sprintf(
			"%s/chains/%s/%012d-%012d-%s",
			folder,
			bea.Writer().ID(),
			1,
			end,
			strings.Repeat(
				"0",
				16,
			),
		), strings.NewReader(strings.Replace(text.String(), "whole", "false", 1))),
	)
	n, problems = once()
	assert.Zero(t, n)
	assert.Len(t, problems, 1)

	driver := "sqlite"
	if recorder.IsPostgres(url) {
		driver = "pgx"
	}
	db, err := sql.Open(driver, url)
	require.NoError(t, err)
	defer func() { _ = db.Close() }()
	var count int64
	require.NoError(t, db.QueryRow(`SELECT count(*) FROM entries`).Scan(&count))
	assert.Equal(t, last, count)
	queries(t, db, driver)

	// A database of a later Catena is left alone.
	_, err = db.Exec(`INSERT INTO goose_db_version (version_id, is_applied) VALUES (99, TRUE)`)
	require.NoError(t, err)
	_, err = recorder.Open(t.Context(), url)
	require.ErrorAs(t, err, new(*recorder.NewerError))
}

// queries runs those of the manual, and looks at what some of them answer.
func queries(t *testing.T, db *sql.DB, driver string) {
	page, err := os.ReadFile("../../docs/fleet.md")
	require.NoError(t, err)
	all := regexp.MustCompile("(?s)```sql\n(.*?)```").FindAllStringSubmatch(string(page), -1)
	require.Len(t, all, 1)
	var answers []string
	for query := range strings.SplitSeq(all[0][1], ";\n") {
		if strings.TrimSpace(query) == "" {
			continue
		}
		rows, err := db.QueryContext(context.Background(), query)
		require.NoError(t, err, "%s: %s", driver, query)
		names, err := rows.Columns()
		require.NoError(t, err)
		var lines []string
		for rows.Next() {
			values := make([]any, len(names))
			for i := range values {
				values[i] = new(any)
			}
			require.NoError(t, rows.Scan(values...), query)
			line := ""
			for _, v := range values {
				line += fmt.Sprint(*v.(*any)) + " "
			}
			lines = append(lines, strings.TrimSpace(line))
		}
		require.NoError(t, rows.Err())
		require.NoError(t, rows.Close())
		answers = append(answers, strings.Join(lines, "\n"))
	}
	require.Len(t, answers, 10)
	assert.Contains(t, answers[0], "marrow-hill cam-13 2.09")
	assert.Contains(t, answers[0], "marrow-hill cam-12\uFFFD 2.09")
	assert.Contains(t, answers[1], "WX-40 3.2.1 1 1")
	assert.Contains(t, answers[4], "marrow-hill cam-12\uFFFD")
	assert.Contains(t, answers[6], "stranded 1")
}

// A database that is not there, or is none, is an error that says so.
func TestADatabaseThatIsNone(t *testing.T) {
	file := filepath.Join(t.TempDir(), "x.db")
	require.NoError(t, os.WriteFile(file, []byte(strings.Repeat("not a database ", 100)), 0o600))
	_, err := recorder.Open(t.Context(), file)
	require.Error(t, err)
	_, err = recorder.Open(t.Context(), "postgres://catena@127.0.0.1:1/none?connect_timeout=2")
	require.Error(t, err)
}
