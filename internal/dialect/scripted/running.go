package scripted

import (
	"context"
	"strconv"
	"sync/atomic"
	"time"

	"catena/internal/family"
)

// running is a command that runs for long and prints its progress. While it runs the session does
// nothing else: whoever asks for the progress waits for it.
type running struct {
	step    *family.Step
	percent atomic.Int64
	over    chan error // gets its end
	stop    context.CancelFunc
}

// runningLook is how long one look at a running command takes.
const runningLook = time.Second

// follow starts a step that tells its progress, or looks at the one that was started. ended: it is
// over, and how.
func (s *session) follow(ctx context.Context, step *family.Step) (percent int, ended bool,
	err error) {
	r := s.running
	if r == nil || r.step != step {
		s.reportSight(step)
		own, stop := context.WithCancel(context.WithoutCancel(ctx))
		r = &running{step: step, over: make(chan error, 1), stop: stop}
		s.running = r
		s.printed = func(all []byte) { r.look(all) }
		go func() { r.over <- s.step(own, step, nil) }()
	}
	look := time.NewTimer(runningLook)
	defer look.Stop()
	select {
	case err := <-r.over:
		r.stop()
		s.running, s.printed = nil, nil
		return 100, true, err
	case <-look.C:
	case <-ctx.Done():
	}
	return int(r.percent.Load()), false, nil
}

// progressTail is how much of the output is searched for the percent, in bytes. A device that
// prints byte by byte would otherwise have all of it searched for each.
const progressTail = 4 << 10

// look finds the newest percent in the output. It never goes back.
func (r *running) look(all []byte) {
	found := r.step.Progress.FindAllSubmatch(all[max(0, len(all)-progressTail):], -1)
	if len(found) == 0 {
		return
	}
	n, err := strconv.Atoi(string(found[len(found)-1][1]))
	if err == nil && int64(n) > r.percent.Load() {
		r.percent.Store(int64(min(n, 99)))
	}
}

// end stops waiting for a command that still runs; what it started on the device continues there.
func (r *running) end() {
	if r == nil {
		return
	}
	r.stop()
	<-r.over //nolint:errcheck // its outcome is not needed any more
}
