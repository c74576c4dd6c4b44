package job

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"catena/internal/device"
	"catena/internal/ledger"
)

// Kinds of the entries of what a person is asked to do at a device; the bodies are an askedBody and
// an answeredBody.
const (
	Asked    ledger.Kind = "device-asks"
	Answered ledger.Kind = "device-answered"
)

type askedBody struct {
	What string `json:"what"`
	Busy bool   `json:"busy,omitempty"` // the device is working while it asks, and keeps its slot
}

type answeredBody struct {
	Skip    bool   `json:"skip,omitempty"` // it was not done
	Because string `json:"because,omitempty"`
}

// answerEvery is how often it is looked whether a person has answered.
const answerEvery = 300 * time.Millisecond

// ask has an operator do something at the device, and waits for the answer. Unless the device is
// busy, it needs no slot while it waits, and continues when one is free again, whatever the answer.
// An error of the ledger ends the task.
func (w *worker) ask(ctx context.Context, what string, busy bool) error {
	if w.broken != nil {
		return w.broken
	}
	l := w.job.engine.Ledger
	before, err := l.Entries(ledger.Filter{Job: w.job.ID, Device: w.row.ID, Last: 1})
	if err == nil {
		err = l.Append(Asked, w.job.ID, w.row.ID, askedBody{What: what, Busy: busy})
	}
	if err != nil {
		w.broken = err
		return err
	}
	w.job.wake()
	err = w.awaitAnswer(ctx, what, before)
	if busy {
		return err
	}
	w.broken = w.job.reenter(w.row.ID)
	return errors.Join(err, w.broken)
}

// awaitAnswer waits for the answer. It is in the ledger, so that it can be seen and answered from
// any terminal.
func (w *worker) awaitAnswer(ctx context.Context, what string, before []ledger.Entry) error {
	l := w.job.engine.Ledger
	after := int64(0)
	for _, e := range before {
		after = e.Seq
	}
	read := int64(-1) // entries up to this number were read
	tick := time.NewTicker(answerEvery)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-tick.C:
		}
		last, err := l.Last()
		if err == nil && last == read {
			continue // nothing is new
		}
		said, err := l.Entries(ledger.Filter{Kind: Answered, Job: w.job.ID, Device: w.row.ID,
			After: after, Last: 1})
		if err != nil || len(said) == 0 {
			if err == nil {
				read = last
			}
			continue // the next poll may do better
		}
		var b answeredBody
		switch err := json.Unmarshal(said[0].Body, &b); {
		case err != nil:
			return unreadable(said[0], err)
		case b.Skip:
			return device.Because(device.NeedsPerson, "skipped, because %s; the task was: %s",
				b.Because, what)
		}
		return nil
	}
}

// NotAskingError is returned by Answer for a device of the job that asks for nothing.
type NotAskingError struct{ Device, Job string }

func (e *NotAskingError) Error() string {
	return fmt.Sprintf("%s does not wait for an operator in job %s", e.Device, e.Job)
}

// Answer says to a job that what it asks for at a device was done, or that it is skipped, and why.
// device is its ID or its name. Its errors are a NotAskingError, and those of the ledger.
func Answer(l *ledger.Ledger, id, device string, skip bool, because string) error {
	state, err := Load(l, id)
	if err != nil {
		return err
	}
	for _, d := range state.Devices {
		if d.ID == device || d.Name == device {
			if d.Asks == "" {
				break
			}
			return l.Append(Answered, id, d.ID, answeredBody{Skip: skip, Because: because})
		}
	}
	return &NotAskingError{device, id}
}

// asks folds an entry of asking.
func (d *DeviceState) asks(e ledger.Entry) error {
	if e.Kind == Answered {
		d.Asks = ""
		return nil
	}
	var b askedBody
	err := json.Unmarshal(e.Body, &b)
	d.Asks = b.What
	return err
}
