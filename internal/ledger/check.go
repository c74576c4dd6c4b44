package ledger

import (
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"time"
)

// The head is one line of a fixed length, "0000000000000012 " and 64 hexadecimal digits,
// written in its place: so short a write is never torn.
const headForm = "%016d %064x\n"

func writeHead(site string, seq int64, hash []byte) error {
	f, err := os.OpenFile(filepath.Join(site, Head), os.O_WRONLY|os.O_CREATE, 0o600)
	if err != nil {
		return err
	}
	_, err = fmt.Fprintf(f, headForm, seq, hash)
	return errors.Join(err, f.Close())
}

func readHead(site string) (seq int64, hash []byte, err error) {
	raw, err := os.ReadFile(filepath.Join(site, Head))
	if err != nil {
		return 0, nil, err
	}
	_, err = fmt.Sscanf(string(raw), headForm, &seq, &hash)
	return seq, hash, err
}

// cut compares the ledger with Head; a CutError: entries are missing, or are others. Head is read
// first: it is never ahead of the entries.
func (l *Ledger) cut() error {
	headSeq, headHash, err := readHead(l.site)
	if err != nil || headSeq == 0 {
		return nil // Check reports it
	}
	var has int64
	var hash []byte
	err = l.entries.QueryRow(`SELECT ifnull(max(seq), 0),
		ifnull((SELECT hash FROM entries WHERE seq = ?), '') FROM entries`, headSeq).Scan(&has, &hash)
	switch {
	case err != nil:
		return nil // the next question fails as well, and says so
	case has < headSeq:
		return &CutError{Has: has, Had: headSeq}
	case string(hash) != string(headHash):
		return &CutError{Has: has, Had: headSeq, Replaced: true}
	}
	return nil
}

// Check follows the chain from the first entry to the last, and compares it with Head. It
// returns the number of entries, and an error that names the first entry that was changed,
// added or removed. A whole ledger has at least one entry. Entries cut off together with Head
// leave a whole, shorter chain: whoever must know keeps the last hash that Check returns.
func (l *Ledger) Check() (count int, last []byte, err error) {
	headSeq, headHash, headErr := readHead(l.site)
	err = l.each(func(e Entry, at string, hash []byte) error {
		switch {
		case e.Seq != int64(count)+1:
			return fmt.Errorf("entry %d is missing: entry %d follows entry %d", count+1, e.Seq,
				count)
		case string(chain(last, e.Seq, at, string(e.Kind), e.Job, e.Device,
			string(e.Body))) != string(hash):
			return fmt.Errorf("entry %d (%s of %s) was changed", e.Seq, e.Kind, at)
		case headErr == nil && e.Seq == headSeq && string(hash) != string(headHash):
			return &CutError{Has: e.Seq, Had: headSeq, Replaced: true}
		}
		count, last = count+1, hash
		return nil
	})
	switch {
	case err != nil:
		return count, last, err
	case headErr == nil && int64(count) < headSeq:
		return count, last, &CutError{Has: int64(count), Had: headSeq}
	case count == 0:
		return 0, nil, errors.New("it has no entries: the first one is missing")
	case headErr != nil:
		return count, last, fmt.Errorf("%s, which records its length, cannot be read: %w", Head,
			headErr)
	}
	return count, last, l.guarded()
}

// guarded tells whether the triggers that keep entries from being changed are there.
func (l *Ledger) guarded() error {
	var n int
	err := l.entries.QueryRow(
		`SELECT count(*) FROM sqlite_master WHERE type = 'trigger' AND tbl_name = 'entries'
		AND (name = 'entries_stay' AND sql LIKE '%BEFORE UPDATE%RAISE(ABORT%'
		OR name = 'entries_remain' AND sql LIKE '%BEFORE DELETE%RAISE(ABORT%')`).Scan(&n)
	if err != nil {
		return fmt.Errorf("%s cannot be read: %w", l.path(), err)
	}
	if n != 2 {
		return errors.New("the protection of its entries was removed")
	}
	return nil
}

// each goes through all entries in their order.
func (l *Ledger) each(do func(e Entry, at string, hash []byte) error) error {
	rows, err := l.entries.Query(
		`SELECT seq, at, kind, job, device, body, hash FROM entries ORDER BY seq`)
	if err != nil {
		return fmt.Errorf("%s cannot be read: %w", l.path(), err)
	}
	defer func() { _ = rows.Close() }()
	for rows.Next() {
		var e Entry
		var at, body string
		var hash []byte
		if err := rows.Scan(&e.Seq, &at, &e.Kind, &e.Job, &e.Device, &body, &hash); err != nil {
			return fmt.Errorf("%s cannot be read: %w", l.path(), err)
		}
		e.Body = json.RawMessage(body)
		if err := do(e, at, hash); err != nil {
			return err
		}
	}
	if err := rows.Err(); err != nil {
		return fmt.Errorf("%s cannot be read: %w", l.path(), err)
	}
	return nil
}

// Export writes all entries, oldest first, as JSON, one on a line, with "hash", the SHA-256
// of each in hexadecimal: who has them can follow the chain without this program.
func (l *Ledger) Export(w io.Writer) (count int, err error) {
	out := json.NewEncoder(w)
	out.SetEscapeHTML(false)
	err = l.each(func(e Entry, at string, hash []byte) error {
		e.At, err = time.Parse(time.RFC3339Nano, at)
		if err != nil {
			return fmt.Errorf("entry %d of the ledger has no time: %w", e.Seq, err)
		}
		count++
		return out.Encode(struct {
			Entry
			Hash string `json:"hash"`
		}{e, hex.EncodeToString(hash)})
	})
	return count, err
}
