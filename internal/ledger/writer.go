package ledger

import (
	"bytes"
	"cmp"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base32"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"os/user"
	"path/filepath"
	"slices"
	"strings"

	"golang.org/x/crypto/ssh"

	"catena/internal/atomicfile"
	"catena/internal/files"
	"catena/internal/signature"
	"catena/internal/text"
)

// Kinds that the ledger writes and reads itself.
const (
	writes Kind = "writer" // the first entry of each chain, and a new name; the body is a writerBody
	sealed Kind = "sealed" // the body is a sealBody: the signature of all entries of the chain before
)

// Alias says that two laptops call one device differently; the device is the ID that is
// not used any more, the body an aliasBody.
const Alias Kind = "same-device"

type aliasBody struct {
	Of string `json:"of"` // the ID that stands for both
}

// AliasOf is the entry which says that the device id is the one that is called of.
func AliasOf(id, of string) (Entry, error) { return NewEntry(Alias, "", id, aliasBody{of}) }

// Canonical returns the ID that stands for a device: its own, unless it was found to be another
// one.
func (l *Ledger) Canonical(id string) string {
	l.mu.Lock()
	defer l.mu.Unlock()
	for range len(l.aliases) { // no circle is followed for ever
		of, is := l.aliases[id]
		if !is {
			break
		}
		id = of
	}
	return id
}

// aliasesOf are all IDs of a device.
func (l *Ledger) aliasesOf(id string) []string {
	id = l.Canonical(id)
	out := []string{id}
	l.mu.Lock()
	all := slices.Collect(maps.Keys(l.aliases))
	l.mu.Unlock()
	for _, other := range all {
		if other != id && l.Canonical(other) == id {
			out = append(out, other)
		}
	}
	return out
}

// newestOfAliases keeps the newest entry of each device, among those of all of its IDs.
func (l *Ledger) newestOfAliases(sorted []Entry) []Entry {
	l.mu.Lock()
	none := len(l.aliases) == 0
	l.mu.Unlock()
	if none {
		return sorted
	}
	last := map[string]int{}
	for i, e := range sorted {
		last[e.Device] = i
	}
	out := sorted[:0]
	for i, e := range sorted {
		if last[e.Device] == i {
			out = append(out, e)
		}
	}
	return out
}

// readAliases reads which devices are the same.
func (l *Ledger) readAliases() error {
	rows, err := l.entries.Query(`SELECT device, body FROM entries WHERE kind = ?
		ORDER BY "order", writer`, Alias)
	if err != nil {
		return l.unreadable(err)
	}
	defer func() { _ = rows.Close() }()
	aliases := map[string]string{}
	for rows.Next() {
		var id, raw string
		var body aliasBody
		if err := rows.Scan(&id, &raw); err != nil {
			return l.unreadable(err)
		}
		if json.Unmarshal([]byte(raw), &body) == nil && body.Of != "" && body.Of != id {
			aliases[id] = body.Of
		}
	}
	l.mu.Lock()
	l.aliases = aliases
	l.mu.Unlock()
	return l.unreadable(rows.Err())
}

// sealSpace is the namespace of the signatures of chains.
const sealSpace = "catena-ledger"

// Writer is who appends to ledgers: a laptop or a station, in all sites. The zero Writer has no
// key: it is for ledgers that are thrown away, such as those of rehearsals.
type Writer struct {
	Name string
	key  ssh.Signer
	id   string // derived from the key
	none error  // why it cannot write; nil: it can
}

// NoWriter is who can read ledgers and not append to them, for that reason.
func NoWriter(because error) Writer { return Writer{id: "none", none: because} }

type writerBody struct {
	Name string `json:"name"`
	Key  string `json:"key,omitempty"` // one line, as in a .pub file
}

type sealBody struct {
	Signature string `json:"signature"` // SSHSIG, armored, of the text that sealText returns
}

