package job

import (
	"encoding/json"
	"fmt"
	"time"

	"catena/internal/device"
	"catena/internal/ledger"
)

// Kinds of the entries that are a job's.
const (
	Started ledger.Kind = "job-started" // the body is a startedBody
	Begun   ledger.Kind = "step-begun"  // an effect is about to happen; the body is an Effect
	Over    ledger.Kind = "step-over"   // that effect is over; the body is an Effect
	Ended   ledger.Kind = "device-ended"
	Closed  ledger.Kind = "job-closed"
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
	// after sending: how long the device announced to be away, in ns
	Down  time.Duration `json:"down,omitempty"`
	Cause *Reason       `json:"cause,omitempty"` // why it failed; none: it did not
}

// The bodies of the other entries.

type startedBody struct {
	Purpose  Purpose     `json:"purpose"`
	Parallel int         `json:"parallel"`
	Items    []startItem `json:"items"`
}

type startItem struct {
	Device string     `json:"device"` // its ID
	Name   string     `json:"name"`
	From   string     `json:"from"`
	To     string     `json:"to"`
	Path   []startHop `json:"path"`
	After  []string   `json:"after,omitempty"` // the IDs of devices that must have ended first
}

type startHop struct {
	Component string `json:"component"`
	From      string `json:"from"`
	Version   string `json:"version"`
	SHA256    string `json:"sha256"`
	Size      int64  `json:"size"`               // bytes
	Rollback  string `json:"rollback,omitempty"` // SHA-256 of the image to return with
}

type endBody struct {
	End     Step    `json:"end"`
	Version string  `json:"version,omitempty"` // what it said last that it runs
	Cause   *Reason `json:"cause,omitempty"`
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
			s += " " + label(b.Component, b.Version)
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

// Event is one entry of a job for somebody who follows it.
type Event struct {
	Seq       int64     `json:"seq"`
	At        time.Time `json:"at"`
	Job       string    `json:"job"`
	Device    string    `json:"device,omitempty"` // its ID
	Name      string    `json:"name,omitempty"`
	Step      Step      `json:"step"`         // the step that begins, or the device's end
	To        string    `json:"to,omitempty"` // the component and version of the step
	Direction Direction `json:"direction,omitempty"`
	Version   string    `json:"version,omitempty"`
	Cause     *Reason   `json:"cause,omitempty"`
	Reason    string    `json:"reason,omitempty"` // the cause in words
}

// Events are the steps begun and the ends of a job after the entry number after. names
// are those of its devices by ID.
func Events(l *ledger.Ledger, id string, after int64, names map[string]string) ([]Event, error) {
	entries, err := l.Entries(ledger.Filter{Job: id, After: after})
	if err != nil {
		return nil, err
	}
	var out []Event
	for _, e := range entries {
		ev := Event{Seq: e.Seq, At: e.At, Job: id, Device: e.Device, Name: names[e.Device]}
		switch e.Kind {
		case Begun:
			var b Effect
			err = json.Unmarshal(e.Body, &b)
			ev.Step, ev.To, ev.Direction = b.Step, label(b.Component, b.Version), b.Direction
		case Ended:
			var b endBody
			err = json.Unmarshal(e.Body, &b)
			ev.Step, ev.Version, ev.Cause, ev.Reason = b.End, b.Version, b.Cause, b.Cause.Error()
		default:
			continue
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
