package order

import (
	"slices"
	"time"
)

// Waiting returns why each pending device waits, by ID.
func (s *State) Waiting(now time.Time) map[string]*Reason {
	out := map[string]*Reason{}
	for i := range s.devices {
		if d := &s.devices[i]; d.phase == pending {
			out[d.ID] = s.why(d, now)
		}
	}
	return out
}

// why returns why a pending device does not start.
func (s *State) why(d *device, now time.Time) *Reason {
	if r := s.never(d, now); r != nil {
		return r
	}
	if s.blind && s.waitsBlind(d) {
		return &Reason{Why: Unseen}
	}
	if c := s.blocker(d, now); c != nil {
		return s.explain(d, c)
	}
	return &Reason{Why: Ready}
}

// explain returns how a constraint blocks a device.
func (s *State) explain(d *device, c *constraint) *Reason {
	r := &Reason{Why: c.why, Set: c.name}
	switch c.why {
	case Away:
		return &Reason{Why: Away, Set: d.because}
	case Explicit:
		return whyPredecessors(d)
	case Busy:
		return s.whyBusy(d)
	case Pilot:
		r.Devices = []string{d.kind.pilot.Name}
		return r
	case CoverSet:
		r.Devices = s.outOf(c)
		return r
	case Parallel:
		r.Limit = s.order.Rules.Parallel
	case ModelCap:
		r.Limit = s.order.Rules.PerModel[c.name]
	case KindCap:
		r.Limit = s.order.Rules.PerKind[c.name]
	case UplinkCap:
		r.Set, r.Limit = s.name(c.name), s.order.Rules.PerUplink
	case ParentCap:
		r.Set, r.Limit = s.name(c.name), s.order.Rules.PerParent[c.name]
	}
	return s.whoHolds(c, r)
}

// whoHolds completes the reason of a limit with the devices that have used it up.
func (s *State) whoHolds(c *constraint, r *Reason) *Reason {
	of := func(claim claim) bool { return claim.of == c }
	for i := range s.devices {
		if d := &s.devices[i]; d.phase == active && c.why != Parallel && slices.ContainsFunc(d.claims,
			of) {
			r.Devices = append(r.Devices, d.Name)
		}
	}
	for _, o := range s.others {
		if len(r.Devices) == 0 && slices.ContainsFunc(o.claims, of) {
			return o.reason()
		}
	}
	return r
}

func (f foreign) reason() *Reason {
	why := OtherJob
	if f.Interrupted {
		why = Interrupted
	}
	return &Reason{Why: why, Job: f.Job, Devices: []string{f.Device.Name}}
}

// whyPredecessors names those that must end before a device.
func whyPredecessors(d *device) *Reason {
	r := &Reason{Why: Explicit}
	for _, b := range d.predecessorList {
		if b.phase == finished && (b.set == nil || b.set == d.set) {
			continue
		}
		switch {
		case slices.Contains(b.Through, d.ID):
			r.Why = Downstream
		case slices.Contains(d.Through, b.ID):
			r.Why = Uplink
		}
		r.Devices = append(r.Devices, b.Name)
	}
	return r
}

// whyBusy names those that are active on the path of a device: here or in another job.
func (s *State) whyBusy(d *device) *Reason {
	on := func(o *Device) bool {
		return o.ID == d.ID || slices.Contains(d.Through, o.ID) || slices.Contains(o.Through, d.ID)
	}
	for _, o := range s.others {
		if on(&o.Device) {
			return o.reason()
		}
	}
	r := &Reason{Why: Busy}
	for i := range s.devices {
		if o := &s.devices[i]; o.phase == active && on(&o.Device) {
			r.Devices = append(r.Devices, o.Name)
		}
	}
	return r
}

// outOf returns the names of the devices of a cover set that are out of service.
func (s *State) outOf(c *constraint) []string {
	out := map[string]bool{}
	for i := range s.devices {
		if d := &s.devices[i]; d.phase == active {
			for _, id := range s.takesOut(&d.Device) {
				out[id] = true
			}
		}
	}
	for _, o := range s.others {
		for _, id := range s.takesOut(&o.Device) {
			out[id] = true
		}
	}
	var names []string
	for _, id := range s.order.Rules.Cover[slices.Index(s.limits.cover, c)].Of {
		if s.out[id] || out[id] {
			names = append(names, s.name(id))
		}
	}
	return names
}

// name returns what a device is called, also one that is not in the order.
func (s *State) name(id string) string {
	if d := s.find(id); d != nil {
		return d.Name
	}
	if name, ok := s.order.Names[id]; ok {
		return name
	}
	return id
}
