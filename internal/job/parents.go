package job

import (
	"context"
	"sync"

	"catena/internal/dialect"
)

// parentSessions keeps what the children of a parent share open until the last of them has ended in
// this job: the login, the entry, the list.
type parentSessions struct {
	mu       sync.Mutex
	retained map[string]*dialect.SharedSession // by the child's ID
	leaving  sync.WaitGroup
}

// retainParents retains the shared session for every child of the job.
func (j *Job) retainParents() {
	j.parents.retained = map[string]*dialect.SharedSession{}
	for id, known := range j.plan.Devices {
		if known.Through == "" {
			continue
		}
		if at, _, ok := j.engine.Contacts.ContactOfJob(known.Device); ok && at.Parent != nil {
			at.Parent.Shared.Retain()
			j.parents.retained[id] = at.Parent.Shared
		}
	}
}

// release ends what a child has retained. Its error is what could not be undone at the parent.
func (p *parentSessions) release(ctx context.Context, id string) error {
	p.mu.Lock()
	m := p.retained[id]
	delete(p.retained, id)
	p.mu.Unlock()
	if m == nil {
		return nil
	}
	return m.Release(ctx)
}

// suspend closes what the children of a parent share there, before a session with the parent itself
// starts. What could not be undone remains recorded, and that session, or the next, undoes it.
func (j *Job) suspend(ctx context.Context, parent string) {
	ctx, cancel := context.WithTimeout(ctx, probeWithin)
	defer cancel()
	for id, known := range j.plan.Devices {
		if known.Through != parent {
			continue
		}
		j.parents.mu.Lock()
		m := j.parents.retained[id]
		j.parents.mu.Unlock()
		if m != nil {
			_ = m.Suspend(ctx)
			return // the others have the same
		}
	}
}

// releaseLater is release for a child that was never started, while others continue.
func (p *parentSessions) releaseLater(id string) {
	// its error changes nothing for the job
	p.leaving.Go(func() { _ = p.release(context.Background(), id) })
}

func (p *parentSessions) wait() { p.leaving.Wait() }
