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
	"path/filepath"
	"time"

	"catena/internal/bundle"
	"catena/internal/ledger"
	"catena/internal/office"
	"catena/internal/place"
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

// Folder is where an office has the ledgers that it has verified, and the SQLite database.
const Folder = "record"

// Recorder copies the records of an office.
type Recorder struct {
	Office *office.Office
	// As are the credentials of the office itself, at the address of its server.
	As office.Credentials
	To Database
	// By is the writer of the ledgers of Folder, to which nothing is added.
	By  ledger.Writer
	Now func() time.Time
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
func (r Recorder) Once(ctx context.Context) (out []Done, err error) {
	sites, err := r.Office.Sites()
	if err != nil {
		return nil, err
	}
	seen := map[string]bool{}
	for _, s := range sites {
		if seen[s.Name] {
			continue // it was removed once, and added again
		}
		seen[s.Name] = true
		done, err := r.site(ctx, s.Name)
		if err != nil {
			return out, err
		}
		out = append(out, done)
	}
	return out, nil
}

// site copies one site. Its error is one of the connection, or of the database.
func (r Recorder) site(ctx context.Context, name string) (d Done, err error) {
	d.Site = name
	as := r.As
	as.Site = name
	at, err := place.OpenOffice(ctx, as)
	if errors.Is(err, place.ErrNoRecord) {
		return d, nil // the server will make it
	}
	if err != nil {
		return d, err
	}
	defer at.Close()
	folders, err := bundle.SitesAt(at)
	if err != nil {
		return d, err
	}
	for folder, id := range folders {
		n, problems, err := r.folder(ctx, at, name, folder, id)
		d.Entries += n
		d.Problems = append(d.Problems, problems...)
		if err != nil {
			return d, err
		}
	}
	return d, nil
}

// folder copies the record of one site.
func (r Recorder) folder(ctx context.Context, at place.Place, name, folder, id string) (n int,
	problems []string, err error) {
	dir := filepath.Join(r.Office.Dir, Folder, name, id)
	l, err := ledger.Create(dir, r.Now, r.By)
	if err != nil {
		return 0, nil, err
	}
	defer func() { err = errors.Join(err, l.Close()) }()
	taken, err := bundle.Mirror(ctx, at, folder, dir, l)
	if err != nil {
		return 0, taken.Problems, fmt.Errorf("%s: %w", name, err)
	}
	n, err = r.copy(ctx, Site{id, name}, l)
	return n, taken.Problems, err
}

// copy adds what the database lacks of a ledger.
func (r Recorder) copy(ctx context.Context, s Site, l *ledger.Ledger) (n int, err error) {
	has, err := r.To.Recorded(ctx, s.ID)
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
			if err := r.To.Add(ctx, s, chains, entries); err != nil {
				return n, err
			}
			n, after = n+len(entries), entries[len(entries)-1].N
		}
	}
	return n, nil
}
