package ledger

import (
	"bufio"
	"bytes"
	"cmp"
	"crypto/sha256"
	"database/sql"
	"encoding/binary"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"time"

	"golang.org/x/crypto/ssh"

	"catena/internal/signature"
	"catena/internal/text"
)

// link is an entry as it stands in the chain of its writer.
type link struct {
	Writer string          `json:"writer"`
	N      int64           `json:"n"`     // from 1
	Order  int64           `json:"order"` // microseconds since 1970; grows
	At     string          `json:"at"`    // RFC 3339
	Kind   Kind            `json:"kind"`
	Job    string          `json:"job,omitempty"` // WRITER/j3
	Device string          `json:"device,omitempty"`
	Body   json.RawMessage `json:"body,omitempty"`
	Hash   string          `json:"hash"`
}

// hash is the SHA-256 of the predecessor's hash and the entry's fields, each text with its length
// before it, so that no two entries read the same.
func (e link) hash(before []byte) []byte {
	h := sha256.New()
	h.Write(before)
	number := func(n int64) {
		var b [8]byte
		binary.BigEndian.PutUint64(b[:], uint64(n))
		h.Write(b[:])
	}
	number(e.N)
	number(e.Order)
	for _, f := range []string{e.Writer, e.At, string(e.Kind), e.Job, e.Device, string(e.Body)} {
		number(int64(len(f)))
		h.Write([]byte(f))
	}
	return h.Sum(nil)
}

// follower verifies the entries of one chain, one after the other.
type follower struct {
	n, order int64
	hash     []byte
	key      ssh.PublicKey // nil: the writer has none
	signed   bool          // the last entry signs all before it
}

// next verifies the entry that follows. Its errors name what is wrong with it.
func (f *follower) next(e link) error {
	first := f.n == 0
	switch hash := e.hash(f.hash); {
	case e.N != f.n+1:
		return fmt.Errorf("entry %d is missing: entry %d follows entry %d", f.n+1, e.N, f.n)
	case hex.EncodeToString(hash) != e.Hash:
		return fmt.Errorf("entry %d (%s of %s) was changed", e.N, text.Clean(string(e.Kind)),
			text.Clean(e.At))
	case e.Order <= f.order:
		return fmt.Errorf("entry %d is ordered before the one that it follows", e.N)
	case first && e.Kind != writes:
		return errors.New("its first entry does not say who wrote it")
	default:
		if e.Kind == sealed {
			if err := f.verify(e); err != nil {
				return fmt.Errorf("entry %d: %w", e.N, err)
			}
		}
		if first {
			if err := f.start(e); err != nil {
				return err
			}
		}
		f.n, f.order, f.hash, f.signed = e.N, e.Order, hash, e.Kind == sealed
		return nil
	}
}

func (f *follower) start(e link) error {
	var body writerBody
	if err := json.Unmarshal(e.Body, &body); err != nil {
		return fmt.Errorf("its first entry cannot be read: %w", err)
	}
	var err error
	if body.Key != "" {
		f.key, err = signature.Public(body.Key)
	}
	if err == nil && idOf(f.key) != e.Writer {
		err = errors.New("its key is not that of its writer")
	}
	return err
}

func (f *follower) verify(e link) error {
	var body sealBody
	if err := json.Unmarshal(e.Body, &body); err != nil {
		return err
	}
	if f.key == nil {
		return errors.New("it is signed, and its writer has no key")
	}
	return signature.Verify(bytes.NewReader(sealText(e.Writer, f.n, f.hash)), []byte(body.Signature),
		f.key, sealSpace)
}

// Chain is the chain of one writer, as far as this ledger has it.
type Chain struct {
	Writer      string // its ID
	Name        string
	Mine        bool
	N           int64     // entries
	Signed      int64     // those up to here are signed
	Last        string    // the digest of the last one, in hexadecimal
	Fingerprint string    // of the key, as OpenSSH prints it; empty: it has none
	At          time.Time // when the last entry was written, as its writer's clock said
}

