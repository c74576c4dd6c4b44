package job_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"catena/internal/order"
)

// A task that no operator does in time ends as that. A device that still waits for it, or cannot say
// so, is left alone, and what it is reached through is not restarted over it; one that is idle is
// as before, and the others continue.
func TestATaskThatIsNotDone(t *testing.T) {
	for name, c := range map[string]struct {
		unit      *acted
		unit1, up string
	}{
		"it waits for it": {&acted{unattended: true, armed: true}, "stranded 1.0", "skipped "},
		"it cannot say":   {&acted{unattended: true, blind: true}, "stranded 1.0", "skipped "},
		"it is idle": {&acted{unattended: true, drains: time.Nanosecond}, "failed 1.0",
			"done 2.0"},
	} {
		t.Run(name, func(t *testing.T) {
			bubble(t, troupe{"unit-1": c.unit, "hub-1": {}}, func(t *testing.T, n *night) {
				s := n.run(t, order.Order{Devices: []order.Device{row("unit-1", "hub-1"), row("hub-1")}})
				assert.Equal(t, map[string]string{"unit-1": c.unit1, "hub-1": c.up}, ends(s))
				assert.Contains(t, s.Devices[0].Reason,
					"needs a person: turn the key; no operator confirmed it")
				assert.Equal(t, 1, c.unit.attempts, "nothing more was sent to it")
				if c.up != "done 2.0" {
					assert.Equal(t, "unit-1, which is reached through it, may still be writing",
						s.Devices[1].Reason)
				}
			})
		})
	}
}
