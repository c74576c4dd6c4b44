package order

import (
	"cmp"
	"fmt"
	"maps"
	"math"
	"slices"

	"catena/internal/yamldoc"
)

// Rules are what must hold at every instant. A zero value asks for nothing.
type Rules struct {
	// at work at the same time; 0: any number
	Parallel int            `yaml:"parallel,omitempty" json:"parallel,omitempty"`
	PerModel map[string]int `yaml:"per_model,omitempty" json:"per_model,omitempty"`
	PerKind  map[string]int `yaml:"per_kind,omitempty" json:"per_kind,omitempty"`
	// through one uplink; 0: any number
	PerUplink int `yaml:"per_uplink,omitempty" json:"per_uplink,omitempty"`
	// PerParent is how many children of a parent, by its ID, its family allows at the same time.
	PerParent map[string]int `yaml:"per_parent,omitempty" json:"per_parent,omitempty"`
	Cover     []Cover        `yaml:"cover,omitempty" json:"cover,omitempty"`
	Lockstep  []Set          `yaml:"lockstep,omitempty" json:"lockstep,omitempty"`
	// Pilot: the first of each model and image is proven before the next starts.
	Pilot     bool      `yaml:"pilot" json:"pilot,omitempty"`
	StopAfter StopAfter `yaml:"stop_after,omitempty" json:"stop_after,omitzero"`
	// Feeds are the devices that are out of service while one is worked on, besides itself.
	Feeds map[string][]string `yaml:"feeds,omitempty" json:"feeds,omitempty"`
	// Out are devices that are out of service before anything starts, and why: "is away".
	Out map[string]string `yaml:"-" json:"out,omitempty"`
}

// Cover is a cover set: at least Keep of its devices stay in service.
type Cover struct {
	Name string   `yaml:"name" json:"name"`
	Keep int      `yaml:"keep" json:"keep"`
	Of   []string `yaml:"of,flow" json:"of"`
}

// Set is a lockstep set: its devices move together, and where one fails all return.
type Set struct {
	Name string   `yaml:"name" json:"name"`
	Of   []string `yaml:"of,flow" json:"of"`
	// Missing are those of its members that should move and cannot, and why: "is held".
	Missing map[string]string `yaml:"-" json:"missing,omitempty"`
}

// StopAfter stops a job from start more.
type StopAfter struct {
	Failures int `yaml:"failures,omitempty" json:"failures,omitempty"` // 0: any number
	// of all devices, from 0 to 1; 0: any
	Share float64 `yaml:"share,omitempty" json:"share,omitempty"`
}

func (r Rules) check(doc *yamldoc.Doc) error {
	for key, n := range map[string]int{"parallel": r.Parallel, "per_uplink": r.PerUplink,
		"stop_after.failures": r.StopAfter.Failures} {
		if n < 0 {
			return doc.Errorf("$.rules."+key, "rules: %s: must not be negative", key)
		}
	}
	if !(r.StopAfter.Share >= 0 && r.StopAfter.Share <= 1) {
		return doc.Errorf("$.rules.stop_after.share",
			"rules: stop_after: share: must be from 0 to 1")
	}
	for model, n := range r.PerModel {
		if n < 1 {
			return doc.Errorf("$.rules.per_model", "rules: per_model: %s: must be 1 or more", model)
		}
	}
	for kind, n := range r.PerKind {
		if n < 1 {
			return doc.Errorf("$.rules.per_kind", "rules: per_kind: %s: must be 1 or more", kind)
		}
	}
	for id, n := range r.PerParent {
		if n < 1 {
			return doc.Errorf("$.rules.per_parent", "rules: per_parent: %s: must be 1 or more", id)
		}
	}
	for i, c := range r.Cover {
		if c.Keep < 1 || c.Name == "" {
			return doc.Errorf(fmt.Sprintf("$.rules.cover[%d]", i),
				"rules: cover: requires name:, and keep: of 1 or more")
		}
	}
	return nil
}

// Rule is one of the rules of an order, for a reader.
type Rule struct {
	Kind string // parallel, model, kind, uplink, parent, pilot, cover, lockstep, failures or share
	N    int    // the limit; 0: it has none
	Of   string // the model, kind, parent or set that it is about; empty: it is about all devices
}

