package version

import (
	"fmt"
	"strings"
)

// Constraint is a condition on versions, such as ">= 2.0, < 4": every part of it
// must hold. The zero Constraint holds for every version.
type Constraint struct {
	parts []part
}

type part struct {
	op, version string
}

// operators in the order in which they are looked for: longer ones first.
var operators = []string{">=", "<=", "!=", "==", ">", "<", "="}

// ParseConstraint reads parts separated by commas, each an operator
// (>= > <= < = == !=) and a version; a version alone means "=".
func ParseConstraint(s string) (Constraint, error) {
	var c Constraint
	if strings.TrimSpace(s) == "" {
		return c, nil
	}
	for p := range strings.SplitSeq(s, ",") {
		p = strings.TrimSpace(p)
		op := "="
		for _, o := range operators {
			if rest, ok := strings.CutPrefix(p, o); ok {
				op, p = o, strings.TrimSpace(rest)
				break
			}
		}
		err := Valid(p)
		if strings.ContainsAny(p, "<>=!") {
			err = fmt.Errorf("%q is not a version", p)
		}
		if err != nil {
			return Constraint{}, fmt.Errorf("constraint %q: %w; write for example \">= 2.0, < 4\"",
				s, err)
		}
		c.parts = append(c.parts, part{op, p})
	}
	return c, nil
}

// Holds tells whether v meets every part of the constraint, in the order o.
func (c Constraint) Holds(o Order, v string) bool {
	for _, p := range c.parts {
		if !p.holds(o.Compare(v, p.version)) {
			return false
		}
	}
	return true
}

func (p part) holds(order int) bool {
	switch p.op {
	case ">=":
		return order >= 0
	case "<=":
		return order <= 0
	case ">":
		return order > 0
	case "<":
		return order < 0
	case "!=":
		return order != 0
	default:
		return order == 0
	}
}

// Exact returns the one version that the constraint allows; false: it allows others, or none.
func (c Constraint) Exact() (v string, one bool) {
	if len(c.parts) != 1 || c.parts[0].op != "=" && c.parts[0].op != "==" {
		return "", false
	}
	return c.parts[0].version, true
}

// Empty tells whether the constraint asks for nothing.
func (c Constraint) Empty() bool { return len(c.parts) == 0 }

// String writes the constraint as ParseConstraint reads it.
func (c Constraint) String() string {
	parts := make([]string, len(c.parts))
	for i, p := range c.parts {
		parts[i] = p.op + " " + p.version
	}
	return strings.Join(parts, ", ")
}
