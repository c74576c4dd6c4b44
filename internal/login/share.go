package login

import (
	"bytes"
	"crypto/ed25519"
	"crypto/rsa"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"filippo.io/age"
	"filippo.io/age/agessh"
	"filippo.io/age/armor"
	"golang.org/x/crypto/ssh"

	"catena/internal/atomicfile"
	"catena/internal/files"
	"catena/internal/text"
)

// Logins that are shared are two age files in one, each in the armor of that format. The second one
// is the logins, encrypted for a key of each reader. The first one is the key of the owner,
// encrypted with the passphrase: the format allows a passphrase no other recipient beside it.

// Reader is someone who can open the logins.
type Reader struct {
	Name  string    `json:"name"`
	Key   string    `json:"key"` // a recipient of age, or a public SSH key
	Since time.Time `json:"since,omitzero"`
	Owner bool      `json:"owner,omitempty"` // the passphrase, or the identity file of the site
}

// What can be wrong with sharing.
var (
	ErrShared    = errors.New("it can open the logins already")
	ErrNotShared = errors.New("the logins are not shared with anyone of that name")
)

// ReadPublicKey reads the first public key of a file: of SSH (Ed25519 or RSA) or of age. The name
// is the comment of an SSH key, or else the file's.
func ReadPublicKey(path string) (Reader, error) {
	raw, err := files.Read(path, files.Key)
	if err != nil {
		return Reader{}, err
	}
	for line := range strings.SplitSeq(string(raw), "\n") {
		line = strings.TrimSpace(line)
		if line == "" || strings.HasPrefix(line, "#") {
			continue
		}
		if _, err := recipient(line); err != nil {
			return Reader{}, fmt.Errorf("%s has no public key of SSH (Ed25519 or RSA) or age: %w", path, err)
		}
		r := Reader{Key: line, Name: strings.TrimSuffix(filepath.Base(path), filepath.Ext(path))}
		if _, comment, _, _, err := ssh.ParseAuthorizedKey([]byte(line)); err == nil && comment != "" {
			r.Name = comment
		}
		r.Name = text.Name(r.Name)
		return r, nil
	}
	return Reader{}, fmt.Errorf("%s has no public key", path)
}

// recipient reads a public key.
func recipient(key string) (age.Recipient, error) {
	if strings.HasPrefix(key, "ssh-") {
		return agessh.ParseRecipient(key)
	}
	all, err := age.ParseRecipients(strings.NewReader(key))
	if err != nil {
		return nil, err
	}
	return all[0], nil
}

// Share lets a reader open the logins of a site folder as well. Its errors are ErrShared and those
// of Open; an error leaves the file as it was.
func Share(dir string, s Secret, r Reader) error {
	return transform(dir, s, s, func(b *Book, key []byte) ([]byte, error) {
		if len(b.Readers) == 0 {
			var err error
			if b.Readers, key, err = s.owners(); err != nil {
				return nil, err
			}
		}
		if slices.ContainsFunc(b.Readers, func(x Reader) bool {
			return x.Key == r.Key || strings.EqualFold(x.Name, r.Name)
		}) {
			return nil, ErrShared
		}
		b.Readers = append(b.Readers, r)
		return key, nil
	})
}

// Unshare ends that a reader can open the logins, and returns the logins that the reader knows.
// What is saved from now on is encrypted for a new key. Its errors are ErrNotShared and those of
// Open.
func Unshare(dir string, s Secret, name string) (known []Entry, err error) {
	err = transform(dir, s, s, func(b *Book, key []byte) ([]byte, error) {
		at := slices.IndexFunc(b.Readers, func(x Reader) bool {
			return !x.Owner && strings.EqualFold(x.Name, name)
		})
		if at < 0 {
			return nil, ErrNotShared
		}
		b.Readers = slices.Delete(b.Readers, at, at+1)
		known = slices.Clone(b.Entries)
		if b.Own != "" {
			b.Past, b.Own = append(b.Past, b.Own), ""
		}
		if s.byPassphrase() && !slices.ContainsFunc(b.Readers, func(x Reader) bool { return !x.Owner }) {
			b.Readers, key = nil, nil // as before it was shared
		}
		return key, b.ownKey()
	})
	return known, err
}

// transform changes the logins of a site folder, which old opens, and fresh from then on. change
// returns the block with the owner's key. The new file is opened before it takes the old one's
// place.
func transform(dir string, old, fresh Secret,
	change func(b *Book, key []byte) ([]byte, error)) error {
	path := filepath.Join(dir, File)
	return atomicfile.Transform(path, 0o600, func(sealed []byte) ([]byte, error) {
		if sealed == nil {
			return nil, ErrNone
		}
		b, key, err := old.openBoth(path, sealed)
		if err != nil {
			return nil, err
		}
		if key, err = change(&b, key); err != nil {
			return nil, err
		}
		out, err := fresh.close(b, key)
		if err == nil {
			_, err = fresh.open(path, out)
		}
		return out, err
	})
}

