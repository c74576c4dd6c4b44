package rehearse

import (
	"os"
	"slices"
	"time"

	"catena/internal/device"
	"catena/internal/firmware"
	"catena/internal/job"
	"catena/internal/ledger"
	"catena/internal/order"
)

// longestOnce is how long the longest device of a rehearsal by the engine takes.
const longestOnce = 9 * time.Second

// Once is a rehearsal by the engine, on a stage and in a separate ledger.
type Once struct {
	*Stage
	Job    *job.Job
	Order  order.Order // as it is played
	Ledger *ledger.Ledger
	Dir    string // of the ledger
}

// NewOnce starts the job of a rehearsal: the plan with every device replaced by one of a stage. No
// one is asked for anything, and no window is kept. The caller runs the job and closes the
// rehearsal.
func NewOnce(p job.Plan, recorded []Recorded, chosen map[string]Fault, now func() time.Time) (
	_ *Once, err error) {
	o := &Once{}
	defer func() {
		if err != nil {
			o.Close()
		}
	}()
	if o.Dir, err = os.MkdirTemp("", "catena-rehearsal-"); err != nil {
		return nil, err
	}
	if o.Ledger, err = ledger.Create(o.Dir, now, ledger.Writer{}); err != nil {
		return nil, err
	}
	p.Order.Closes, p.Order.WaitAway, p.Order.WaitFor, p.Order.GiveUp = time.Time{}, 0, 0, 0
	for i := range p.Order.Devices {
		p.Order.Devices[i].By = ""
	}
	known := map[string]device.Device{}
	for id, k := range p.Devices {
		known[id] = k.Device
	}
	if o.Stage, err = NewStage(&p.Order, known, recorded, chosen, longestOnce); err != nil {
		return nil, err
	}
	for id, k := range p.Devices {
		k.Interlocks, k.Alters, k.Patience = nil, false, firmware.Patience{}
		k.Device = o.Device(k.Device)
		p.Devices[id] = k
	}
	for up, behind := range p.Downstream { // only those that are on the stage
		p.Downstream[up] = slices.DeleteFunc(behind,
			func(d device.Device) bool { _, on := p.Devices[d.ID]; return !on })
	}
	engine := &job.Engine{Ledger: o.Ledger, Dialects: o.Dialects(), Contacts: o.Stage, Site: o.Stage,
		Now: now,
		Patience: firmware.Patience{Grace: 2 * time.Second, Writing: time.Minute,
			Restarting: 2 * longestOnce, Proving: 2 * time.Second}}
	o.Order = p.Order
	o.Job, err = engine.Start(p)
	return o, err
}

// Close ends the stage and removes the ledger.
func (o *Once) Close() {
	if o.Stage != nil {
		o.Stage.Close()
	}
	if o.Ledger != nil {
		_ = o.Ledger.Close()
	}
	_ = os.RemoveAll(o.Dir)
}

// CutOff is a restart during which other devices cannot be reached.
type CutOff struct {
	Device     string // its name
	Downstream []string
	After      time.Duration // since the start; as it would be with real devices
	Lasts      time.Duration
}

// CutOffs returns who was cut off while what it is reached through restarted.
func (o *Once) CutOffs(s job.State) (out []CutOff, err error) {
	spans, err := job.Timeline(o.Ledger, s.ID)
	if err != nil {
		return nil, err
	}
	real := func(d time.Duration) time.Duration { return time.Duration(float64(d) / o.Scale()) }
	for _, d := range s.Order.Devices {
		behind := s.Order.Downstream(d.ID)
		for _, span := range spans[d.ID] {
			if span.Step == job.Restarting && len(behind) > 0 && !span.Ended.IsZero() {
				out = append(out, CutOff{d.Name, behind, real(span.Began.Sub(s.Started)),
					real(span.Ended.Sub(span.Began))})
			}
		}
	}
	return out, nil
}

// The stage is the site of its job: it keeps and holds nothing.

// OpenImage opens the image of a digest.
func (s *Stage) OpenImage(i order.Image) (job.File, error) { return s.Open(i), nil }

// RecordDevice keeps nothing.
func (*Stage) RecordDevice(string, *device.Device) error { return nil }

// KeepOrder keeps nothing.
func (*Stage) KeepOrder(order.Order, string) (string, error) { return "", nil }

// HeldNow holds no device.
func (*Stage) HeldNow(device.Device) string { return "" }

// Recheck finds nothing changed.
func (*Stage) Recheck(order.Order) (map[string]string, error) { return nil, nil }