// Introduced reads a chain from its first entry, and returns who has written it, by the name that
// it has last. Each entry is verified; nothing is taken.
func Introduced(r io.Reader) (c Chain, err error) {
	f := follower{}
	for lines := bufio.NewReader(r); ; {
		e, err := readLink(lines)
		if errors.Is(err, io.EOF) && f.n > 0 {
			break
		}
		if err == nil {
			err = f.next(e)
		}
		if err != nil {
			return c, err
		}
		if e.Kind == writes {
			var body writerBody
			_ = json.Unmarshal(e.Body, &body) // then it has no name
			c = Chain{Writer: e.Writer, Name: text.Name(body.Name)}
		}
	}
	if f.key == nil {
		return c, errors.New("its writer signs nothing")
	}
	c.N, c.Last, c.Fingerprint = f.n, hex.EncodeToString(f.hash), ssh.FingerprintSHA256(f.key)
	return c, nil
}

// Chains returns the chains of the ledger: the own one first, then the others in the order in which
// their writers started.
func (l *Ledger) Chains() (out []Chain, err error) {
	rows, err := l.entries.Query(`SELECT e.writer, e.body, last.n, last.hash, last.at,
			coalesce((SELECT max(n) FROM entries WHERE writer = e.writer AND kind = ?), 0)
		FROM entries e
		JOIN entries last ON last.writer = e.writer
			AND last.n = (SELECT max(n) FROM entries WHERE writer = e.writer)
		WHERE e.kind = ? AND e.n = 1 ORDER BY e.writer <> ?, e."order", e.writer`, sealed, writes,
		l.by.ID())
	if err != nil {
		return nil, l.unreadable(err)
	}
	defer func() { _ = rows.Close() }()
	for rows.Next() {
		var c Chain
		var raw, at string
		var hash []byte
		if err := rows.Scan(&c.Writer, &raw, &c.N, &hash, &at, &c.Signed); err != nil {
			return nil, l.unreadable(err)
		}
		var body writerBody
		if json.Unmarshal([]byte(raw), &body) == nil && body.Key != "" {
			if key, err := signature.Public(body.Key); err == nil {
				c.Fingerprint = ssh.FingerprintSHA256(key)
			}
		}
		c.At, _ = time.Parse(time.RFC3339Nano, at) // the zero time where it is unreadable
		c.Name, c.Mine, c.Last = l.nameOf(c.Writer), c.Writer == l.by.ID(), hex.EncodeToString(hash)
		if c.Mine {
			c.Name = l.by.Name
		}
		out = append(out, c)
	}
	return out, l.unreadable(rows.Err())
}

// DigestAt returns the digest of an entry of a chain, in hexadecimal; empty: the ledger lacks it.
func (l *Ledger) DigestAt(writer string, n int64) (string, error) {
	var hash []byte
	err := l.entries.QueryRow(`SELECT hash FROM entries WHERE writer = ? AND n = ?`, writer, n).
		Scan(&hash)
	return hex.EncodeToString(hash), l.unreadable(ignoreNone(err))
}

func ignoreNone(err error) error {
	if errors.Is(err, sql.ErrNoRows) {
		return nil
	}
	return err
}

// WriteChain writes the entries of a chain after number after, up to number to, as JSON, one on a
// line: the form that Take reads. It returns the number of the last one.
func (l *Ledger) WriteChain(w io.Writer, writer string, after, to int64) (last int64, err error) {
	out := json.NewEncoder(w)
	out.SetEscapeHTML(false)
	last = after
	err = l.links(`WHERE writer = ? AND n > ? AND n <= ? ORDER BY n`, func(_ int64, e link) error {
		last = e.N
		return out.Encode(e)
	}, writer, after, to)
	return last, err
}

// links goes through the entries that a question chooses.
func (l *Ledger) links(which string, do func(seq int64, e link) error, args ...any) error {
	rows, err := l.entries.Query(`SELECT seq, writer, n, "order", at, kind, job, device, body, hash
		FROM entries `+which, args...)
	if err != nil {
		return l.unreadable(err)
	}
	defer func() { _ = rows.Close() }()
	for rows.Next() {
		var seq int64
		var e link
		var body string
		var hash []byte
		if err := rows.Scan(&seq, &e.Writer, &e.N, &e.Order, &e.At, &e.Kind, &e.Job, &e.Device, &body,
			&hash); err != nil {
			return l.unreadable(err)
		}
		e.Body, e.Hash = json.RawMessage(body), hex.EncodeToString(hash)
		if err := do(seq, e); err != nil {
			return err
		}
	}
	return l.unreadable(rows.Err())
}

// maxLine is the longest line of a chain that is read, in bytes: an order of ten thousand devices.
const maxLine = 32 << 20

