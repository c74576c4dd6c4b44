package login_test

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"golang.org/x/crypto/ssh"

	"catena/internal/device"
	"catena/internal/login"
)

func TestOrder(t *testing.T) {
	var b login.Book
	for _, e := range []login.Entry{
		{Kind: login.Site, User: "s", Password: "1"},
		{Kind: login.Group, Of: "chamber-1", User: "g", Password: "2"},
		{Kind: login.Model, Of: "wx-40", User: "m", Password: "3"},
		{Kind: login.Device, Of: "d7", Label: "cam-11", User: "d", Password: "4"},
		{Kind: login.Device, Of: "10.20.4.11", User: "a", Password: "5"},
		{Kind: login.Model, Of: "TG-200", User: "other", Password: "6"},
		{Kind: login.Site, User: "s2", Password: "7"},
	} {
		_, err := b.Add(e)
		require.NoError(t, err)
	}
	users := func(d device.Device, groups ...string) (out []string) {
		for _, l := range b.For(d, groups) {
			out = append(out, l.User)
			assert.NotEmpty(t, l.ID)
		}
		return out
	}
	assert.Equal(t, []string{"a", "d", "m", "g", "s2", "s"},
		users(device.Device{ID: "d7", Endpoint: device.Endpoint{Address: "10.20.4.11:80"},
			Reading: device.Reading{Identity: device.Identity{Model: "WX-40"}}}, "chamber-1"))
	assert.Equal(t, []string{"s2", "s"},
		users(device.Device{ID: "d8", Name: "cam-11",
			Endpoint: device.Endpoint{Address: "10.20.4.12:80"}}),
		"a name alone brings no password")

	again, err := b.Add(login.Entry{Kind: login.Site, User: "s", Password: "8"})
	require.NoError(t, err)
	assert.Len(t, b.Entries, 8, "another password takes no one's place")
	assert.Len(t, b.Beside(again), 1)
	same, err := b.Add(login.Entry{Kind: login.Site, User: "s", Password: "8"})
	require.NoError(t, err)
	assert.Len(t, b.Entries, 8)
	assert.Equal(t, again.ID, same.ID, "devices on which it worked know it by that")
	found, ok := b.Find(again.ID)
	assert.True(t, ok)
	assert.Equal(t, "8", found.Password)
	assert.NotContains(t, fmt.Sprintf("%v %+v %#v %s", found, found, found, found), "8",
		"a password is never printed")
	_, ok = b.Drop(again.ID)
	assert.True(t, ok)
	_, ok = b.Drop(again.ID)
	assert.False(t, ok)
}

func TestBadEntries(t *testing.T) {
	for _, e := range []login.Entry{
		{Kind: "planet", Password: "x"}, {Kind: login.Model, Password: "x"},
		{Kind: login.Site, Of: "x", Password: "x"}, {Kind: login.Site},
		{Kind: login.Site, User: "a:b", Password: "x"},
		{Kind: login.Site, User: "a\nb", Password: "x"},
		{Kind: login.Site, Password: string(make([]byte, 300))},
	} {
		var b login.Book
		_, err := b.Add(e)
		assert.Error(t, err, "%+v", e)
		assert.Empty(t, b.Entries)
	}
}

func TestFile(t *testing.T) {
	dir := t.TempDir()
	right, err := login.Passphrase("a-swan-a-day")
	require.NoError(t, err)
	_, err = login.Open(dir, right)
	assert.ErrorIs(t, err, login.ErrNone)
	var b login.Book
	_, err = b.Add(login.Entry{Kind: login.Site, User: "keeper", Password: "quoin-and-sluice"})
	require.NoError(t, err)
	require.NoError(t, login.Change(dir, right, func(old *login.Book) error {
		*old = b
		return nil
	}))
	got, err := login.Open(dir, right)
	require.NoError(t, err)
	assert.Equal(t, b.Entries, got.Entries)
	raw, err := os.ReadFile(filepath.Join(dir, login.File))
	require.NoError(t, err)
	assert.NotContains(t, string(raw), "quoin")
	info, err := os.Stat(filepath.Join(dir, login.File))
	require.NoError(t, err)
	assert.Zero(t, info.Mode().Perm()&0o077, "no one else can read it")
	left, err := filepath.Glob(filepath.Join(dir, ".logins-*"))
	require.NoError(t, err)
	assert.Empty(t, left, "nothing is left over")

	wrong, err := login.Passphrase("a-duck-a-day")
	require.NoError(t, err)
	_, err = login.Open(dir, wrong)
	assert.ErrorIs(t, err, login.ErrSecret)

	key := filepath.Join(dir, "key")
	require.NoError(t, login.NewIdentityFile(key))
	assert.Error(t, login.NewIdentityFile(key), "an identity is never written over")
	identity, err := login.IdentityFile(key, nil)
	require.NoError(t, err)
	_, err = login.Open(dir, identity)
	assert.ErrorIs(t, err, login.ErrSecret)
	assert.ErrorIs(t, login.Change(dir, identity, func(*login.Book) error { return nil }),
		login.ErrSecret)
	dir = t.TempDir()
	require.NoError(t, login.Change(dir, identity, func(old *login.Book) error {
		*old = b
		return nil
	}))
	got, err = login.Open(dir, identity)
	require.NoError(t, err)
	assert.Equal(t, b.Entries, got.Entries)

	raw, err = os.ReadFile(filepath.Join(dir, login.File))
	require.NoError(t, err)
	raw[len(raw)-1]++
	require.NoError(t, os.WriteFile(filepath.Join(dir, login.File), raw, 0o600))
	_, err = login.Open(dir, identity)
	assert.ErrorContains(t, err, "is damaged")
}