// sealText is what a seal signs.
func sealText(writer string, n int64, hash []byte) []byte {
	return fmt.Appendf(nil, "catena ledger %s %d %x\n", writer, n, hash)
}

// idOf derives the ID of a writer from its key: 12 letters and digits.
func idOf(key ssh.PublicKey) string {
	if key == nil {
		return "local"
	}
	sum := sha256.Sum256(key.Marshal())
	return strings.ToLower(base32.StdEncoding.EncodeToString(sum[:])[:12])
}

// ID is the writer's ID: it depends on the key alone.
func (w Writer) ID() string { return cmp.Or(w.id, idOf(nil)) }

// Fingerprint is that of the writer's key, as OpenSSH prints it; empty: it has none.
func (w Writer) Fingerprint() string {
	if w.key == nil {
		return ""
	}
	return ssh.FingerprintSHA256(w.key.PublicKey())
}

// Err is why the writer cannot append; nil: it can.
func (w Writer) Err() error { return w.none }

// first is the entry that says whose a chain is.
func (w Writer) first() (Entry, error) {
	if w.none != nil {
		return Entry{}, w.none
	}
	body := writerBody{Name: w.Name}
	if w.key != nil {
		body.Key = signature.Line(w.key.PublicKey())
	}
	return NewEntry(writes, "", "", body)
}

// ReadWriter returns the writer whose key is in a file, and makes both on the first call. Its name
// is that of the user, or of the machine where the user is called as on every machine.
func ReadWriter(file string) (Writer, error) {
	raw, err := files.Read(file, files.Key)
	if errors.Is(err, fs.ErrNotExist) {
		raw, err = newKey(file)
	}
	if err != nil {
		return Writer{}, fmt.Errorf("the key by which this machine signs its records: %w", err)
	}
	key, err := ssh.ParsePrivateKey(raw)
	if err != nil {
		return Writer{}, fmt.Errorf("%s is damaged; restore it, or remove it: this machine then "+
			"writes as another one", file)
	}
	w := Writer{Name: usualName(), key: key, id: idOf(key.PublicKey())}
	if named, err := files.Read(nameFile(file), files.Key); err == nil {
		if n := text.Name(strings.TrimSpace(string(named))); n != "" {
			w.Name = n
		}
	}
	return w, nil
}

func nameFile(file string) string { return file + "-name" }

// Rename gives the writer of a key file another name, for ledgers that are opened from then on.
func Rename(file, name string) error {
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return err
	}
	return atomicfile.Transform(nameFile(file), 0o600, func([]byte) ([]byte, error) {
		return []byte(name + "\n"), nil
	})
}

func newKey(file string) (raw []byte, err error) {
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return nil, err
	}
	_, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return nil, err
	}
	block, err := ssh.MarshalPrivateKey(private, "catena")
	if err != nil {
		return nil, err
	}
	err = atomicfile.Transform(file, 0o600, func(old []byte) ([]byte, error) {
		if raw = old; old == nil { // else another process has just made it
			raw = pem.EncodeToMemory(block)
		}
		return raw, nil
	})
	return raw, err
}

