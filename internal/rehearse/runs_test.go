package rehearse_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/order"
	"catena/internal/rehearse"
)

func hill() rehearse.Input {
	back := order.Image{SHA256: "b"}
	device := func(id string, through ...string) order.Device {
		return order.Device{ID: id, Name: id, Model: "M", From: "1", Takes: 10 * time.Minute,
			Returns: 5 * time.Minute, Through: through,
			Path: []order.Hop{{Component: "main", From: "1", To: "2",
				Image: order.Image{SHA256: "a"}, Back: &back}}}
	}
	return rehearse.Input{Order: order.Order{Devices: []order.Device{device("tail", "head"),
		device("head"), device("other")}},
		Start: time.Date(2026, 11, 27, 22, 0, 0, 0, time.UTC), Runs: 2000, Seed: 7,
		Took:  func(order.Device) []time.Duration { return nil },
		Fails: func(order.Device) float64 { return 0 }}
}

func run(t *testing.T, in rehearse.Input) rehearse.Result {
	r, err := rehearse.Runs(in)
	require.NoError(t, err)
	return r
}

// Without faults all is well; the chain of two takes twice as long as one, and the times lie around
// that.
func TestNothingFails(t *testing.T) {
	r := run(t, hill())
	assert.InDelta(t, 1, r.Clean, 1e-9)
	assert.Empty(t, r.Devices)
	assert.InDelta(t, 20*60, r.Half, 100)
	assert.Greater(t, r.Most, r.Half)
	assert.Equal(t, r, run(t, hill()), "the same seed brings the same")
	other := hill()
	other.Seed = 8
	assert.NotEqual(t, r.Ends, run(t, other).Ends)
}

// Faults come as often as they should: some are stranded, the others return, and what is behind a
// device that never comes back is not reached.
func TestFaultsInShare(t *testing.T) {
	in := hill()
	in.Fails = func(order.Device) float64 { return 0.5 }
	r := run(t, in)
	assert.InDelta(t, 0.125, r.Clean, 0.03)
	for _, c := range r.Devices {
		assert.InDelta(t, 0.5, c.Returned+c.Stranded, 0.05, c.Name)
		assert.InDelta(t, 0.05, c.Stranded, 0.02, c.Name)
	}
	in = hill()
	in.Order.Devices[1].Path[0].Back = nil // cannot be rolled back
	in.Chosen = map[string]rehearse.Fault{"head": rehearse.Sick, "other": rehearse.NeverReturns}
	r = run(t, in)
	require.Len(t, r.Devices, 2)
	assert.InDelta(t, 1, r.Devices[0].Stranded, 1e-9)
	assert.InDelta(t, 1, r.Devices[1].Stranded, 1e-9)
}

// A window that is short is missed more often the shorter it is; history takes the place of
// guesses.
func TestWindowAndHistory(t *testing.T) {
	in := hill()
	in.Order.Closes, in.Order.Window = in.Start.Add(30*time.Minute), 30*time.Minute
	// the head needs 15 minutes: it does not start if the tail takes more than the other 15
	half := run(t, in).Missed
	assert.InDelta(t, 0.054, half, 0.015)
	longer, shorter := in, in
	longer.Order.Closes, shorter.Order.Closes = in.Start.Add(40*time.Minute), in.Start.Add(26*time.Minute)
	assert.Less(t, run(t, longer).Missed, half)
	assert.Greater(t, run(t, shorter).Missed, 2*half)
	in.Took = func(order.Device) []time.Duration {
		return []time.Duration{20 * time.Minute, 20 * time.Minute, 20 * time.Minute,
			20 * time.Minute}
	}
	r := run(t, in)
	assert.InDelta(t, 1, r.Missed, 1e-9, "by its history the tail takes 20 minutes")
	assert.Equal(t, "head", r.Devices[0].Name)
	assert.InDelta(t, 1200, r.Half, 1)
	counts, from, to := rehearse.Histogram([]time.Duration{1, 2, 2, 11}, 5)
	assert.Equal(t, []int{3, 0, 0, 0, 1}, counts)
	assert.Equal(t, [2]time.Duration{1, 11}, [2]time.Duration{from, to})
}

// Faults strike as many as the share says, those that were chosen stay, and the seed decides.
func TestStrike(t *testing.T) {
	o := order.Order{}
	for n := range 2000 {
		o.Devices = append(o.Devices, order.Device{ID: fmt.Sprint("d", n)})
	}
	chosen := map[string]rehearse.Fault{"d7": rehearse.Sick}
	rehearse.InjectFaults(o, chosen, 0.2, 3)
	assert.InDelta(t, 400, len(chosen), 60)
	assert.Equal(t, rehearse.Sick, chosen["d7"])
	lost := 0
	for _, f := range chosen {
		if f == rehearse.NeverReturns {
			lost++
		}
	}
	assert.InDelta(t, 40, lost, 25)
	again := map[string]rehearse.Fault{"d7": rehearse.Sick}
	rehearse.InjectFaults(o, again, 0.2, 3)
	assert.Equal(t, chosen, again)
}
