package bundle_test

import (
	"bytes"
	"context"
	"crypto/tls"
	"errors"
	"io"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"
	"github.com/nats-io/nkeys"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/office"
	"catena/internal/office/server"
	"catena/internal/place"
)

// theOffice is an office whose server runs until the test ends.
type theOffice struct {
	*office.Office
	at   string
	stop func()
}

func newOffice(t *testing.T) *theOffice {
	dir := filepath.Join(t.TempDir(), "office")
	require.NoError(t, office.Init(dir, "Canal Works", "127.0.0.1:4222"))
	require.ErrorIs(t, office.Init(dir, "Canal Works", "127.0.0.1:4222"), office.ErrThere)
	require.NoError(t, os.WriteFile(filepath.Join(dir, office.File),
		[]byte("office: Canal Works\naddress: \"127.0.0.1:4222\"\nlisten: \"127.0.0.1:0\"\n"), 0o600))
	o, err := office.Open(dir)
	require.NoError(t, err)
	f := &theOffice{Office: o}
	f.serve(t, server.Limits{})
	return f
}

// serve starts the server.
func (f *theOffice) serve(t *testing.T, l server.Limits) {
	ctx, cancel := context.WithCancel(context.Background())
	ready, ended := make(chan string, 1), make(chan error, 1)
	go func() {
		ended <- server.Run(ctx, f.Office, l, slog.New(slog.DiscardHandler), func(at string) { ready <- at })
	}()
	select {
	case f.at = <-ready:
	case err := <-ended:
		require.NoError(t, err)
	}
	stopped := false
	f.stop = func() {
		if cancel(); !stopped {
			stopped = true
			assert.NoError(t, <-ended)
		}
	}
	t.Cleanup(f.stop)
}

// add makes the credentials of a site, and waits for its record.
func (f *theOffice) add(t *testing.T, name string, valid time.Duration) office.Credentials {
	c, err := f.Add(name, valid, time.Now())
	require.NoError(t, err)
	file := filepath.Join(t.TempDir(), name+office.Ending)
	require.NoError(t, os.WriteFile(file, c.Text(), 0o600))
	c, err = office.ReadCredentials(file)
	require.NoError(t, err)
	c.Address = f.at
	return c
}

func (f *theOffice) open(t *testing.T, c office.Credentials) (at place.Place) {
	require.Eventually(t, func() bool {
		var err error
		at, err = place.OpenOffice(t.Context(), c)
		return err == nil
	}, 20*time.Second, 50*time.Millisecond)
	t.Cleanup(at.Close)
	return at
}

func TestSyncOverAnOffice(t *testing.T) {
	f := newOffice(t)
	exchange(t, f.open(t, f.add(t, "marrow-hill", 0)))
}

// A file in several parts is there once all of them are, is read from any place, and stays as the
// first one wrote it.
func TestFilesAtAnOffice(t *testing.T) {
	f := newOffice(t)
	at := f.open(t, f.add(t, "marrow-hill", 0))
	content := bytes.Repeat([]byte("0123456789"), 700_000)
	name := "hill-x.y/files/" + strings.Repeat("ab", 32)
	require.NoError(t, at.Put(name, bytes.NewReader(content)))
	require.NoError(t, at.Put("hill-x.y/empty", bytes.NewReader(nil)))
	for _, from := range []int64{0, 1, 2 << 20, 2<<20 + 5, int64(len(content)) - 1, int64(len(content))} {
		r, err := at.Get(name, from)
		require.NoError(t, err)
		got, err := io.ReadAll(r)
		require.NoError(t, err)
		assert.True(t, bytes.Equal(content[from:], got), "from %d", from)
	}
	names, err := at.Names("")
	require.NoError(t, err)
	assert.Equal(t, []string{"hill-x.y"}, names)
	names, err = at.Names("hill-x.y")
	require.NoError(t, err)
	assert.Equal(t, []string{"empty", "files"}, names)
	require.NoError(t, at.Put(name, bytes.NewReader(bytes.Repeat([]byte("9876543210"), 700_000))))
	r, err := at.Get(name, 0)
	require.NoError(t, err)
	got, err := io.ReadAll(r)
	require.NoError(t, err)
	assert.True(t, bytes.Equal(content, got), "what is there stays")
	_, err = at.Get("hill-x.y/none", 0)
	assert.ErrorIs(t, err, fs.ErrNotExist)

	broken := io.MultiReader(bytes.NewReader(content[:3<<20]), &failing{})
	require.Error(t, at.Put("hill-x.y/half", half{broken, bytes.NewReader(content)}))
	names, err = at.Names("hill-x.y")
	require.NoError(t, err)
	assert.NotContains(t, names, "half")
	_, err = at.Get("hill-x.y/half", 0)
	require.ErrorIs(t, err, fs.ErrNotExist)
	require.NoError(t, at.Put("hill-x.y/half", bytes.NewReader(content)))
	names, err = at.Names("hill-x.y")
	require.NoError(t, err)
	assert.Contains(t, names, "half")
}

