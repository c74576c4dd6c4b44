// Package fleet looks at many sites at once: at the folders that a company's laptops have, each
// synced with the others of its site.
//
// Its central type is Fleet. It reads, and changes nothing.
package fleet

import (
	"cmp"
	"errors"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"catena/internal/firmware/version"
	"catena/internal/job"
	"catena/internal/ledger"
	"catena/internal/match"
	"catena/internal/plan"
	"catena/internal/record"
	"catena/internal/shelf"
	"catena/internal/workspace"
)

// Fleet are the sites of a folder, by name.
type Fleet struct {
	Sites []Site
	// Older are folders that were left out, each with a newer folder of the same site.
	Older [][2]string
}

// Site is one site as its folder has it.
type Site struct {
	Name   string
	Folder string
	Rows   []workspace.Row
	Jobs   []job.State // the newest of them last
	Last   time.Time   // of the newest entry of its ledger
	Err    error       // why it cannot be read; nil: it can
	ID     string      // of the site, in all of its folders
}

// Reading is what a fleet is read with.
type Reading struct {
	Shelf *shelf.Shelf // nil: devices are not compared, and there are no rows
	Now   func() time.Time
	By    ledger.Writer
	Jobs  int // the newest jobs of each site that are read; 0: none
	// Since has all jobs since a time read instead; zero: none are.
	Since time.Time
}

// NoSitesError is returned for a folder without site folders.
type NoSitesError struct{ Dir string }

func (e *NoSitesError) Error() string { return "no folder in " + e.Dir + " is a site folder" }

// In are the site folders of a folder. Its errors are a NoSitesError, and those of the folder.
func In(dir string) (out []string, err error) {
	entries, err := os.ReadDir(dir)
	if err != nil {
		return nil, err
	}
	for _, e := range entries {
		if folder := filepath.Join(dir, e.Name()); workspace.IsSite(folder) {
			out = append(out, folder)
		}
	}
	if len(out) == 0 {
		return nil, &NoSitesError{dir}
	}
	return out, nil
}

// Read reads site folders. A site that cannot be read is there with the reason.
func Read(folders []string, r Reading) (f Fleet) {
	for _, folder := range folders {
		f.Sites = append(f.Sites, Site{Folder: folder})
	}
	var group errgroup.Group
	group.SetLimit(runtime.NumCPU())
	for i := range f.Sites {
		group.Go(func() error {
			f.Sites[i].read(r)
			return nil
		})
	}
	_ = group.Wait() // each has its own error
	slices.SortStableFunc(f.Sites, func(a, b Site) int {
		return cmp.Or(strings.Compare(a.Name, b.Name), b.Last.Compare(a.Last))
	})
	newest := map[string]string{} // the folder of each site, by its ID
	f.Sites = slices.DeleteFunc(f.Sites, func(s Site) bool {
		other := newest[s.ID]
		switch {
		case s.Err != nil:
			return false
		case other != "":
			f.Older = append(f.Older, [2]string{s.Folder, other})
			return true
		}
		newest[s.ID] = s.Folder
		return false
	})
	return f
}

// Folders are those of the sites that can be read, by the ID of the site.
func (f Fleet) Folders() map[string]string {
	out := map[string]string{}
	for _, s := range f.Sites {
		if s.Err == nil {
			out[s.ID] = s.Folder
		}
	}
	return out
}

// Choose returns the rows of a choice, site by site, or sorted over all sites where it says by
// what. Its errors are a workspace.WhereError and a workspace.ColumnError.
func (f Fleet) Choose(c workspace.Choice) (out []workspace.Row, err error) {
	out = []workspace.Row{}
	for _, s := range f.Sites {
		rows, err := c.Of(s.Rows)
		if err != nil {
			return nil, err
		}
		out = append(out, rows...)
	}
	if c.Sort != "" {
		version.SortBy(out, func(r *workspace.Row) string { return r.Field(c.Sort) }, nil)
	}
	return out, nil
}

// read fills in what the folder of a site has.
func (s *Site) read(r Reading) {
	s.Name = filepath.Base(s.Folder)
	w, err := plan.Open(s.Folder, r.Now, r.By)
	if err != nil {
		s.Err = err
		return
	}
	defer w.Close()
	s.Name = w.Name()
	if r.Shelf != nil {
		if err := w.Match(r.Shelf); err != nil {
			s.Err = err
			return
		}
		s.Rows = w.Rows
	}
	switch {
	case !r.Since.IsZero():
		s.Jobs, s.Err = w.JobsFor(nil, r.Since)
	case r.Jobs > 0:
		s.Jobs, s.Err = w.Jobs(r.Jobs)
	}
	origin, err := record.OriginOf(w.Ledger)
	s.ID = origin.ID
	s.Err = errors.Join(s.Err, err)
	s.Last, err = w.LastEntry()
	s.Err = errors.Join(s.Err, err)
}

// Unread are the sites that cannot be read.
func (f Fleet) Unread() (out []Site) {
	for _, s := range f.Sites {
		if s.Err != nil {
			out = append(out, s)
		}
	}
	return out
}

// Tally is how the devices of a site are.
type Tally struct {
	Site     string         `json:"site"`
	Devices  int            `json:"devices"`
	Statuses map[string]int `json:"statuses"`
	Last     time.Time      `json:"last,omitzero"`    // of the newest entry
	Reason   string         `json:"reason,omitempty"` // why it cannot be read
}

// Tallies counts the rows of a choice by site, the sites that need a person most first. Its errors
// are those of Choose.
func (f Fleet) Tallies(c workspace.Choice) ([]Tally, error) {
	out := []Tally{}
	for _, s := range f.Sites {
		rows, err := c.Of(s.Rows)
		if err != nil {
			return nil, err
		}
		t := Tally{Site: s.Name, Statuses: map[string]int{}, Last: s.Last}
		if s.Err != nil {
			t.Reason = s.Err.Error()
		}
		for _, r := range workspace.Mains(rows) {
			t.Devices++
			t.Statuses[r.Status]++
		}
		if t.Devices > 0 || t.Reason != "" || c.Where == "" {
			out = append(out, t)
		}
	}
	slices.SortStableFunc(out, func(a, b Tally) int { return a.urgency() - b.urgency() })
	return out, nil
}

// urgency is the place, among the statuses, of the first one that the site has.
func (t Tally) urgency() int {
	for i, s := range match.Statuses {
		if t.Statuses[string(s)] > 0 {
			return i
		}
	}
	return len(match.Statuses)
}
