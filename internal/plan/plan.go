// Package plan decides what jobs do at a site: which devices an order takes and on which path,
// whether it may still be carried out, when it starts, and what continues, ends or returns a job.
// It starts the engine of package job, and asks no one: whoever calls it asks first.
//
// Its central type is Site, an open site in which jobs can be planned.
package plan

import (
	"sync"
	"time"

	"catena/internal/lease"
	"catena/internal/ledger"
	"catena/internal/workspace"
)

// Site is an open site whose jobs are planned.
type Site struct {
	*workspace.Workspace
	now    func() time.Time
	board  *lease.Board // what other machines say; nil: the site has no office, or it is not reached
	unseen error        // why it is not
	// changing lets the changes of this process that are said at the office go one after the other.
	changing sync.Mutex
}

// Row is a component of a device, matched.
type Row = workspace.Row

// Open opens a site folder. The caller closes it.
func Open(dir string, now func() time.Time, by ledger.Writer) (*Site, error) {
	w, err := workspace.Open(dir, now, by)
	if err != nil {
		return nil, err
	}
	return &Site{Workspace: w, now: now}, nil
}
