package advice

import (
	"os"
	"regexp"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/device"
	"catena/internal/job"
)

// Every kind of trouble that a device or a job can have is told of, with what to do.
func TestTroubles(t *testing.T) {
	for _, p := range device.Problems {
		assert.NotEmpty(t, deviceMeanings[p].Means, p)
		assert.NotEmpty(t, deviceMeanings[p].Steps, p)
	}
	for _, w := range job.Whys {
		assert.NotEmpty(t, jobMeanings[w].Means, w)
		assert.NotEmpty(t, jobMeanings[w].Steps, w)
	}
	assert.Len(t, deviceMeanings, len(device.Problems))
	assert.Len(t, jobMeanings, len(job.Whys))
	for name, kinds := range map[string]int{"../device/cause.go": len(device.Problems),
		"../job/reason.go": len(job.Whys)} {
		source, err := os.ReadFile(name)
		require.NoError(t, err)
		assert.Len(t, regexp.MustCompile(`(?m)^\t\w+ +(?:Problem|Why) += "`).FindAll(source, -1),
			kinds, name)
	}
}
