// Package recorder copies the records of all sites of an office into a database, for questions over
// many sites: each entry once, by its digest, after its chain and its signatures were verified.
//
// Its central type is Recorder. The ledgers of the sites remain what counts: the database can be
// made from them again.
package recorder

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"catena/internal/bundle"
	"catena/internal/ledger"
	"catena/internal/office"
	"catena/internal/place"
	"catena/internal/workspace"
)

// Database is where entries are copied to.
type Database interface {
	// Recorded returns, by writer, the number of the last entry that the database has of a site.
	Recorded(ctx context.Context, site string) (map[string]int64, error)
	// Add adds entries of a site: all of them, or none, and none twice.
	Add(ctx context.Context, s Site, writers []ledger.Chain, entries []ledger.Recorded) error
	Close() error
}

// Site is a site as the database has it.
type Site struct{ ID, Name string }

// Folder is where an office has the site folders that it has verified, and the SQLite database.
const Folder = "record"

// Mirror has the site folders that an office keeps, and brings them up to date.
type Mirror struct {
	Office *office.Office
	// As are the credentials of the office itself, at the address of its server.
	As office.Credentials
	// By is the writer of their ledgers, to which nothing is added.
	By  ledger.Writer
	Now func() time.Time
}

// Recorder copies the records of an office.
type Recorder struct {
	Mirror
	To   Database
	busy sync.Mutex // of the database, which has one connection
}

// Done is what was copied of a site.
type Done struct {
	Site     string   `json:"site"` // its name at the office
	Entries  int      `json:"entries"`
	Problems []string `json:"problems,omitempty"` // what could not be verified, or read
}

// batch is how many entries are added at once.
const batch = 5000

// Once copies the new entries of every site. A site that cannot be read keeps no other from being
// copied. Its errors are those of the office and of the database.
func (r *Recorder) Once(ctx context.Context) (out []Done, err error) {
	return r.Each(ctx, func(s Site, l *ledger.Ledger) (int, error) { return r.copy(ctx, s, l) })
}

// Each takes the new entries of every site, several at a time, and then calls do, which returns a
// number of entries; nil: nothing is called. What cannot be read or verified of a site is one of
// its problems. Its errors are those of the office, of the folder, and of do.
func (m Mirror) Each(ctx context.Context,
	do func(Site, *ledger.Ledger) (int, error)) (out []Done, err error) {
	sites, err := m.Office.Sites()
	if err != nil {
		return nil, err
	}
	conn, err := place.DialOffice(ctx, m.As, dialWithin)
	if err != nil {
		return nil, err
	}
	defer conn.Close()
	var names []string
	for _, s := range sites {
		if !slices.Contains(names, s.Name) { // it may have been removed once, and added again
			names = append(names, s.Name)
		}
	}
	out = make([]Done, len(names))
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(runtime.NumCPU())
	for i, name := range names {
		group.Go(func() (err error) {
			at, err := place.AtOffice(ctx, conn, name)
			if errors.Is(err, place.ErrNoRecord) {
				return nil // the server will make it
			}
			if err == nil {
				out[i], err = m.site(ctx, at, name, do)
			}
			switch {
			case err != nil:
				return err
			case ctx.Err() != nil:
				return ctx.Err()
			case !conn.IsConnected():
				return place.ErrUnreachable
			}
			return nil
		})
	}
	err = group.Wait()
	return slices.DeleteFunc(out, func(d Done) bool { return d.Site == "" }), err
}

// dialWithin is how long the office may take to answer.
const dialWithin = 30 * time.Second

// site takes the new entries of one site, which may have been made twice.
func (m Mirror) site(ctx context.Context, at place.Place, name string,
	do func(Site, *ledger.Ledger) (int, error)) (d Done, err error) {
	d.Site = name
	folders, err := bundle.SitesAt(at)
	if err != nil {
		d.Problems = append(d.Problems, err.Error())
	}
	for folder, id := range folders {
		n, problems, err := m.folder(ctx, at, Site{id, name}, folder, do)
		d.Entries += n
		d.Problems = append(d.Problems, problems...)
		if err != nil {
			return d, err
		}
	}
	return d, nil
}

// folder takes the new entries of the record of one site.
func (m Mirror) folder(ctx context.Context, at place.Place, s Site, folder string,
	do func(Site, *ledger.Ledger) (int, error)) (n int, problems []string, err error) {
	dir := filepath.Join(m.Office.Dir, Folder, s.Name, s.ID)
	l, err := ledger.Create(dir, m.Now, m.By)
	if err != nil {
		return 0, nil, err
	}
	defer func() { err = errors.Join(err, l.Close()) }()
	taken, err := bundle.Mirror(ctx, at, folder, dir, l)
	if err != nil {
		return 0, append(taken.Problems, err.Error()), nil
	}
	if do != nil {
		n, err = do(s, l)
	}
	return n, taken.Problems, err
}

// Folders are the site folders that an office has, as they were brought up to date last.
func Folders(o *office.Office) (out []string, err error) {
	names, err := os.ReadDir(filepath.Join(o.Dir, Folder))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	for _, n := range names {
		dir := filepath.Join(o.Dir, Folder, n.Name())
		ids, err := os.ReadDir(dir)
		if err != nil {
			continue // the database is there, too
		}
		for _, id := range ids {
			if folder := filepath.Join(dir, id.Name()); workspace.IsSite(folder) {
				out = append(out, folder)
			}
		}
	}
	return out, nil
}

// copy adds what the database lacks of a ledger.
func (r *Recorder) copy(ctx context.Context, s Site, l *ledger.Ledger) (n int, err error) {
	r.busy.Lock()
	has, err := r.To.Recorded(ctx, s.ID)
	r.busy.Unlock()
	if err != nil {
		return 0, err
	}
	chains, err := l.Chains()
	if err != nil {
		return 0, err
	}
	for _, c := range chains {
		if c.Mine {
			continue
		}
		for after := has[c.Writer]; after < c.N; {
			if err := ctx.Err(); err != nil {
				return n, err
			}
			entries, err := l.Recorded(c.Writer, after, batch)
			if err != nil {
				return n, err
			}
			if len(entries) == 0 {
				return n, fmt.Errorf("the ledger of %s lacks entry %d of %s", s.Name, after+1, c.Name)
			}
			r.busy.Lock()
			err = r.To.Add(ctx, s, chains, entries)
			r.busy.Unlock()
			if err != nil {
				return n, err
			}
			n, after = n+len(entries), entries[len(entries)-1].N
		}
	}
	return n, nil
}
