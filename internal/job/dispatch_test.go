package job

import (
	"errors"
	"slices"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"

	"catena/internal/device"
)

// A chain gate-1 … gate-3, two cameras, and how long each takes: what is reached through a
// device has ended before that begins, and so many work at the same time as there is room.
func TestDispatch(t *testing.T) {
	item := func(id string, after ...string) Item {
		return Item{Device: device.Device{ID: id}, After: after}
	}
	chain := []Item{item("gate-1", "gate-2", "gate-3"), item("gate-2", "gate-3"), item("gate-3"), item("cam-11"), item("cam-12")}
	for name, c := range map[string]struct {
		items    []Item
		parallel int
		order    []string // in which they end
		took     time.Duration
	}{
		"room for all": {chain, 8, []string{"cam-11", "cam-12", "gate-3", "gate-2", "gate-1"}, 3 * time.Minute},
		"one by one":   {chain, 1, []string{"gate-3", "gate-2", "gate-1", "cam-11", "cam-12"}, 5 * time.Minute},
		"a circle":     {[]Item{item("a", "b"), item("b", "a"), item("c")}, 2, []string{"c", "a", "b"}, 3 * time.Minute},
	} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				j := &Job{plan: Plan{Parallel: c.parallel, Items: c.items}}
				var mu sync.Mutex
				var ended []string
				began := time.Now()
				err := j.dispatch(func(i Item) error {
					time.Sleep(time.Minute)
					mu.Lock()
					defer mu.Unlock()
					ended = append(ended, i.Device.ID)
					return nil
				})
				assert.NoError(t, err)
				if c.parallel > 1 { // those of one minute end in any order
					slices.Sort(ended[:len(ended)-2])
				}
				assert.Equal(t, c.order, ended)
				assert.Equal(t, c.took, time.Since(began))
			})
		})
	}
	failed := errors.New("the ledger cannot be written")
	j := &Job{plan: Plan{Parallel: 1, Items: chain}}
	count := 0
	assert.ErrorIs(t, j.dispatch(func(Item) error { count++; return failed }), failed)
	assert.Equal(t, 1, count, "nothing is started after it")
}
