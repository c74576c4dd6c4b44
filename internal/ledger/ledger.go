// Package ledger is the durable record of all that was seen and done at a site.
//
// Its central type is Ledger: a SQLite file to which entries are appended and
// from which none is ever changed or removed. What stands in it is on the disk when Append
// returns; every state that others show (the devices known, how far a job is) is derived from
// the entries.
//
// Several laptops may write the history of one site. Each has a chain, in which each entry carries
// the SHA-256 of itself and its predecessor, so that a change to any of them shows, and the
// writer's signature from time to time. A ledger has the chain of its own writer and those that it
// took from others (Take). All entries have one order, the same wherever the same chains are: the
// time at which they were written, or right after the newest entry that their writer had, whichever
// is later; if that is equal, the writer's ID decides. For example, bea's clock is two hours slow:
//
//	anna  10:00  a scan finds cam-11
//	bea          takes anna's entries, and names cam-11 at 08:05
//
// bea's entry is ordered right after anna's, at 10:00 and a microsecond, so the name counts.
//
// Beside the entries, in its own file, lies the passing progress of transfers, which is
// neither chained nor durable; it must not share a file with them, since a commit that does
// not wait for the disk would let the entries' log be reused before they are safe. Locks tell
// a living job from a dead one. Outside the ledger's folder, Head holds the number and the
// digest of the last entry, so that a ledger that was cut, replaced or removed shows.
package ledger

import (
	"cmp"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"modernc.org/sqlite"
	sqlite3 "modernc.org/sqlite/lib"
)

// Folder is the name of the ledger's folder within a site folder.
const Folder = ".catena"

// Head is the name of the file beside the folder that says how far the ledger goes.
const Head = ".catena-head"

const (
	file         = "ledger.db"
	progressFile = "progress.db"
)

// Kind says what an entry records. Kinds and bodies belong to those who append them; the
// ledger does not read either.
type Kind string

// Entry is one line of the record.
type Entry struct {
	Seq  int64     `json:"seq"` // counts the entries of this ledger in the order of their arrival
	At   time.Time `json:"at"`
	Kind Kind      `json:"kind"`
	Job  string    `json:"job,omitempty"` // of another writer: NAME/j3
	// Device is its ID; where two were found to be one, the one that stands for both. The entries of a
	// job that were asked for by its name have the IDs of its order.
	Device string          `json:"device,omitempty"`
	Body   json.RawMessage `json:"body,omitempty"`
	Writer string          `json:"writer,omitempty"` // the name of the other writer; empty: this one

	order  int64  // of all writers: microseconds since 1970, grows within a chain
	writer string // the ID of its writer
	n      int64  // its number in the chain of its writer
}

// Before reports whether an entry comes before another one in the order of all writers.
func (e Entry) Before(o Entry) bool { return e.compare(o) < 0 }

func (e Entry) compare(o Entry) int {
	return cmp.Or(cmp.Compare(e.order, o.order), strings.Compare(e.writer, o.writer))
}

// Ref identifies an entry in all ledgers that have it: the ID of its writer and its number there.
func (e Entry) Ref() string { return fmt.Sprintf("%s/%d", e.writer, e.n) }

// String names an entry: entry 12, or entry 12 of anna.
func (e Entry) String() string {
	if e.Writer != "" {
		return fmt.Sprintf("entry %d of %s", e.n, e.Writer)
	}
	return fmt.Sprintf("entry %d", e.Seq)
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
		return fmt.Sprintf("%s was made by an earlier Catena, in format %d; this one reads format %d "+
			"only, and has changed nothing", e.Path, e.Found, e.Known)
	}
	return fmt.Sprintf("%s was made by a later Catena, in format %d; this one reads format %d",
		e.Path, e.Found, e.Known)
}

// ErrNone is returned by Open when there is no ledger in the folder, and never was.
var ErrNone = errors.New("no ledger here")