// ForkError is returned by Take for entries that do not follow what the ledger has of their chain:
// the writer has continued two copies of one ledger.
type ForkError struct {
	Writer string // its name
	N      int64  // the first entry that differs
}

func (e *ForkError) Error() string {
	return fmt.Sprintf("there are two different entries %d of %s: a copy of the site folder was "+
		"continued beside it", e.N, e.Writer)
}

// ErrUnsigned is returned by Take for entries that do not end with the signature of their writer.
var ErrUnsigned = errors.New("its writer has not signed its last entries")

// Take appends entries of a chain, as WriteChain writes them, all or none. They must follow what
// the ledger has of it and end with the writer's signature. Entries that are there already are
// skipped. A ledger that is an older copy gets the lost end of its own chain in the same way. It
// returns how many it took; its errors are a ForkError, ErrUnsigned, and others that say what is
// wrong with the entries.
func (l *Ledger) Take(writer string, r io.Reader) (taken int, err error) {
	if writer == idOf(nil) {
		return 0, errors.New("its writer signs nothing")
	}
	if l.readOnly != nil {
		return 0, l.failed(l.readOnly)
	}
	tx, err := l.entries.Begin()
	if err != nil {
		return 0, l.failed(err)
	}
	defer func() { _ = tx.Rollback() }() // says nothing after a commit
	f, err := l.follow(tx, writer)
	if err != nil {
		return 0, err
	}
	lines := bufio.NewReader(r)
	for {
		e, err := readLink(lines)
		if errors.Is(err, io.EOF) {
			break
		}
		if err == nil {
			err = l.take(tx, f, writer, e, &taken)
		}
		if err != nil {
			return 0, err
		}
	}
	if taken == 0 {
		return 0, nil
	}
	if !f.signed {
		return 0, ErrUnsigned
	}
	if err := tx.Commit(); err != nil {
		return 0, l.failed(err)
	}
	return taken, errors.Join(l.failed(l.keepHead()), l.readNames())
}

func (l *Ledger) take(tx *sql.Tx, f *follower, writer string, e link, taken *int) error {
	if e.Writer != writer {
		return errors.New("it has entries of another writer")
	}
	if e.N <= f.n {
		var have []byte
		err := tx.QueryRow(`SELECT hash FROM entries WHERE writer = ? AND n = ?`, writer, e.N).Scan(&have)
		if err == nil && hex.EncodeToString(have) != e.Hash {
			err = &ForkError{cmp.Or(l.nameOf(writer), l.by.Name), e.N}
		}
		return err
	}
	if err := f.next(e); err != nil {
		return err
	}
	if _, err := time.Parse(time.RFC3339Nano, e.At); err != nil {
		return fmt.Errorf("entry %d has no time", e.N)
	}
	var compact bytes.Buffer
	if err := json.Compact(&compact, e.Body); len(e.Body) > 0 && (err != nil ||
		!bytes.Equal(compact.Bytes(), e.Body)) {
		return fmt.Errorf("entry %d is not as Catena writes it", e.N) // it could not be passed on
	}
	*taken++
	return insert(tx, e, f.hash)
}

// follow returns the follower of a chain at the end of what the ledger has of it.
func (l *Ledger) follow(tx *sql.Tx, writer string) (*follower, error) {
	f := &follower{}
	err := tx.QueryRow(`SELECT n, "order", hash FROM entries WHERE writer = ? ORDER BY n DESC LIMIT 1`,
		writer).Scan(&f.n, &f.order, &f.hash)
	if err != nil {
		return f, l.unreadable(ignoreNone(err))
	}
	var body string
	err = tx.QueryRow(`SELECT body FROM entries WHERE writer = ? AND n = 1`, writer).Scan(&body)
	if err == nil {
		err = f.start(link{Writer: writer, Body: json.RawMessage(body)})
	}
	return f, l.unreadable(err)
}

func readLink(lines *bufio.Reader) (e link, err error) {
	var line []byte
	for {
		part, more, err := lines.ReadLine()
		if err != nil {
			return e, err
		}
		if line = append(line, part...); len(line) > maxLine {
			return e, fmt.Errorf("it has a line of more than %d bytes", maxLine)
		}
		if !more {
			break
		}
	}
	if err := json.Unmarshal(line, &e); err != nil {
		return e, fmt.Errorf("it has a line that is not an entry: %w", err)
	}
	return e, nil
}
