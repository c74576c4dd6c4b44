// Package lease keeps the machines of one site apart that cannot see each other's processes: each
// says at the office which devices its jobs have open, before it starts one, and reads what the
// others have said.
//
// Its central type is Board. All that a machine says is one message, in a key-value
// bucket of the site. The office takes a message that adds a device only if no machine has said
// anything new since its sender has read the others: so of two that start at the same moment, one
// reads again, and the rules of the site hold for both together. What a machine has said stays
// until it says something else, or until a person gives its job up: whether it is alive is told
// apart, by when it was heard.
package lease

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"

	"catena/internal/office"
	"catena/internal/order"
	"catena/internal/place"
	"catena/internal/text"
)

// Board is the connection of one machine with what the machines of its site have said. It is safe
// for concurrent use.
type Board struct {
	conn   *nats.Conn
	js     jetstream.JetStream
	stream jetstream.Stream
	prefix string // of the keys' subjects
	me     Machine
	end    context.CancelFunc
	ended  chan struct{}

	mu   sync.Mutex
	read uint64    // the newest message of any machine that Others has read
	gone []string  // the jobs of this one that were given up
	down time.Time // until then the office is not asked again
}

// Machine is who says something.
type Machine struct {
	ID   string `json:"id"`   // that of its chain of entries
	Name string `json:"name"` // for people
}

// ForChange is how a machine says what it changes outside of jobs: as another one beside itself,
// since its jobs and this change know nothing of each other's devices. Locks keep those apart. What
// it has said ends with it: a change whose process is not heard any more is over.
func (m Machine) ForChange() Machine {
	m.ID += outside
	return m
}

const outside = "-change"

// same reports whether two are one machine.
func (m Machine) same(as Machine) bool {
	return strings.TrimSuffix(m.ID, outside) == strings.TrimSuffix(as.ID, outside)
}

// statement is what a machine has said.
type statement struct {
	Machine
	Open []order.Foreign `json:"open"`           // jobs without the machine's name
	Gone []string        `json:"gone,omitempty"` // jobs that were given up at another machine
}

// What can be wrong; callers test with errors.Is.
var (
	// ErrUnseen is returned where the office does not answer: no one can tell what others do.
	ErrUnseen = errors.New("the office cannot be reached")
	// ErrTaken is returned where a person has given up the job of this machine at another one.
	ErrTaken = errors.New("the job was given up at another machine")
)

const (
	answerWithin = 5 * time.Second
	askAgain     = 15 * time.Second // after the office has not answered
	heardEvery   = 15 * time.Second
	aliveFor     = time.Minute // after it was heard; by the clock of the office
	mostSaid     = 256 << 10   // bytes of a statement
	mostMachines = 64
)

// Open opens the board of a site. Its errors are those of place.OpenOffice.
func Open(ctx context.Context, c office.Credentials, me Machine) (*Board, error) {
	within, cancel := context.WithTimeout(ctx, 2*answerWithin)
	defer cancel()
	conn, err := place.DialOffice(context.WithoutCancel(ctx), c, answerWithin)
	if err != nil {
		return nil, err
	}
	js, err := jetstream.New(conn, jetstream.WithDefaultTimeout(answerWithin))
	if err != nil {
		conn.Close()
		return nil, err
	}
	bucket := office.Bucket(c.Site)
	stream, err := js.Stream(within, "KV_"+bucket)
	if err != nil {
		conn.Close()
		return nil, fmt.Errorf("%w: %w", ErrUnseen, err)
	}
	live, end := context.WithCancel(context.WithoutCancel(ctx))
	b := &Board{conn: conn, js: js, stream: stream, prefix: "$KV." + bucket + ".", me: me, end: end,
		ended: make(chan struct{})}
	if err := b.heard(within); err != nil {
		b.end()
		conn.Close()
		return nil, fmt.Errorf("%w: %w", ErrUnseen, err)
	}
	go b.stayHeard(live)
	return b, nil
}

// Close ends the connection. What the machine has said stays.
func (b *Board) Close() {
	b.end()
	<-b.ended
	b.conn.Close()
}

// stayHeard says again and again that the machine is alive.
func (b *Board) stayHeard(ctx context.Context) {
	defer close(b.ended)
	tick := time.NewTicker(heardEvery)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
			_ = b.heard(ctx) // the next one may arrive; the jobs notice it on their own
		}
	}
}

func (b *Board) heard(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, answerWithin)
	defer cancel()
	_, err := b.js.Publish(ctx, b.prefix+"heard."+b.me.ID, nil)
	return err
}

