package job

import (
	"encoding/json"
	"time"

	"catena/internal/ledger"
)

// Span is one step of a device in a job, from its start to its end.
type Span struct {
	Step      Step      `json:"step"`
	Direction Direction `json:"direction"`
	To        string    `json:"to"` // the component and version of the step
	Began     time.Time `json:"began"`
	Ended     time.Time `json:"ended,omitzero"`   // zero: its end was not observed
	Asked     string    `json:"asked,omitempty"`  // what a person was asked to do in it
	Answer    string    `json:"answer,omitempty"` // done, or why it was skipped
	Reason    string    `json:"reason,omitempty"` // why it failed; empty: it did not
}

// Timeline is what the devices of a job went through, by ID, in the order in which it happened.
func Timeline(l *ledger.Ledger, id string) (map[string][]Span, error) {
	entries, err := l.Entries(ledger.Filter{Job: id})
	if err != nil {
		return nil, err
	}
	out := map[string][]Span{}
	for _, e := range entries {
		if e.Device == "" {
			continue
		}
		spans := out[e.Device]
		var last *Span
		if len(spans) > 0 && spans[len(spans)-1].Ended.IsZero() {
			last = &spans[len(spans)-1]
		}
		switch e.Kind {
		case StepStarted:
			var b Effect
			err = json.Unmarshal(e.Body, &b)
			if last != nil { // a Catena died in it
				last.Ended = e.At
			}
			out[e.Device] = append(spans,
				Span{Step: b.Step, Direction: b.Direction, To: Label(b.Component, b.Version),
					Began: e.At})
		case Over:
			var b Effect
			err = json.Unmarshal(e.Body, &b)
			if last != nil {
				last.Ended, last.Reason = e.At, b.Cause.Error()
			}
		case Asked:
			var b askedBody
			err = json.Unmarshal(e.Body, &b)
			if last != nil {
				last.Asked = b.What
			}
		case Answered:
			var b answeredBody
			err = json.Unmarshal(e.Body, &b)
			if last != nil {
				last.Answer = "done"
				if b.Skip {
					last.Answer = "skipped: " + b.Because
				}
			}
		case Ended, Postponed:
			if last != nil {
				last.Ended = e.At
			}
		}
		if err != nil {
			return nil, unreadable(e, err)
		}
	}
	return out, nil
}
