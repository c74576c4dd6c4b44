package order

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"
)

// Contradiction is a part of an order that can never be carried out.
type Contradiction struct {
	Why     Why      // Explicit: a circle; CoverSet, LockstepSet, or Window
	Devices []string // names
	Set     string   // the name of a cover set or a lockstep set
	Text    string   // what is wrong and what would resolve it
}

// Contradictions lists all contradictions of an order.
type Contradictions struct{ All []Contradiction }

func (c *Contradictions) Error() string {
	var lines []string
	for _, one := range c.All {
		lines = append(lines, one.Text)
	}
	return strings.Join(lines, "\n")
}

// contradictions returns what no sequence can resolve.
func (s *State) contradictions() []Contradiction {
	return slices.Concat(s.circle(), s.interlaced(), s.tooFewCovered(), s.incomplete(), s.tooLong())
}

// circle finds devices of which each must end before the next.
func (s *State) circle() []Contradiction {
	reached := map[*device]bool{}
	for _, d := range s.topological() {
		reached[d] = true
	}
	if len(reached) == len(s.devices) {
		return nil
	}
	unreached := func(d *device) bool { return !reached[d] }
	d := &s.devices[slices.IndexFunc(s.devices, func(d device) bool { return !reached[s.find(d.ID)] })]
	// Each device that was not reached waits for another one: going back ends in the circle.
	step := map[*device]int{}
	var walked []*device
	for step[d] == 0 {
		walked = append(walked, d)
		step[d] = len(walked)
		d = d.predecessorList[slices.IndexFunc(d.predecessorList, unreached)]
	}
	var names []string
	for _, d := range slices.Backward(walked[step[d]-1:]) {
		names = append(names, d.Name)
	}
	return []Contradiction{{Why: Explicit, Devices: names, Text: fmt.Sprintf(
		"%s → %s: each must finish before the next one starts; remove one of these rules",
		strings.Join(names, " → "), names[0])}}
}

// interlaced finds lockstep sets that cannot move together, because another device or set must go
// after one member and before another.
func (s *State) interlaced() []Contradiction {
	if len(s.topological()) < len(s.devices) {
		return nil // circle reports it
	}
	node := map[*device]*device{} // a set is one node: its first member
	for i := range s.devices {
		d := &s.devices[i]
		node[d] = d
		if d.set != nil {
			node[d] = d.set.members[0]
		}
	}
	left, successors := map[*device]int{}, map[*device][]*device{}
	for d, from := range node {
		for _, next := range d.successors {
			if to := node[next]; to != from {
				left[to]++
				successors[from] = append(successors[from], to)
			}
		}
	}
	var sorted []*device
	for d := range node {
		if node[d] == d && left[d] == 0 {
			sorted = append(sorted, d)
		}
	}
	for ; len(sorted) > 0; sorted = sorted[1:] {
		for _, next := range successors[sorted[0]] {
			left[next]--
			if left[next] == 0 {
				sorted = append(sorted, next)
			}
		}
	}
	var out []Contradiction
	for i := range s.devices {
		d := &s.devices[i]
		if d.set == nil || node[d] != d || left[d] == 0 {
			continue
		}
		var names []string
		for _, m := range d.set.members {
			names = append(names, m.Name)
		}
		out = append(out, Contradiction{Why: LockstepSet, Set: d.set.Name, Devices: names,
			Text: fmt.Sprintf("lockstep set %s is updated as a whole, but others must go after "+
				"one member and before another; add them to the set, or split it", d.set.Name)})
	}
	return out
}

// tooFewCovered finds devices that could not be updated even with all others in service.
func (s *State) tooFewCovered() (out []Contradiction) {
	for i := range s.devices {
		d := &s.devices[i]
		takes := map[int]int{}
		for _, id := range s.takesOut(&d.Device) {
			for _, c := range s.limits.coverOf[id] {
				takes[c]++
			}
		}
		for _, c := range sortedKeys(takes) {
			cover := s.order.Rules.Cover[c]
			if takes[c] <= len(cover.Of)-cover.Keep {
				continue
			}
			text := fmt.Sprintf("cover set %s keeps %d of %d in service, but %s takes %d of them out; "+
				"keep fewer, or leave %[4]s out",
				cover.Name, cover.Keep, len(cover.Of), d.Name, takes[c])
			out = append(out, Contradiction{Why: CoverSet, Set: cover.Name,
				Devices: []string{d.Name}, Text: text})
		}
	}
	return out
}

// incomplete finds lockstep sets of which a member cannot move.
func (s *State) incomplete() (out []Contradiction) {
	for _, set := range s.order.Rules.Lockstep {
		moves := slices.ContainsFunc(set.Of, func(id string) bool {
			return s.find(id) != nil
		})
		if !moves || len(set.Missing) == 0 {
			continue
		}
		var names, why []string
		for _, id := range slices.Sorted(maps.Keys(set.Missing)) {
			names = append(names, s.name(id))
			why = append(why, s.name(id)+" "+set.Missing[id])
		}
		out = append(out, Contradiction{Why: LockstepSet, Set: set.Name, Devices: names,
			Text: fmt.Sprintf("lockstep set %s is updated as a whole, but %s; resolve that, or "+
				"leave the whole set out",
				set.Name, strings.Join(why, ", "))})
	}
	return out
}

// tooLong finds what does not fit into any window.
func (s *State) tooLong() (out []Contradiction) {
	if s.order.Window == 0 {
		return nil
	}
	reported := map[*lockstepSet]bool{}
	for i := range s.devices {
		d := &s.devices[i]
		need := s.needs(d)
		if need <= s.order.Window || d.set != nil && reported[d.set] {
			continue
		}
		c := Contradiction{Why: Window, Devices: []string{d.Name}}
		what := d.Name
		if d.set != nil {
			reported[d.set] = true
			what, c.Set = "lockstep set "+d.set.Name, d.set.Name
		}
		c.Text = fmt.Sprintf("%s may take %s to be verified or rolled back, but the longest "+
			"window is %s; extend a window, or leave it out",
			what, need.Round(time.Second), s.order.Window)
		out = append(out, c)
	}
	return out
}

func sortedKeys[V any](m map[int]V) []int { return slices.Sorted(maps.Keys(m)) }
