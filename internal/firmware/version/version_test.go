package version_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/firmware/version"
)

// Each row stands in rising order; every pair of a row is compared, both ways.
func TestNaturalOrder(t *testing.T) {
	rows := [][]string{
		{"1.9", "1.10", "2.0", "2.08"},
		{"V6.1", "V7.0", "V7.0-p1", "V7.0-p3", "V7.0-p10", "V7.1"},
		{"K9", "K42", "K101", "L1"},
		{"2024.9", "2024.10a1", "2024.10b2", "2024.10b10", "2024.10rc1", "2024.10", "2024.10.1",
			"2025.1"},
		{"3.1", "3.1a", "3.1b", "3.1.1"},
		{"3.2-beta", "3.2-rc.1", "3.2", "3.2 build 7"},
		{"1", "1.0.0.1", "1.99999999999999999999", "1.100000000000000000000"},
		{"0", "0.1", "1"},
	}
	for _, row := range rows {
		for i := range row {
			for j := range row {
				want := 0
				if i < j {
					want = -1
				} else if i > j {
					want = 1
				}
				assert.Equal(t, want, version.Compare(row[i], row[j]), "%q against %q", row[i],
					row[j])
			}
		}
	}
}

func TestSameVersionWrittenDifferently(t *testing.T) {
	for _, pair := range [][2]string{
		{"V2.08", "2.08"}, {"v 2.08", "2.08"}, {"2.08", "2.08.0"}, {"02.008", "2.08"},
		{"7.0-p3", "7.0_P3"}, {"1_2_3", "1.2.3"}, {"Version 4", "4.0"},
	} {
		assert.True(t, version.Equal(pair[0], pair[1]), "%q and %q", pair[0], pair[1])
	}
	assert.False(t, version.Equal("2.1", "2.10"))
}

func TestValid(t *testing.T) {
	for _, good := range []string{"2.08", "V7.0-p3", "K42", "b"} {
		assert.NoError(t, version.Valid(good))
	}
	for bad, why := range map[string]string{
		"":                         "empty",
		"  ":                       "empty",
		"...":                      "neither a digit nor a letter",
		"1.0\x1b[2J":               "control characters",
		string(make([]byte, 1000)): "longer than 128",
	} {
		assert.ErrorContains(t, version.Valid(bad), why)
	}
}

func TestConstraint(t *testing.T) {
	cases := []struct {
		constraint, version string
		holds               bool
	}{
		{"", "1.0", true},
		{">= 2.0", "2.0", true},
		{">= 2.0", "1.9", false},
		{">= 2.0, < 4", "3.99", true},
		{">= 2.0, < 4", "4.0", false},
		{"> B", "C", true},
		{">= B", "A", false},
		{"3.1", "3.1.0", true},
		{"!= 3.1", "3.1", false},
		{"<=3.1", "3.1rc1", true},
	}
	for _, c := range cases {
		parsed, err := version.ParseConstraint(c.constraint)
		require.NoError(t, err)
		assert.Equal(t, c.holds, parsed.Holds(version.Order{}, c.version), "%q against %q",
			c.version, c.constraint)
		again, err := version.ParseConstraint(parsed.String())
		require.NoError(t, err)
		assert.Equal(t, parsed, again)
	}
	for _, bad := range []string{">=", ">= 2.0,", "=> 2", "< \x00"} {
		_, err := version.ParseConstraint(bad)
		assert.ErrorContains(t, err, "write for example", "%q", bad)
	}
}
