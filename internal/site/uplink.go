package site

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"catena/internal/device"
	"catena/internal/yamldoc"
)

// Uplink says what is reached through a device: while it restarts, nothing goes to
// those.
type Uplink struct {
	Through string   `yaml:"through"` // a device's name
	Reach   []string `yaml:"reach"`   // names, with wildcards
}

// checkUplinks refuses what cannot be: a device behind itself, also by a detour.
func (s Site) checkUplinks(doc *yamldoc.Doc) error {
	behind := map[string][]string{}
	for i, u := range s.Uplinks {
		at := fmt.Sprintf("$.uplinks[%d]", i)
		if u.Through == "" || len(u.Reach) == 0 {
			return doc.Errorf(at, "uplinks: requires through: a device, and reach: a list of those behind it")
		}
		for j, pattern := range u.Reach {
			if _, err := path.Match(pattern, ""); pattern == "" || err != nil {
				return doc.Errorf(fmt.Sprintf("%s.reach[%d]", at, j), "uplinks: %q is not a name", pattern)
			}
		}
		behind[u.Through] = append(behind[u.Through], u.Reach...)
	}
	for i, u := range s.Uplinks {
		if circle := around(u.Through, []string{u.Through}, behind); circle != nil {
			return doc.Errorf(fmt.Sprintf("$.uplinks[%d]", i), "uplinks: %s is behind itself: %s", u.Through, strings.Join(circle, " → "))
		}
	}
	return nil
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
	Chain  bool     // what it reaches goes on from one to the next
	Doubts []string // what cannot be known from here, in sentences
}

// Propose derives from what devices see at their ports, and from what they say hangs
// behind them, what is reached through what. root is the device that the laptop is
// plugged into; empty: the one that most others are seen at, with a doubt that says
// so. Devices that nobody sees are returned apart.
func Propose(devices []device.Device, root string) (links []Link, unseen []string) {
	g := newWiring(devices)
	edges, children := g.edges()
	doubts := map[int][]string{}
	start := g.find(root)
	if start < 0 {
		start = busiest(edges)
		if start >= 0 {
			doubts[start] = append(doubts[start], "where this laptop is plugged in is not known; taken to be at "+devices[start].Name)
		}
	}
	up := map[int]int{} // by device: through which it is reached
	if start >= 0 {
		walked := []int{start}
		for i := 0; i < len(walked); i++ {
			cur := walked[i]
			for _, next := range edges[cur] {
				through, reached := up[next]
				switch {
				case reached && through == cur, next == up[cur] && cur != start: // the cable it came by
				case reached || next == start:
					if reached && cur < next { // each ring once
						doubts[up[next]] = append(doubts[up[next]], fmt.Sprintf("%s and %s see each other besides: a ring, or a second cable", devices[cur].Name, devices[next].Name))
					}
				default:
					up[next] = cur
					walked = append(walked, next)
				}
			}
		}
	}
	// What a device itself says hangs behind it is surer than a cable that is seen.
	for parent := range devices {
		for _, child := range children[parent] {
			if child != parent && !g.above(up, parent, child) {
				up[child] = parent
			}
		}
	}
	reach := map[int][]int{}
	for child := range devices {
		if parent, ok := up[child]; ok {
			reach[parent] = append(reach[parent], child)
		} else if child != start {
			unseen = append(unseen, devices[child].Name)
		}
	}
	for parent := range devices {
		if len(reach[parent]) == 0 {
			continue
		}
		l := Link{Uplink: Uplink{Through: devices[parent].Name}, Doubts: doubts[parent]}
		for _, child := range reach[parent] {
			l.Reach = append(l.Reach, devices[child].Name)
			// A star's arms end; a chain's only child has a child again, or its parent
			// was one.
			l.Chain = l.Chain || len(reach[parent]) == 1 && (len(reach[child]) == 1 || g.only(reach, up, parent))
		}
		slices.Sort(l.Reach)
		links = append(links, l)
	}
	return links, unseen
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
		for _, name := range d.Behind {
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

// only tells whether a device is itself the only one behind its uplink, by a chain.
func (g wiring) only(reach map[int][]int, up map[int]int, i int) bool {
	parent, ok := up[i]
	return ok && len(reach[parent]) == 1
}

func busiest(edges map[int][]int) int {
	best := -1
	for i := range edges {
		if best < 0 || len(edges[i]) > len(edges[best]) || len(edges[i]) == len(edges[best]) && i < best {
			best = i
		}
	}
	return best
}
