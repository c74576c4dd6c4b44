package rehearse

import (
	"context"
	"path/filepath"
	"slices"
	"time"

	"catena/internal/dialect"
	"catena/internal/dialect/scripted"
	"catena/internal/files"
	"catena/internal/order"
)

// A device whose family has a recording is played by the steps of its family: they are taken as
// ever, and what was recorded answers them. Nothing of it goes over a wire; its time is scaled like
// that of the others.

// Recorded is what one device of a family answered when it was read and updated.
type Recorded struct {
	Family    scripted.Dialect
	Recording scripted.Recording
}

// Recordings are those of folders families/recordings/ in others, whose families the registry has.
func Recordings(known dialect.Registry, folders ...string) (out []Recorded, err error) {
	for _, folder := range folders {
		names, err := files.In(filepath.Join(folder, "families", "recordings"), "*.json")
		if err != nil {
			return nil, err
		}
		for _, name := range names {
			r, err := scripted.ReadRecording(name)
			if err != nil {
				return nil, err
			}
			d, _ := known.Named(r.Family)
			if family, is := d.(scripted.Dialect); is {
				out = append(out, Recorded{Family: family, Recording: r})
			}
		}
	}
	return out, nil
}

// recordingOf is the recording that plays a device: of its family, with an update of the component
// that its order is for; one of its own model before another.
func recordingOf(all []Recorded, a *actor) *Recorded {
	best := -1
	for i, r := range all {
		u := r.Recording.Update
		if u == nil || r.Recording.Family != a.known.Dialect ||
			slices.ContainsFunc(a.row.Path,
				func(h order.Hop) bool { return h.Component != u.Component }) {
			continue
		}
		if best < 0 || r.Recording.Reading.Model == a.known.Model &&
			all[best].Recording.Reading.Model != a.known.Model {
			best = i
		}
	}
	if best < 0 {
		return nil
	}
	return &all[best]
}

// act is the session that plays a device by its recording; nil: it only takes its time.
func (s *Stage) act(id string) dialect.Session {
	a := s.all[id]
	if a == nil || a.by == nil {
		return nil
	}
	return a.by.Family.Act(a.by.Recording, func() scripted.Act {
		s.mu.Lock()
		defer s.mu.Unlock()
		return scripted.Act{Images: a.images, Fresh: a.fresh}
	})
}

// recordedUpdate is an update whose steps are taken, and answered by a recording.
type recordedUpdate struct {
	*update
	steps dialect.Update
}

func (u recordedUpdate) Traits() dialect.Traits {
	t := u.steps.Traits()
	t.Restarts = 0
	return t
}

func (u recordedUpdate) Interlock(ctx context.Context) error { return u.steps.Interlock(ctx) }

func (u recordedUpdate) Ready(ctx context.Context, image dialect.Image) error {
	return u.steps.Ready(ctx, image)
}

func (u recordedUpdate) Transfer(ctx context.Context, image dialect.Image, sent func(int64)) error {
	a := u.session.actor()
	u.session.stage.mu.Lock()
	a.images, a.fresh = a.images+1, false
	u.session.stage.mu.Unlock()
	if err := u.update.Transfer(ctx, image, sent); err != nil {
		return err
	}
	was := a.by.Recording.Update.Image
	err := u.steps.Transfer(ctx, dialect.Image{ReaderAt: nothing{}, Size: int64(was.Size),
		SHA256: was.SHA256}, func(int64) {})
	if err == nil && u.Traits().RestartsByItself {
		time.AfterFunc(time.Until(u.written),
			func() { _ = u.update.Activate(context.Background()) })
	}
	return err
}

func (u recordedUpdate) Progress(ctx context.Context) (int, error) {
	if percent, err := u.update.Progress(ctx); err != nil || percent < 100 {
		return percent, err
	}
	return u.steps.Progress(ctx)
}

func (u recordedUpdate) Activate(ctx context.Context) error {
	if err := u.steps.Activate(ctx); err != nil {
		return err
	}
	return u.update.Activate(ctx)
}
