package site_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/site"
)

// A hold is added as a line and dropped as one: all that a person wrote stays.
func TestHoldsAreLines(t *testing.T) {
	for name, c := range map[string]struct{ before, after string }{
		"none yet": {"site: X # mine\n",
			"site: X # mine\n\nhold:\n  - {device: \"gate-5\", because: \"winter\"}\n"},
		"one more": {"site: X\nhold: # mine\n- {device: cam-1, because: lent} # why\n",
			"site: X\nhold: # mine\n- {device: \"gate-5\", because: \"winter\"}\n- {device: cam-1, " +
				"because: lent} # why\n"},
		"a comment": {"site: X\n# hold:\n",
			"site: X\n# hold:\n\nhold:\n  - {device: \"gate-5\", because: \"winter\"}\n"},
		"in between": {"site: X\nhold:\n  - {device: cam-1, because: lent}\ngroups: {a: [cam-1]}\n",
			"site: X\nhold:\n  - {device: \"gate-5\", because: \"winter\"}\n  - {device: cam-1, because: " +
				"lent}\ngroups: {a: [cam-1]}\n"},
	} {
		got, err := site.AddHold("site.yaml", []byte(c.before),
			site.Hold{Device: "gate-5", Because: "winter"})
		require.NoError(t, err, name)
		assert.Equal(t, c.after, string(got), name)
		again, err := site.DropHold("site.yaml", got, "gate-5")
		require.NoError(t, err, name)
		a, err := site.Parse("site.yaml", []byte(c.before))
		require.NoError(t, err)
		b, err := site.Parse("site.yaml", again)
		require.NoError(t, err)
		assert.Equal(t, a, b, name)
	}
	got, err := site.AddHold("site.yaml", []byte("site: X\nhold:\n# wet\n- {device: cam-1, "+
		"because: lent}\n"),
		site.Hold{Device: "gate-5", Because: "winter"})
	require.NoError(t, err, "as far in as the others, below a comment")
	assert.Contains(t, string(got), "\n- {device: \"gate-5\"")
	_, err = site.AddHold("site.yaml", []byte("site: X\nhold: [{device: cam-1, because: lent}]\n"),
		site.Hold{Device: "gate-5", Because: "winter"})
	assert.ErrorContains(t, err, "add the line there yourself")
	_, err = site.DropHold("site.yaml",
		[]byte("site: X\nhold:\n  - device: cam-1\n    because: x\n"), "cam-1")
	assert.ErrorContains(t, err, "remove it there yourself")
	_, err = site.DropHold("site.yaml", []byte("site: X\nhold:\n  - device: cam-1\n    because: x\n"+
		"reach:\n  - {device: cam-1}\n"), "cam-1")
	assert.ErrorContains(t, err, "remove it there yourself", "a line of another list is no hold")
}

// A comment between holds, or above them, is no end of the list.
func TestHoldsBesideComments(t *testing.T) {
	for name, c := range map[string]struct{ before, after string }{
		"after the first": {
			"hold:\n  - {device: gate-5, because: a}\n  # the next one is wet\n  - {device: gate-4, " +
				"because: b}\n",
			"hold:\n  # the next one is wet\n  - {device: gate-4, because: b}\n"},
		"before one in another form": {
			"hold:\n  - {device: gate-5, because: a}\n  - device: gate-4\n    because: b\n",
			"hold:\n  - device: gate-4\n    because: b\n"},
		"above the only one": {"hold:\n  # wet\n  - {device: gate-5, because: a}\nengineer: A. " +
			"Fenwright\n",
			"  # wet\nengineer: A. Fenwright\n"},
		"above the last": {
			"hold:\n  - {device: gate-4, because: b}\n\n  # wet\n  - {device: gate-5, because: a} # still\n",
			"hold:\n  - {device: gate-4, because: b}\n\n  # wet\n"},
	} {
		t.Run(name, func(t *testing.T) {
			head := "site: Marrow Hill Locks\n"
			got, err := site.DropHold("site.yaml", []byte(head+c.before), "gate-5")
			require.NoError(t, err)
			assert.Equal(t, head+c.after, string(got))
		})
	}
}
