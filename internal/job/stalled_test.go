package job_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"catena/internal/job"
)

// A transfer that stands still is called so; one that has just started, and other steps, are not.
func TestStalled(t *testing.T) {
	start := time.Date(2026, 11, 27, 22, 0, 0, 0, time.UTC)
	at := func(s int) time.Time { return start.Add(time.Duration(s) * time.Second) }
	sending := job.DeviceState{Step: job.Sending, Since: at(0)}
	assert.Zero(t, sending.Stalled(at(9)))
	assert.Equal(t, 40*time.Second, sending.Stalled(at(40)), "nothing has moved yet")
	sending.Moved = at(35)
	assert.Zero(t, sending.Stalled(at(40)))
	assert.Equal(t, time.Minute, sending.Stalled(at(95)))
	sending.Moved = at(-20) // of an earlier transfer
	assert.Zero(t, sending.Stalled(at(5)))
	writing := job.DeviceState{Step: job.Writing, Since: at(0), Moved: at(1)}
	assert.Zero(t, writing.Stalled(at(900)))
}