// answer asks the office, unless it has just not answered.
func (b *Board) answer(ask func(context.Context) error) error {
	if time.Now().Before(b.down) {
		return ErrUnseen
	}
	ctx, cancel := context.WithTimeout(context.Background(), answerWithin)
	defer cancel()
	err := ask(ctx)
	if err != nil && !errors.Is(err, ErrTaken) {
		b.down = time.Now().Add(askAgain)
		return fmt.Errorf("%w: %w", ErrUnseen, err)
	}
	return err
}

// Others returns what other machines have open. A job is called as people here call it: NAME/j3;
// Interrupted says that its machine was not heard for a while. Its errors are ErrUnseen, and
// ErrTaken where the job of this machine that asks was given up.
func (b *Board) Others(job string) (out []order.Foreign, err error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	err = b.answer(func(ctx context.Context) error {
		said, heard, err := b.all(ctx)
		if err != nil {
			return err
		}
		out, b.read, b.gone = nil, 0, nil
		now := heard[b.me.ID]
		for _, m := range said {
			b.read = max(b.read, m.seq)
			if m.ID == b.me.ID {
				b.gone = m.Gone
			}
			silent := now.Sub(heard[m.ID]) > aliveFor
			if m.same(b.me) || silent && strings.HasSuffix(m.ID, outside) {
				continue
			}
			for _, f := range m.Open {
				f.Job = text.Clean(m.Name) + "/" + text.Clean(f.Job)
				f.Device.Name = text.Clean(f.Device.Name)
				f.Interrupted = silent
				out = append(out, f)
			}
		}
		if slices.Contains(b.gone, job) {
			return ErrTaken
		}
		return nil
	})
	return out, err
}

// message is a statement as the office has it.
type message struct {
	statement
	seq uint64
}

// all reads what every machine has said last, and when each was heard, by the office's clock.
func (b *Board) all(ctx context.Context) (said []message, heard map[string]time.Time, err error) {
	info, err := b.stream.Info(ctx, jetstream.WithSubjectFilter(b.prefix+">"))
	if err != nil {
		return nil, nil, err
	}
	heard = map[string]time.Time{}
	for subject := range info.State.Subjects {
		kind, id, _ := strings.Cut(strings.TrimPrefix(subject, b.prefix), ".")
		if len(heard)+len(said) > 2*mostMachines {
			return nil, nil, fmt.Errorf("more than %d machines", mostMachines)
		}
		m, err := b.stream.GetLastMsgForSubject(ctx, subject)
		if err != nil {
			return nil, nil, err
		}
		switch kind {
		case "heard":
			heard[id] = m.Time
		case "open":
			s := message{seq: m.Sequence}
			if len(m.Data) > mostSaid || json.Unmarshal(m.Data, &s.statement) != nil || s.ID != id {
				return nil, nil, fmt.Errorf("what the machine %s has said cannot be read", text.Clean(id))
			}
			said = append(said, s)
		}
	}
	return said, heard, nil
}

// Hold says which devices this machine has open. ok is false where another machine has said
// something since Others was called: then nothing was said. revision is the number of what is said
// now. Its error is ErrUnseen.
func (b *Board) Hold(open []order.Foreign) (revision uint64, ok bool, err error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	raw, err := json.Marshal(statement{b.me, open, b.gone})
	if err != nil {
		return 0, false, err
	}
	err = b.answer(func(ctx context.Context) error {
		ack, err := b.js.Publish(ctx, b.prefix+"open."+b.me.ID, raw,
			jetstream.WithExpectLastSequenceForSubject(b.read, b.prefix+"open.*"))
		var api *jetstream.APIError
		if errors.As(err, &api) && api.ErrorCode == jetstream.JSErrCodeStreamWrongLastSequence {
			return nil
		}
		if err == nil {
			revision, ok, b.read = ack.Sequence, true, ack.Sequence
		}
		return err
	})
	return revision, ok, err
}

// GiveUp takes a job out of what a machine has said, where a person has given it up. name and job
// are those of the machine and the job, as Others has them. found: it was there.
func (b *Board) GiveUp(name, job string) (found bool, err error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	err = b.answer(func(ctx context.Context) error {
		said, _, err := b.all(ctx)
		if err != nil {
			return err
		}
		for _, m := range said {
			if text.Clean(m.Name) != name {
				continue
			}
			left := []order.Foreign{}
			for _, f := range m.Open {
				if text.Clean(f.Job) != job {
					left = append(left, f)
				}
			}
			if len(left) == len(m.Open) {
				continue
			}
			raw, err := json.Marshal(statement{m.Machine, left, append(m.Gone, job)})
			if err != nil {
				return err
			}
			_, err = b.js.Publish(ctx, b.prefix+"open."+m.ID, raw,
				jetstream.WithExpectLastSequencePerSubject(m.seq))
			if err != nil {
				return err
			}
			found = true
		}
		return nil
	})
	return found, err
}
