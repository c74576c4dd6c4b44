package bundle_test

import (
	"bytes"
	"crypto/tls"
	"errors"
	"io"
	"io/fs"
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

	"catena/internal/ledger"
	"catena/internal/office"
	"catena/internal/office/server"
	"catena/internal/office/servertest"
	"catena/internal/place"
)

// opened is the record of a site at an office, once that has one.
func opened(t *testing.T, c office.Credentials) (at place.Place) {
	require.Eventually(t, func() bool {
		var err error
		at, err = place.OpenOffice(t.Context(), c)
		return err == nil
	}, 20*time.Second, 50*time.Millisecond)
	t.Cleanup(at.Close)
	return at
}

func TestSyncOverAnOffice(t *testing.T) {
	f := servertest.New(t)
	exchange(t, opened(t, f.AddSite(t, "marrow-hill", 0)))
}

// A file in several parts is there once all of them are, is read from any place, and stays as the
// first one wrote it.
func TestFilesAtAnOffice(t *testing.T) {
	f := servertest.New(t)
	at := opened(t, f.AddSite(t, "marrow-hill", 0))
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
	f := servertest.New(t)
	c := f.AddSite(t, "marrow-hill", 0)
	at := opened(t, c)
	require.NoError(t, at.Put("a/b", strings.NewReader("kept")))
	f.Stop()
	_, err := place.OpenOffice(t.Context(), c)
	require.Error(t, err)
	f.Serve(t, server.Options{})
	c.Address = f.At
	r, err := opened(t, c).Get("a/b", 0)
	require.NoError(t, err)
	got, err := io.ReadAll(r)
	require.NoError(t, err)
	assert.Equal(t, "kept", string(got))
}