// LostError is returned by Open where there was a ledger and there is none any more.
type LostError struct {
	Path string
	Head string // the file that tells of it
	Seq  int64  // how many entries it had
}

func (e *LostError) Error() string {
	return fmt.Sprintf("the ledger %s is gone; it had %d entries", e.Path, e.Seq)
}

// CutError is the reason why a ledger can only be read: it lacks entries that Head records, usually
// because its log (-wal) was not copied with it. Entries appended now would take their numbers.
type CutError struct {
	Has, Had int64 // entries in the ledger, and as Head records
	Replaced bool  // it has as many, but not the same
}

func (e *CutError) Error() string {
	if e.Replaced {
		return fmt.Sprintf("entry %d differs from the record in %s: the ledger was replaced", e.Had, Head)
	}
	return fmt.Sprintf("it ends at entry %d, and %s records %d: the end was cut off", e.Has, Head,
		e.Had)
}

// Ledger is an open ledger. It may be used by several goroutines, and several
// processes may have the same one open.
type Ledger struct {
	site     string  // the site folder
	dir      string  // the ledger's folder
	entries  *sql.DB // one connection: every commit waits for the disk
	passing  *sql.DB // one connection: commits do not wait; nil: progress cannot be kept
	now      func() time.Time
	by       Writer
	readOnly error  // why it can only be read; nil: it can be written
	copied   string // the folder of a copy that is read in its place; empty: none
	// intercept is called with the entries of each append; nil: there is none
	intercept func([]Entry) error

	mu       sync.Mutex
	reserve  string               // the path of the file that takes space; empty: there is none
	short    bool                 // the reserve had to be freed
	prepared map[string]*sql.Stmt // questions that were asked before
	names    map[string]string    // of the other writers, by ID
	aliases  map[string]string    // of devices: the ID that stands for another one
}

// Create makes an empty ledger in the site folder dir, or opens the one there.
func Create(dir string, now func() time.Time, by Writer) (*Ledger, error) {
	if err := os.MkdirAll(filepath.Join(dir, Folder), 0o700); err != nil {
		return nil, err
	}
	l, err := open(dir, now, by)
	if err != nil {
		return nil, err
	}
	if err = onlyOurs(l.entries, l.path(), schema); err == nil {
		_, err = l.entries.Exec(create(schema) + number)
	}
	if err != nil {
		_ = l.Close()
		return nil, fmt.Errorf("%s: %w", l.path(), err)
	}
	return l, l.readNames()
}

// Open opens the ledger of the site folder dir. It returns ErrNone when there is none and
// never was, a LostError when it is gone, a FormatError for one of another format, a ForeignError
// for one that holds what Catena does not make, and an error when the file is damaged. One that
// cannot be written, because its disk is read-only or full, or must not be, because entries are
// missing at its end (CutError), is opened for reading: see ReadOnly.
func Open(dir string, now func() time.Time, by Writer) (*Ledger, error) {
	path := filepath.Join(dir, Folder, file)
	if info, err := os.Stat(path); errors.Is(err, os.ErrNotExist) || err == nil &&
		info.Size() == 0 {
		if seq, _, err := readHead(dir); err == nil {
			return nil, &LostError{Path: path, Head: filepath.Join(dir, Head), Seq: seq}
		}
		if err != nil {
			return nil, ErrNone
		}
	} else if err != nil {
		return nil, err
	}
	if f, err := os.Open(path); err == nil {
		_ = f.Close()
	} else if errors.Is(err, os.ErrPermission) { // SQLite would not say so
		return nil, err
	}
	l, err := open(dir, now, by)
	if err != nil {
		return nil, err
	}
	found, err := l.format()
	if foreign := (*ForeignError)(nil); errors.As(err, &foreign) {
		_ = l.Close()
		return nil, err
	}
	if err != nil {
		readable, readErr := l.forReading(err)
		if readErr != nil {
			_ = l.Close()
			return nil, fmt.Errorf("%s cannot be read: %w", path, err)
		}
		l = readable
		if found, err = l.format(); err != nil {
			_ = l.Close()
			return nil, fmt.Errorf("%s cannot be read: %w", path, err)
		}
	}
	switch found {
	case format:
		if err := l.cut(); err != nil && l.readOnly == nil {
			l.readOnly = err
		}
		return l, l.readNames()
	case 0: // a process was killed while it made the ledger
		if _, err := l.entries.Exec(create(schema) + number); err != nil {
			_ = l.Close()
			return nil, fmt.Errorf("%s: %w", path, err)
		}
		return l, nil
	}
	_ = l.Close()
	return nil, &FormatError{Path: path, Found: found, Known: format}
}

