package login

import (
	"bytes"
	"errors"
	"io"

	"filippo.io/age"
)

// ErrNoKey is returned by Seal where the site keeps no logins, whose file has the key.
var ErrNoKey = errors.New("it must be stored encrypted, and the site has no key yet, because " +
	"it has no logins")

// Seal encrypts what the site keeps of its devices so that only who can open the book can read it.
func (b Book) Seal(plain []byte) ([]byte, error) {
	own, err := age.ParseX25519Identity(b.Own)
	if err != nil {
		return nil, ErrNoKey
	}
	var out bytes.Buffer
	w, err := age.Encrypt(&out, own.Recipient())
	if err != nil {
		return nil, err
	}
	_, err = w.Write(plain)
	err = errors.Join(err, w.Close()) // which writes the rest
	return out.Bytes(), err
}

// maxSealed bounds what is decrypted, in bytes.
const maxSealed = 64 << 20

// Unseal decrypts what Seal has encrypted.
func (b Book) Unseal(sealed []byte) ([]byte, error) {
	var all []age.Identity
	for _, key := range append([]string{b.Own}, b.Past...) {
		own, err := age.ParseX25519Identity(key)
		if err != nil {
			return nil, ErrNoKey
		}
		all = append(all, own)
	}
	r, err := age.Decrypt(bytes.NewReader(sealed), all...)
	if err != nil {
		return nil, err
	}
	return io.ReadAll(io.LimitReader(r, maxSealed))
}
