package job

import (
	"context"
	"sync"

	"catena/internal/dialect"
)

// kin keeps what the children of a parent share open until the last of them has ended in this job:
// the login, the entry, the list.
type kin struct {
	mu      sync.Mutex
	stays   map[string]*dialect.Meeting // by device ID
	parting sync.WaitGroup
}

// gatherKin has all children of the job stay with their parents.
func (j *Job) gatherKin() {
	j.kin.stays = map[string]*dialect.Meeting{}
	for id, known := range j.plan.Devices {
		if known.Through == "" {
			continue
		}
		if at, _, ok := j.engine.Contact(known.Device); ok && at.Parent != nil {
			at.Parent.Meeting.Stay()
			j.kin.stays[id] = at.Parent.Meeting
		}
	}
}

// part has a child that has ended stay no longer. Its error is what cannot be left at the parent.
func (k *kin) part(ctx context.Context, id string) error {
	k.mu.Lock()
	m := k.stays[id]
	delete(k.stays, id)
	k.mu.Unlock()
	if m == nil {
		return nil
	}
	return m.Part(ctx)
}

// partLater is part for one that never began, while others go on.
func (k *kin) partLater(id string) {
	k.parting.Go(func() { _ = k.part(context.Background(), id) }) // what is left is kept, and left later
}
