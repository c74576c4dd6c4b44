// Package ledger is the durable record of all that was seen and done at a site.
//
// Its central type is Ledger: a SQLite file to which entries are appended and
// from which none is ever changed or removed. Each entry carries the SHA-256 of
// itself and its predecessor, so that a change to any of them shows. What stands
// in it is on the disk when Append returns; every state that others show (the
// devices known, how far a job is) is derived from the entries.
//
// Beside the entries lies the passing progress of transfers, which is neither
// chained nor durable, and locks that tell a living job from a dead one.
package ledger

import (
	"crypto/sha256"
	"database/sql"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"time"

	"github.com/gofrs/flock"
	_ "modernc.org/sqlite" // the database driver
)

// Folder is the name of the ledger's folder within a site folder.
const Folder = ".catena"

const file = "ledger.db"

// Kind says what an entry records. Kinds and bodies belong to those who append them; the
// ledger does not read either.
type Kind string

// Entry is one line of the record.
type Entry struct {
	Seq    int64           `json:"seq"`
	At     time.Time       `json:"at"`
	Kind   Kind            `json:"kind"`
	Job    string          `json:"job,omitempty"`
	Device string          `json:"device,omitempty"` // its ID
	Body   json.RawMessage `json:"body,omitempty"`
}

// Progress is how far a transfer or a write is.
type Progress struct {
	Done, Total int64 // bytes, or percent of 100 while a device writes
	At          time.Time
}

// FormatError is returned by Open for a ledger of another format, which is left as it is.
type FormatError struct {
	Path         string
	Found, Known int
}

func (e *FormatError) Error() string {
	if e.Found < e.Known {
		return fmt.Sprintf("%s was made by an earlier Catena, in format %d; this one reads format %d only, and has changed nothing", e.Path, e.Found, e.Known)
	}
	return fmt.Sprintf("%s was made by a later Catena, in format %d; this one reads format %d",
		e.Path, e.Found, e.Known)
}

// ErrNone is returned by Open when there is no ledger in the folder.
var ErrNone = errors.New("no ledger here")

// Ledger is an open ledger. It may be used by several goroutines, and several
// processes may have the same one open.
type Ledger struct {
	dir     string
	entries *sql.DB // one connection: every commit waits for the disk
	passing *sql.DB // one connection: commits do not wait
	now     func() time.Time
}

const schema = `
CREATE TABLE IF NOT EXISTS entries (
	seq INTEGER PRIMARY KEY, at TEXT NOT NULL, kind TEXT NOT NULL,
	job TEXT NOT NULL, device TEXT NOT NULL, body TEXT NOT NULL, hash BLOB NOT NULL);
CREATE INDEX IF NOT EXISTS entries_device ON entries (device, kind, seq);
CREATE INDEX IF NOT EXISTS entries_job ON entries (job, seq);
CREATE INDEX IF NOT EXISTS entries_kind ON entries (kind, seq);
CREATE TRIGGER IF NOT EXISTS entries_stay BEFORE UPDATE ON entries
	BEGIN SELECT RAISE(ABORT, 'entries of the ledger do not change'); END;
CREATE TRIGGER IF NOT EXISTS entries_remain BEFORE DELETE ON entries
	BEGIN SELECT RAISE(ABORT, 'entries of the ledger are not removed'); END;
CREATE TABLE IF NOT EXISTS progress (
	job TEXT NOT NULL, device TEXT NOT NULL, done INTEGER NOT NULL, total INTEGER NOT NULL, at TEXT NOT NULL,
	PRIMARY KEY (job, device)) WITHOUT ROWID;
PRAGMA user_version = 2;`

// format is the number of this form of the file, in its user_version.
const format = 2

// Create makes an empty ledger in the site folder dir, or opens the one there.
func Create(dir string, now func() time.Time) (*Ledger, error) {
	if err := os.MkdirAll(filepath.Join(dir, Folder), 0o700); err != nil {
		return nil, err
	}
	l, err := open(dir, now)
	if err != nil {
		return nil, err
	}
	if _, err := l.entries.Exec(schema); err != nil {
		_ = l.Close()
		return nil, fmt.Errorf("%s: %w", l.path(), err)
	}
	return l, nil
}

// Open opens the ledger of the site folder dir. It returns ErrNone when there is
// none, a FormatError for one of another format, and an error when the file is damaged.
func Open(dir string, now func() time.Time) (*Ledger, error) {
	if _, err := os.Stat(filepath.Join(dir, Folder, file)); errors.Is(err, os.ErrNotExist) {
		return nil, ErrNone
	}
	l, err := open(dir, now)
	if err != nil {
		return nil, err
	}
	var found int
	if err := l.entries.QueryRow(`PRAGMA user_version`).Scan(&found); err != nil {
		_ = l.Close()
		return nil, fmt.Errorf("%s cannot be read: %w", l.path(), err)
	}
	if found != format && found != 0 { // 0: its making was interrupted
		_ = l.Close()
		return nil, &FormatError{Path: l.path(), Found: found, Known: format}
	}
	// A process killed while it made the ledger leaves it without tables.
	if _, err := l.entries.Exec(schema); err != nil {
		_ = l.Close()
		return nil, fmt.Errorf("%s: %w", l.path(), err)
	}
	return l, nil
}

