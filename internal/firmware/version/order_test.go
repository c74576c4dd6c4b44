package version_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"catena/internal/firmware/version"
)

func order(t require.TestingT, rule string, list ...string) version.Order {
	o, err := version.NewOrder(rule, []string{"FW"}, []string{"-release"}, list)
	require.NoError(t, err)
	return o
}

// Each row stands in rising order; what the rule cannot read comes first.
func TestRules(t *testing.T) {
	for rule, row := range map[string][]string{
		"natural": {"FW1.9", "1.10", "fw 1.11-RELEASE", "1.12"},
		"semver": {"1.9", "1.0.0-alpha", "1.0.0-alpha.1", "1.0.0-alpha.beta", "1.0.0-beta",
			"1.0.0-beta.2", "1.0.0-beta.11", "1.0.0-rc.1", "1.0.0", "v1.2.0", "FW1.10.0+build7"},
		"dotted": {"1.2b", "1.2", "1.2.0.1", "1.10"},
		"date":   {"7.1", "2024-02-29", "20240301", "02.03.2024", "2024.12.31"},
		"hex":    {"xyz", "0x9", "A", "0x1F", "20"},
		"listed": {"unknown", "Amber", "cedar", "Birch"},
	} {
		t.Run(rule, func(t *testing.T) {
			var list []string
			if rule == "listed" {
				list = []string{"amber", "cedar", "birch"}
			}
			o := order(t, rule, list...)
			for i := range row {
				for j := range row {
					assert.Equal(t, sign(i-j), o.Compare(row[i], row[j]), "%q against %q", row[i],
						row[j])
				}
			}
		})
	}
	d := order(t, "date")
	assert.True(t, d.Equal("02.03.2024", "2024-03-02"))
	assert.Equal(t, -1, d.Compare("31.12.2023", "2024-01-01"))
	assert.Equal(t, -1, d.Compare("2024-12-31", "2024-12-31b"))
	assert.Equal(t, -1, d.Compare("2024-13-31", "2023-01-01"), "no such month")
	assert.True(t, order(t, "semver").Equal("1.2.3+a", "1.2.3+b"))
	assert.True(t, order(t, "dotted").Equal("1.2", "1.2.0"))
	assert.True(t, order(t, "hex").Equal("0x00ff", "FF"))
}

func sign(n int) int { return min(1, max(-1, n)) }

func TestNewOrderRefuses(t *testing.T) {
	for why, order := range map[string]func() (version.Order, error){
		"is not one of natural": func() (version.Order, error) {
			return version.NewOrder("alphabetic", nil, nil, nil)
		},
		"a list belongs to": func() (version.Order, error) {
			return version.NewOrder("hex", nil, nil, []string{"a"})
		},
		"only to that": func() (version.Order, error) {
			return version.NewOrder("listed", nil, nil, nil)
		},
		"is empty or listed twi": func() (version.Order, error) {
			return version.NewOrder("listed", nil, nil, []string{"a", "A"})
		},
	} {
		_, err := order()
		assert.ErrorContains(t, err, why)
	}
}

// strings that look like versions, and some that do not.
func versions() *rapid.Generator[string] {
	return rapid.OneOf(
		rapid.StringMatching(
			`(v|V|FW)?[0-9]{1,3}(\.[0-9]{1,3}){0,3}([ -]?(a|b|rc|FP|beta|dev)[0-9]{0,2})?`),
		rapid.StringMatching(`20[0-9]{2}[-.]?[0-1][0-9][-.]?[0-3][0-9][a-c]?`),
		rapid.StringMatching(`(0x)?[0-9a-fA-F]{1,6}(\.[0-9a-f]{1,2})?`),
		rapid.StringMatching(`[0-9]\.[0-9]\.[0-9](-[a-z0-9]{1,3}(\.[a-z0-9]{1,3}){0,2})?(\+[a-z]{1,3})?`),
		rapid.SampledFrom([]string{"", "0", "amber", "Cedar", "birch", "-release", "...", "00", "a",
			"b"}),
		rapid.String(),
	)
}

func TestEveryOrderIsTotal(t *testing.T) {
	for _, rule := range version.Rules {
		t.Run(rule, func(t *testing.T) {
			var list []string
			if rule == "listed" {
				list = []string{"amber", "cedar", "birch"}
			}
			rapid.Check(t, func(t *rapid.T) {
				o := order(t, rule, list...)
				a, b, c := versions().Draw(t, "a"), versions().Draw(t, "b"), versions().Draw(t, "c")
				if o.Compare(a, a) != 0 {
					t.Fatalf("%q is not equal to itself", a)
				}
				if o.Compare(a, b) != -o.Compare(b, a) {
					t.Fatalf("not antisymmetric: %q %q", a, b)
				}
				if o.Compare(a, b) <= 0 && o.Compare(b, c) <= 0 && o.Compare(a, c) > 0 {
					t.Fatalf("not transitive: %q %q %q", a, b, c)
				}
				// Equal versions are equal to all others in the same way.
				if o.Equal(a, b) && o.Compare(a, c) != o.Compare(b, c) {
					t.Fatalf("%q and %q are equal, but not against %q", a, b, c)
				}
			})
		})
	}
}

func FuzzOrders(f *testing.F) {
	f.Add("V7.0-p3", "2024.10b2")
	f.Add("1.0.0-rc.1+b", "0x1F.\x00")
	f.Fuzz(func(t *testing.T, a, b string) {
		for _, rule := range version.Rules[:5] {
			if o := order(t, rule); o.Compare(a, b) != -o.Compare(b, a) {
				t.Errorf("%s is not antisymmetric: %q %q", rule, a, b)
			}
		}
	})
}

func FuzzParseConstraint(f *testing.F) {
	f.Add(">= 2.0, < 4")
	f.Fuzz(func(t *testing.T, s string) {
		c, err := version.ParseConstraint(s)
		if err != nil {
			return
		}
		again, err := version.ParseConstraint(c.String())
		if err != nil || again.String() != c.String() {
			t.Errorf("%q is written as %q, which reads as %q (%v)", s, c, again, err)
		}
	})
}
