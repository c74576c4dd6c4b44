package shelf_test

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"catena/internal/shelf"
	"catena/internal/signature"
)

// feedOf makes a feed of one large image and two small ones; it returns the folder
// and the public key.
func feedOf(t *testing.T) (dir string, public ssh.PublicKey) {
	large := file{"large.bin", strings.Repeat("0123456789abcdef", 1<<18)} // 4 MiB
	source := open(t)
	add(t, source, write(t, t.TempDir(), oldImage, oldManifest, newImage, newManifest, large,
		manifestFor("WX-20", "2.11", large.name, large.body)))
	images, err := source.List()
	require.NoError(t, err)
	private := newKey(t)
	dir = filepath.Join(t.TempDir(), "feed")
	require.NoError(t, source.MakeFeed(dir,
		shelf.Feed{Name: "Wexcombe", Number: 1, Made: time.Now(),
			Expires: time.Now().Add(time.Hour)}, images, private))
	return dir, private.PublicKey()
}

// servers serve a folder over HTTPS: Go's own, and nginx, which is what a maker
// would have.
var servers = map[string]func(t *testing.T, dir string) (address string, client *http.Client){
	"net/http": func(t *testing.T, dir string) (string, *http.Client) {
		s := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("ETag", fmt.Sprintf("%q", filepath.Base(r.URL.Path)))
			http.ServeFile(&slow{w}, r, filepath.Join(dir, filepath.FromSlash(r.URL.Path)))
		}))
		t.Cleanup(s.Close)
		return s.URL, s.Client()
	},
	"nginx": func(t *testing.T, dir string) (string, *http.Client) {
		path, err := exec.LookPath("nginx")
		if err != nil {
			t.Skip("nginx is not installed")
		}
		s := httptest.NewUnstartedServer(nil) // for its certificate
		s.StartTLS()
		pair := s.TLS.Certificates[0]
		s.Close()
		private, err := x509.MarshalPKCS8PrivateKey(pair.PrivateKey)
		require.NoError(t, err)
		l, err := net.Listen("tcp", "127.0.0.1:0")
		require.NoError(t, err)
		address := l.Addr().String()
		require.NoError(t, l.Close())
		home := write(t, t.TempDir(),
			file{"cert.pem", string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE",
				Bytes: pair.Certificate[0]}))},
			file{"key.pem", string(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY",
				Bytes: private}))})
		require.NoError(t, os.Chmod(home, 0o755))
		write(t, home, file{"nginx.conf",
			fmt.Sprintf(`user root; daemon off; pid %[1]s/pid; error_log %[1]s/error.log;
events {}
http { access_log off; client_body_temp_path %[1]s/a; proxy_temp_path %[1]s/b; fastcgi_temp_path %[1]s/c; uwsgi_temp_path %[1]s/d; scgi_temp_path %[1]s/e;
  server { listen %[2]s ssl; ssl_certificate %[1]s/cert.pem; ssl_certificate_key %[1]s/key.pem; root %[3]s; limit_rate 2m; } }
`, home, address, dir)})
		cmd := exec.Command(path, "-c", filepath.Join(home, "nginx.conf"), "-p", home)
		require.NoError(t, cmd.Start())
		t.Cleanup(func() { _ = cmd.Process.Signal(os.Interrupt); _ = cmd.Wait() })
		pool := x509.NewCertPool()
		cert, err := x509.ParseCertificate(pair.Certificate[0])
		require.NoError(t, err)
		pool.AddCert(cert)
		client := &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: pool,
			ServerName: "example.com"}}}
		require.Eventually(t, func() bool {
			c, err := net.Dial("tcp", address)
			if err == nil {
				_ = c.Close()
			}
			return err == nil
		}, 10*time.Second, 20*time.Millisecond)
		return "https://" + address, client
	},
}

// slow sends so slowly that a fetch can be broken off.
type slow struct{ http.ResponseWriter }

