package recorder

import (
	"context"
	"database/sql"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	_ "github.com/jackc/pgx/v5/stdlib" // for goose
	"github.com/pressly/goose/v3"
	_ "modernc.org/sqlite" // the driver of the ledger, too

	"catena/internal/ledger"
)

// migrations are written for PostgreSQL. SQLite takes its type names, too, and stores what it is
// given: whole numbers in a bigint, and text in the others.
//
//go:embed migrations
var migrations embed.FS

// NewerError is returned for a database that a later Catena has changed.
type NewerError struct{ Has, Knows int64 }

func (e *NewerError) Error() string {
	return fmt.Sprintf("the database has the schema %d of a later Catena; this one knows %d", e.Has,
		e.Knows)
}

// IsPostgres tells whether a text names a PostgreSQL database.
func IsPostgres(url string) bool {
	return strings.HasPrefix(url, "postgres://") || strings.HasPrefix(url, "postgresql://")
}

// Open opens a database, and brings its schema up to date: PostgreSQL where url is one of it, else
// the SQLite file of that path. Its errors are a NewerError, and those of the database.
func Open(ctx context.Context, url string) (Database, error) {
	if IsPostgres(url) {
		if err := migrate(ctx, "pgx", url, goose.DialectPostgres); err != nil {
			return nil, err
		}
		conn, err := pgx.Connect(ctx, url)
		if err != nil {
			return nil, err
		}
		return &postgres{conn}, nil
	}
	if err := os.MkdirAll(filepath.Dir(url), 0o700); err != nil {
		return nil, err
	}
	source := "file:" + url + "?_pragma=busy_timeout(10000)&_pragma=journal_mode(wal)" +
		"&_pragma=foreign_keys(on)&_txlock=immediate"
	if err := migrate(ctx, "sqlite", source, goose.DialectSQLite3); err != nil {
		return nil, err
	}
	db, err := sql.Open("sqlite", source)
	if err != nil {
		return nil, err
	}
	db.SetMaxOpenConns(1)
	return &sqlite{db}, nil
}

// migrate brings the schema of a database up to date.
func migrate(ctx context.Context, driver, source string, dialect goose.Dialect) (err error) {
	db, err := sql.Open(driver, source)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, db.Close()) }()
	steps, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	p, err := goose.NewProvider(dialect, db, steps)
	if err != nil {
		return err
	}
	sources := p.ListSources()
	has, err := p.GetDBVersion(ctx)
	if err != nil {
		return err
	}
	if knows := sources[len(sources)-1].Version; has > knows {
		return &NewerError{has, knows}
	}
	_, err = p.Up(ctx)
	return err
}

// at is when an entry was written, within what databases take.
func at(e ledger.Recorded) time.Time {
	const first, last = -62135596800_000000, 253402300799_000000 // the years 1 and 9999
	return time.UnixMicro(min(max(e.Order, first), last)).UTC()
}

// body is that of an entry, as databases take it: they have no place for a zero character.
func body(e ledger.Recorded) string {
	return strings.ReplaceAll(strings.ToValidUTF8(plain(string(e.Body)), "\uFFFD"), `\u0000`, `\uFFFD`)
}

// plain is a text without characters that databases refuse.
func plain(s string) string {
	return strings.ReplaceAll(strings.ToValidUTF8(s, "\uFFFD"), "\x00", "\uFFFD")
}

type sqlite struct{ *sql.DB }

func (d *sqlite) Recorded(ctx context.Context, site string) (map[string]int64, error) {
	rows, err := d.QueryContext(ctx, recorded, site)
	if err != nil {
		return nil, err
	}
	defer func() { _ = rows.Close() }()
	out := map[string]int64{}
	for rows.Next() {
		var writer string
		var n int64
		if err := rows.Scan(&writer, &n); err != nil {
			return nil, err
		}
		out[writer] = n
	}
	return out, rows.Err()
}

const (
	recorded = `SELECT writer, max(n) FROM entries WHERE site = $1 GROUP BY writer`
	addSite  = `INSERT INTO sites (id, name) VALUES ($1, $2)
		ON CONFLICT (id) DO UPDATE SET name = excluded.name`
	addWriter = `INSERT INTO writers (site, id, name, fingerprint) VALUES ($1, $2, $3, $4)
		ON CONFLICT (site, id) DO UPDATE SET name = excluded.name`
)

func (d *sqlite) Add(ctx context.Context, s Site, writers []ledger.Chain,
	entries []ledger.Recorded) error {
	tx, err := d.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	defer func() { _ = tx.Rollback() }() // after a commit it does nothing
	_, err = tx.ExecContext(ctx, addSite, s.ID, plain(s.Name))
	for _, w := range writers {
		if err == nil && !w.Mine {
			_, err = tx.ExecContext(ctx, addWriter, s.ID, w.Writer, plain(w.Name), w.Fingerprint)
		}
	}
	if err != nil {
		return err
	}
	add, err := tx.PrepareContext(ctx, `INSERT INTO entries
		(hash, site, writer, n, ord, at, kind, job, device, body)
		VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?) ON CONFLICT (hash) DO NOTHING`)
	if err != nil {
		return err
	}
	for _, e := range entries {
		if _, err := add.ExecContext(ctx, e.Hash, s.ID, e.Writer, e.N, e.Order,
			at(e).Format("2006-01-02T15:04:05.000000Z"), plain(string(e.Kind)), plain(e.Job),
			plain(e.Device), body(e)); err != nil {
			return err
		}
	}
	return tx.Commit()
}

type postgres struct{ *pgx.Conn }

func (d *postgres) Close() error { return d.Conn.Close(context.Background()) }

func (d *postgres) Recorded(ctx context.Context, site string) (map[string]int64, error) {
	rows, err := d.Query(ctx, recorded, site)
	if err != nil {
		return nil, err
	}
	out := map[string]int64{}
	var writer string
	var n int64
	_, err = pgx.ForEachRow(rows, []any{&writer, &n}, func() error { out[writer] = n; return nil })
	return out, err
}

var columns = []string{"hash", "site", "writer", "n", "ord", "at", "kind", "job", "device", "body"}

// Add copies the entries into a table of this transaction first: COPY knows no conflicts.
func (d *postgres) Add(ctx context.Context, s Site, writers []ledger.Chain,
	entries []ledger.Recorded) error {
	return pgx.BeginFunc(ctx, d.Conn, func(tx pgx.Tx) error {
		_, err := tx.Exec(ctx, addSite, s.ID, plain(s.Name))
		for _, w := range writers {
			if err == nil && !w.Mine {
				_, err = tx.Exec(ctx, addWriter, s.ID, w.Writer, plain(w.Name), w.Fingerprint)
			}
		}
		if err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, `CREATE TEMPORARY TABLE incoming
			(LIKE entries INCLUDING DEFAULTS) ON COMMIT DROP`); err != nil {
			return err
		}
		_, err = tx.CopyFrom(ctx, pgx.Identifier{"incoming"}, columns,
			pgx.CopyFromSlice(len(entries), func(i int) ([]any, error) {
				e := entries[i]
				return []any{e.Hash, s.ID, e.Writer, e.N, e.Order, at(e), plain(string(e.Kind)),
					plain(e.Job), plain(e.Device), body(e)}, nil
			}))
		if err == nil {
			_, err = tx.Exec(ctx, `INSERT INTO entries SELECT * FROM incoming ON CONFLICT (hash) DO NOTHING`)
		}
		return err
	})
}
