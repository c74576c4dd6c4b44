package lease_test

import (
	"encoding/json"
	"fmt"
	"sync"
	"testing"
	"time"

	"github.com/nats-io/nats.go/jetstream"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/lease"
	"catena/internal/office"
	"catena/internal/office/servertest"
	"catena/internal/order"
	"catena/internal/place"
)

func open(t *testing.T, c office.Credentials, name string) *lease.Board {
	var b *lease.Board
	require.Eventually(t, func() bool { // the bucket of a new site
		var err error
		b, err = lease.Open(t.Context(), c, lease.Machine{ID: name + "-id", Name: name})
		return err == nil
	}, 20*time.Second, 50*time.Millisecond)
	t.Cleanup(b.Close)
	return b
}

func work(job string, ids ...string) (out []order.Foreign) {
	for _, id := range ids {
		out = append(out, order.Foreign{Job: job, Device: order.Device{ID: id, Name: "cam-" + id}})
	}
	return out
}

// Of two machines that start something at the same moment one reads what the other has said.
func TestTwoMachines(t *testing.T) {
	f := servertest.New(t)
	c := f.AddSite(t, "marrow-hill", 0)
	anna, bea := open(t, c, "anna"), open(t, c, "bea")
	for _, b := range []*lease.Board{anna, bea} {
		others, err := b.Others("j1")
		require.NoError(t, err)
		require.Empty(t, others)
	}
	first, ok, err := anna.Hold(work("j1", "d1"))
	require.NoError(t, err)
	require.True(t, ok)
	_, ok, err = bea.Hold(work("j1", "d1"))
	require.NoError(t, err)
	require.False(t, ok, "she has not read what anna said")
	others, err := bea.Others("j4")
	require.NoError(t, err)
	assert.Equal(t, work("anna/j1", "d1"), others)
	second, ok, err := bea.Hold(work("j4", "d2"))
	require.NoError(t, err)
	require.True(t, ok)
	assert.Greater(t, second, first)
	_, ok, err = anna.Hold(work("j1", "d1", "d3"))
	require.NoError(t, err)
	require.False(t, ok)
	others, err = anna.Others("j1")
	require.NoError(t, err)
	assert.Equal(t, work("bea/j4", "d2"), others)
	_, ok, err = anna.Hold(nil)
	require.NoError(t, err)
	require.True(t, ok)
	others, err = bea.Others("j4")
	require.NoError(t, err)
	assert.Empty(t, others)
}

// However many machines want a device, one has it.
func TestOneOfMany(t *testing.T) {
	f := servertest.New(t)
	c := f.AddSite(t, "marrow-hill", 0)
	const machines, rounds = 6, 10
	var mu sync.Mutex
	had := map[string]int{} // by round: how many had the device at a time, at most
	now := map[string]int{}
	var group sync.WaitGroup
	for m := range machines {
		b := open(t, c, fmt.Sprintf("m%d", m))
		group.Go(func() {
			for round := range rounds {
				id := fmt.Sprintf("d%d", round)
				for {
					others, err := b.Others("j1")
					assert.NoError(t, err)
					taken := false
					for _, o := range others {
						taken = taken || o.Device.ID == id
					}
					if taken {
						break
					}
					if _, ok, err := b.Hold(work("j1", id)); err != nil || !ok {
						assert.NoError(t, err)
						continue
					}
					mu.Lock()
					now[id]++
					had[id] = max(had[id], now[id])
					mu.Unlock()
					time.Sleep(time.Millisecond)
					mu.Lock()
					now[id]--
					mu.Unlock()
					break
				}
			}
			for { // then it lets go of the last one
				if _, ok, err := b.Hold(nil); err != nil || ok {
					assert.NoError(t, err)
					return
				}
				_, err := b.Others("j1")
				assert.NoError(t, err)
			}
		})
	}
	group.Wait()
	require.Len(t, had, rounds)
	for id, most := range had {
		assert.Equal(t, 1, most, id)
	}
}

