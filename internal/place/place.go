// Package place reads and writes files where several machines reach them: in a folder (a stick, a
// share of the network), on an SFTP server, or on a WebDAV server (RFC 4918).
//
// Its central type is Place. What is read there may come from anyone; whoever reads it checks it.
package place

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"net/http"
	"net/url"
	"os"
	"path"
	"path/filepath"
	"runtime"
	"strings"
	"time"

	"github.com/pkg/sftp"
	"github.com/studio-b12/gowebdav"

	"catena/internal/atomicfile"
	"catena/internal/login"
	"catena/internal/wire"
)

// Place is open until it is closed; it is for one goroutine. Paths have slashes.
type Place interface {
	// Names returns the names in a folder; none where the folder is missing.
	Names(folder string) ([]string, error)
	// Get opens a file at a number of bytes; the caller closes it. Its error is fs.ErrNotExist where
	// there is none.
	Get(file string, from int64) (io.ReadCloser, error)
	// Put writes a file, whole or not at all; its folder is made.
	Put(file string, from io.ReadSeeker) error
	Close()
}

// First is a place at which a file that was written is never replaced: who writes it first is known
// to all.
type First interface {
	// PutFirst writes a small file unless it is there, and returns what is there then.
	PutFirst(file string, content []byte) ([]byte, error)
}

// Contact is how a server is reached.
type Contact struct {
	// Login returns the login for a host; false: there is none.
	Login func(host string) (login.Credential, bool)
	// Trust decides about the host key of an SFTP server, at host:port.
	Trust func(address string) wire.Trust
}

// IsServer tells whether a text names a server, and not a folder.
func IsServer(to string) bool { return strings.Contains(to, "://") }

// Open opens a place: a folder, sftp://HOST/PATH or https://HOST/PATH. A folder must be there:
// one that is missing is a stick that was not inserted.
func Open(ctx context.Context, to string, c Contact) (Place, error) {
	if !IsServer(to) {
		info, err := os.Stat(to)
		if err == nil && !info.IsDir() {
			err = fmt.Errorf("%s is not a folder", to)
		}
		if err != nil {
			return nil, err
		}
		return folder{to, info.Mode().Perm() | 0o700}, nil
	}
	u, err := url.Parse(to)
	if err != nil {
		return nil, errors.New("it is not an address: " + to)
	}
	as, has := c.Login(u.Hostname())
	switch u.Scheme {
	case "https", "http":
		if has && u.Scheme == "http" {
			return nil, errors.New("its login would be sent in the clear: write https://")
		}
		w := gowebdav.NewClient(to, as.User, as.Password)
		w.SetTransport(&http.Transport{Proxy: nil})
		return webdav{w}, nil
	case "sftp":
		if !has {
			return nil, fmt.Errorf("no login is known for %s", u.Hostname())
		}
		return openSFTP(ctx, u, as, c)
	}
	return nil, fmt.Errorf("%s: is neither a folder, https:// nor sftp://", u.Scheme)
}

func openSFTP(ctx context.Context, u *url.URL, as login.Credential, c Contact) (Place, error) {
	address := u.Host
	if u.Port() == "" {
		address = net.JoinHostPort(u.Hostname(), "22")
	}
	conn, err := wire.DialSSH(ctx, address, as, c.Trust(address))
	if err != nil {
		return nil, err
	}
	stop := context.AfterFunc(ctx, conn.Close)
	files, err := conn.Files()
	if err != nil {
		conn.Close()
		return nil, err
	}
	return overSFTP{files, strings.TrimSuffix(u.Path, "/"), func() { stop(); conn.Close() }}, nil
}

// folder is on a disk. What is put there is as open to others as the folder itself.
type folder struct {
	path string
	perm fs.FileMode
}

func (f folder) at(file string) string {
	return filepath.Join(f.path, filepath.FromSlash(file))
}

func (f folder) Names(in string) (out []string, err error) {
	entries, err := os.ReadDir(f.at(in))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	for _, e := range entries {
		out = append(out, e.Name())
	}
	return out, err
}