type failing struct{}

func (*failing) Read([]byte) (int, error) { return 0, errBroken }

// half can be measured, and breaks while it is read.
type half struct {
	io.Reader
	io.Seeker
}

// What the office was told is there after it was restarted.
func TestAnOfficeRestarts(t *testing.T) {
	f := newOffice(t)
	c := f.add(t, "marrow-hill", 0)
	at := f.open(t, c)
	require.NoError(t, at.Put("a/b", strings.NewReader("kept")))
	f.stop()
	_, err := place.OpenOffice(t.Context(), c)
	require.Error(t, err)
	f.serve(t, server.Limits{})
	c.Address = f.at
	r, err := f.open(t, c).Get("a/b", 0)
	require.NoError(t, err)
	got, err := io.ReadAll(r)
	require.NoError(t, err)
	assert.Equal(t, "kept", string(got))
}

// The credentials of a site reach its own record, and nothing else: neither another site's, nor the
// server's streams, nor answers to others.
func TestCredentialsReachOneSite(t *testing.T) {
	f := newOffice(t)
	mine, theirs := f.add(t, "dunmarrow", 0), f.add(t, "marrow-hill", 0)
	other := f.open(t, theirs)
	require.NoError(t, other.Put("a/b", strings.NewReader("theirs")))
	f.open(t, mine)

	stolen := mine
	stolen.Site = "marrow-hill" // the token decides, not what the file says
	_, err := place.OpenOffice(t.Context(), stolen)
	require.Error(t, err)

	key, err := nkeys.FromSeed([]byte(mine.Seed))
	require.NoError(t, err)
	refused := make(chan error, 1000)
	conn, err := nats.Connect("tls://"+f.at, nats.CustomInboxPrefix(office.Inbox("dunmarrow")),
		nats.UserJWT(func() (string, error) { return mine.Token, nil },
			func(nonce []byte) ([]byte, error) { return key.Sign(nonce) }),
		nats.Secure(&tls.Config{InsecureSkipVerify: true}),
		nats.ErrorHandler(func(_ *nats.Conn, _ *nats.Subscription, err error) { refused <- err }))
	require.NoError(t, err)
	defer conn.Close()
	denied := func(what string, do func() error) {
		t.Helper()
		if err := do(); err != nil {
			return // at once
		}
		require.NoError(t, conn.Flush())
		select {
		case err := <-refused:
			assert.ErrorIs(t, err, nats.ErrPermissionViolation, what)
		case <-time.After(5 * time.Second):
			t.Errorf("%s was not refused", what)
		}
	}
	stream := office.Stream("marrow-hill")
	for _, subject := range []string{"site.marrow-hill.a.c.1.1", "site.marrow-hill.>", "x", ">",
		"$JS.API.STREAM.INFO." + stream, "$JS.API.STREAM.MSG.GET." + stream, "$JS.API.DIRECT.GET." + stream,
		"$JS.API.DIRECT.GET." + stream + ".site.marrow-hill.a.b.1.1", "$JS.API.STREAM.LIST", "$JS.API.STREAM.NAMES",
		"$JS.API.STREAM.CREATE.X", "$JS.API.STREAM.UPDATE." + office.Stream("dunmarrow"),
		"$JS.API.STREAM.DELETE." + office.Stream("dunmarrow"), "$JS.API.STREAM.PURGE." + office.Stream("dunmarrow"),
		"$JS.API.STREAM.MSG.DELETE." + office.Stream("dunmarrow"), "$JS.API.CONSUMER.CREATE." + stream,
		"$JS.API.CONSUMER.CREATE." + office.Stream("dunmarrow"), "$JS.API.INFO", "$JS.API.STREAM.SNAPSHOT." + stream,
		"$SYS.REQ.CLAIMS.UPDATE", "$SYS.REQ.SERVER.PING", office.Inbox("marrow-hill") + ".x"} {
		denied("publishing to "+subject, func() error { return conn.Publish(subject, []byte("{}")) })
	}
	for _, subject := range []string{">", "site.>", "site.dunmarrow.>", "site.marrow-hill.>", "_INBOX.>",
		office.Inbox("marrow-hill") + ".>", "$JS.>", "$SYS.>"} {
		denied("subscribing to "+subject, func() error {
			_, err := conn.SubscribeSync(subject)
			return err
		})
	}
	r, err := other.Get("a/b", 0)
	require.NoError(t, err)
	got, err := io.ReadAll(r)
	require.NoError(t, err)
	assert.Equal(t, "theirs", string(got))
}