// Each lists the rules that are in force. name returns the name of a device by its ID.
func (r Rules) Each(name func(id string) string) (out []Rule) {
	add := func(kind string, n int, of string) { out = append(out, Rule{kind, n, of}) }
	if r.Parallel > 0 {
		add("parallel", r.Parallel, "")
	}
	for _, model := range slices.Sorted(maps.Keys(r.PerModel)) {
		add("model", r.PerModel[model], model)
	}
	for _, kind := range slices.Sorted(maps.Keys(r.PerKind)) {
		add("kind", r.PerKind[kind], kind)
	}
	if r.PerUplink > 0 {
		add("uplink", r.PerUplink, "")
	}
	for _, parent := range slices.Sorted(maps.Keys(r.PerParent)) {
		add("parent", r.PerParent[parent], cmp.Or(name(parent), parent))
	}
	if r.Pilot {
		add("pilot", 0, "")
	}
	for _, c := range r.Cover {
		add("cover", c.Keep, c.Name)
	}
	for _, l := range r.Lockstep {
		add("lockstep", 0, l.Name)
	}
	if r.StopAfter.Failures > 0 {
		add("failures", r.StopAfter.Failures, "")
	}
	if r.StopAfter.Share > 0 {
		add("share", int(math.Round(100*r.StopAfter.Share)), "")
	}
	return out
}

// String states the rule in words.
func (r Rule) String() string {
	switch r.Kind {
	case "parallel":
		return fmt.Sprintf("at most %d at the same time", r.N)
	case "model":
		return fmt.Sprintf("at most %d of model %s at the same time", r.N, r.Of)
	case "kind":
		return fmt.Sprintf("at most %d of kind %s at the same time", r.N, r.Of)
	case "uplink":
		return fmt.Sprintf("at most %d at the same time through one uplink", r.N)
	case "parent":
		return fmt.Sprintf("at most %d at the same time reached through %s", r.N, r.Of)
	case "pilot":
		return "the first of each model is verified before the next starts; if it is stranded, none does"
	case "cover":
		return fmt.Sprintf("at least %d of %s in service", r.N, r.Of)
	case "lockstep":
		return r.Of + " is updated and rolled back as a whole"
	case "failures":
		return fmt.Sprintf("no more start after %d failures", r.N)
	}
	return fmt.Sprintf("no more start after %d %% of the devices have failed", r.N)
}

// Looser says in words which rules of a site these do not keep. A stricter rule keeps it. name
// returns the name of a device by its ID.
func (r Rules) Looser(site Rules, name func(id string) string) (out []string) {
	say := func(format string, args ...any) { out = append(out, fmt.Sprintf(format, args...)) }
	limit := func(of string, is, most int) {
		switch {
		case most > 0 && is == 0:
			say("limits: the site allows %d %s, the order any number", most, of)
		case most > 0 && is > most:
			say("limits: the site allows %d %s, the order %d", most, of, is)
		}
	}
	limit("at the same time", r.Parallel, site.Parallel)
	limit("through one uplink", r.PerUplink, site.PerUplink)
	for _, model := range slices.Sorted(maps.Keys(site.PerModel)) {
		limit("of "+model, r.PerModel[model], site.PerModel[model])
	}
	for _, kind := range slices.Sorted(maps.Keys(site.PerKind)) {
		limit("of kind "+kind, r.PerKind[kind], site.PerKind[kind])
	}
	for _, parent := range slices.Sorted(maps.Keys(site.PerParent)) {
		limit("behind "+name(parent), r.PerParent[parent], site.PerParent[parent])
	}
	limit("failures", r.StopAfter.Failures, site.StopAfter.Failures)
	if s := site.StopAfter.Share; s > 0 && (r.StopAfter.Share == 0 || r.StopAfter.Share > s) {
		say("stop_after: the site stops after %.0f%% of failures, the order later", 100*s)
	}
	for _, c := range site.Cover {
		i := slices.IndexFunc(r.Cover, func(x Cover) bool { return x.Name == c.Name })
		if i < 0 || r.Cover[i].Keep < c.Keep || !Same(r.Cover[i].Of, c.Of) {
			say("cover set %s differs in site.yaml", c.Name)
		}
	}
	for _, l := range site.Lockstep {
		i := slices.IndexFunc(r.Lockstep, func(x Set) bool { return x.Name == l.Name })
		if i < 0 || !Same(r.Lockstep[i].Of, l.Of) {
			say("lockstep set %s differs in site.yaml", l.Name)
		}
	}
	for _, id := range slices.Sorted(maps.Keys(site.Feeds)) {
		if !Same(r.Feeds[id], site.Feeds[id]) {
			say("what %s feeds has changed in site.yaml", name(id))
		}
	}
	return out
}

// Same reports whether two lists hold the same, in whatever sequence.
func Same(a, b []string) bool {
	return slices.Equal(slices.Sorted(slices.Values(a)), slices.Sorted(slices.Values(b)))
}