// A device that has moved on its own word does not get its own login.
func TestOwnLoginStaysWhereItWas(t *testing.T) {
	var b login.Book
	_, err := b.Add(login.Entry{Kind: login.Device, Of: "d1", User: "keeper", Password: "own"})
	require.NoError(t, err)
	_, err = b.Add(login.Entry{Kind: login.Site, User: "keeper", Password: "site"})
	require.NoError(t, err)
	passwords := func(d device.Device) (out []string) {
		for _, c := range b.For(d, nil) {
			out = append(out, c.Password)
		}
		return out
	}
	assert.Equal(t, []string{"own", "site"}, passwords(device.Device{ID: "d1"}))
	assert.Equal(t, []string{"site"}, passwords(device.Device{ID: "d1", Moved: "10.20.4.11:80"}))
}

// Several that add logins at the same time lose none.
func TestConcurrentAdds(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(t.TempDir(), "identity")
	require.NoError(t, login.NewIdentityFile(path))
	secret, err := login.IdentityFile(path, nil)
	require.NoError(t, err)
	var group sync.WaitGroup
	for i := range 13 {
		group.Go(func() {
			assert.NoError(t, login.Change(dir, secret, func(b *login.Book) error {
				_, err := b.Add(login.Entry{Kind: login.Model, Of: fmt.Sprintf("M-%d", i),
					User: "keeper", Password: "p"})
				return err
			}))
		})
	}
	group.Wait()
	b, err := login.Open(dir, secret)
	require.NoError(t, err)
	assert.Len(t, b.Entries, 13)
	_, err = b.Add(login.Entry{Kind: login.Site, User: "keeper", Password: "na\xefve"})
	assert.ErrorContains(t, err, "not UTF-8")
}

// What the site keeps of its devices can be read only with the book.
func TestSeal(t *testing.T) {
	dir := t.TempDir()
	secret, err := login.Passphrase("a swan a day")
	require.NoError(t, err)
	_, err = login.Book{}.Seal([]byte("x"))
	require.ErrorIs(t, err, login.ErrNoKey)
	add := func(b *login.Book) error {
		_, err := b.Add(login.Entry{Kind: login.Site, User: "keeper", Password: "quoin"})
		return err
	}
	require.NoError(t, login.Change(dir, secret, add))
	book, err := login.Open(dir, secret)
	require.NoError(t, err)
	for _, size := range []int{0, 1, 100_000} {
		plain := bytes.Repeat([]byte("m"), size)
		sealed, err := book.Seal(plain)
		require.NoError(t, err)
		require.NoError(t, login.Change(dir, secret, add))
		again, err := login.Open(dir, secret)
		require.NoError(t, err)
		got, err := again.Unseal(sealed)
		require.NoError(t, err, "the key stays")
		assert.Equal(t, string(plain), string(got))
		_, err = again.Unseal(sealed[:len(sealed)-1])
		assert.Error(t, err)
	}
}