// The credentials of a site reach its own record, and nothing else: neither another site's, nor the
// server's streams, nor answers to others.
func TestCredentialsReachOneSite(t *testing.T) {
	f := servertest.New(t)
	mine, theirs := f.AddSite(t, "dunmarrow", 0), f.AddSite(t, "marrow-hill", 0)
	other := opened(t, theirs)
	require.NoError(t, other.Put("a/b", strings.NewReader("theirs")))
	opened(t, mine)

	stolen := mine
	stolen.Site = "marrow-hill" // the token decides, not what the file says
	_, err := place.OpenOffice(t.Context(), stolen)
	require.Error(t, err)

	key, err := nkeys.FromSeed([]byte(mine.Seed))
	require.NoError(t, err)
	refused := make(chan error, 1000)
	conn, err := nats.Connect("tls://"+f.At, nats.CustomInboxPrefix(office.Inbox("dunmarrow")),
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
	subjects := []string{"site.marrow-hill.a.c.1.1", "site.marrow-hill.>", "x", ">", "$JS.API.INFO",
		"$JS.API.STREAM.LIST", "$JS.API.STREAM.NAMES", "$JS.API.STREAM.CREATE.X", "$SYS.REQ.CLAIMS.UPDATE",
		"$SYS.REQ.SERVER.PING", office.Inbox("marrow-hill") + ".x",
		"$KV." + office.Bucket(
			"marrow-hill",
		) + ".open.x", "$KV." + office.Bucket("marrow-hill") + ".heard.x"}
	for _, site := range []string{"marrow-hill", "dunmarrow"} {
		for _, stream := range []string{office.Stream(site), "KV_" + office.Bucket(site)} {
			for _, verb := range []string{"STREAM.UPDATE", "STREAM.DELETE", "STREAM.PURGE", "STREAM.MSG.DELETE",
				"STREAM.SNAPSHOT", "STREAM.RESTORE", "STREAM.LEADER.STEPDOWN", "CONSUMER.CREATE", "CONSUMER.LIST",
				"CONSUMER.NAMES"} {
				subjects = append(subjects, "$JS.API."+verb+"."+stream)
			}
			if site == "marrow-hill" {
				subjects = append(subjects, "$JS.API.STREAM.INFO."+stream, "$JS.API.STREAM.MSG.GET."+stream,
					"$JS.API.DIRECT.GET."+stream, "$JS.API.DIRECT.GET."+stream+".site.marrow-hill.a.b.1.1")
			}
		}
	}
	for _, subject := range subjects {
		denied("publishing to "+subject, func() error { return conn.Publish(subject, []byte("{}")) })
	}
	for _, subject := range []string{">", "site.>", "site.dunmarrow.>", "site.marrow-hill.>", "_INBOX.>",
		"$KV.>", "$KV." + office.Bucket("dunmarrow") + ".>", office.Inbox("marrow-hill") + ".>", "$JS.>", "$SYS.>"} {
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
	f := servertest.New(t)
	c := f.AddSite(t, "marrow-hill", 0)
	at := opened(t, c)
	_, err := f.Add("marrow-hill", 0, time.Now())
	require.ErrorIs(t, err, office.ErrThere)
	var wrong *office.NameError
	_, err = f.Add("Marrow Hill.*", 0, time.Now())
	require.ErrorAs(t, err, &wrong)

	other := servertest.New(t)
	elsewhere := c
	elsewhere.Address = other.At
	_, err = place.OpenOffice(t.Context(), elsewhere)
	require.ErrorIs(t, err, place.ErrOtherOffice)
	forged := c
	forged.Certificate = other.AddSite(t, "marrow-hill", 0).Certificate
	forged.Address = other.At
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

	again := f.AddSite(t, "marrow-hill", 0)
	require.NoError(t, opened(t, again).Put("a/new", strings.NewReader("x")))
	_, err = f.Add("dunmarrow", time.Nanosecond, time.Now().Add(-time.Hour))
	require.NoError(t, err)
	short, err := f.Add("pellow-reach", time.Minute, time.Now().Add(-time.Hour))
	require.NoError(t, err)
	short.Address = f.At
	_, err = place.OpenOffice(t.Context(), short)
	require.ErrorIs(t, err, place.ErrCredentials)
}

// A record that is full takes no more, and says so; what it has stays.
func TestAFullRecord(t *testing.T) {
	f := servertest.New(t)
	f.Stop()
	f.Serve(t, server.Options{SiteLimit: 4 << 20})
	at := opened(t, f.AddSite(t, "marrow-hill", 0))
	require.NoError(t, at.Put("a/one", bytes.NewReader(make([]byte, 3<<20))))
	require.ErrorIs(t, at.Put("a/two", bytes.NewReader(make([]byte, 3<<20))), place.ErrOfficeFull)
	names, err := at.Names("a")
	require.NoError(t, err)
	assert.Equal(t, []string{"one"}, names)
}

// What the server stores is not believed: a part that was exchanged is refused.
func TestADamagedPart(t *testing.T) {
	f := servertest.New(t)
	c := f.AddSite(t, "marrow-hill", 0)
	at := opened(t, c)
	conn, err := place.DialOffice(t.Context(), c, time.Minute)
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

// An office that has lost what it stored gets all of it again from those who have it.
func TestAnOfficeThatHasLostItsRecords(t *testing.T) {
	f := servertest.New(t)
	c := f.AddSite(t, "marrow-hill", 0)
	at := opened(t, c)
	anna := founded(t, "anna")
	anna.shelve(t, "3.2.1", strings.Repeat("image", 1000))
	first := anna.syncs(t, at)
	require.NotEmpty(t, first.Sent)
	f.Stop()
	require.NoError(t, os.RemoveAll(filepath.Join(f.Dir, office.DataFolder)))
	f.Serve(t, server.Options{})
	c.Address = f.At
	at = opened(t, c)
	again := anna.syncs(t, at)
	assert.Equal(t, first.Sent, again.Sent)
	assert.Equal(t, first.Brought, again.Brought)
	assert.Empty(t, again.Problems)
	bea := newLaptop(t, "bea")
	bea.joins(t, at, "anna")
	assert.Equal(t, anna.read(t, "site.yaml"), bea.read(t, "site.yaml"))
}

// The clock of a laptop that is a day ahead is named, and its entries are taken.
func TestAClockThatIsADayAhead(t *testing.T) {
	at := openPlace(t, t.TempDir())
	anna := founded(t, "anna")
	anna.syncs(t, at)
	bea := newLaptop(t, "bea")
	bea.joins(t, at, "anna")
	require.NoError(t, bea.l.Close())
	var err error
	bea.l, err = ledger.Open(
		bea.dir,
		func() time.Time { return time.Now().Add(24 * time.Hour) },
		bea.by,
	)
	require.NoError(t, err)
	t.Cleanup(func() { _ = bea.l.Close() })
	require.NoError(
		t,
		bea.l.Append("note", "", "", map[string]string{"text": "the towpath is closed"}),
	)
	bea.syncs(t, at)
	out := anna.syncs(t, at, "bea")
	assert.NotEmpty(t, out.Taken)
	require.Len(t, out.Problems, 1)
	assert.Contains(t, out.Problems[0], "the clock of bea is 24h0m0s ahead of this machine's")
}
