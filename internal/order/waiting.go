package order

import (
	"slices"
	"time"
)

// Waiting says of each device that waits why it does, by ID.
func (s *State) Waiting(now time.Time) map[string]*Reason {
	out := map[string]*Reason{}
	for i := range s.work {
		if s.work[i].phase == waiting {
			out[s.work[i].ID] = s.why(i, now)
		}
	}
	return out
}

// why says why a device that waits does not begin.
func (s *State) why(i int, now time.Time) *Reason {
	if r := s.never(i, now); r != nil {
		return r
	}
	w := &s.work[i]
	if now.Before(w.until) {
		return &Reason{Why: Away, Set: w.because}
	}
	if w.open > 0 {
		return s.whyBefore(w)
	}
	at := s.blocked(i)
	if at == nil {
		return &Reason{Why: Ready}
	}
	r := &Reason{Why: at.why, Set: at.name}
	switch at.why {
	case Pilot:
		r.Devices = []string{s.work[w.pilots.pilot].Name}
	case AtWork:
		return s.whyWay(w)
	case CoverSet:
		r.Devices = s.outOf(at)
	case UplinkCap, ParentCap:
		r.Set = s.name(at.name)
	}
	if r.Why == ModelCap || r.Why == UplinkCap || r.Why == ParentCap {
		for _, j := range sortedKeys(s.atWork) {
			if slices.ContainsFunc(s.work[j].uses, func(u use) bool { return u.line == at }) {
				r.Devices = append(r.Devices, s.work[j].Name)
			}
		}
	}
	for _, o := range s.others {
		if slices.ContainsFunc(o.uses, func(u use) bool { return u.line == at }) &&
			len(r.Devices) == 0 {
			return &Reason{Why: OtherJob, Job: o.Job, Devices: []string{o.Name}}
		}
	}
	return r
}

// whyBefore names those that must have ended before a device.
func (s *State) whyBefore(w *work) *Reason {
	r := &Reason{Why: Explicit}
	for _, j := range w.before {
		b := &s.work[j]
		if b.phase == ended && (b.set == nil || b.set == w.set) {
			continue
		}
		switch {
		case slices.Contains(b.Through, w.ID):
			r.Why = Behind
		case slices.Contains(w.Through, b.ID):
			r.Why = Uplink
		}
		r.Devices = append(r.Devices, b.Name)
	}
	return r
}

// whyWay names those that use the way of a device: here or in another job.
func (s *State) whyWay(w *work) *Reason {
	on := func(d *Device) bool {
		return d.ID == w.ID || slices.Contains(w.Through, d.ID) || slices.Contains(d.Through, w.ID)
	}
	for _, o := range s.others {
		if on(&o.Device) {
			return &Reason{Why: OtherJob, Job: o.Job, Devices: []string{o.Name}}
		}
	}
	r := &Reason{Why: AtWork}
	for _, j := range sortedKeys(s.atWork) {
		if on(&s.work[j].Device) {
			r.Devices = append(r.Devices, s.work[j].Name)
		}
	}
	return r
}

// outOf are the devices of a cover set that are out of service, by name.
func (s *State) outOf(l *line) []string {
	var out []string
	for _, id := range s.order.Rules.Cover[slices.Index(s.lines.cover, l)].Of {
		away := s.out[id]
		busy := func(d *Device) bool {
			return d.ID == id || slices.Contains(s.order.Rules.Feeds[d.ID], id)
		}
		for j := range s.atWork {
			away = away || busy(&s.work[j].Device)
		}
		for _, o := range s.others {
			away = away || busy(&o.Device)
		}
		if away {
			out = append(out, s.name(id))
		}
	}
	return out
}

// name is what a device is called, also one that is not worked on.
func (s *State) name(id string) string {
	if i, ok := s.index[id]; ok {
		return s.work[i].Name
	}
	if name, ok := s.order.Names[id]; ok {
		return name
	}
	return id
}
