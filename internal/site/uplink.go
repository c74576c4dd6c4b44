package site

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"catena/internal/device"
	"catena/internal/yamldoc"
)

// Uplink says what is reached through a device, and what it feeds with power. While it
// restarts, nothing goes to those; what it feeds is out of service.
type Uplink struct {
	Through string   `yaml:"through"` // a device's name
	Reach   []string `yaml:"reach"`   // names, with wildcards; or Laptop
	Feeds   []string `yaml:"feeds"`
}

// Laptop is the word in uplinks for the machine that Catena runs on: what it is plugged into
// leads to all others.
const Laptop = "laptop"

func (u Uplink) all() []string { return slices.Concat(u.Reach, u.Feeds) }

// checkUplinks refuses what cannot be: a device behind itself, also by a detour.
func (s Site) checkUplinks(doc *yamldoc.Doc) error {
	behind := map[string][]string{}
	for i, u := range s.Uplinks {
		at := fmt.Sprintf("$.uplinks[%d]", i)
		if u.Through == "" || len(u.all()) == 0 {
			return doc.Errorf(at, "uplinks: requires through: a device, and reach: or feeds: a "+
				"list of its downstream devices")
		}
		for key, list := range map[string][]string{"reach": u.Reach, "feeds": u.Feeds} {
			for j, pattern := range list {
				if !isPattern(pattern) {
					return doc.Errorf(fmt.Sprintf("%s.%s[%d]", at, key, j),
						"uplinks: %q is not a name",
						pattern)
				}
			}
		}
		behind[u.Through] = append(behind[u.Through], u.all()...)
	}
	for i, u := range s.Uplinks {
		if circle := around(u.Through, []string{u.Through}, behind); circle != nil {
			return doc.Errorf(fmt.Sprintf("$.uplinks[%d]", i), "uplinks: %s is downstream of itself: %s",
				u.Through, strings.Join(circle, " → "))
		}
	}
	return nil
}

// Ways are what the uplinks say of devices, by ID.
type Ways struct {
	// Through are the devices that each one is reached through or fed by, also by way of
	// others.
	Through map[string][]string
	Feeds   map[string][]string // those that each one feeds, also by way of others
}

// Ways resolves the uplinks, and what is reached through its parent. What the laptop is plugged
// into leads to all devices but those that it is itself reached through.
func (s Site) Ways(all []device.Device) Ways {
	meant := map[string][]string{}
	ids := func(pattern string) []string {
		found, known := meant[pattern]
		if !known {
			for _, d := range all {
				if d.Answers(pattern) {
					found = append(found, d.ID)
				}
			}
			meant[pattern] = found
		}
		return found
	}
	behind, feeds := map[string][]string{}, map[string][]string{}
	var laptops []string
	for _, u := range s.Uplinks {
		for _, up := range ids(u.Through) {
			for _, pattern := range u.all() {
				behind[up] = append(behind[up], ids(pattern)...)
			}
			for _, pattern := range u.Feeds {
				feeds[up] = append(feeds[up], ids(pattern)...)
			}
			if slices.Contains(u.all(), Laptop) {
				laptops = append(laptops, up)
			}
		}
	}
	for _, d := range all {
		if d.Through != "" { // it says itself what it is behind
			behind[d.Through] = append(behind[d.Through], d.ID)
		}
	}
	w := Ways{Through: map[string][]string{}, Feeds: map[string][]string{}}
	for up := range behind {
		for _, id := range closure(up, behind) {
			w.Through[id] = append(w.Through[id], up)
		}
		if fed := closure(up, feeds); len(fed) > 0 {
			w.Feeds[up] = fed
		}
	}
	for _, up := range laptops {
		for _, d := range all {
			through := w.Through[d.ID]
			if d.ID != up && !slices.Contains(through, up) &&
				!slices.Contains(w.Through[up], d.ID) {
				w.Through[d.ID] = append(through, up)
			}
		}
	}
	for _, list := range w.Through {
		slices.Sort(list)
	}
	return w
}

// closure is all that comes after start, without it.
func closure(start string, after map[string][]string) (out []string) {
	found := map[string]bool{start: true}
	for next := []string{start}; len(next) > 0; next = next[1:] {
		for _, id := range after[next[0]] {
			if !found[id] {
				found[id] = true
				out = append(out, id)
				next = append(next, id)
			}
		}
	}
	return out
}

// around looks for a way from what is behind walked's last back to start.
func around(start string, walked []string, behind map[string][]string) []string {
	for _, pattern := range behind[walked[len(walked)-1]] {
		if ok, _ := path.Match(pattern, start); ok {
			return append(walked, start)
		}
		if _, more := behind[pattern]; more && !slices.Contains(walked, pattern) {
			if circle := around(start, append(walked, pattern), behind); circle != nil {
				return circle
			}
		}
	}
	return nil
}

// Link is one uplink that what the devices say proposes.
type Link struct {
	Uplink
	Chain  bool     // what it reaches continues from one to the next
	Doubts []string // what cannot be known from here, in sentences
}

