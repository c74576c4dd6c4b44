package advisory_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/firmware/advisory"
	"catena/internal/firmware/version"
)

const csaf = `{"document":{"csaf_version":"2.0","title":"Open door","tracking":{"id":"MH-2026-7"}},
"product_tree":{"branches":[{"category":"vendor","name":"Wexcombe","branches":[
 {"category":"product_family","name":"cameras","branches":[{"category":"product_name","name":"WX-40","branches":[
  {"category":"product_version_range","name":"vers:generic/>=3.0|<3.2","product":{"product_id":"P1","name":"x"}},
  {"category":"product_version","name":"2.9","product":{"product_id":"P2","name":"x"}},
  {"category":"product_version","name":"3.2.1","product":{"product_id":"P3","name":"x"}},
  {"category":"product_version_range","name":"all of them","product":{"product_id":"P4","name":"x"}}]}]}]}]},
"vulnerabilities":[{"product_status":{"known_affected":["P1","P2","P4"],"fixed":["P3"]}}]}`

func TestParse(t *testing.T) {
	require.True(t, advisory.Is([]byte(csaf)))
	a, err := advisory.Parse([]byte(csaf))
	require.NoError(t, err)
	assert.Equal(t, "MH-2026-7", a.ID)
	assert.Equal(t, []advisory.Statement{{"Wexcombe", "WX-40", ">= 3.0, < 3.2"},
		{"Wexcombe", "WX-40", "= 2.9"}}, a.Statements)
	assert.Equal(t, []string{"Wexcombe WX-40 all of them"}, a.Unclear)
	for text, why := range map[string]string{
		strings.Replace(csaf, `"2.0"`, `"1.2"`, 1):       "csaf_version",
		strings.Replace(csaf, "MH-2026-7", "../../x", 1): "not an identifier",
		csaf[:200]: "not JSON",
		strings.Replace(csaf, `"name":"Wexcombe"`, `"name":7`, 1): "not JSON",
		deep(): "larger than any real one",
	} {
		_, err := advisory.Parse([]byte(text))
		assert.ErrorContains(t, err, why)
	}
	assert.False(t, advisory.Is([]byte("image")))
}

func deep() string {
	const n = 40
	return `{"document":{"csaf_version":"2.0","tracking":{"id":"A"}},"product_tree":{"branches":` +
		strings.Repeat(`[{"category":"x","branches":`, n) + "[]" + strings.Repeat("}]", n) + "}}"
}

func TestConstraints(t *testing.T) {
	for text, want := range map[string]string{
		"vers:generic/>=3.0|<3.2":  ">= 3.0, < 3.2",
		"<=3.1":                    "<= 3.1",
		"vers:semver/1.0|1.1|<0.5": "= 1.0; = 1.1; < 0.5",
		"vers:x/>=1|<2|>=3|<4":     "",
		"vers:all/*":               "",
		"<1|<2":                    "",
		"vers:broken":              "",
	} {
		got, ok := advisory.Constraints(text, true)
		assert.Equal(t, want != "", ok, text)
		if ok {
			assert.Equal(t, want, strings.Join(got, "; "))
		}
	}
}

func FuzzParse(f *testing.F) {
	f.Add([]byte(csaf))
	f.Fuzz(func(t *testing.T, raw []byte) {
		a, err := advisory.Parse(raw)
		if err != nil {
			return
		}
		for _, s := range a.Statements {
			if c, err := version.ParseConstraint(s.Versions); err != nil || c.Empty() ||
				s.Model == "" {
				t.Errorf("a statement that cannot be used: %+v", s)
			}
		}
	})
}
