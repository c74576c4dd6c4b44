package login

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"

	"filippo.io/age"

	"catena/internal/atomicfile"
	"catena/internal/files"
)

// File is the name of the file in a site folder.
const File = "logins.age"

const maxFile = 1 << 20 // bytes

// What can be wrong with a file; callers test with errors.Is.
var (
	ErrNone   = errors.New("there are no logins yet")
	ErrSecret = errors.New("the passphrase or the identity does not open it")
)

// Secret opens a file and closes it again: a passphrase, or an identity of age.
type Secret struct {
	identities []age.Identity
	recipients []age.Recipient
	keys       []string // the recipients in writing; nil: a passphrase
}

// Passphrase makes a secret of a passphrase.
func Passphrase(text string) (Secret, error) {
	i, err := age.NewScryptIdentity(text)
	if err != nil {
		return Secret{}, err
	}
	i.SetMaxWorkFactor(20)
	r, err := age.NewScryptRecipient(text)
	if err != nil {
		return Secret{}, err
	}
	r.SetWorkFactor(16) // a quarter of a second on a laptop
	return Secret{[]age.Identity{i}, []age.Recipient{r}, nil}, nil
}

// IdentityFile reads a secret from a file with an age identity (AGE-SECRET-KEY-…), for
// use without a person, or with a private SSH key (Ed25519 or RSA), for whose passphrase ask is
// asked. Others than its owner must not be able to read it.
func IdentityFile(path string, ask func() ([]byte, error)) (Secret, error) {
	info, err := os.Stat(path)
	if err != nil {
		return Secret{}, err
	}
	if err := private(info); err != nil {
		return Secret{}, fmt.Errorf("%s: %w", path, err)
	}
	f, err := os.Open(path)
	if err != nil {
		return Secret{}, err
	}
	defer func() { _ = f.Close() }()
	start := make([]byte, len(pemStart))
	if n, _ := io.ReadFull(f, start); string(start[:n]) == pemStart {
		return sshIdentity(path, ask)
	}
	if _, err := f.Seek(0, io.SeekStart); err != nil {
		return Secret{}, err
	}
	all, err := age.ParseIdentities(io.LimitReader(f, maxFile))
	if err != nil {
		return Secret{}, fmt.Errorf("%s contains no identity: %w", path, err)
	}
	var s Secret
	for _, i := range all {
		switch x := i.(type) {
		case *age.X25519Identity:
			s.add(x, x.Recipient())
		case *age.HybridIdentity:
			s.add(x, x.Recipient())
		}
	}
	if len(s.recipients) == 0 {
		return Secret{}, fmt.Errorf("%s contains no identity that can encrypt logins", path)
	}
	return s, nil
}

// pemStart is how a private SSH key starts.
const pemStart = "-----BEGIN "

func (s *Secret) add(i age.Identity, r interface {
	age.Recipient
	fmt.Stringer
}) {
	s.identities, s.recipients = append(s.identities, i), append(s.recipients, r)
	s.keys = append(s.keys, r.String())
}

// NewIdentityFile makes an identity and writes it into a new file that only its owner
// can read.
func NewIdentityFile(path string) error {
	i, err := age.GenerateX25519Identity()
	if err != nil {
		return err
	}
	f, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	_, err = fmt.Fprintf(f, "# opens the logins of a site; keep it apart from them\n# public key: "+
		"%s\n%s\n", i.Recipient(), i)
	return errors.Join(err, f.Sync(), f.Close())
}

// Exists tells whether a site folder has logins.
func Exists(dir string) bool {
	_, err := os.Stat(filepath.Join(dir, File))
	return err == nil
}

// Open reads the logins of a site folder. Its errors are ErrNone and ErrSecret, and
// what is wrong with the file.
func Open(dir string, s Secret) (Book, error) {
	path := filepath.Join(dir, File)
	data, err := files.Read(path, 2*maxFile)
	if errors.Is(err, os.ErrNotExist) {
		return Book{}, ErrNone
	}
	if err != nil {
		return Book{}, err
	}
	return s.open(path, data)
}

func (s Secret) open(path string, data []byte) (Book, error) {
	b, _, err := s.openBoth(path, data)
	return b, err
}

// read decrypts the logins.
func (s Secret) read(path string, sealed io.Reader, with []age.Identity) (b Book, err error) {
	plain, err := age.Decrypt(io.LimitReader(sealed, 2*maxFile), with...)
	var none *age.NoIdentityMatchError
	switch {
	case errors.As(err, &none):
		return b, fmt.Errorf("%s: %w", path, ErrSecret)
	case err != nil:
		return b, fmt.Errorf("%s is damaged: %w; take it from a backup, or remove it and add the "+
			"logins again", path, err)
	}
	raw, err := io.ReadAll(io.LimitReader(plain, maxFile))
	if err == nil {
		err = json.Unmarshal(raw, &b)
	}
	if err != nil {
		return Book{}, fmt.Errorf("%s is damaged; take it from a backup, or remove it and add the "+
			"logins again", path)
	}
	return b, nil
}

// Change changes the logins of a site folder, which only their owner can read; without a
// file it starts with none. No one else's change comes between the reading and the writing.
// An error of change, and those of Open but ErrNone, leave the file as it was.
func Change(dir string, s Secret, change func(*Book) error) error {
	path := filepath.Join(dir, File)
	return atomicfile.Transform(path, 0o600, func(old []byte) ([]byte, error) {
		var b Book
		var key []byte
		if old != nil {
			var err error
			b, key, err = s.openBoth(path, old)
			if err != nil {
				return nil, err
			}
		}
		if err := change(&b); err != nil {
			return nil, err
		}
		if err := b.ownKey(); err != nil {
			return nil, err
		}
		return s.close(b, key)
	})
}

// ownKey makes the key that the site has for what it keeps of its devices, where it has none.
func (b *Book) ownKey() error {
	if b.Own != "" {
		return nil
	}
	own, err := age.GenerateX25519Identity()
	if err == nil {
		b.Own = own.String()
	}
	return err
}

// close encrypts a book: for its readers, or, where it is not shared, for the secret. key is the
// block with the owner's key.
func (s Secret) close(b Book, key []byte) ([]byte, error) {
	raw, err := json.Marshal(b)
	if err != nil {
		return nil, err
	}
	if len(b.Readers) > 0 {
		var to []age.Recipient
		for _, r := range b.Readers {
			one, err := recipient(r.Key)
			if err != nil {
				return nil, fmt.Errorf("the key of %s: %w", r.Name, err)
			}
			to = append(to, one)
		}
		sealed, err := armored(raw, to...)
		return append(slices.Clone(key), sealed...), err
	}
	var out bytes.Buffer
	w, err := age.Encrypt(&out, s.recipients...)
	if err != nil {
		return nil, err
	}
	_, err = w.Write(raw)
	err = errors.Join(err, w.Close())
	return out.Bytes(), err
}

// Rekey encrypts the logins of a site folder for another secret; who else can read them stays so.
// The new file is opened before it takes the old one's place. Its errors are those of Open; an
// error leaves the file as it was.
func Rekey(dir string, old, fresh Secret) error {
	return transform(dir, old, fresh, func(b *Book, key []byte) ([]byte, error) {
		if len(b.Readers) == 0 {
			return key, nil
		}
		others := slices.DeleteFunc(b.Readers, func(r Reader) bool { return r.Owner })
		owners, key, err := fresh.owners()
		b.Readers = append(owners, others...)
		return key, err
	})
}