func (s Secret) byPassphrase() bool {
	return len(s.recipients) == 1 && s.keys == nil
}

// owners are the readers that stand for the secret itself, and the block with its key, where it is
// a passphrase.
func (s Secret) owners() (out []Reader, key []byte, err error) {
	if !s.byPassphrase() {
		for _, k := range s.keys {
			out = append(out, Reader{Name: "identity", Key: k, Owner: true})
		}
		return out, nil, nil
	}
	k, err := age.GenerateX25519Identity()
	if err != nil {
		return nil, nil, err
	}
	key, err = armored([]byte(k.String()), s.recipients...)
	return []Reader{{Name: "passphrase", Key: k.Recipient().String(), Owner: true}}, key, err
}

// armored encrypts a text, in the armor of the format.
func armored(plain []byte, to ...age.Recipient) ([]byte, error) {
	var out bytes.Buffer
	a := armor.NewWriter(&out)
	w, err := age.Encrypt(a, to...)
	if err != nil {
		return nil, err
	}
	_, err = w.Write(plain)
	err = errors.Join(err, w.Close(), a.Close())
	return out.Bytes(), err
}

// blocks are the parts of a shared file: the owner's key, which may be missing, and the logins.
func blocks(data []byte) (key, logins []byte) {
	at := bytes.LastIndex(data, []byte(armor.Header))
	return data[:at], data[at:]
}

// openBoth opens a file, and returns the block with the owner's key as well.
func (s Secret) openBoth(path string, data []byte) (Book, []byte, error) {
	if !bytes.HasPrefix(data, []byte(armor.Header)) {
		b, err := s.read(path, bytes.NewReader(data), s.identities)
		return b, nil, err
	}
	key, logins := blocks(data)
	b, err := s.read(path, armor.NewReader(bytes.NewReader(logins)), s.identities)
	if !errors.Is(err, ErrSecret) || len(key) == 0 {
		return b, key, err
	}
	plain, failed := age.Decrypt(armor.NewReader(bytes.NewReader(key)), s.identities...)
	if failed != nil {
		return b, key, err
	}
	raw, failed := io.ReadAll(io.LimitReader(plain, maxFile))
	if failed != nil {
		return b, key, err
	}
	k, failed := age.ParseX25519Identity(string(raw))
	if failed != nil {
		return b, key, fmt.Errorf("%s is damaged; take it from a backup", path)
	}
	b, err = s.read(path, armor.NewReader(bytes.NewReader(logins)), []age.Identity{k})
	return b, key, err
}

// sshIdentity reads a private SSH key as an identity. ask is asked for its passphrase.
func sshIdentity(path string, ask func() ([]byte, error)) (Secret, error) {
	raw, err := os.ReadFile(path)
	if err != nil {
		return Secret{}, err
	}
	private, err := ssh.ParseRawPrivateKey(raw)
	if locked := new(ssh.PassphraseMissingError); errors.As(err, &locked) {
		passphrase, failed := ask()
		if failed != nil {
			return Secret{}, failed
		}
		private, err = ssh.ParseRawPrivateKeyWithPassphrase(raw, passphrase)
	}
	if err != nil {
		return Secret{}, fmt.Errorf("%s: %w", path, err)
	}
	signer, err := ssh.NewSignerFromKey(private)
	if err != nil {
		return Secret{}, fmt.Errorf("%s: %w", path, err)
	}
	line := strings.TrimSpace(string(ssh.MarshalAuthorizedKey(signer.PublicKey())))
	to, err := recipient(line)
	if err != nil {
		return Secret{}, fmt.Errorf("%s: %w", path, err)
	}
	i, err := identityOf(private)
	return Secret{[]age.Identity{i}, []age.Recipient{to}, []string{line}}, err
}

// identityOf makes an identity of a private key.
func identityOf(private any) (age.Identity, error) {
	switch k := private.(type) {
	case *ed25519.PrivateKey:
		return agessh.NewEd25519Identity(*k)
	case ed25519.PrivateKey:
		return agessh.NewEd25519Identity(k)
	case *rsa.PrivateKey:
		return agessh.NewRSAIdentity(k)
	}
	return nil, errors.New("only SSH keys of the types Ed25519 and RSA can open logins")
}
