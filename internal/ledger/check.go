package ledger

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"slices"
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

// Check follows every chain from its first entry to its last, verifies the signatures in them, and
// compares the ledger with Head. It returns the number of entries, and an error that names the
// first entry that was changed, added or removed. A whole ledger has at least one entry. Entries
// cut off together with Head leave a whole, shorter ledger: whoever must know keeps the last digest
// that Check returns, or a copy that was synchronised.
func (l *Ledger) Check() (count int, last []byte, err error) {
	headSeq, headHash, headErr := readHead(l.site)
	chains := map[string]*follower{}
	err = l.links(`ORDER BY seq`, func(seq int64, e link) error {
		f := chains[e.Writer]
		if f == nil {
			f = &follower{}
			chains[e.Writer] = f
		}
		if seq != int64(count)+1 {
			return fmt.Errorf("entry %d is missing: entry %d follows entry %d", count+1, seq, count)
		}
		if err := f.next(e); err != nil {
			return l.of(e.Writer, err)
		}
		if headErr == nil && seq == headSeq && !bytes.Equal(f.hash, headHash) {
			return &CutError{Has: seq, Had: headSeq, Replaced: true}
		}
		count, last = count+1, f.hash
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
	for _, writer := range slices.Sorted(maps.Keys(chains)) {
		if writer != l.by.ID() && !chains[writer].signed {
			return count, last, l.of(writer, errors.New("its last entries are not signed"))
		}
	}
	return count, last, l.guarded()
}

// of says in whose chain something is wrong, where it is not the own one.
func (l *Ledger) of(writer string, err error) error {
	if name := l.nameOf(writer); name != "" {
		return fmt.Errorf("in the chain of %s: %w", name, err)
	}
	return err
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

// Recorded is an entry in the chain of its writer, as it is exported.
type Recorded struct {
	Seq int64 `json:"seq"`
	link
}

// Recorded returns entries of a chain after number after, most at the most.
func (l *Ledger) Recorded(writer string, after int64, most int) (out []Recorded, err error) {
	err = l.links(`WHERE writer = ? AND n > ? ORDER BY n LIMIT ?`, func(seq int64, e link) error {
		out = append(out, Recorded{seq, e})
		return nil
	}, writer, after, most)
	return out, err
}

// Export writes all entries, in the order of their arrival, as JSON, one on a line, with "hash",
// the SHA-256 of each in hexadecimal: who has them can follow the chains without this program.
func (l *Ledger) Export(w io.Writer) (count int, err error) {
	out := json.NewEncoder(w)
	out.SetEscapeHTML(false)
	err = l.links(`ORDER BY seq`, func(seq int64, e link) error {
		count++
		return out.Encode(Recorded{seq, e})
	})
	return count, err
}
