package job

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"catena/internal/device"
	"catena/internal/ledger"
	"catena/internal/order"
)

// Kinds of the entries that are a job's.
const (
	Started     ledger.Kind = "job-started" // the body is the order.Order that it carries out
	StepStarted ledger.Kind = "step-begun"  // an effect is about to happen; the body is an Effect
	Over        ledger.Kind = "step-over"   // that effect is over; the body is an Effect
	Ended       ledger.Kind = "device-ended"
	// Stopping: an operator asked that no more devices start. The second one of a job asks that
	// lockstep sets that are half-updated are rolled back, too.
	Stopping ledger.Kind = "job-stopping"
	// Resumed: a process continues a job whose process died; the body is a resumedBody.
	Resumed ledger.Kind = "job-resumed"
	Closed  ledger.Kind = "job-closed"
	// Postponed: a device was away when it was checked, and is checked again; the body is a
	// postponedBody.
	Postponed ledger.Kind = "device-postponed"
	// Removed: a device must not start in this job; the body is an order.Reason.
	Removed ledger.Kind = "device-removed"
	// Dispatched: something that the dispatcher must know and no other entry records; the body is an
	// order.Event.
	Dispatched ledger.Kind = "job-dispatched"
	// StartMissed: the time of a scheduled job has passed, and someone was told so.
	StartMissed ledger.Kind = "job-start-missed"
	// Noted: a step takes longer than usual; the body is a Reason.
	Noted ledger.Kind = "device-noted"
	// Shown: what people see at a device from now on; the body is a shownBody.
	Shown ledger.Kind = "device-shows"
)

// dispatched returns what an entry means to the dispatcher; false: nothing. It is the only way in
// which a dispatcher learns of anything, in a job that runs as in one that is read back.
func dispatched(e ledger.Entry, stopped bool) (event order.Event, ok bool, err error) {
	event, ok = order.Event{At: e.At, Device: e.Device}, true
	switch e.Kind {
	case StepStarted:
		var b Effect
		err = json.Unmarshal(e.Body, &b)
		event.Kind = order.Writing
		if b.Step == Checking {
			event.Kind, event.Task = order.Started, order.Update
			if b.Direction == Back {
				event.Task = order.RollBack
			}
		}
	case Ended:
		var b endBody
		err = json.Unmarshal(e.Body, &b)
		event = b.event(e.Device, e.At)
	case Postponed:
		var b postponedBody
		err = json.Unmarshal(e.Body, &b)
		event.Kind, event.Until, event.Because = order.Postponed, b.Until, b.Because
	case Asked:
		var b askedBody
		err = json.Unmarshal(e.Body, &b)
		event.Kind, ok = order.Asks, !b.Busy
	case Removed:
		event.Kind, event.Why = order.Removed, &order.Reason{}
		err = json.Unmarshal(e.Body, event.Why)
	case Stopping:
		event.Kind = order.Stopped
		if stopped {
			event.Kind = order.Abandoned
		}
	case Resumed:
		var b resumedBody
		err = json.Unmarshal(e.Body, &b)
		event.Kind, event.Closes = order.Resumed, b.Closes
	case Dispatched:
		err = json.Unmarshal(e.Body, &event)
		event.At = e.At
	default:
		ok = false
	}
	return event, ok, err
}

// Direction is whether a step leads to the target or back.
type Direction string

const (
	Forward Direction = "forward"
	Back    Direction = "back"
)

