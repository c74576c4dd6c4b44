package care

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/pkg/sftp"
	"github.com/studio-b12/gowebdav"

	"catena/internal/atomicfile"
	"catena/internal/contact"
	"catena/internal/files"
	"catena/internal/site"
	"catena/internal/wire"
)

// place is where copies of saved settings are kept besides the site's own folder. Paths have
// slashes.
type place interface {
	// names are the files in a folder; none where the folder is missing.
	names(folder string) ([]string, error)
	// put writes a file, whole or not at all; its folder is made.
	put(file string, raw []byte) error
	close()
}

// copyWithin bounds one request to a second place.
const copyWithin = time.Minute

// Copy copies the saves that a second place does not have yet, those of earlier times as well, to
// where site.yaml specifies; they are encrypted there as here. It returns how many it copied.
func Copy(ctx context.Context, x *contact.Access, dir string, s site.Site) (copied int, err error) {
	to := s.SecondPlace
	own := filepath.Join(dir, SettingsFolder)
	folders, err := os.ReadDir(own)
	if to == "" || errors.Is(err, os.ErrNotExist) {
		return 0, nil
	}
	if err != nil {
		return 0, err
	}
	at, err := openPlace(ctx, x, to)
	if err != nil {
		return 0, err
	}
	defer at.close()
	for _, f := range folders {
		if !f.IsDir() {
			continue
		}
		saves, err := files.In(filepath.Join(own, f.Name()), "*.age")
		if err != nil {
			return copied, err
		}
		in := path.Join(atomicfile.Word(s.Name), f.Name())
		there, err := at.names(in)
		if err != nil {
			return copied, err
		}
		for _, save := range saves {
			if slices.Contains(there, filepath.Base(save)) {
				continue
			}
			raw, err := os.ReadFile(save)
			if err == nil {
				err = ctx.Err()
			}
			if err == nil {
				err = at.put(path.Join(in, filepath.Base(save)), raw)
			}
			if err != nil {
				return copied, err
			}
			copied++
		}
	}
	return copied, nil
}

// openPlace opens a second place. Its login is the one that was added for its host.
func openPlace(ctx context.Context, x *contact.Access, to string) (place, error) {
	u, err := url.Parse(to)
	if err != nil || !strings.Contains(to, "://") {
		if _, err := os.Stat(to); err != nil { // a stick that is not in is not a folder to be made
			return nil, err
		}
		return folder(to), nil
	}
	as, has := x.Book.At(u.Hostname())
	if !has && u.Scheme == "sftp" {
		return nil, fmt.Errorf("no login is known for %s", u.Hostname())
	}
	switch u.Scheme {
	case "https", "http":
		if has && u.Scheme == "http" {
			return nil, errors.New("its login would be sent in the clear: write https://")
		}
		c := gowebdav.NewClient(to, as.User, as.Password)
		c.SetTimeout(copyWithin)
		c.SetTransport(&http.Transport{Proxy: nil, DisableKeepAlives: false})
		return webdav{c}, nil
	case "sftp":
		address := u.Host
		if u.Port() == "" {
			address = net.JoinHostPort(u.Hostname(), "22")
		}
		conn, err := wire.DialSSH(ctx, address, as, x.TrustFirst(address))
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
	return nil, fmt.Errorf("%s: is neither a folder, https:// nor sftp://", u.Scheme)
}

type folder string

func (f folder) names(in string) (out []string, err error) {
	entries, err := os.ReadDir(filepath.Join(string(f), filepath.FromSlash(in)))
	if errors.Is(err, os.ErrNotExist) {
		return nil, nil
	}
	for _, e := range entries {
		out = append(out, e.Name())
	}
	return out, err
}

func (f folder) put(file string, raw []byte) error {
	at := filepath.Join(string(f), filepath.FromSlash(file))
	if err := os.MkdirAll(filepath.Dir(at), 0o700); err != nil {
		return err
	}
	return atomicfile.Write(at, 0o600, func(w io.Writer) error {
		_, err := w.Write(raw)
		return err
	})
}

func (folder) close() {}

// unfinished ends the name of a file that is on its way.
const unfinished = ".part"

// webdav is a server of RFC 4918.
type webdav struct{ *gowebdav.Client }

func (c webdav) names(in string) (out []string, err error) {
	entries, err := c.ReadDir(in)
	if gowebdav.IsErrNotFound(err) {
		return nil, nil
	}
	for _, e := range entries {
		out = append(out, e.Name())
	}
	return out, err
}

func (c webdav) put(file string, raw []byte) error {
	if err := c.MkdirAll(path.Dir(file), 0o700); err != nil {
		return err
	}
	if err := c.WriteStream(file+unfinished, bytes.NewReader(raw), 0o600); err != nil {
		return err
	}
	return c.Rename(file+unfinished, file, true)
}

func (webdav) close() {}

type overSFTP struct {
	*sftp.Client
	root string
	end  func()
}

func (c overSFTP) names(in string) (out []string, err error) {
	entries, err := c.ReadDir(path.Join(c.root, in))
	if errors.Is(err, os.ErrNotExist) {
		return nil, nil
	}
	for _, e := range entries {
		out = append(out, e.Name())
	}
	return out, err
}

func (c overSFTP) put(file string, raw []byte) error {
	at := path.Join(c.root, file)
	if err := c.MkdirAll(path.Dir(at)); err != nil {
		return err
	}
	f, err := c.Create(at + unfinished)
	if err != nil {
		return err
	}
	_, err = f.Write(raw)
	if err := errors.Join(err, f.Close()); err != nil {
		return err
	}
	return c.PosixRename(at+unfinished, at)
}

func (c overSFTP) close() {
	_ = c.Close() // all was written
	c.end()
}
