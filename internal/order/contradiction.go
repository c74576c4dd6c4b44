package order

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"
)

// Contradiction is something in an order that can never be done.
type Contradiction struct {
	Why     Why      // Explicit: a circle; CoverSet, LockstepSet, or Window
	Devices []string // the names of those that it is about
	Set     string   // the name of a cover set or a lockstep set
	Text    string   // what is wrong, and what would resolve it
}

// Contradictions are all that an order contradicts itself in.
type Contradictions struct{ All []Contradiction }

func (c *Contradictions) Error() string {
	var lines []string
	for _, one := range c.All {
		lines = append(lines, one.Text)
	}
	return strings.Join(lines, "\n")
}

// contradictions looks for what no sequence can mend.
func (s *State) contradictions() []Contradiction {
	return slices.Concat(s.circle(), s.interlaced(), s.tooFewCovered(), s.incomplete(), s.tooLong())
}

// circle finds devices of which each must have ended before the next.
func (s *State) circle() []Contradiction {
	reached := map[int]bool{}
	for _, i := range s.topological() {
		reached[i] = true
	}
	if len(reached) == len(s.work) {
		return nil
	}
	i := 0
	for reached[i] {
		i++
	}
	// Each that was not reached waits for another that was not: going back ends in the circle.
	seen := map[int]int{}
	var walked []int
	for seen[i] == 0 {
		walked = append(walked, i)
		seen[i] = len(walked)
		for _, b := range s.work[i].before {
			if !reached[b] {
				i = b
				break
			}
		}
	}
	var names []string
	for _, j := range slices.Backward(walked[seen[i]-1:]) {
		names = append(names, s.work[j].Name)
	}
	return []Contradiction{{Why: Explicit, Devices: names, Text: fmt.Sprintf(
		"%s → %s: each must have ended before the next; take one of these rules away",
		strings.Join(names, " → "), names[0])}}
}

// interlaced finds lockstep sets that cannot move together, because another device, or another
// set, has to go after one member and before another one.
func (s *State) interlaced() []Contradiction {
	if len(s.topological()) < len(s.work) {
		return nil // circle tells
	}
	as := make([]int, len(s.work)) // a set is one node, that of its first member
	for i := range s.work {
		as[i] = i
		if in := s.work[i].set; in != nil {
			as[i] = in.members[0]
		}
	}
	open, then := make([]int, len(s.work)), make([][]int, len(s.work))
	for i := range s.work {
		for _, j := range s.work[i].then {
			if as[i] != as[j] {
				open[as[j]]++
				then[as[i]] = append(then[as[i]], as[j])
			}
		}
	}
	var next []int
	for i := range s.work {
		if as[i] == i && open[i] == 0 {
			next = append(next, i)
		}
	}
	for ; len(next) > 0; next = next[1:] {
		for _, j := range then[next[0]] {
			open[j]--
			if open[j] == 0 {
				next = append(next, j)
			}
		}
	}
	var out []Contradiction
	for i := range s.work {
		in := s.work[i].set
		if in == nil || as[i] != i || open[i] == 0 {
			continue
		}
		var names []string
		for _, m := range in.members {
			names = append(names, s.work[m].Name)
		}
		out = append(out, Contradiction{Why: LockstepSet, Set: in.Name, Devices: names,
			Text: fmt.Sprintf("lockstep set %s moves together, and others have to go after one of its members and before another one; put those into the set, or divide it",
				in.Name)})
	}
	return out
}

// tooFewCovered finds devices that could not be worked on even with all others in service.
func (s *State) tooFewCovered() (out []Contradiction) {
	for i := range s.work {
		w := &s.work[i]
		takes := map[int]int{}
		for _, id := range append([]string{w.ID}, s.order.Rules.Feeds[w.ID]...) {
			for _, c := range s.lines.coverOf[id] {
				takes[c]++
			}
		}
		for _, c := range sortedKeys(takes) {
			cover := s.order.Rules.Cover[c]
			if takes[c] <= len(cover.Of)-cover.Keep {
				continue
			}
			text := fmt.Sprintf("cover set %s keeps %d of %d in service, and %s takes %d of them out; keep fewer, or leave %[4]s out",
				cover.Name, cover.Keep, len(cover.Of), w.Name, takes[c])
			out = append(out, Contradiction{Why: CoverSet, Set: cover.Name,
				Devices: []string{w.Name}, Text: text})
		}
	}
	return out
}

// incomplete finds lockstep sets of which a member cannot move.
func (s *State) incomplete() (out []Contradiction) {
	for _, set := range s.order.Rules.Lockstep {
		moves := slices.ContainsFunc(set.Of, func(id string) bool {
			_, ok := s.index[id]
			return ok
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
			Text: fmt.Sprintf("lockstep set %s moves together, and %s; resolve that, or leave the whole set out",
				set.Name, strings.Join(why, ", "))})
	}
	return out
}

// tooLong finds what no window has room for.
func (s *State) tooLong() (out []Contradiction) {
	if s.order.Window == 0 {
		return nil
	}
	told := map[*set]bool{}
	for i := range s.work {
		w := &s.work[i]
		need := s.needs(i)
		if need <= s.order.Window || w.set != nil && told[w.set] {
			continue
		}
		c := Contradiction{Why: Window, Devices: []string{w.Name}}
		what := w.Name
		if w.set != nil {
			told[w.set] = true
			what, c.Set = "lockstep set "+w.set.Name, w.set.Name
		}
		c.Text = fmt.Sprintf("%s may need %s until it is proven or returned, and the longest window has %s; make a longer window, or leave it out",
			what, need.Round(time.Second), s.order.Window)
		out = append(out, c)
	}
	return out
}

func sortedKeys[V any](m map[int]V) []int { return slices.Sorted(maps.Keys(m)) }