func (f folder) Get(file string, from int64) (io.ReadCloser, error) {
	if info, err := os.Stat(f.at(file)); err == nil && !info.Mode().IsRegular() {
		return nil, fmt.Errorf("%s is not a regular file", f.at(file))
	}
	r, err := os.Open(f.at(file))
	if err == nil {
		_, err = r.Seek(from, io.SeekStart)
	}
	return r, err
}

func (f folder) Put(file string, from io.ReadSeeker) error {
	if err := f.makeFolder(path.Dir(file)); err != nil {
		return err
	}
	return atomicfile.Write(f.at(file), f.perm&^0o111, func(w io.Writer) error {
		_, err := io.Copy(w, from)
		return err
	})
}

// makeFolder makes a folder and those above it, whatever this user's umask says.
func (f folder) makeFolder(in string) error {
	if in == "." {
		return nil
	}
	if err := f.makeFolder(path.Dir(in)); err != nil {
		return err
	}
	err := os.Mkdir(f.at(in), f.perm)
	if errors.Is(err, fs.ErrExist) {
		return nil
	}
	if err == nil && runtime.GOOS != "windows" {
		err = os.Chmod(f.at(in), f.perm)
	}
	return err
}

func (folder) Close() {}

// unfinished ends the name of a file that is on its way.
const unfinished = ".part"

// webdav is a server of RFC 4918.
type webdav struct{ *gowebdav.Client }

// A request to a WebDAV server may take a minute, and longer for files: a slow uplink has 32 KiB/s.
const (
	requestWithin = time.Minute
	slowest       = 32 << 10
	longest       = time.Hour
)

func (c webdav) Names(in string) (out []string, err error) {
	c.SetTimeout(requestWithin)
	entries, err := c.ReadDir(in)
	if gowebdav.IsErrNotFound(err) {
		return nil, nil
	}
	for _, e := range entries {
		out = append(out, e.Name())
	}
	return out, err
}

func (c webdav) Get(file string, from int64) (r io.ReadCloser, err error) {
	c.SetTimeout(longest)
	if from > 0 {
		r, err = c.ReadStreamRange(file, from, 0)
	} else {
		r, err = c.ReadStream(file)
	}
	if gowebdav.IsErrNotFound(err) {
		err = fs.ErrNotExist
	}
	return r, err
}

func (c webdav) Put(file string, from io.ReadSeeker) error {
	size, err := from.Seek(0, io.SeekEnd)
	if err == nil {
		_, err = from.Seek(0, io.SeekStart)
	}
	if err != nil {
		return err
	}
	c.SetTimeout(requestWithin + time.Duration(size/slowest)*time.Second)
	if err := c.MkdirAll(path.Dir(file), 0o700); err != nil {
		return err
	}
	if err := c.WriteStream(file+unfinished, from, 0o600); err != nil {
		return err
	}
	return c.Rename(file+unfinished, file, true)
}

func (webdav) Close() {}

type overSFTP struct {
	*sftp.Client
	root string
	end  func()
}

func (c overSFTP) Names(in string) (out []string, err error) {
	entries, err := c.ReadDir(path.Join(c.root, in))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	for _, e := range entries {
		out = append(out, e.Name())
	}
	return out, err
}

func (c overSFTP) Get(file string, from int64) (io.ReadCloser, error) {
	r, err := c.Open(path.Join(c.root, file))
	if err != nil {
		return nil, err
	}
	_, err = r.Seek(from, io.SeekStart)
	return r, err
}

func (c overSFTP) Put(file string, from io.ReadSeeker) error {
	at := path.Join(c.root, file)
	if err := c.MkdirAll(path.Dir(at)); err != nil {
		return err
	}
	f, err := c.Create(at + unfinished)
	if err != nil {
		return err
	}
	_, err = f.ReadFrom(from)
	if err := errors.Join(err, f.Close()); err != nil {
		return err
	}
	return c.PosixRename(at+unfinished, at)
}

func (c overSFTP) Close() {
	_ = c.Client.Close() // all was written
	c.end()
}