func usualName() string {
	name := ""
	if u, err := user.Current(); err == nil {
		_, name, _ = strings.Cut(`\`+u.Username, `\`)
		if i := strings.LastIndex(name, `\`); i >= 0 { // DOMAIN\user
			name = name[i+1:]
		}
	}
	name = strings.ToLower(text.Name(name))
	if name == "" || name == "root" || name == "administrator" {
		host, _ := os.Hostname() // one without a name is called by its kind
		host, _, _ = strings.Cut(host, ".")
		name = strings.ToLower(text.Name(host))
	}
	if name == "" {
		name = "laptop"
	}
	return name
}

// readNames reads the names of the other writers. Where two are called the same, or one as this
// writer, the ID tells them apart: anna, anna-k3v9.
func (l *Ledger) readNames() error {
	rows, err := l.entries.Query(`SELECT writer, body FROM entries WHERE kind = ?
		ORDER BY "order", writer`, writes)
	if err != nil {
		return l.unreadable(err)
	}
	defer func() { _ = rows.Close() }()
	names, taken := map[string]string{}, map[string]string{l.by.Name: l.by.ID()}
	for rows.Next() {
		var id, raw string
		var body writerBody
		if err := rows.Scan(&id, &raw); err != nil {
			return l.unreadable(err)
		}
		if err := json.Unmarshal([]byte(raw), &body); err != nil || id == l.by.ID() {
			continue
		}
		name := text.Name(body.Name)
		if name == "" || taken[name] != "" && taken[name] != id {
			name = strings.TrimPrefix(name+"-"+id[:min(4, len(id))], "-")
		}
		names[id], taken[name] = name, id
	}
	l.mu.Lock()
	l.names = names
	l.mu.Unlock()
	if err := errors.Join(rows.Err(), rows.Close()); err != nil {
		return l.unreadable(err)
	}
	return l.readAliases()
}

// nameOf is the name of a writer by its ID; empty: it is this one.
func (l *Ledger) nameOf(id string) string {
	if id == l.by.ID() {
		return ""
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	if name := l.names[id]; name != "" {
		return name
	}
	return id
}

// stored is how a job stands in entries: WRITER/j3. shown turns it round.
func (l *Ledger) stored(job string) string {
	if job == "" {
		return ""
	}
	name, local, of := strings.Cut(job, "/")
	if !of {
		return l.by.ID() + "/" + job
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	for id, n := range l.names {
		if n == name {
			return id + "/" + local
		}
	}
	return job
}

func (l *Ledger) shown(stored string) string {
	id, local, of := strings.Cut(stored, "/")
	if !of {
		return text.Clean(stored)
	}
	return l.jobOf(id, text.Clean(local))
}

func (l *Ledger) jobOf(id, local string) string {
	if name := l.nameOf(id); name != "" {
		return name + "/" + local
	}
	return local
}

// Writer returns who appends to this ledger.
func (l *Ledger) Writer() Writer { return l.by }

// NameWriter records the name of this writer, unless its chain has it.
func (l *Ledger) NameWriter() error {
	f := Filter{Kind: writes, Mine: true, Last: 1}
	return l.Extend(&f, func(last []Entry) ([]Entry, error) {
		var body writerBody
		if len(last) == 0 || json.Unmarshal(last[0].Body, &body) == nil && body.Name == l.by.Name {
			return nil, nil
		}
		e, err := l.by.first()
		return []Entry{e}, err
	})
}

// Seal signs all that this writer has appended since its last signature. A ledger whose chain has
// no entries needs none.
func (l *Ledger) Seal() error {
	if l.by.key == nil {
		return cmp.Or(l.by.none, errors.New("this ledger has no writer with a key"))
	}
	var kind Kind
	err := l.entries.QueryRow(`SELECT kind FROM entries WHERE writer = ? ORDER BY n DESC LIMIT 1`,
		l.by.ID()).Scan(&kind)
	if err != nil || kind == sealed {
		return l.unreadable(ignoreNone(err))
	}
	tx, err := l.entries.Begin()
	if err != nil {
		return l.failed(err)
	}
	defer func() { _ = tx.Rollback() }() // says nothing after a commit
	var n int64
	var hash []byte
	err = tx.QueryRow(`SELECT n, hash FROM entries WHERE writer = ? ORDER BY n DESC LIMIT 1`,
		l.by.ID()).Scan(&n, &hash)
	if err != nil {
		return l.failed(err)
	}
	signed, err := signature.Sign(bytes.NewReader(sealText(l.by.ID(), n, hash)), l.by.key, sealSpace)
	if err != nil {
		return err
	}
	e, err := NewEntry(sealed, "", "", sealBody{string(signed)})
	if err == nil {
		err = l.appendIn(tx, []Entry{e})
	}
	if err == nil {
		err = tx.Commit()
	}
	if err == nil {
		err = l.keepHead()
	}
	return l.failed(err)
}