func (s *slow) Write(p []byte) (int, error) {
	time.Sleep(2 * time.Millisecond)
	n, err := s.ResponseWriter.Write(p)
	return n, err
}

func TestPullGoesOnWhereItBrokeOff(t *testing.T) {
	for name, serve := range servers {
		t.Run(name, func(t *testing.T) {
			dir, key := feedOf(t)
			address, client := serve(t, dir)
			s := open(t)
			ctx, cancel := context.WithCancel(context.Background())
			p := &shelf.Puller{Shelf: s, Source: address, Key: key, Client: client, Now: time.Now,
				Progress: func(n int64) {
					if n > 2<<20 {
						cancel()
					}
				}}
			f, err := p.Index(ctx)
			require.NoError(t, err)
			broken := 0
			for _, r := range p.Pull(ctx, s.Missing(f)) {
				if r.Outcome == shelf.Refused {
					broken++
				}
			}
			assert.Equal(t, 1, broken, "the large one was broken off")
			require.Len(t, s.Missing(f), 1)

			fetched := int64(0)
			p.Progress = func(n int64) { fetched = n }
			results := p.Pull(context.Background(), s.Missing(f))
			assert.Equal(t, shelf.New, results[0].Outcome, results[0].Reason)
			assert.Less(t, fetched, int64(3<<20), "only the rest was fetched")
			_, damaged, err := s.Check(context.Background(), nil)
			require.NoError(t, err)
			assert.Empty(t, damaged)
			assert.Empty(t, s.Missing(f))
		})
	}
}

func TestAChangedImageIsFetchedAnew(t *testing.T) {
	dir, key := feedOf(t)
	s := open(t)
	p := &shelf.Puller{Shelf: s, Source: dir, Key: key, Now: time.Now}
	f, err := p.Index(context.Background())
	require.NoError(t, err)
	// A part is there that does not belong to the image.
	write(t, filepath.Join(s.Dir(), "tmp"), file{"pull-" + f.Images[0].Manifest.SHA256, "rubbish"})
	for _, r := range p.Pull(context.Background(), s.Missing(f)) {
		assert.Equal(t, shelf.New, r.Outcome, r.Reason)
	}
}

func TestFeedsThatAreNotBelieved(t *testing.T) {
	dir, key := feedOf(t)
	index := bytesOf(t, filepath.Join(dir, "feed.yaml"))
	for why, change := range map[string]func(dir string){
		"signature is not by the trusted key": func(d string) {
			write(t, d, file{"feed.yaml", index + "\n"})
		},
		"the feed cannot be read": func(d string) {
			_ = os.Remove(filepath.Join(d, "feed.yaml.sig"))
		},
	} {
		copied := filepath.Join(t.TempDir(), "feed")
		require.NoError(t, os.CopyFS(copied, os.DirFS(dir)))
		change(copied)
		_, err := (&shelf.Puller{Shelf: open(t), Source: copied, Key: key,
			Now: time.Now}).Index(context.Background())
		assert.ErrorContains(t, err, why)
	}
	late := func() time.Time { return time.Now().Add(2 * time.Hour) }
	_, err := (&shelf.Puller{Shelf: open(t), Source: dir, Key: key,
		Now: late}).Index(context.Background())
	assert.ErrorIs(t, err, shelf.ErrExpired)
	_, err = (&shelf.Puller{Shelf: open(t), Source: dir, Now: time.Now}).Index(context.Background())
	assert.ErrorIs(t, err, shelf.ErrNoKey)
}

func FuzzParseFeed(f *testing.F) {
	f.Add([]byte("feed: x\nnumber: 1\nmade: 2026-11-20T00:00:00Z\nexpires: 2027-01-01T00:00:00Z\n" +
		"images:\n  - {path: ../x, size: 1, manifest: {manifest: 1}}\n"))
	f.Fuzz(func(t *testing.T, raw []byte) {
		feed, err := shelf.ParseFeed("feed.yaml", raw)
		if err != nil {
			return
		}
		for _, e := range feed.Images {
			if !filepath.IsLocal(filepath.FromSlash(e.Path)) || len(e.Manifest.SHA256) != 64 {
				t.Errorf("an image that leads out of the feed, or without a digest: %+v", e)
			}
		}
	})
}

