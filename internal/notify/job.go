package notify

import (
	"fmt"
	"strings"
	"sync/atomic"
	"time"

	"catena/internal/job"
	"catena/internal/ledger"
	"catena/internal/words"
)

// Job is a job that is followed.
type Job struct {
	Ledger *ledger.Ledger
	Site   string // its name
	ID     string
	After  int64 // of a resumed job: entries up to this number were told of already
	Now    func() time.Time
}

// How a job is followed.
const (
	followEvery   = time.Second
	windowWarning = 15 * time.Minute // the end of the window is told of so long before
)

// FollowJob calls tell for each event of a job, until the returned function is called; that tells
// of its end, if it has ended.
func FollowJob(j Job, tell func(Event)) (stop func()) {
	n := &teller{Job: j, follow: job.Follow(j.Ledger, j.ID), tell: tell}
	var over atomic.Bool
	done := make(chan struct{})
	go func() {
		defer close(done)
		for !over.Load() {
			n.look()
			time.Sleep(followEvery)
		}
	}()
	return func() {
		over.Store(true)
		<-done
		n.look()
		n.end()
	}
}

// teller follows a job. It is for one goroutine at a time.
type teller struct {
	Job
	follow  *job.Follower
	tell    func(Event)
	started bool
	warned  bool // of the window
}

func (n *teller) say(s job.State, kind Kind, device, format string, args ...any) {
	counts := map[string]int{}
	for _, d := range s.Devices {
		counts[string(d.Step)]++
	}
	n.tell(Event{Kind: kind, At: n.Now().UTC(), Site: n.Site, Job: s.ID, Order: s.Name, Device: device,
		Text: fmt.Sprintf(format, args...), Counts: counts})
}

// look tells of what happened since it looked last. A ledger that cannot be read now is looked at
// later.
func (n *teller) look() {
	s, err := n.follow.Look()
	if err != nil {
		return
	}
	if !n.started {
		n.started = true
		word := "started"
		if n.After > 0 {
			word = "continues"
		}
		n.say(s, Start, "", "Job %s at %s %s: %s.", s.ID, n.Site, word, words.Plural(len(s.Devices),
			"device"))
	}
	names := map[string]string{}
	for _, d := range s.Devices {
		names[d.ID] = d.Name
	}
	events, err := job.Events(n.Ledger, n.ID, n.After, names)
	if err != nil {
		return
	}
	for _, e := range events {
		n.After = e.Seq
		switch {
		case e.Asks != "":
			n.say(s, Asks, e.Name, "%s waits for an operator: %s", e.Name, e.Asks)
		case e.Step == job.Stranded:
			n.say(s, Stranded, e.Name, "%s is stranded: %s.", e.Name, e.Reason)
		case e.Step == job.Restarting:
			if downstream := s.Order.Downstream(e.Device); len(downstream) > 0 {
				n.say(s, CutOff, e.Name, "%s restarts; cut off during that: %s.", e.Name,
					strings.Join(downstream,
						", "))
			}
		}
	}
	closes := s.Order.Closes
	if left := closes.Sub(n.Now()); !closes.IsZero() && !n.warned && left > 0 &&
		left < windowWarning && s.Ended.IsZero() {
		n.warned = true
		n.say(s, Window, "", "The window closes at %s; job %s still has %s to end.",
			closes.Local().Format("15:04"), s.ID,
			words.Plural(len(s.Devices)-s.EndedCount(), "device"))
	}
}

// end tells of the end of a job that has one.
func (n *teller) end() {
	if s, err := n.follow.Look(); err == nil && !s.Ended.IsZero() {
		n.say(s, End, "", "Job %s at %s: %s.", s.ID, n.Site, s.Result())
	}
}
