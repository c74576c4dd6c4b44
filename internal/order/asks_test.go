package order_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/order"
)

// Who waits for a person holds no place and is not a pilot; it comes back when there is room, and
// stays on its way and out of service all the while.
func TestWhoWaitsForAPerson(t *testing.T) {
	image := order.Hop{Component: "main", From: "1", To: "2", Image: order.Image{SHA256: "a"}}
	device := func(id, model string, through ...string) order.Device {
		return order.Device{ID: id, Name: id, Model: model, Through: through, Path: []order.Hop{image},
			Takes: time.Minute}
	}
	s, err := order.New(order.Order{Devices: []order.Device{device("a", "M", "hub"), device("b", "M",
		"hub"),
		device("c", "N"), device("hub", "H")},
		Rules: order.Rules{Parallel: 1, Pilot: true, PerParent: map[string]int{"hub": 1},
			Cover: []order.Cover{{Name: "view", Keep: 1, Of: []string{"a", "c"}}}}})
	require.NoError(t, err)
	now := time.Date(2026, 11, 27, 22, 0, 0, 0, time.UTC)
	next := func() string {
		a, ok := s.Next(now)
		if !ok {
			return ""
		}
		kind := order.Started
		if a.Task == order.Continue {
			kind = order.Continued
		}
		require.NoError(t, s.Apply(order.Event{At: now, Kind: kind, Device: a.Device, Task: a.Task}))
		return string(a.Task) + " " + a.Device
	}
	tell := func(kind order.Kind, id string) {
		require.NoError(t, s.Apply(order.Event{At: now, Kind: kind, Device: id,
			Outcome: order.Verified(order.Target)}))
	}
	require.Equal(t, "update a", next())
	require.Empty(t, next())
	tell(order.Asks, "a")
	assert.True(t, s.Asking("a"))
	require.Equal(t, "update b", next(), "it is the pilot now")
	require.Empty(t, next(), "one at a time; c must stay in service while a is out")
	tell(order.Answered, "a")
	require.Empty(t, next(), "it waits for a place")
	tell(order.Ended, "b")
	require.Equal(t, "continue a", next())
	assert.False(t, s.Asking("a"))
	require.Empty(t, next(), "the hub waits for a, and c for the view")
	tell(order.Ended, "a")
	got := []string{next()}
	tell(order.Ended, got[0][len("update "):])
	got = append(got, next())
	assert.ElementsMatch(t, []string{"update c", "update hub"}, got)

	// one that is skipped while it asks ends, and takes nothing with it
	s, err = order.New(order.Order{Devices: []order.Device{device("a", "M"), device("b", "M")},
		Rules: order.Rules{Parallel: 1, Pilot: true}})
	require.NoError(t, err)
	require.Equal(t, "update a", next())
	tell(order.Asks, "a")
	require.Equal(t, "update b", next())
	require.NoError(t, s.Apply(order.Event{At: now, Kind: order.Ended, Device: "a",
		Outcome: order.Verified(order.Previous)}))
	require.Empty(t, next())
	tell(order.Ended, "b")
	assert.Zero(t, s.Unfinished())
}
