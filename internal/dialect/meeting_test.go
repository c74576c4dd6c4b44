package dialect_test

import (
	"context"
	"strings"
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

// A standard's update hands on the name of the image's file, unless a header or a path could read
// it differently.
func TestTheNameOfAnImage(t *testing.T) {
	for file, want := range map[string]string{
		"br5_2.11.0.bin": "br5_2.11.0.bin", "maker/all.zip/br5.img": "br5.img", "": "image.bin",
		`a";x="b.bin`: "image.bin", "two words.bin": "image.bin", "../..": "image.bin",
		"größe.bin": "image.bin", strings.Repeat("x", 200) + ".bin": "image.bin",
	} {
		assert.Equal(t, want, dialect.Image{File: file}.Name(), file)
	}
}