func open(dir string, now func() time.Time) (*Ledger, error) {
	l := &Ledger{dir: filepath.Join(dir, Folder), now: now}
	var err error
	l.entries, err = connect(l.path(), "FULL")
	if err != nil {
		return nil, err
	}
	l.passing, err = connect(l.path(), "OFF")
	if err != nil {
		_ = l.entries.Close()
		return nil, err
	}
	return l, nil
}

func connect(path, synchronous string) (*sql.DB, error) {
	abs, err := filepath.Abs(path)
	if err != nil {
		return nil, err
	}
	// Ten seconds: the longest that another process may keep the file.
	query := url.Values{"_txlock": {"immediate"}, "_pragma": {
		"busy_timeout(10000)", "journal_mode(WAL)", "synchronous(" + synchronous + ")"}}
	dsn := url.URL{Scheme: "file", Path: filepath.ToSlash(abs), RawQuery: query.Encode()}
	db, err := sql.Open("sqlite", dsn.String())
	if err != nil {
		return nil, err
	}
	db.SetMaxOpenConns(1)
	return db, nil
}

func (l *Ledger) path() string { return filepath.Join(l.dir, file) }

// Close closes the ledger; nothing is lost that Append has taken.
func (l *Ledger) Close() error { return errors.Join(l.entries.Close(), l.passing.Close()) }

// Append adds one entry and returns when it is on the disk. The body is written as JSON;
// job and device may be empty.
func (l *Ledger) Append(kind Kind, job, device string, body any) error {
	return l.Extend(nil, func([]Entry) ([]Entry, error) {
		e, err := NewEntry(kind, job, device, body)
		return []Entry{e}, err
	})
}

// NewEntry is an entry to append; Seq and At are the ledger's to set.
func NewEntry(kind Kind, job, device string, body any) (Entry, error) {
	raw, err := json.Marshal(body)
	return Entry{Kind: kind, Job: job, Device: device, Body: raw}, err
}

// Extend appends what extend makes of the entries that f chooses, all in one commit that
// nobody else's comes between. f may be nil: then extend gets none. It returns when the
// entries are on the disk; an error of extend appends nothing.
func (l *Ledger) Extend(f *Filter, extend func(chosen []Entry) ([]Entry, error)) error {
	tx, err := l.entries.Begin()
	if err != nil {
		return l.failed(err)
	}
	defer func() { _ = tx.Rollback() }() // says nothing after a commit
	var chosen []Entry
	if f != nil {
		chosen, err = query(tx, *f)
		if err != nil {
			return l.failed(err)
		}
	}
	added, err := extend(chosen)
	if err != nil {
		return err
	}
	for _, e := range added {
		if err := l.appendIn(tx, e); err != nil {
			return l.failed(err)
		}
	}
	return l.failed(tx.Commit())
}

func (l *Ledger) appendIn(tx *sql.Tx, e Entry) error {
	var before []byte
	err := tx.QueryRow(`SELECT seq, hash FROM entries ORDER BY seq DESC LIMIT 1`).Scan(&e.Seq,
		&before)
	if err != nil && !errors.Is(err, sql.ErrNoRows) {
		return err
	}
	e.Seq++
	at := l.now().UTC().Format(time.RFC3339Nano)
	hash := chain(before, e.Seq, at, string(e.Kind), e.Job, e.Device, string(e.Body))
	_, err = tx.Exec(`INSERT INTO entries VALUES (?,?,?,?,?,?,?)`, e.Seq, at, e.Kind, e.Job,
		e.Device, string(e.Body), hash)
	return err
}

func (l *Ledger) failed(err error) error {
	if err == nil {
		return nil
	}
	return fmt.Errorf("the ledger %s cannot be written: %w", l.path(), err)
}

// chain is the SHA-256 of the predecessor's hash and the entry's fields, each
// with its length before it, so that no two entries read the same.
func chain(before []byte, seq int64, fields ...string) []byte {
	h := sha256.New()
	h.Write(before)
	var n [8]byte
	binary.BigEndian.PutUint64(n[:], uint64(seq))
	h.Write(n[:])
	for _, f := range fields {
		binary.BigEndian.PutUint64(n[:], uint64(len(f)))
		h.Write(n[:])
		h.Write([]byte(f))
	}
	return h.Sum(nil)
}

// Filter chooses entries; a zero field chooses all.
type Filter struct {
	Kind        Kind
	Job, Device string
	After       int64 // only entries with a higher number
	Last        int   // only so many of the newest; the order stays oldest first
	Newest      bool  // only the newest of each device, of those of this kind
}

// Entries returns the chosen entries, oldest first.
func (l *Ledger) Entries(f Filter) ([]Entry, error) { return query(l.entries, f) }

