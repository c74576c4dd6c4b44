package workspace

import (
	"catena/internal/match"
	"cmp"
	"slices"
	"strings"
)

// Tally is how many devices of a model run what they should.
type Tally struct {
	Group    string         `json:"group,omitempty"`
	Kind     string         `json:"kind,omitempty"`
	Vendor   string         `json:"vendor"`
	Model    string         `json:"model"`
	Runs     string         `json:"runs,omitempty"`
	Target   string         `json:"target,omitempty"`
	Devices  int            `json:"devices"`
	OnTarget int            `json:"on_target"`
	Statuses map[string]int `json:"statuses"`
}

// Tallies counts rows by model, by "group", or by "kind".
func Tallies(rows []Row, by string) []Tally {
	type key struct{ group, kind, vendor, model, runs, target string }
	place := map[key]int{}
	out := []Tally{}
	for _, d := range rows {
		groups := []string{""}
		if by == "group" {
			groups = d.Groups
			if len(groups) == 0 {
				groups = []string{"(none)"}
			}
		}
		for _, g := range groups {
			k := key{g, "", d.Vendor, d.Model, d.Version.Text, d.Target.Text}
			switch by {
			case "group":
				k.runs, k.target = "", ""
			case "kind":
				k.kind, k.runs, k.target = cmp.Or(d.Kind, "(unknown)"), "", ""
			}
			i, ok := place[k]
			if !ok {
				i, place[k] = len(out), len(out)
				out = append(out, Tally{Group: k.group, Kind: k.kind, Vendor: k.vendor, Model: k.model,
					Runs: k.runs, Target: k.target, Statuses: map[string]int{}})
			}
			out[i].Devices++
			out[i].Statuses[d.Status]++
			if d.Status == string(match.Current) {
				out[i].OnTarget++
			}
		}
	}
	slices.SortStableFunc(out, func(a, b Tally) int {
		return cmp.Or(
			strings.Compare(a.Group, b.Group),
			strings.Compare(a.Kind, b.Kind),
			strings.Compare(a.Vendor, b.Vendor),
			strings.Compare(a.Model, b.Model),
		)
	})
	return out
}