// Propose derives what is reached through what from two things that devices tell: whom
// they see at their ports, and who they say hangs behind them. root is the device that the
// laptop is plugged into; empty: the one with most neighbours, with a doubt that says so.
// Devices that no one sees are returned apart.
//
// Cables have no direction; "reached through" has one, away from the laptop. So the cables
// are walked breadth first from the root, and each device is reached through the one from
// which it was found first. For example, with the laptop at the switch:
//
//	switch — cam-11                  switch reaches cam-11 and gate-1
//	   |                             gate-1 reaches gate-2 (a chain: it continues one by one)
//	gate-1 — gate-2 — gate-3         gate-2 reaches gate-3
//
// A cable to a device that was found already closes a ring. Which way the packets take is
// then not known from here: the first way stands, with a doubt. What a device itself says
// hangs behind it is surer than a cable, and replaces it, unless the two would be behind
// each other.
func Propose(all []device.Device, root string) (links []Link, unseen []string) {
	devices := slices.DeleteFunc(slices.Clone(all), func(d device.Device) bool {
		return d.Through != "" // its parent says so itself
	})
	g := newWiring(devices)
	edges, children := g.edges()
	doubts := map[int][]string{}
	start := g.find(root)
	if start < 0 {
		start = busiest(edges)
		if start >= 0 {
			doubts[start] = append(doubts[start],
				"the device that this laptop is connected to is unknown; assumed: "+devices[start].Name)
		}
	}
	up := map[int]int{} // by device: through which it is reached
	if start >= 0 {
		up = g.walk(start, edges, doubts)
	}
	for parent := range devices {
		for _, child := range children[parent] {
			if child != parent && !g.above(up, parent, child) {
				up[child] = parent
			}
		}
	}
	for child := range devices {
		if _, reached := up[child]; !reached && child != start {
			unseen = append(unseen, devices[child].Name)
		}
	}
	return g.links(up, doubts), unseen
}

// walk follows the cables breadth first from start, and returns through which device each
// one is reached. It adds a doubt for each ring.
func (g wiring) walk(start int, edges map[int][]int, doubts map[int][]string) map[int]int {
	up := map[int]int{}
	queue := []int{start}
	for len(queue) > 0 {
		cur := queue[0]
		queue = queue[1:]
		for _, next := range edges[cur] {
			through, reached := up[next]
			// it came by this one
			cable := reached && through == cur || next == up[cur] && cur != start
			switch {
			case cable:
			case !reached && next != start:
				up[next] = cur
				queue = append(queue, next)
			case reached && cur < next: // each ring once
				doubts[up[next]] = append(doubts[up[next]],
					fmt.Sprintf("%s and %s also report each other: a ring, or a second cable",
						g.devices[cur].Name, g.devices[next].Name))
			}
		}
	}
	return up
}

// links are what up says, by the device that others are reached through. A link is part of
// a chain where its only device has an only device again, or is one of such: the arms of a
// star end, a chain continues.
func (g wiring) links(up map[int]int, doubts map[int][]string) (out []Link) {
	reach := map[int][]int{}
	for child := range g.devices {
		if parent, ok := up[child]; ok {
			reach[parent] = append(reach[parent], child)
		}
	}
	for parent := range g.devices {
		behind := reach[parent]
		if len(behind) == 0 {
			continue
		}
		l := Link{Uplink: Uplink{Through: g.devices[parent].Name}, Doubts: doubts[parent]}
		for _, child := range behind {
			l.Reach = append(l.Reach, g.devices[child].Name)
		}
		slices.Sort(l.Reach)
		before, has := up[parent]
		l.Chain = len(behind) == 1 && (len(reach[behind[0]]) == 1 || has && len(reach[before]) == 1)
		out = append(out, l)
	}
	return out
}

// wiring finds devices by what others call them.
type wiring struct {
	devices []device.Device
	by      map[string]int
}

func newWiring(devices []device.Device) wiring {
	g := wiring{devices, map[string]int{}}
	for i, d := range devices {
		for _, key := range []string{d.MAC, d.Serial, d.Name, d.Host(), d.Address} {
			key = strings.ToLower(key)
			if key != "" {
				if _, taken := g.by[key]; !taken {
					g.by[key] = i
				}
			}
		}
	}
	// A neighbour tells the name that the device has of itself, which a person may have changed
	// here. One that several have says nothing.
	called := map[string][]int{}
	for i, d := range devices {
		if own := strings.ToLower(d.Called); own != "" {
			called[own] = append(called[own], i)
		}
	}
	for own, all := range called {
		if _, taken := g.by[own]; !taken && len(all) == 1 {
			g.by[own] = all[0]
		}
	}
	return g
}

func (g wiring) find(keys ...string) int {
	for _, k := range keys {
		if i, ok := g.by[strings.ToLower(k)]; ok && k != "" {
			return i
		}
	}
	return -1
}

// edges are who sees whom, both ways, in the devices' order; and who says what is
// behind it.
func (g wiring) edges() (edges map[int][]int, children map[int][]int) {
	edges, children = map[int][]int{}, map[int][]int{}
	add := func(m map[int][]int, a, b int) {
		if a != b && b >= 0 && !slices.Contains(m[a], b) {
			m[a] = append(m[a], b)
		}
	}
	for i, d := range g.devices {
		for _, n := range d.Neighbours {
			if j := g.find(n.Chassis, n.Address, n.Name); j >= 0 {
				add(edges, i, j)
				add(edges, j, i)
			}
		}
		for _, name := range d.Downstream {
			add(children, i, g.find(name))
		}
	}
	return edges, children
}

// above tells whether a is reached through b, so that b cannot be behind a.
func (g wiring) above(up map[int]int, a, b int) bool {
	for range g.devices {
		next, ok := up[a]
		if !ok {
			return false
		}
		if next == b {
			return true
		}
		a = next
	}
	return true // a circle
}

// busiest is the device with most neighbours, the first of those; -1: no one has one.
func busiest(edges map[int][]int) int {
	best := -1
	for i := range edges {
		if best < 0 {
			best = i
		}
		if more := len(edges[i]) - len(edges[best]); more > 0 || more == 0 && i < best {
			best = i
		}
	}
	return best
}
