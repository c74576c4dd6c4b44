package device_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"catena/internal/device"
)

// What forbade an update is of the reading that told it: a later one without interlocks clears it,
// and only a reading that says nothing of the version leaves it.
func TestWhatForbidsIsOfTheReading(t *testing.T) {
	old := device.Reading{Version: "1.0", Forbids: map[string]string{"main": "The gate is open."}}
	assert.Empty(t, device.Reading{Version: "1.0"}.Over(old).Forbids)
	assert.Equal(t, old.Forbids, device.Reading{Called: "gate-1"}.Over(old).Forbids)
	now := map[string]string{"main": ""}
	assert.Equal(t, now, device.Reading{Version: "1.0", Forbids: now}.Over(old).Forbids)
}