// Effect is one step of one device, written down before it happens and again when it is
// over. It holds all that a process needs to continue after a crash.
type Effect struct {
	Step      Step      `json:"step"`
	Component string    `json:"component"`
	Hop       int       `json:"hop"` // its place on the path, from 0
	From      string    `json:"from"`
	Version   string    `json:"version"`          // of the image
	SHA256    string    `json:"sha256,omitempty"` // of the image; empty while nothing is sent
	Direction Direction `json:"direction"`
	// of the first of a task: the number by which other machines know that this one has the device
	Lease uint64 `json:"lease,omitempty"`

	// What is known once the effect is over.
	// after checking: what the device said while it was healthy
	Baseline *device.Reading `json:"baseline,omitempty"`
	// after checking: the IDs of the downstream devices that answered
	Downstream []string `json:"downstream,omitempty"`
	// after sending: how long the device announced to be away, in ns
	Down time.Duration `json:"down,omitempty"`
	// why it failed; none: it did not. Of one that starts: why it returns
	Cause *Reason `json:"cause,omitempty"`
}

// shownBody is the body of a Shown entry.
type shownBody struct {
	What string `json:"what"`
}

// resumedBody is the body of a Resumed entry.
type resumedBody struct {
	Closes time.Time `json:"closes,omitzero"` // when the window ends that is open now
}

// postponedBody is the body of a Postponed entry.
type postponedBody struct {
	Because string    `json:"because,omitempty"` // in words; empty: it was away
	Until   time.Time `json:"until"`
}

// Sentence says in words what a job's entry records; empty where the next entry says it: a
// step that is over and did not fail.
func Sentence(e ledger.Entry) string {
	words := map[ledger.Kind]func(json.RawMessage) (string, error){
		StepStarted: effectBegun, Over: effectOver, Answered: answerGiven, Dispatched: otherJobsNamed,
		Proved: verifiedAgain,
		Ended:  ended,
		Asked:  sentence(func(b askedBody) string { return "waits for an operator: " + b.What }),
		Postponed: sentence(func(b postponedBody) string {
			return (&order.Reason{Why: order.Away, Set: b.Because}).Error()
		}),
		Removed: sentence(func(b order.Reason) string { return b.Error() }),
		Noted:   sentence(func(b Reason) string { return b.Error() }),
		Shown:   sentence(func(b shownBody) string { return "at the device: " + b.What }),
	}[e.Kind]
	if words == nil {
		return string(e.Kind)
	}
	s, err := words(e.Body)
	if err != nil {
		return string(e.Kind)
	}
	return s
}

// sentence reads a body and words it.
func sentence[B any](words func(B) string) func(json.RawMessage) (string, error) {
	return func(raw json.RawMessage) (string, error) {
		var b B
		if err := json.Unmarshal(raw, &b); err != nil {
			return "", err
		}
		return words(b), nil
	}
}

func (b Effect) String() string {
	s := string(b.Step)
	if b.Step != Checking {
		s += " " + Label(b.Component, b.Version)
	}
	if b.Direction == Back {
		s += " (rollback)"
	}
	return s
}

var (
	effectBegun = sentence(Effect.String)
	effectOver  = sentence(func(b Effect) string {
		if b.Cause == nil {
			return ""
		}
		return b.String() + " failed: " + b.Cause.Error()
	})
	answerGiven = sentence(func(b answeredBody) string {
		if b.Skip {
			return "the operator skipped that: " + b.Because
		}
		return "the operator has done that"
	})
	otherJobsNamed = sentence(func(b order.Event) string {
		var names []string
		for _, o := range b.Others {
			names = append(names, o.Device.Name+" ("+o.Job+")")
		}
		if len(names) == 0 {
			return "" // the entries beside it say it
		}
		return "other jobs are updating " + strings.Join(names, ", ")
	})
	verifiedAgain = sentence(func(b Proof) string {
		if b.Cause == nil {
			return "verified again on " + b.Version
		}
		return "no longer as verified: " + b.Reason
	})
	ended = sentence(func(b endBody) string {
		s := string(b.End)
		if v := b.runs(); v != "" {
			s += ", runs " + v
		}
		if b.Cause != nil {
			s += ": " + b.Cause.Error()
		}
		return s
	})
)

// StreamFormat is the number of this form of an Event's JSON. Later ones may have more fields, and
// more kinds; what is there means the same.
const StreamFormat = 1

