package workspace_test

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"catena/internal/device"
	"catena/internal/job"
	"catena/internal/ledger"
	"catena/internal/record"
	"catena/internal/shelf"
	"catena/internal/workspace"
)

// A list of 2,000 devices, after a number of jobs of 100 devices each and as many scans.
func BenchmarkList(b *testing.B) {
	for _, jobs := range []int{1, 500} {
		dir := b.TempDir()
		require.NoError(b, os.WriteFile(filepath.Join(dir, "site.yaml"),
			[]byte("site: Marrow Hill Locks\n"), 0o600))
		w, err := workspace.Open(dir, time.Now, ledger.Writer{})
		require.NoError(b, err)
		var seen []*device.Device
		var read []string
		for i := range 2000 {
			d := &device.Device{Name: fmt.Sprintf("cam-%d", i+1), Access: device.OK,
				Endpoint: device.Endpoint{Address: fmt.Sprintf("10.20.%d.%d:80", i/250, i%250+1),
					Dialect: "onvif"},
				Reading: device.Reading{Identity: device.Identity{Vendor: "Wexcombe",
					Model: "WX-40", Serial: fmt.Sprint(i)}, Version: "3.1.0"}}
			seen = append(seen, d)
			read = append(read, fmt.Sprintf("d%d", i+1))
		}
		require.NoError(b, record.Update(w.Ledger, "", seen...))
		for j := range jobs {
			id := fmt.Sprintf("j%d", j+1)
			var added []ledger.Entry
			var items []any
			for i := range 100 {
				of := fmt.Sprintf("d%d", (j*100+i)%2000+1)
				items = append(items,
					map[string]any{"device": of, "name": of, "from": "3.0.0", "to": "3.1.0",
						"path": []any{map[string]any{"component": "main", "from": "3.0.0",
							"version": "3.1.0"}}})
				for kind, body := range map[ledger.Kind]any{job.StepStarted: job.Effect{Step: job.Sending,
					Version: "3.1.0"},
					job.Ended: map[string]string{"end": "done", "version": "3.1.0"}} {
					e, err := ledger.NewEntry(kind, id, of, body)
					require.NoError(b, err)
					added = append(added, e)
				}
			}
			started, err := json.Marshal(map[string]any{"purpose": "flash", "items": items})
			require.NoError(b, err)
			added = append([]ledger.Entry{{Kind: job.Started, Job: id, Body: started}}, added...)
			added = append(added, ledger.Entry{Kind: job.Closed, Job: id,
				Body: json.RawMessage("{}")})
			scanned, err := ledger.NewEntry(record.Scanned, "", "", map[string]any{"read": read})
			require.NoError(b, err)
			require.NoError(b, w.Ledger.Extend(nil, func([]ledger.Entry) ([]ledger.Entry, error) {
				return append(added, scanned), nil
			}))
		}
		s, err := shelf.Open(b.TempDir())
		require.NoError(b, err)
		b.Run(fmt.Sprintf("2,000 devices, %d jobs", jobs), func(b *testing.B) {
			for b.Loop() {
				require.NoError(b, w.Match(s))
				require.Len(b, w.Rows, 2000)
			}
		})
		b.Run(fmt.Sprintf("names of 2,000 devices, %d jobs", jobs), func(b *testing.B) {
			for b.Loop() {
				glances, err := record.Summaries(w.Ledger)
				require.NoError(b, err)
				require.Len(b, glances, 2000)
			}
		})
		w.Close()
	}
}
