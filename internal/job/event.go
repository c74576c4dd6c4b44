package job

import (
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"catena/internal/device"
	"catena/internal/ledger"
	"catena/internal/order"
)

// Kinds of the entries that are a job's.
const (
	Started ledger.Kind = "job-started" // the body is the order.Order that it carries out
	Begun   ledger.Kind = "step-begun"  // an effect is about to happen; the body is an Effect
	Over    ledger.Kind = "step-over"   // that effect is over; the body is an Effect
	Ended   ledger.Kind = "device-ended"
	// a person asked that no more devices begin
	Stopping ledger.Kind = "job-stopping"
	// a Catena goes on with a job whose Catena died; the body is a resumedBody
	Resumed ledger.Kind = "job-resumed"
	Closed  ledger.Kind = "job-closed"
	// a device was away when it was checked, and is asked again; the body is a postponedBody
	Postponed ledger.Kind = "device-postponed"
)

// Direction is whether an image is on the way to the target or back.
type Direction string

const (
	Forth Direction = "forth"
	Back  Direction = "back"
)

// Effect is one step of one device, written down before it happens and again when it is
// over. It holds all that somebody who goes on after a crash must know.
type Effect struct {
	Step      Step      `json:"step"`
	Component string    `json:"component"`
	Hop       int       `json:"hop"` // its place on the path, from 0
	From      string    `json:"from"`
	Version   string    `json:"version"`          // of the image
	SHA256    string    `json:"sha256,omitempty"` // of the image; empty while nothing is sent
	Direction Direction `json:"direction"`

	// What is known once the effect is over.
	// after checking: what the device said while it was healthy
	Baseline *device.Reading `json:"baseline,omitempty"`
	// after checking: the IDs of those that answered through it
	Behind []string `json:"behind,omitempty"`
	// after sending: how long the device announced to be away, in ns
	Down  time.Duration `json:"down,omitempty"`
	Cause *Reason       `json:"cause,omitempty"` // why it failed; none: it did not. Of one that begins: why it returns
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

// endBody is the body of an Ended entry.

type endBody struct {
	End     Step    `json:"end"`
	Version string  `json:"version,omitempty"` // what it said last that it runs
	Cause   *Reason `json:"cause,omitempty"`
	Touched bool    `json:"touched,omitempty"` // an image was begun to be sent
	// from its check to its end, in ns; 0: a crash was in between
	Took time.Duration `json:"took,omitempty"`
}

// event is the end as the dispatcher has it.
func (b endBody) event(device string, at time.Time) order.Event {
	e := order.Event{At: at, Kind: order.Ended, Device: device, Outcome: order.AsBefore,
		Touched: b.Touched}
	switch b.End {
	case Done:
		e.Outcome = order.Well
	case Parked: // as it should be; it runs nothing new that could return
		e.Outcome, e.Touched = order.Well, false
	case Skipped:
		if b.Cause != nil && b.Cause.Why == ThereAlready {
			e.Outcome = order.Well
		}
	case Stranded:
		e.Outcome, e.Failure = order.Lost, true
		if b.Cause != nil && b.Cause.Why == NotBegun { // it is in service, on the wrong version
			e.Outcome = order.Well
		}
	case Failed, Returned:
		e.Failure = b.Touched
	}
	return e
}

// Sentence says in words what a job's entry records; empty where the next entry says it: a
// step that is over and did not fail.
func Sentence(e ledger.Entry) string {
	switch e.Kind {
	case Begun, Over:
		var b Effect
		if json.Unmarshal(e.Body, &b) != nil {
			break
		}
		s := string(b.Step)
		if b.Step != Checking {
			s += " " + Label(b.Component, b.Version)
		}
		if b.Direction == Back {
			s += ", on the way back"
		}
		switch {
		case e.Kind == Begun:
			return s
		case b.Cause != nil:
			return s + " failed: " + b.Cause.Error()
		}
		return ""
	case Asked:
		var b askedBody
		if json.Unmarshal(e.Body, &b) != nil {
			break
		}
		return "asks: " + b.What
	case Answered:
		var b answeredBody
		if json.Unmarshal(e.Body, &b) != nil {
			break
		}
		if b.Skip {
			return "a person skipped that: " + b.Because
		}
		return "a person has done that"
	case Postponed:
		var b postponedBody
		if json.Unmarshal(e.Body, &b) != nil {
			break
		}
		return (&order.Reason{Why: order.Away, Set: b.Because}).Error()
	case Proved:
		var b Proof
		if json.Unmarshal(e.Body, &b) != nil {
			break
		}
		if b.Cause == nil {
			return "proven once more on " + b.Version
		}
		return "its proof does not hold any more: " + b.Reason
	case Ended:
		var b endBody
		if json.Unmarshal(e.Body, &b) != nil {
			break
		}
		s := string(b.End)
		if b.Version != "" {
			s += ", it runs " + b.Version
		}
		if b.Cause != nil {
			s += ": " + b.Cause.Error()
		}
		return s
	}
	return string(e.Kind)
}

// StreamFormat is the number of this form of an Event's JSON. Later ones may have more fields, and more
// kinds; what is there means the same.
const StreamFormat = 1

// Event is one entry of a job for somebody who follows it.
type Event struct {
	Stream    int         `json:"stream"` // StreamFormat
	Seq       int64       `json:"seq"`    // of the ledger's entry; grows
	Kind      ledger.Kind `json:"kind"`
	At        time.Time   `json:"at"`
	Job       string      `json:"job"`
	Device    string      `json:"device,omitempty"` // its ID
	Name      string      `json:"name,omitempty"`
	Step      Step        `json:"step,omitempty"` // the step that begins or is over, or the device's end
	To        string      `json:"to,omitempty"`   // the component and version of the step
	Direction Direction   `json:"direction,omitempty"`
	Version   string      `json:"version,omitempty"` // that the device runs, at its end
	Cause     *Reason     `json:"cause,omitempty"`
	Reason    string      `json:"reason,omitempty"` // the cause in words
	Asks      string      `json:"asks,omitempty"`   // what a person is asked to do at it
	Answer    string      `json:"answer,omitempty"` // done, or skipped
}

// Events are the steps begun, the questions and the ends of a job after the entry number after. names
// are those of its devices by ID.
func Events(l *ledger.Ledger, id string, after int64, names map[string]string) ([]Event, error) {
	all, err := Stream(l, id, after, names)
	return slices.DeleteFunc(all, func(e Event) bool {
		return e.Kind != Begun && e.Kind != Asked && e.Kind != Ended
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
		ev := Event{Stream: StreamFormat, Seq: e.Seq, Kind: e.Kind, At: e.At, Job: id, Device: e.Device, Name: names[e.Device]}
		switch e.Kind {
		case Begun, Over:
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
			ev.Step, ev.Version, ev.Cause, ev.Reason = b.End, b.Version, b.Cause, b.Cause.Error()
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
	return fmt.Errorf("entry %d of the ledger cannot be read: %w", e.Seq, err)
}
