package job_test

import (
	"encoding/json"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"catena/internal/job"
	"catena/internal/ledger"
)

// past makes a ledger with a number of jobs, each of which proved a number of devices.
func past(b *testing.B, jobs, devices int) *ledger.Ledger {
	l, err := ledger.Create(b.TempDir(), time.Now, ledger.Writer{})
	require.NoError(b, err)
	b.Cleanup(func() { _ = l.Close() })
	for j := range jobs {
		id := fmt.Sprintf("j%d", j+1)
		var items []any
		added := []ledger.Entry{{Kind: job.Started, Job: id}}
		for d := range devices {
			device := fmt.Sprintf("d%d", d+1)
			items = append(items, map[string]any{"device": device, "name": device, "from": "1.0",
				"to": "2.0",
				"path": []any{map[string]any{"component": "main", "from": "1.0",
					"version": "2.0"}}})
			begun, err := ledger.NewEntry(job.StepStarted, id, device,
				job.Effect{Step: job.Proving, Version: "2.0"})
			require.NoError(b, err)
			ended, err := ledger.NewEntry(job.Ended, id, device,
				map[string]string{"end": "done", "version": "2.0"})
			require.NoError(b, err)
			added = append(added, begun, ended)
		}
		body, err := json.Marshal(map[string]any{"purpose": "flash", "items": items})
		require.NoError(b, err)
		added[0].Body = body
		added = append(added, ledger.Entry{Kind: job.Closed, Job: id, Body: json.RawMessage("{}")})
		require.NoError(b, l.Extend(nil, func([]ledger.Entry) ([]ledger.Entry, error) {
			return added, nil
		}))
	}
	return l
}

// What a list asks of the past must not cost more with every job.
func BenchmarkHistory(b *testing.B) {
	for _, jobs := range []int{1, 50, 500} {
		l := past(b, jobs, 200)
		b.Run(fmt.Sprintf("%d jobs of 200 devices", jobs), func(b *testing.B) {
			for b.Loop() {
				h, err := job.ReadHistory(l)
				require.NoError(b, err)
				for d := range 200 {
					id := fmt.Sprintf("d%d", d+1)
					_, _, err := h.Left(id)
					require.NoError(b, err)
					_, _, err = h.LeftAlone(id, "main", "2.0")
					require.NoError(b, err)
					_, err = h.Updated(id)
					require.NoError(b, err)
				}
			}
		})
		b.Run(fmt.Sprintf("an entry after %d jobs", jobs), func(b *testing.B) {
			for b.Loop() {
				require.NoError(b, l.Append(job.StepStarted, "j1", "d1", job.Effect{Step: job.Proving}))
			}
		})
	}
}
