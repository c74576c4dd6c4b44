package firmware

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"
)

// Patience says how long a device may take, by step; 0: it is not said here. A family says it
// for its devices, a manifest for its image, a site for all of its devices, and a person for
// one job: what is said later in this list counts.
type Patience struct {
	// Grace is how long a device that should restart automatically may stay up, beyond the time that
	// it announced, before it is asked to. One that cannot report how far its writing is may be
	// writing all the while, so it is only asked where a family, an image, a site or the operator has
	// set this.
	Grace time.Duration `yaml:"grace,omitempty" json:"grace,omitempty"` // JSON: ns
	// what it was sent
	Writing time.Duration `yaml:"writing,omitempty" json:"writing,omitempty"`
	// until it is back
	Restarting time.Duration `yaml:"restarting,omitempty" json:"restarting,omitempty"`
	// until it is as it should
	Proving  time.Duration `yaml:"proving,omitempty" json:"proving,omitempty"`
	Settling time.Duration `yaml:"settling,omitempty" json:"settling,omitempty"` // it must stay so
}

// PatienceSteps are the names of its steps.
var PatienceSteps = []string{"writing", "restarting", "proving", "settling", "grace"}

// Step is how long a step may take, to be read or set; nil: there is no such step.
func (p *Patience) Step(name string) *time.Duration {
	i := slices.Index(PatienceSteps, name)
	if i < 0 {
		return nil
	}
	return []*time.Duration{&p.Writing, &p.Restarting, &p.Proving, &p.Settling, &p.Grace}[i]
}

// Over is a patience whose steps that are not said come from another one.
func (p Patience) Over(under Patience) Patience {
	for _, step := range PatienceSteps {
		*p.Step(step) = cmp.Or(*p.Step(step), *under.Step(step))
	}
	return p
}

// Longest has of each step the longer time of two.
func (p Patience) Longest(other Patience) Patience {
	for _, step := range PatienceSteps {
		*p.Step(step) = max(*p.Step(step), *other.Step(step))
	}
	return p
}

// Check returns the step that says no time, and a message; empty: all do.
func (p Patience) Check() (step, message string) {
	for _, step := range PatienceSteps {
		if d := *p.Step(step); d < 0 || d > maxTakes {
			return step, fmt.Sprintf("patience: %s: %s is not a time limit; write for example 20m",
				step, d)
		}
	}
	return "", ""
}

// String writes it as --patience takes it.
func (p Patience) String() string {
	var parts []string
	for _, step := range PatienceSteps {
		if d := *p.Step(step); d != 0 {
			parts = append(parts, step+"="+d.String())
		}
	}
	return strings.Join(parts, ", ")
}
