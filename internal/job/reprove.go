package job

import (
	"context"
	"time"

	"catena/internal/ledger"
	"catena/internal/order"

	"golang.org/x/sync/errgroup"
)

// Proved is the kind of the entry of a proof that was repeated; its body is a Proof.
const Proved ledger.Kind = "device-proved"

// Proof is how a device did when its proof was repeated.
type Proof struct {
	ID      string  `json:"id"`
	Name    string  `json:"name"`
	Want    string  `json:"want"`              // the version that it was proven on
	Version string  `json:"version,omitempty"` // its current version now; empty: it could not be read
	Cause   *Reason `json:"cause,omitempty"`   // what is wrong; none: it is as it was proven
	Reason  string  `json:"reason,omitempty"`  // the cause in words
}

// proofsAtOnce is how many devices are asked at the same time: it costs each of them one login.
const proofsAtOnce = 16

// Prove repeats the proof of every device that a job has brought to its target: the same
// device, on that version, as well as before it was touched. It sends no image, and writes what
// it found into the ledger. Its error is the ledger's.
func (e *Engine) Prove(ctx context.Context, state State, devices map[string]Known) ([]Proof,
	error) {
	j := newJob(e, Plan{Order: state.Order, Devices: devices})
	j.ID = state.ID
	var proven []DeviceState
	for _, d := range state.Devices {
		if d.Step == Done {
			proven = append(proven, d)
		}
	}
	out := make([]Proof, len(proven))
	var group errgroup.Group
	group.SetLimit(proofsAtOnce)
	for i, d := range proven {
		group.Go(func() error {
			out[i] = j.proveAgain(ctx, d)
			return nil
		})
	}
	_ = group.Wait() // nothing in it fails
	for _, p := range out {
		if err := e.Ledger.Append(Proved, state.ID, p.ID, p); err != nil {
			return out, err
		}
	}
	return out, ctx.Err()
}

func (j *Job) proveAgain(ctx context.Context, d DeviceState) Proof {
	p := Proof{ID: d.ID, Name: d.Name, Want: d.To}
	w := j.worker(d)
	defer func() { _ = w.close(ctx) }()
	p.Cause = w.open(ctx)
	if p.Cause == nil {
		p.Version = w.version()
		p.Cause = w.asProven(ctx)
	}
	p.Reason = p.Cause.Error()
	return p
}

// asProven says what of a device that was read is not as it was proven.
func (w *worker) asProven(ctx context.Context) *Reason {
	ctx, cancel := context.WithTimeout(ctx, probeWithin)
	defer cancel()
	last := map[string]order.Hop{}
	for _, h := range w.row.Path {
		last[h.Component] = h
	}
	for component, h := range last {
		if !w.same(w.last.Of(component), h.To) {
			return &Reason{Why: WrongVersion, Is: Label(component, w.last.Of(component)),
				Want: h.To}
		}
	}
	if err := w.session.Healthy(ctx, w.baseline); err != nil {
		reason := said(Proving, err)
		reason.Why, reason.Step = Unhealthy, ""
		return reason
	}
	w.recordReading(w.last)
	return nil
}

// Again is the part of a job's order that is worth another try: devices that failed, returned,
// or were not started. Those that need hands, and those that are done, are not.
func (s State) Again() order.Order {
	o := s.Order
	o.Devices = nil
	o.Made, o.Closes, o.Signed = time.Time{}, time.Time{}, nil // the signatures were of the whole
	for i, d := range s.Devices {
		there := d.Cause != nil && d.Cause.Why == ThereAlready
		if d.Step == Failed || d.Step == Returned || d.Step == Skipped && !there {
			o.Devices = append(o.Devices, s.Order.Devices[i])
		}
	}
	return o
}

// Unfinished is the part of a job's order whose devices it has parked, and that are so still.
func (s State) Unfinished(still func(device string) bool) order.Order {
	o := s.Order
	o.Devices, o.Stage = nil, false
	o.Made, o.Closes, o.Signed = time.Time{}, time.Time{}, nil // the signatures were of the whole
	for i, d := range s.Devices {
		if d.Step == Parked && still(d.ID) {
			row := s.Order.Devices[i]
			row.Parked = true
			o.Devices = append(o.Devices, row)
		}
	}
	return o
}
