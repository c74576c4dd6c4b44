// Package advisory reads security advisories of the Common Security Advisory
// Framework, CSAF 2.0 (OASIS), as far as they say which versions of which models are
// affected. It is pure.
package advisory

import (
	"encoding/json"
	"fmt"
	"strings"
	"unicode"

	"catena/internal/firmware/version"
	"catena/internal/text"
)

// Bounds of one advisory.
const (
	MaxSize       = 16 << 20 // bytes
	maxDepth      = 32       // of the product tree
	maxStatements = 100_000
)

// Advisory is what an advisory says of versions.
type Advisory struct {
	ID         string // document.tracking.id
	Title      string
	Statements []Statement
	Unclear    []string // affected products whose versions could not be read
}

// Statement says that versions of a model are affected.
type Statement struct {
	Vendor, Model string
	Versions      string // a constraint, as version.ParseConstraint reads it
}

// document is CSAF 2.0, 3.2, as far as it is used.
type document struct {
	Document struct {
		Version  string `json:"csaf_version"`
		Title    string `json:"title"`
		Tracking struct {
			ID string `json:"id"`
		} `json:"tracking"`
	} `json:"document"`
	Tree struct {
		Branches []branch `json:"branches"`
	} `json:"product_tree"`
	Vulnerabilities []struct {
		Status struct {
			Affected []string `json:"known_affected"`
			First    []string `json:"first_affected"`
			Last     []string `json:"last_affected"`
		} `json:"product_status"`
	} `json:"vulnerabilities"`
}

// branch is 3.1.2: a node of the product tree.
type branch struct {
	Category string `json:"category"`
	Name     string `json:"name"`
	Product  *struct {
		ID string `json:"product_id"`
	} `json:"product"`
	Branches []branch `json:"branches"`
}

// Is tells whether a file may be such an advisory, from its start.
func Is(head []byte) bool {
	return strings.HasPrefix(strings.TrimSpace(string(head)), "{") &&
		strings.Contains(string(head), `"csaf_version"`)
}

// plainID tells whether an identifier is one that can name a file.
func plainID(id string) bool {
	odd := func(r rune) bool {
		return !unicode.IsLetter(r) && !unicode.IsDigit(r) && !strings.ContainsRune(" ._-", r)
	}
	return id != "" && len(id) <= 128 && !strings.ContainsFunc(id, odd) &&
		!strings.HasPrefix(id, ".")
}

// Parse reads an advisory.
func Parse(data []byte) (Advisory, error) {
	var d document
	if len(data) > MaxSize {
		return Advisory{}, fmt.Errorf("an advisory of more than %d MiB", MaxSize>>20)
	}
	if err := json.Unmarshal(data, &d); err != nil {
		return Advisory{}, fmt.Errorf("the advisory is not JSON of the expected form: %w", err)
	}
	a := Advisory{ID: d.Document.Tracking.ID, Title: text.Clean(d.Document.Title)}
	switch {
	case d.Document.Version != "2.0":
		return a, fmt.Errorf("csaf_version is %q; only 2.0 is supported", text.Clean(d.Document.Version))
	case !plainID(a.ID):
		return a, fmt.Errorf("document.tracking.id is %q, which is not an identifier",
			text.Clean(a.ID))
	}
	affected := map[string]bool{}
	for _, v := range d.Vulnerabilities {
		for _, ids := range [][]string{v.Status.Affected, v.Status.First, v.Status.Last} {
			for _, id := range ids {
				affected[id] = true
			}
		}
	}
	return a, a.walk(d.Tree.Branches, branch{}, branch{}, affected, 0)
}

// walk goes down the product tree; vendor and product are the nearest above.
func (a *Advisory) walk(branches []branch, vendor, product branch, affected map[string]bool,
	depth int) error {
	if depth > maxDepth || len(a.Statements) > maxStatements {
		return fmt.Errorf("the product tree is larger than any real one")
	}
	for _, b := range branches {
		v, p := vendor, product
		switch b.Category {
		case "vendor":
			v = b
		case "product_name":
			p = b
		case "product_version", "product_version_range":
			if b.Product != nil && affected[b.Product.ID] {
				a.state(v.Name, p.Name, b)
			}
		}
		if err := a.walk(b.Branches, v, p, affected, depth+1); err != nil {
			return err
		}
	}
	return nil
}

func (a *Advisory) state(vendor, model string, b branch) {
	constraints, ok := Constraints(b.Name, b.Category == "product_version_range")
	if !ok || vendor == "" || model == "" {
		a.Unclear = append(a.Unclear, text.Clean(vendor+" "+model+" "+b.Name))
		return
	}
	for _, c := range constraints {
		a.Statements = append(a.Statements, Statement{text.Clean(vendor), text.Clean(model), c})
	}
}

// Constraints reads a version or a range: a bare version; a range of the vers scheme
// (vers:generic/>=3.0|<3.2); or the same without the scheme. It returns constraints
// of which one must hold, and false where it does not understand.
func Constraints(text string, isRange bool) ([]string, bool) {
	text = strings.TrimSpace(text)
	if !isRange {
		return one("= " + text)
	}
	if rest, ok := strings.CutPrefix(text, "vers:"); ok {
		_, text, ok = strings.Cut(rest, "/")
		if !ok {
			return nil, false
		}
	}
	if text == "*" {
		return nil, false
	}
	var plain, bounds []string
	for p := range strings.SplitSeq(text, "|") {
		p = strings.TrimSpace(p)
		switch {
		case strings.HasPrefix(p, "<") || strings.HasPrefix(p, ">"):
			bounds = append(bounds, p)
		case strings.Contains(p, " "): // words, not a version
			return nil, false
		default:
			plain = append(plain, "= "+strings.TrimLeft(p, "= "))
		}
	}
	// One or two bounds make one range; more would make several, and which belong
	// together is not ours to guess.
	if len(bounds) > 2 || len(bounds) == 2 && bounds[0][0] == bounds[1][0] {
		return nil, false
	}
	var out []string
	if len(bounds) > 0 {
		plain = append(plain, strings.Join(bounds, ", "))
	}
	for _, p := range plain {
		c, ok := one(p)
		if !ok {
			return nil, false
		}
		out = append(out, c...)
	}
	return out, len(out) > 0
}

func one(constraint string) ([]string, bool) {
	c, err := version.ParseConstraint(constraint)
	return []string{c.String()}, err == nil && !c.Empty()
}