func (l *Ledger) format() (found int, err error) {
	err = l.entries.QueryRow(`PRAGMA user_version`).Scan(&found)
	if err == nil && (found == format || found == 0) {
		err = onlyOurs(l.entries, l.path(), schema)
	}
	if err == nil && found == format { // the version stands in the file's head; this reads on
		var n int
		err = l.entries.QueryRow(`SELECT count(*) FROM (SELECT 1 FROM entries LIMIT 1)`).Scan(&n)
	}
	return found, err
}

func open(dir string, now func() time.Time, by Writer) (*Ledger, error) {
	l := &Ledger{site: dir, dir: filepath.Join(dir, Folder), now: now, by: by}
	var err error
	l.entries, err = connect(l.path(), "FULL")
	if err != nil {
		return nil, err
	}
	l.passing, err = connect(filepath.Join(l.dir, progressFile), "OFF")
	if err == nil {
		err = onlyOurs(l.passing, progressFile, progressSchema)
	}
	if err == nil {
		_, err = l.passing.Exec(create(progressSchema))
	}
	if err != nil { // it passes anyway
		_ = l.passing.Close()
		l.passing = nil
	}
	return l, nil
}

// forReading opens the ledger where its folder cannot be written to: SQLite needs files
// beside it even to read. Without a log (-wal) the file is whole and is read as it is; with
// one, both are copied to where there is room, and the copy is read.
func (l *Ledger) forReading(why error) (*Ledger, error) {
	_ = l.Close()
	r := &Ledger{site: l.site, dir: l.dir, now: l.now, by: l.by, readOnly: why}
	path := l.path()
	if info, err := os.Stat(path + "-wal"); err == nil && info.Size() > 0 {
		dir, err := os.MkdirTemp("", "catena-ledger-")
		if err != nil {
			return nil, err
		}
		r.copied = dir
		path = filepath.Join(dir, file)
		for _, suffix := range []string{"", "-wal"} {
			if err := copyFile(path+suffix, l.path()+suffix); err != nil {
				_ = os.RemoveAll(dir)
				return nil, err
			}
		}
		r.entries, err = connect(path, "OFF")
		return r, err
	}
	abs, err := filepath.Abs(path)
	if err != nil {
		return nil, err
	}
	dsn := url.URL{Scheme: "file", Path: filepath.ToSlash(abs), RawQuery: "mode=ro&immutable=1"}
	r.entries, err = sql.Open("sqlite", dsn.String())
	return r, err
}