// Event is one entry of a job, for whoever follows it.
type Event struct {
	Stream int         `json:"stream"` // StreamFormat
	Seq    int64       `json:"seq"`    // of the ledger's entry; grows
	Kind   ledger.Kind `json:"kind"`
	At     time.Time   `json:"at"`
	Job    string      `json:"job"`
	Device string      `json:"device,omitempty"` // its ID
	Name   string      `json:"name,omitempty"`
	// the step that starts or is over, or the device's end
	Step      Step      `json:"step,omitempty"`
	To        string    `json:"to,omitempty"` // the component and version of the step
	Direction Direction `json:"direction,omitempty"`
	Version   string    `json:"version,omitempty"` // that the device runs, at its end
	Cause     *Reason   `json:"cause,omitempty"`
	Reason    string    `json:"reason,omitempty"` // the cause in words
	Asks      string    `json:"asks,omitempty"`   // what a person is asked to do at it
	Answer    string    `json:"answer,omitempty"` // done, or skipped
	Shows     string    `json:"shows,omitempty"`  // what people see at it from now on
}

// Events are the steps started, the questions and the ends of a job after the entry number after.
// names are those of its devices by ID.
func Events(l *ledger.Ledger, id string, after int64, names map[string]string) ([]Event, error) {
	all, err := Stream(l, id, after, names)
	return slices.DeleteFunc(all, func(e Event) bool {
		return e.Kind != StepStarted && e.Kind != Asked && e.Kind != Ended
	}), err
}

// Stream is all that happened in a job after the entry number after.
func Stream(l *ledger.Ledger, id string, after int64, names map[string]string) ([]Event, error) {
	entries, err := l.Entries(ledger.Filter{Job: id, After: after})
	if err != nil {
		return nil, err
	}
	var out []Event
	for _, e := range entries {
		ev := Event{Stream: StreamFormat, Seq: e.Seq, Kind: e.Kind, At: e.At, Job: id, Device: e.Device,
			Name: names[e.Device]}
		switch e.Kind {
		case StepStarted, Over:
			var b Effect
			err = json.Unmarshal(e.Body, &b)
			ev.Step, ev.To, ev.Direction = b.Step, Label(b.Component, b.Version), b.Direction
			if e.Kind == Over {
				ev.Cause, ev.Reason = b.Cause, b.Cause.Error()
			}
		case Asked:
			var b askedBody
			err = json.Unmarshal(e.Body, &b)
			ev.Asks = b.What
		case Answered:
			var b answeredBody
			err = json.Unmarshal(e.Body, &b)
			ev.Answer, ev.Reason = "done", b.Because
			if b.Skip {
				ev.Answer = "skipped"
			}
		case Postponed:
			var b postponedBody
			err = json.Unmarshal(e.Body, &b)
			ev.Reason = (&order.Reason{Why: order.Away, Set: b.Because}).Error()
		case Ended:
			var b endBody
			err = json.Unmarshal(e.Body, &b)
			ev.Step, ev.Version, ev.Cause, ev.Reason = b.End, b.runs(), b.Cause, b.Cause.Error()
		case Removed:
			var b order.Reason
			err = json.Unmarshal(e.Body, &b)
			ev.Reason = b.Error()
		case Noted:
			var b Reason
			err = json.Unmarshal(e.Body, &b)
			ev.Cause, ev.Reason = &b, b.Error()
		case Shown:
			var b shownBody
			err = json.Unmarshal(e.Body, &b)
			ev.Shows = b.What
		case Started, Stopping, Resumed, Closed:
		default:
			continue // not of what happens to its devices
		}
		if err != nil {
			return nil, unreadable(e, err)
		}
		out = append(out, ev)
	}
	return out, nil
}

func unreadable(e ledger.Entry, err error) error {
	return fmt.Errorf("%s of the ledger cannot be read: %w", e, err)
}