// Credentials that were revoked, have expired or are for another office are refused by their name.
func TestCredentialsThatDoNotHold(t *testing.T) {
	f := newOffice(t)
	c := f.add(t, "marrow-hill", 0)
	at := f.open(t, c)
	_, err := f.Add("marrow-hill", 0, time.Now())
	require.ErrorIs(t, err, office.ErrThere)
	var wrong *office.NameError
	_, err = f.Add("Marrow Hill.*", 0, time.Now())
	require.ErrorAs(t, err, &wrong)

	other := newOffice(t)
	elsewhere := c
	elsewhere.Address = other.at
	_, err = place.OpenOffice(t.Context(), elsewhere)
	require.ErrorIs(t, err, place.ErrOtherOffice)
	forged := c
	forged.Certificate = other.add(t, "marrow-hill", 0).Certificate
	forged.Address = other.at
	_, err = place.OpenOffice(t.Context(), forged)
	require.ErrorIs(t, err, place.ErrCredentials, "signed by another office")

	require.NoError(t, f.Remove("marrow-hill", time.Now()))
	var unknown *office.UnknownError
	require.ErrorAs(t, f.Remove("marrow-hill", time.Now()), &unknown)
	require.Eventually(t, func() bool {
		_, err := place.OpenOffice(t.Context(), c)
		return errors.Is(err, place.ErrCredentials)
	}, 10*time.Second, 100*time.Millisecond)
	require.Error(t, at.Put("a/late", strings.NewReader("x")), "an open connection ends, too")

	again := f.add(t, "marrow-hill", 0)
	require.NoError(t, f.open(t, again).Put("a/new", strings.NewReader("x")))
	_, err = f.Add("dunmarrow", time.Nanosecond, time.Now().Add(-time.Hour))
	require.NoError(t, err)
	short, err := f.Add("pellow-reach", time.Minute, time.Now().Add(-time.Hour))
	require.NoError(t, err)
	short.Address = f.at
	_, err = place.OpenOffice(t.Context(), short)
	require.ErrorIs(t, err, place.ErrCredentials)
}

// A record that is full takes no more, and says so; what it has stays.
func TestAFullRecord(t *testing.T) {
	f := newOffice(t)
	f.stop()
	f.serve(t, server.Limits{Site: 4 << 20})
	at := f.open(t, f.add(t, "marrow-hill", 0))
	require.NoError(t, at.Put("a/one", bytes.NewReader(make([]byte, 3<<20))))
	require.ErrorIs(t, at.Put("a/two", bytes.NewReader(make([]byte, 3<<20))), place.ErrOfficeFull)
	names, err := at.Names("a")
	require.NoError(t, err)
	assert.Equal(t, []string{"one"}, names)
}

// What the server stores is not believed: a part that was exchanged is refused.
func TestADamagedPart(t *testing.T) {
	f := newOffice(t)
	c := f.add(t, "marrow-hill", 0)
	at := f.open(t, c)
	conn, err := place.DialOffice(t.Context(), c)
	require.NoError(t, err)
	js, err := jetstream.New(conn)
	require.NoError(t, err)
	for name, header := range map[string]string{"no-digest": "", "wrong-digest": strings.Repeat("0", 64)} {
		m := nats.NewMsg(office.Subject("marrow-hill") + ".a." + name + ".1.1")
		m.Data = []byte("x")
		m.Header.Set("Catena-SHA256", header)
		_, err = js.PublishMsg(t.Context(), m)
		require.NoError(t, err)
		r, err := at.Get("a/"+name, 0)
		require.NoError(t, err)
		_, err = io.ReadAll(r)
		assert.ErrorContains(t, err, "is damaged at the office")
	}
	for _, subject := range []string{".a.odd.2.1", ".a.odd.3.3", ".a.huge.99999999.1", ".a.zero.0.0", ".a.=ZZ.1.1"} {
		_, err = js.Publish(t.Context(), office.Subject("marrow-hill")+subject, []byte("x"))
		require.NoError(t, err)
	}
	for _, name := range []string{"odd", "huge", "zero"} {
		_, err := at.Get("a/"+name, 0)
		assert.Error(t, err, name)
	}
	_, err = at.Names("a")
	assert.NoError(t, err)
}