func copyFile(to, from string) error {
	in, err := os.Open(from)
	if err != nil {
		return err
	}
	defer func() { _ = in.Close() }()
	out, err := os.OpenFile(to, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	_, err = io.Copy(out, in)
	return errors.Join(err, out.Close())
}

// ReadOnly is why the ledger can only be read; nil: it can be written.
func (l *Ledger) ReadOnly() error { return l.readOnly }

func connect(path, synchronous string) (*sql.DB, error) {
	abs, err := filepath.Abs(path)
	if err != nil {
		return nil, err
	}
	// Ten seconds: the longest that another process may keep the file.
	query := url.Values{"_txlock": {"immediate"}, "_pragma": {"busy_timeout(10000)",
		"trusted_schema(0)", "journal_mode(WAL)", "synchronous(" + synchronous + ")"}}
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
func (l *Ledger) Close() error {
	err := l.entries.Close()
	if l.passing != nil {
		err = errors.Join(err, l.passing.Close())
	}
	if l.copied != "" {
		err = errors.Join(err, os.RemoveAll(l.copied))
	}
	return err
}

// Append adds one entry and returns when it is on the disk. The body is written as JSON;
// job and device may be empty.
func (l *Ledger) Append(kind Kind, job, device string, body any) error {
	return l.Extend(nil, func([]Entry) ([]Entry, error) {
		e, err := NewEntry(kind, job, device, body)
		return []Entry{e}, err
	})
}

// Intercept has f called with the entries of each append before they are written; its error fails
// the append. Tests use it to crash between any two writes.
func (l *Ledger) Intercept(f func([]Entry) error) { l.intercept = f }

// NewEntry is an entry to append; Seq and At are the ledger's to set.
func NewEntry(kind Kind, job, device string, body any) (Entry, error) {
	raw, err := json.Marshal(body)
	return Entry{Kind: kind, Job: job, Device: device, Body: raw}, err
}

// Extend appends what extend makes of the entries that f chooses, all in one commit that
// no one else's comes between. f may be nil: then extend gets none. It returns when the
// entries are on the disk; an error of extend appends nothing.
func (l *Ledger) Extend(f *Filter, extend func(chosen []Entry) ([]Entry, error)) error {
	err := l.extend(f, extend)
	if l.freed(err) {
		err = l.extend(f, extend) // nothing was written
	}
	return err
}

func (l *Ledger) extend(f *Filter, extend func(chosen []Entry) ([]Entry, error)) error {
	if l.readOnly != nil {
		return l.failed(l.readOnly)
	}
	tx, err := l.entries.Begin()
	if err != nil {
		return l.failed(err)
	}
	defer func() { _ = tx.Rollback() }() // says nothing after a commit
	var chosen []Entry
	if f != nil {
		question, args := l.query(*f)
		rows, err := tx.Query(question, args...)
		if err == nil {
			chosen, err = l.collect(rows, *f)
		}
		if err != nil {
			return l.failed(err)
		}
	}
	added, err := extend(chosen)
	if err != nil {
		return err
	}
	if len(added) == 0 {
		return nil
	}
	if l.intercept != nil {
		if err := l.intercept(added); err != nil {
			return l.failed(err)
		}
	}
	if err := l.appendIn(tx, added); err != nil {
		return l.failed(err)
	}
	if err := tx.Commit(); err != nil {
		return l.failed(err)
	}
	if slices.ContainsFunc(added, func(e Entry) bool { return e.Kind == Alias }) {
		err = l.readAliases()
	}
	return errors.Join(err, l.failed(l.keepHead()))
}

// keepHead writes the head after a commit: a crash in between leaves one that is behind, which is
// not a fault; one that is ahead would be. It keeps other processes from committing until it ends,
// so that none writes an older head over a newer one. Where it does not get that far, the one that
// keeps it from it writes the head.
func (l *Ledger) keepHead() error {
	tx, err := l.entries.Begin()
	if err != nil {
		return nil
	}
	defer func() { _ = tx.Rollback() }() // it only reads
	seq, hash, err := last(tx)
	if err != nil {
		return err
	}
	return writeHead(l.site, seq, hash)
}

// last is the number and the digest of the entry that arrived last; zero: there is none.
func last(tx *sql.Tx) (seq int64, hash []byte, err error) {
	err = tx.QueryRow(`SELECT seq, hash FROM entries ORDER BY seq DESC LIMIT 1`).Scan(&seq, &hash)
	if errors.Is(err, sql.ErrNoRows) {
		err = nil
	}
	return seq, hash, err
}

// appendIn appends entries to the chain of this writer. The first one of a chain says whose it is.
func (l *Ledger) appendIn(tx *sql.Tx, added []Entry) error {
	var n, order int64
	var hash []byte
	err := tx.QueryRow(`SELECT n, hash FROM entries WHERE writer = ? ORDER BY n DESC LIMIT 1`,
		l.by.ID()).Scan(&n, &hash)
	if errors.Is(err, sql.ErrNoRows) {
		err = nil
		first, failed := l.by.first()
		if failed != nil {
			return failed
		}
		added = slices.Concat([]Entry{first}, added)
	}
	if err == nil {
		err = tx.QueryRow(`SELECT coalesce(max("order"), 0) FROM entries`).Scan(&order)
	}
	now := l.now().UTC()
	for i := 0; err == nil && i < len(added); i++ {
		e := link{Writer: l.by.ID(), N: n + 1, Order: max(now.UnixMicro(), order+1),
			At: now.Format(time.RFC3339Nano), Kind: added[i].Kind, Job: l.stored(added[i].Job),
			Device: added[i].Device, Body: added[i].Body}
		hash = e.hash(hash)
		n, order = e.N, e.Order
		err = insert(tx, e, hash)
	}
	return err
}

func insert(tx *sql.Tx, e link, hash []byte) error {
	_, err := tx.Exec(`INSERT INTO entries (writer, n, "order", at, kind, job, device, body, hash)
		VALUES (?,?,?,?,?,?,?,?,?)`, e.Writer, e.N, e.Order, e.At, e.Kind, e.Job, e.Device,
		string(e.Body), hash)
	return err
}

func (l *Ledger) failed(err error) error {
	if err == nil {
		return nil
	}
	if code := (*sqlite.Error)(nil); errors.As(err, &code) {
		switch code.Code() & 0xff {
		case sqlite3.SQLITE_FULL:
			err = ErrFull
		case sqlite3.SQLITE_BUSY:
			err = ErrInUse
		}
	}
	return fmt.Errorf("the ledger %s cannot be written: %w", l.path(), err)
}

// ErrFull is returned by Append and Extend where there is no room for an entry. What stands in
// the ledger is whole.
var ErrFull = errors.New("the disk is full")

// ErrInUse is returned by Append and Extend where another program keeps the ledger to itself for
// too long.
var ErrInUse = errors.New("another program has locked it")

// Filter chooses entries; a zero field chooses all.
type Filter struct {
	Kind        Kind
	Job, Device string
	After       int64 // only entries that arrived after the one of this number
	Last        int   // how many of the newest; the order stays oldest first
	Newest      bool  // only the newest of each device, of those of this kind
	Mine        bool  // only those of this writer
	Theirs      bool  // only those of other writers
}

// newestOfEach are the numbers of the newest entry of a kind of each device. It leaps from one
// device to the next in the index: what it costs depends on the devices, not on the entries.
const newestOfEach = `(
	WITH RECURSIVE each(device) AS (
		SELECT min(device) FROM entries
		UNION ALL SELECT (SELECT min(device) FROM entries WHERE device > each.device) FROM each WHERE device IS NOT NULL)
	SELECT (SELECT seq FROM entries WHERE device = each.device AND kind = ? ORDER BY "order" DESC, writer DESC LIMIT 1)
		FROM each WHERE device IS NOT NULL)`

// Entries returns the chosen entries, oldest first.
func (l *Ledger) Entries(f Filter) ([]Entry, error) {
	question, args := l.query(f)
	var out []Entry
	statement, err := l.prepare(question)
	if err == nil {
		var rows *sql.Rows
		if rows, err = statement.Query(args...); err == nil {
			out, err = l.collect(rows, f)
		}
	}
	return out, l.unreadable(err)
}

func (l *Ledger) unreadable(err error) error {
	if err == nil {
		return nil
	}
	return fmt.Errorf("the ledger %s cannot be read: %w", l.path(), err)
}

// Last returns the number of the newest entry; 0: there is none. It costs little: whoever waits for
// news asks this first.
func (l *Ledger) Last() (seq int64, err error) {
	statement, err := l.prepare(`SELECT coalesce(max(seq), 0) FROM entries`)
	if err == nil {
		err = statement.QueryRow().Scan(&seq)
	}
	return seq, l.unreadable(err)
}

// prepare returns the statement of a question. A running job asks a few questions again and again,
// and parsing them takes longer than answering them.
func (l *Ledger) prepare(question string) (*sql.Stmt, error) {
	l.mu.Lock()
	s := l.prepared[question]
	l.mu.Unlock()
	if s != nil {
		return s, nil
	}
	s, err := l.entries.Prepare(question) // unlocked: who has the connection may need the lock
	if err != nil {
		return nil, err
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	if other := l.prepared[question]; other != nil { // it was asked twice at the same time
		return other, s.Close()
	}
	if l.prepared == nil {
		l.prepared = map[string]*sql.Stmt{}
	}
	l.prepared[question] = s
	return s, nil
}

// query returns the question of a filter. Only the conditions that are there stand in it, so that
// its index is used: a list must not cost more with every entry of the past.
//
// The entries of a job are looked up in the order of their arrival, since whoever follows a job
// asks for the newest again and again; collect puts them into the order of all writers.
func (l *Ledger) query(f Filter) (question string, args []any) {
	limit := f.Last
	where, args := "seq > ?", []any{f.After}
	if f.After <= 0 { // then nothing must keep the index of the order from being used
		where, args = "TRUE", nil
	}
	mine := ""
	if f.Mine {
		mine = l.by.ID()
	}
	for _, c := range []struct{ column, is string }{
		{"kind", string(f.Kind)}, {"job", l.stored(f.Job)}, {"writer", mine},
	} {
		if c.is != "" {
			where, args = where+" AND "+c.column+" = ?", append(args, c.is)
		}
	}
	if f.Device != "" {
		all := l.aliasesOf(f.Device)
		where += " AND device IN (?" + strings.Repeat(",?", len(all)-1) + ")"
		for _, id := range all {
			args = append(args, id)
		}
	}
	if f.Theirs {
		where, args = where+" AND writer <> ?", append(args, l.by.ID())
	}
	if f.Newest && f.Device == "" {
		where, args = where+" AND seq IN "+newestOfEach, append(args, f.Kind)
	}
	if f.Newest && f.Device != "" {
		limit = 1
	}
	by := `"order" %[1]s, writer %[1]s`
	if f.Job != "" || f.After > 0 {
		by = `seq %[1]s`
	}
	question = `SELECT seq, at, kind, job, device, body, "order", writer, n FROM entries WHERE ` + where +
		` ORDER BY ` + by
	if limit <= 0 {
		return fmt.Sprintf(question, "ASC"), args
	}
	return fmt.Sprintf(question+` LIMIT %[2]d`, "DESC", limit), args
}

func (l *Ledger) collect(rows *sql.Rows, f Filter) ([]Entry, error) {
	defer func() { _ = rows.Close() }()
	var out []Entry
	for rows.Next() {
		var e Entry
		var at, body string
		if err := rows.Scan(&e.Seq, &at, &e.Kind, &e.Job, &e.Device, &body, &e.order, &e.writer,
			&e.n); err != nil {
			return nil, err
		}
		e.Job, e.Writer, e.Body = l.shown(e.Job), l.nameOf(e.writer), json.RawMessage(body)
		if f.Job == "" { // a job has the IDs of its order
			e.Device = l.Canonical(e.Device)
		}
		when, err := time.Parse(time.RFC3339Nano, at)
		if err != nil {
			return nil, fmt.Errorf("%s of the ledger has no time: %w", e, err)
		}
		e.At = when
		out = append(out, e)
	}
	slices.SortFunc(out, Entry.compare)
	if f.Newest {
		out = l.newestOfAliases(out)
	}
	return out, rows.Err()
}