// A key loses its passphrase on the way in; a wrong passphrase, and what is not a key, is said.
func TestUnlock(t *testing.T) {
	if _, err := exec.LookPath("ssh-keygen"); err != nil {
		t.Skip("needs ssh-keygen")
	}
	for _, kind := range []string{"ed25519", "rsa", "ecdsa"} {
		file := filepath.Join(t.TempDir(), "id")
		require.NoError(t, exec.Command("ssh-keygen", "-q", "-t", kind, "-N", "a swan a day", "-f",
			file).Run())
		raw, err := os.ReadFile(file)
		require.NoError(t, err)
		m := login.More{Key: string(raw)}
		require.NoError(t, m.Unlock(func() (string, error) { return "a swan a day", nil }), kind)
		_, err = ssh.ParsePrivateKey([]byte(m.Key))
		assert.NoError(t, err, kind)
		m.Key = string(raw)
		assert.Error(t, m.Unlock(func() (string, error) { return "a heron", nil }), kind)
	}
	none := login.More{Key: "none"}
	assert.ErrorContains(t, none.Unlock(nil), "no usable private key")
	for _, bad := range []login.Entry{
		{Kind: login.Site, User: "keeper"}, // neither a password nor a key
		{Kind: login.Site, Password: "x", More: login.More{Secrets: map[string]string{"Bad Name": "y"}}},
		{Kind: login.Site, Password: "x", More: login.More{Secrets: map[string]string{"pin": "1\n2"}}},
		{Kind: login.Site, Password: "x", More: login.More{Certificate: "c"}},
	} {
		_, err := new(login.Book).Add(bad)
		assert.Error(t, err)
	}
}

// A login that was sent to a device and not verified is pending; only one at a time is.
func TestAPendingLogin(t *testing.T) {
	var b login.Book
	site, err := b.Add(login.Entry{Kind: login.Site, User: "keeper", Password: "quoin"})
	require.NoError(t, err)
	d := device.Device{ID: "d1", Name: "cam-11"}
	has := b.For(d, nil)[0]
	fresh, err := b.Prepare(d, has, "weir")
	require.NoError(t, err)
	assert.Equal(t, []login.Entry{fresh}, b.Pending())
	assert.Equal(t, "weir", b.For(d, nil)[0].Password, "it is tried, and the old one after it")
	assert.Equal(t, "quoin", b.For(d, nil)[1].Password)
	_, err = b.Prepare(d, has, "mitre")
	require.ErrorIs(t, err, login.ErrPending)
	_, err = b.Prepare(device.Device{ID: "d2"}, has, "")
	require.ErrorContains(t, err, "the password is empty")

	b.Confirm(fresh.ID)
	assert.Empty(t, b.Pending())
	again, err := b.Prepare(d, fresh.Credential(), "mitre")
	require.NoError(t, err)
	b.Confirm(again.ID)
	require.Len(t, b.Entries, 2, "the one that was for this device alone is replaced")
	_, is := b.Find(site.ID)
	assert.True(t, is, "other devices may still use it")
}

// What was encrypted before a reader was taken out can still be read by the others, and new files
// are for another key.
func TestSealedBeforeAReaderLeft(t *testing.T) {
	dir := t.TempDir()
	secret, err := login.Passphrase("a swan a day")
	require.NoError(t, err)
	require.NoError(t, login.Change(dir, secret, func(b *login.Book) error {
		_, err := b.Add(login.Entry{Kind: login.Site, User: "keeper", Password: "quoin"})
		return err
	}))
	key := filepath.Join(dir, "bea.age")
	require.NoError(t, login.NewIdentityFile(key))
	raw, err := os.ReadFile(key)
	require.NoError(t, err)
	public := regexp.MustCompile(`age1[a-z0-9]+`).Find(raw)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "bea.pub"), public, 0o600))
	reader, err := login.ReadPublicKey(filepath.Join(dir, "bea.pub"))
	require.NoError(t, err)
	assert.Equal(t, "bea", reader.Name)
	require.NoError(t, login.Share(dir, secret, reader))
	require.ErrorIs(t, login.Share(dir, secret, reader), login.ErrShared)
	identity, err := login.IdentityFile(key, nil)
	require.NoError(t, err)
	hers, err := login.Open(dir, identity)
	require.NoError(t, err)
	before, err := hers.Seal([]byte("settings"))
	require.NoError(t, err)

	known, err := login.Unshare(dir, secret, "bea")
	require.NoError(t, err)
	assert.Len(t, known, 1)
	_, err = login.Open(dir, identity)
	require.ErrorIs(t, err, login.ErrSecret)
	mine, err := login.Open(dir, secret)
	require.NoError(t, err)
	plain, err := mine.Unseal(before)
	require.NoError(t, err)
	assert.Equal(t, "settings", string(plain))
	after, err := mine.Seal([]byte("later"))
	require.NoError(t, err)
	_, err = hers.Unseal(after)
	assert.Error(t, err, "what is saved from then on is for another key")
}
