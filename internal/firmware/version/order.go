package version

import (
	"fmt"
	"slices"
	"strings"
	"time"
)

// Order is how one maker's version strings sort. The zero Order is the natural one.
//
// Every Order is total: what it cannot read comes before everything it can, in the
// natural order.
type Order struct {
	rule           string
	prefix, suffix []string
	list           []string
}

// Rules are the names that NewOrder knows.
var Rules = []string{"natural", "semver", "dotted", "date", "hex", "listed"}

// NewOrder makes an order: natural (also for an empty rule), semver (Semantic
// Versioning 2.0.0, 11), dotted (numbers only, missing ones are 0), date
// (2026-11-23, 20261123 or 23.11.2026, then anything), hex (0x1F, 1f.02), or listed
// (the order of list). Of each version the first of prefix and of suffix that it
// has is taken off before it is read; upper and lower case are the same.
func NewOrder(rule string, prefix, suffix, list []string) (Order, error) {
	switch {
	case rule == "":
		rule = "natural"
	case !slices.Contains(Rules, rule):
		return Order{}, fmt.Errorf("order %q is not one of %s", rule, strings.Join(Rules, ", "))
	}
	if (rule == "listed") != (len(list) > 0) {
		return Order{}, fmt.Errorf("a list belongs to the order \"listed\", and only to that")
	}
	o := Order{rule: rule}
	for _, p := range []struct {
		from []string
		to   *[]string
	}{{prefix, &o.prefix}, {suffix, &o.suffix}, {list, &o.list}} {
		for _, s := range p.from {
			s = strings.ToLower(strings.TrimSpace(s))
			if s == "" || slices.Contains(*p.to, s) {
				return Order{}, fmt.Errorf("%q is empty or listed twice", s)
			}
			*p.to = append(*p.to, s)
		}
	}
	return o, nil
}

// Compare returns -1, 0 or +1 as a comes before, equals or comes after b.
func (o Order) Compare(a, b string) int {
	return compare(o.key(a), o.key(b))
}

func compare(x, y []token) int {
	for i := 0; i < len(x) || i < len(y); i++ {
		if c := at(x, i).compare(at(y, i)); c != 0 {
			return c
		}
	}
	return 0
}

// Equal tells whether a and b read as the same version.
func (o Order) Equal(a, b string) bool { return o.Compare(a, b) == 0 }

// key is what a version is sorted by.
func (o Order) key(s string) []token {
	if o.rule == "" {
		return read(s)
	}
	if len(s) > MaxLength {
		s = s[:MaxLength]
	}
	bare := strings.ToLower(strings.TrimSpace(s))
	for _, p := range o.prefix {
		if rest, ok := strings.CutPrefix(bare, p); ok {
			bare = strings.TrimSpace(rest)
			break
		}
	}
	for _, p := range o.suffix {
		if rest, ok := strings.CutSuffix(bare, p); ok {
			bare = strings.TrimSpace(rest)
			break
		}
	}
	if o.rule == "natural" {
		return read(bare)
	}
	readers := map[string]func(string) ([]token, bool){
		"semver": semver, "dotted": dotted, "date": date, "hex": hexadecimal, "listed": o.listed,
	}
	if tokens, ok := readers[o.rule](bare); ok {
		return append([]token{{rank: number, text: "1"}}, tokens...)
	}
	return append([]token{{rank: number}}, read(bare)...) // before everything that can be read
}

func num(digits string) token { return token{number, strings.TrimLeft(digits, "0")} }

func allDigits(s string) bool {
	return s != "" && strings.Trim(s, "0123456789") == ""
}

// semver reads MAJOR.MINOR.PATCH-pre.release+build; the build says nothing.
func semver(s string) ([]token, bool) {
	s, _, _ = strings.Cut(strings.TrimPrefix(s, "v"), "+")
	core, pre, has := strings.Cut(s, "-")
	parts := strings.Split(core, ".")
	if len(parts) != 3 {
		return nil, false
	}
	var out []token
	for _, p := range parts {
		if !allDigits(p) {
			return nil, false
		}
		out = append(out, num(p))
	}
	if !has {
		return out, true
	}
	out = append(out, token{rank: early})
	for id := range strings.SplitSeq(pre, ".") {
		switch {
		case id == "":
			return nil, false
		case allDigits(id): // numbers come before words, and the shorter first
			digits := strings.TrimLeft(id, "0")
			out = append(out, token{word, fmt.Sprintf("0%04d%s", len(digits), digits)})
		default:
			out = append(out, token{word, "1" + id})
		}
	}
	return out, true
}

func dotted(s string) ([]token, bool) {
	var out []token
	for p := range strings.SplitSeq(strings.TrimPrefix(s, "v"), ".") {
		if !allDigits(p) {
			return nil, false
		}
		out = append(out, num(p))
	}
	return dropZeros(out), true
}

func date(s string) ([]token, bool) {
	for _, layout := range []string{"2006-01-02", "2006.01.02", "2006/01/02", "2006_01_02",
		"20060102", "02.01.2006"} {
		if len(s) < len(layout) {
			continue
		}
		if t, err := time.Parse(layout, s[:len(layout)]); err == nil {
			rest := s[len(layout):]
			if rest != "" && isDigit(rune(rest[0])) {
				continue // a longer number
			}
			return append([]token{num(t.Format("20060102"))}, read(rest)...), true
		}
	}
	return nil, false
}

func hexadecimal(s string) ([]token, bool) {
	var out []token
	for p := range strings.SplitSeq(s, ".") {
		p = strings.TrimPrefix(p, "0x")
		if p == "" || strings.Trim(p, "0123456789abcdef") != "" {
			return nil, false
		}
		out = append(out, num(p)) // longer is larger, and a to f come after 9
	}
	return dropZeros(out), true
}

func (o Order) listed(s string) ([]token, bool) {
	i := slices.Index(o.list, s)
	return []token{num(fmt.Sprint(i + 1))}, i >= 0
}