// query asks a database, or a transaction on it.
func query(db interface {
	Query(query string, args ...any) (*sql.Rows, error)
}, f Filter) ([]Entry, error) {
	limit := -1
	if f.Last > 0 {
		limit = f.Last
	}
	rows, err := db.Query(`SELECT seq, at, kind, job, device, body FROM (
		SELECT * FROM entries WHERE (?1 = '' OR kind = ?1) AND (?2 = '' OR job = ?2) AND (?3 = '' OR device = ?3)
		AND seq > ?4 AND (NOT ?6 OR seq IN (SELECT max(seq) FROM entries WHERE kind = ?1 GROUP BY device))
		ORDER BY seq DESC LIMIT ?5) ORDER BY seq`, f.Kind, f.Job, f.Device, f.After, limit, f.Newest)
	if err != nil {
		return nil, err
	}
	return collect(rows)
}

func collect(rows *sql.Rows) ([]Entry, error) {
	defer func() { _ = rows.Close() }()
	var out []Entry
	for rows.Next() {
		var e Entry
		var at, body string
		if err := rows.Scan(&e.Seq, &at, &e.Kind, &e.Job, &e.Device, &body); err != nil {
			return nil, err
		}
		when, err := time.Parse(time.RFC3339Nano, at)
		if err != nil {
			return nil, fmt.Errorf("entry %d of the ledger has no time: %w", e.Seq, err)
		}
		e.At, e.Body = when, json.RawMessage(body)
		out = append(out, e)
	}
	return out, rows.Err()
}

// Check follows the chain from the first entry to the last. It returns the number
// of entries, and an error that names the first entry that was changed, added or
// removed. Entries cut off at the end leave a whole, shorter chain: whoever must
// know keeps the last hash that Check returns.
func (l *Ledger) Check() (count int, last []byte, err error) {
	rows, err := l.entries.Query(`SELECT seq, at, kind, job, device, body, hash FROM entries ORDER BY seq`)
	if err != nil {
		return 0, nil, fmt.Errorf("%s cannot be read: %w", l.path(), err)
	}
	defer func() { _ = rows.Close() }()
	for rows.Next() {
		var seq int64
		var at, kind, job, device, body string
		var hash []byte
		if err := rows.Scan(&seq, &at, &kind, &job, &device, &body, &hash); err != nil {
			return count, last, err
		}
		if seq != int64(count)+1 {
			return count, last, fmt.Errorf("entry %d is missing: entry %d follows entry %d",
				count+1, seq, count)
		}
		if string(chain(last, seq, at, kind, job, device, body)) != string(hash) {
			return count, last, fmt.Errorf("entry %d (%s of %s) is not as it was written", seq,
				kind, at)
		}
		count, last = count+1, hash
	}
	return count, last, rows.Err()
}

// SetProgress keeps the passing progress of devices of a job. It does not wait
// for the disk, and a crash may lose it.
func (l *Ledger) SetProgress(job string, of map[string]Progress) error {
	tx, err := l.passing.Begin()
	if err != nil {
		return err
	}
	defer func() { _ = tx.Rollback() }()
	for device, p := range of {
		if _, err := tx.Exec(`INSERT OR REPLACE INTO progress VALUES (?,?,?,?,?)`,
			job, device, p.Done, p.Total, p.At.UTC().Format(time.RFC3339Nano)); err != nil {
			return err
		}
	}
	return tx.Commit()
}

// Progress returns the last progress of each device of a job.
func (l *Ledger) Progress(job string) (map[string]Progress, error) {
	rows, err := l.passing.Query(`SELECT device, done, total, at FROM progress WHERE job = ?`, job)
	if err != nil {
		return nil, err
	}
	defer func() { _ = rows.Close() }()
	out := map[string]Progress{}
	for rows.Next() {
		var device, at string
		var p Progress
		if err := rows.Scan(&device, &p.Done, &p.Total, &at); err != nil {
			return nil, err
		}
		p.At, _ = time.Parse(time.RFC3339Nano, at) // the zero time where it is unreadable
		out[device] = p
	}
	return out, rows.Err()
}

// Hold takes a lock by name for as long as this process lives, or until the
// returned function is called; ok is false when another holds it. The operating
// system frees it when the process dies, however it dies.
func (l *Ledger) Hold(name string) (release func(), ok bool, err error) {
	lock := flock.New(filepath.Join(l.dir, name+".lock"))
	ok, err = lock.TryLock()
	if err != nil || !ok {
		return func() {}, false, err
	}
	return func() { _ = lock.Unlock() }, true, nil
}

// Held tells whether a living process holds the lock of that name.
func (l *Ledger) Held(name string) bool {
	path := filepath.Join(l.dir, name+".lock")
	if _, err := os.Stat(path); err != nil {
		return false
	}
	lock := flock.New(path)
	free, err := lock.TryRLock()
	if err != nil {
		return false
	}
	if free {
		_ = lock.Unlock()
	}
	return !free
}
