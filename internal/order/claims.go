package order

import "slices"

// What a device takes of the lines while it is at work, and gives back.

// lines are where devices wait.
type lines struct {
	parallel *line
	model    map[string]*line
	uplink   map[string]*line
	parent   map[string]*line
	cover    []*line
	coverOf  map[string][]int // by a device's ID: the cover sets it belongs to
	ways     map[string]*way
}

// draw makes the lines.
func (s *State) draw() {
	r := s.order.Rules
	s.lines = lines{parallel: &line{why: Parallel, free: r.Parallel}, model: map[string]*line{},
		uplink: map[string]*line{}, parent: map[string]*line{}, coverOf: map[string][]int{}, ways: map[string]*way{}}
	for model, most := range r.PerModel {
		s.lines.model[model] = &line{why: ModelCap, name: model, free: most}
	}
	for id, most := range r.PerParent {
		s.lines.parent[id] = &line{why: ParentCap, name: id, free: most}
	}
	for i, c := range r.Cover {
		l := &line{why: CoverSet, name: c.Name, free: len(c.Of) - c.Keep}
		s.lines.cover = append(s.lines.cover, l)
		for _, id := range c.Of {
			s.lines.coverOf[id] = append(s.lines.coverOf[id], i)
			if s.out[id] {
				l.free--
			}
		}
	}
	for i := range s.work {
		for _, id := range s.work[i].Through {
			s.way(id)
		}
		s.way(s.work[i].ID)
	}
}

// way is what leads through a device.
func (s *State) way(id string) *way {
	w := s.lines.ways[id]
	if w == nil {
		w = &way{line: line{why: AtWork, name: id, free: 1}}
		s.lines.ways[id] = w
	}
	return w
}

// claims are what a device takes while it is at work: room under each cap, and of each cover
// set as many as are then out of service. A cover set that it takes nothing of is not there.
func (s *State) claims(d *Device) []use {
	uses := make([]use, 0, 2+len(d.Through))
	if s.order.Rules.Parallel > 0 {
		uses = append(uses, use{s.lines.parallel, 1})
	}
	if l := s.lines.model[d.Model]; l != nil {
		uses = append(uses, use{l, 1})
	}
	if l := s.lines.parent[d.Parent]; l != nil {
		uses = append(uses, use{l, 1})
	}
	if most := s.order.Rules.PerUplink; most > 0 {
		for _, id := range d.Through {
			if s.lines.uplink[id] == nil {
				s.lines.uplink[id] = &line{why: UplinkCap, name: id, free: most}
			}
			uses = append(uses, use{s.lines.uplink[id], 1})
		}
	}
	takes := func(id string) {
		if s.out[id] {
			return
		}
		for _, c := range s.lines.coverOf[id] {
			l := s.lines.cover[c]
			if last := len(uses) - 1; last >= 0 && uses[last].line == l {
				uses[last].n++
				continue
			}
			uses = append(uses, use{l, 1})
		}
	}
	takes(d.ID)
	for _, id := range s.order.Rules.Feeds[d.ID] {
		if id != d.ID {
			takes(id)
		}
	}
	return joined(uses)
}

// joined adds up uses of one line.
func joined(uses []use) []use {
	out := uses[:0]
	for _, u := range uses {
		at := slices.IndexFunc(out, func(o use) bool { return o.line == u.line })
		if at < 0 {
			out = append(out, u)
			continue
		}
		out[at].n += u.n
	}
	return out
}

// hold takes what a device uses, or with -1 gives it back.
func (s *State) hold(d Device, uses []use, n int) {
	for _, u := range uses {
		u.line.free -= n * u.n
	}
	own := s.way(d.ID)
	own.at += n
	for _, id := range d.Through {
		s.way(id).behind += n
	}
	if n > 0 {
		return
	}
	for _, u := range uses {
		s.freed(u.line)
	}
	if own.at == 0 {
		s.wakeAll(&own.line)
	}
	for _, id := range d.Through {
		if through := s.way(id); through.behind == 0 {
			s.wakeAll(&through.line)
		}
	}
}

// other is a device that another job works on, and what it holds.
type other struct {
	Other
	uses []use
}

// elsewhere takes what other jobs work on now.
func (s *State) elsewhere(now []Other) {
	before := s.others
	s.others = nil
	for _, o := range now {
		n := other{Other: o, uses: s.claims(&o.Device)}
		s.others = append(s.others, n)
		s.hold(o.Device, n.uses, 1)
	}
	for _, o := range before {
		s.hold(o.Device, o.uses, -1)
		s.wakeAll(&s.way(o.ID).line)
	}
}
