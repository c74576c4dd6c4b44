package dialect_test

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/dialect"
)

type counted struct{ left int }

func (c *counted) Leave(context.Context) error { c.left++; return nil }

// What sessions share is made once, left when the last of them parts, and found again by who comes
// later; who stays keeps it open without using it.
func TestMeeting(t *testing.T) {
	var m dialect.SharedSession
	made := 0
	join := func() *counted {
		return m.Acquire(func() dialect.Shared { made++; return &counted{} }).(*counted)
	}
	part := func() { require.NoError(t, m.Release(t.Context())) }
	m.Retain()
	part()
	assert.Zero(t, made, "no one has started anything")
	m.Retain()
	shared := join()
	assert.Same(t, shared, join())
	part()
	part()
	assert.Zero(t, shared.left, "someone stays")
	part()
	assert.Equal(t, 1, shared.left)
	assert.Same(t, shared, join(), "the images that a parent keeps outlive a session")
	part()
	assert.Equal(t, []int{1, 2}, []int{made, shared.left})
}