// A job that a person has given up at another machine is not continued where it was.
func TestAJobThatWasGivenUp(t *testing.T) {
	f := servertest.New(t)
	c := f.AddSite(t, "marrow-hill", 0)
	anna, bea := open(t, c, "anna"), open(t, c, "bea")
	_, err := anna.Others("j1")
	require.NoError(t, err)
	_, ok, err := anna.Hold(append(work("j1", "d1"), work("j2", "d2")...))
	require.NoError(t, err)
	require.True(t, ok)
	found, err := bea.GiveUp("anna", "j9")
	require.NoError(t, err)
	assert.False(t, found)
	found, err = bea.GiveUp("anna", "j1")
	require.NoError(t, err)
	assert.True(t, found)
	others, err := bea.Others("j4")
	require.NoError(t, err)
	assert.Equal(t, work("anna/j2", "d2"), others)
	_, err = anna.Others("j1")
	require.ErrorIs(t, err, lease.ErrTaken)
	_, err = anna.Others("j2")
	require.NoError(t, err)
	_, ok, err = anna.Hold(work("j2", "d2", "d3"))
	require.NoError(t, err)
	assert.True(t, ok, "her other job continues")
	_, err = anna.Others("j1")
	require.ErrorIs(t, err, lease.ErrTaken, "also when it is resumed")
}

// Where the office does not answer, no one can tell, and it is asked again later.
func TestWithoutTheOffice(t *testing.T) {
	f := servertest.New(t)
	c := f.AddSite(t, "marrow-hill", 0)
	anna := open(t, c, "anna")
	_, err := anna.Others("j1")
	require.NoError(t, err)
	f.Stop()
	_, _, err = anna.Hold(work("j1", "d1"))
	require.ErrorIs(t, err, lease.ErrUnseen)
	startedAt := time.Now()
	_, err = anna.Others("j1")
	require.ErrorIs(t, err, lease.ErrUnseen)
	assert.Less(t, time.Since(startedAt), time.Second, "it has just not answered")
	_, err = lease.Open(t.Context(), c, lease.Machine{ID: "x", Name: "x"})
	require.ErrorIs(t, err, place.ErrUnreachable)
	f.Again(t)
	require.Eventually(t, func() bool {
		if _, err := anna.Others("j1"); err != nil {
			return false
		}
		_, ok, err := anna.Hold(work("j1", "d1"))
		return err == nil && ok
	}, 60*time.Second, 200*time.Millisecond)
}

// What another machine has said is checked: it may be anything.
func TestAHostileMachine(t *testing.T) {
	f := servertest.New(t)
	c := f.AddSite(t, "marrow-hill", 0)
	anna := open(t, c, "anna")
	conn, err := place.DialOffice(t.Context(), c, time.Minute)
	require.NoError(t, err)
	js, err := jetstream.New(conn)
	require.NoError(t, err)
	say := func(id string, what any) {
		raw, err := json.Marshal(what)
		require.NoError(t, err)
		_, err = js.Publish(t.Context(), "$KV."+office.Bucket("marrow-hill")+".open."+id, raw)
		require.NoError(t, err)
	}
	say("evil", map[string]any{"id": "evil", "name": "e\x1b[2Jvil",
		"open": work("j1\n", "d1")})
	others, err := anna.Others("j1")
	require.NoError(t, err)
	require.Len(t, others, 1)
	assert.NotContains(t, others[0].Job, "\x1b")
	assert.NotContains(t, others[0].Job, "\n")
	assert.True(t, others[0].Interrupted, "it was never heard")
	say("evil", map[string]any{"id": "anna-id", "name": "anna"})
	_, err = anna.Others("j1")
	require.ErrorIs(t, err, lease.ErrUnseen, "who says something for another one is not believed")
}

// What a machine changes outside of jobs is seen by the others, and not by its own jobs.
func TestAChangeOutsideOfJobs(t *testing.T) {
	f := servertest.New(t)
	c := f.AddSite(t, "marrow-hill", 0)
	anna, bea := open(t, c, "anna"), open(t, c, "bea")
	changes, err := lease.Open(t.Context(), c,
		lease.Machine{ID: "anna-id", Name: "anna"}.ForChange())
	require.NoError(t, err)
	t.Cleanup(changes.Close)
	_, err = changes.Others("")
	require.NoError(t, err)
	change := []order.Foreign{{Job: "settings", Change: true, Device: order.Device{ID: "d1"}}}
	_, ok, err := changes.Hold(change)
	require.NoError(t, err)
	require.True(t, ok)
	others, err := bea.Others("j1")
	require.NoError(t, err)
	change[0].Job = "anna/settings"
	assert.Equal(t, change, others)
	others, err = anna.Others("j1")
	require.NoError(t, err)
	assert.Empty(t, others, "her locks keep those apart")

	// A job that was given up at its own machine is no longer said to be open.
	_, ok, err = anna.Hold(work("j1", "d2"))
	require.NoError(t, err)
	require.True(t, ok)
	found, err := anna.GiveUp("anna", "j1")
	require.NoError(t, err)
	assert.True(t, found)
	others, err = bea.Others("j1")
	require.NoError(t, err)
	assert.Equal(t, change, others)
}
