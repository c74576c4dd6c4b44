package ledger

import (
	"database/sql"
	"fmt"
	"strings"
)

// format is the number of this form of the file, in its user_version.
const format = 4

const number = "PRAGMA user_version = 4;"

// schema is all that the file of the entries may hold, each with the statement that SQLite keeps of
// it (sqlite_schema.sql). A change of one is another format.
var schema = []string{
	`CREATE TABLE entries (
	seq INTEGER PRIMARY KEY, writer TEXT NOT NULL, n INTEGER NOT NULL, "order" INTEGER NOT NULL,
	at TEXT NOT NULL, kind TEXT NOT NULL, job TEXT NOT NULL, device TEXT NOT NULL,
	body TEXT NOT NULL, hash BLOB NOT NULL)`,
	`CREATE UNIQUE INDEX entries_chain ON entries (writer, n)`,
	`CREATE INDEX entries_order ON entries ("order", writer)`,
	`CREATE INDEX entries_device ON entries (device, kind, "order", writer)`,
	`CREATE INDEX entries_job ON entries (job, seq)`,
	`CREATE INDEX entries_kind ON entries (kind, "order", writer)`,
	`CREATE TRIGGER entries_stay BEFORE UPDATE ON entries
	BEGIN SELECT RAISE(ABORT, 'entries of the ledger do not change'); END`,
	`CREATE TRIGGER entries_remain BEFORE DELETE ON entries
	BEGIN SELECT RAISE(ABORT, 'entries of the ledger are not removed'); END`,
}

// progressSchema is all that the file of the passing progress may hold.
var progressSchema = []string{
	`CREATE TABLE progress (
	job TEXT NOT NULL, device TEXT NOT NULL, done INTEGER NOT NULL, total INTEGER NOT NULL,
	at TEXT NOT NULL, PRIMARY KEY (job, device)) WITHOUT ROWID`,
}

// create returns the statements that make what is not there yet.
func create(schema []string) string {
	var b strings.Builder
	for _, s := range schema {
		kind, rest, _ := strings.Cut(strings.TrimPrefix(s, "CREATE "), " ")
		if kind == "UNIQUE" {
			kind, rest = "UNIQUE INDEX", strings.TrimPrefix(rest, "INDEX ")
		}
		fmt.Fprintf(&b, "CREATE %s IF NOT EXISTS %s;\n", kind, rest)
	}
	return b.String()
}

// ForeignError is returned for a file that holds a table, view, index or trigger that Catena does
// not make: it may do anything when the ledger is read or written.
type ForeignError struct{ Path, Kind, Name string }

func (e *ForeignError) Error() string {
	return fmt.Sprintf("%s has a %s %q that Catena does not create, so it is not opened; use a "+
		"trusted copy of the ledger", e.Path, e.Kind, e.Name)
}

// onlyOurs returns a ForeignError where a file holds more than a schema, or other things by the
// same names.
func onlyOurs(db *sql.DB, path string, schema []string) error {
	ours := map[string]bool{}
	for _, s := range schema {
		ours[squeezed(s)] = true
	}
	rows, err := db.Query(`SELECT type, name, coalesce(sql, '') FROM sqlite_schema`)
	if err != nil {
		return err
	}
	defer func() { _ = rows.Close() }()
	for rows.Next() {
		var kind, name, made string
		if err := rows.Scan(&kind, &name, &made); err != nil {
			return err
		}
		if !ours[squeezed(made)] {
			return &ForeignError{Path: path, Kind: kind, Name: name}
		}
	}
	return rows.Err()
}

// squeezed is a statement with one space wherever there is any.
func squeezed(s string) string { return strings.Join(strings.Fields(s), " ") }