func newKey(t *testing.T) ssh.Signer {
	raw, _, err := signature.NewKey("")
	require.NoError(t, err)
	signer, err := signature.Signer(raw, nil, "")
	require.NoError(t, err)
	return signer
}

// The certificates by which the server of a feed is trusted are remembered with the feed.
func TestCertificatesAreRememberedWithTheFeed(t *testing.T) {
	dir, key := feedOf(t)
	server := httptest.NewTLSServer(http.FileServer(http.Dir(dir)))
	defer server.Close()
	ca := string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: server.Certificate().Raw}))
	s := open(t)
	stored, err := s.FeedCA(server.URL)
	require.NoError(t, err)
	assert.Empty(t, stored)
	client, err := shelf.FeedClient(ca)
	require.NoError(t, err)
	_, err = (&shelf.Puller{Shelf: s, Source: server.URL, Key: key, CA: ca, Client: client,
		Now: time.Now}).Index(t.Context())
	require.NoError(t, err)
	stored, err = s.FeedCA(server.URL)
	require.NoError(t, err)
	assert.Equal(t, ca, stored)
	client, err = shelf.FeedClient(stored)
	require.NoError(t, err)
	_, err = (&shelf.Puller{Shelf: s, Source: server.URL, Client: client, Now: time.Now}).Index(t.Context())
	require.NoError(t, err)
	stored, err = s.FeedCA(server.URL)
	require.NoError(t, err)
	assert.Equal(t, ca, stored, "a pull without --ca does not forget them")
	_, err = shelf.FeedClient("nothing of the kind")
	assert.EqualError(t, err, "it contains no certificate")
}

func TestPullsAFewAtATime(t *testing.T) {
	var files []file
	for i := range 12 {
		f := file{fmt.Sprintf("m%d.bin", i), fmt.Sprintf("image %d", i)}
		files = append(files, f, manifestFor(fmt.Sprintf("M-%d", i), "1.0", f.name, f.body))
	}
	source := open(t)
	add(t, source, write(t, t.TempDir(), files...))
	images, err := source.List()
	require.NoError(t, err)
	private := newKey(t)
	public := private.PublicKey()
	dir := filepath.Join(t.TempDir(), "feed")
	require.NoError(t, source.MakeFeed(dir,
		shelf.Feed{Name: "Wexcombe", Number: 1, Expires: time.Now().Add(time.Hour)}, images,
		private))

	var now, most atomic.Int32
	met := make(chan struct{}) // closed once two are fetched at the same time
	var once sync.Once
	server := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		n := now.Add(1)
		defer now.Add(-1)
		for m := most.Load(); n > m && !most.CompareAndSwap(m, n); m = most.Load() {
		}
		if n > 1 {
			once.Do(func() { close(met) })
		}
		if !strings.Contains(r.URL.Path, "feed.") {
			select {
			case <-met:
			case <-time.After(time.Minute): // no one comes: the check below fails
			}
		}
		http.ServeFile(w, r, filepath.Join(dir, filepath.FromSlash(r.URL.Path)))
	}))
	defer server.Close()
	s := open(t)
	p := &shelf.Puller{Shelf: s, Source: server.URL, Key: public, Client: server.Client(),
		Now: time.Now}
	f, err := p.Index(context.Background())
	require.NoError(t, err)
	p.Pull(context.Background(), s.Missing(f))
	assert.Empty(t, s.Missing(f))
	assert.LessOrEqual(t, most.Load(), int32(4))
	assert.Greater(t, most.Load(), int32(1), "several at once")
}
