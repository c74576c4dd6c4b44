package recorder_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"catena/internal/ledger"
	"catena/internal/recorder"
)

// BenchmarkAdd adds entries of many stations, as verified chains have them, in batches. Set
// CATENA_DATABASE to a PostgreSQL database, or it is SQLite.
func BenchmarkAdd(b *testing.B) {
	by, err := ledger.ReadWriter(filepath.Join(b.TempDir(), "writer.key"))
	require.NoError(b, err)
	l, err := ledger.Create(b.TempDir(), time.Now, by)
	require.NoError(b, err)
	defer func() { _ = l.Close() }()
	const each = 5000
	require.NoError(b, l.Extend(nil, func([]ledger.Entry) (out []ledger.Entry, err error) {
		for n := range each {
			e, err := ledger.NewEntry("seen", "", fmt.Sprintf("d%09d", n%200), map[string]any{
				"name": fmt.Sprintf("cam-%d", n%200), "reading": map[string]string{"vendor": "Wexcombe",
					"model": "WX-40", "serial": fmt.Sprint(n % 200), "version": "3.2.1"}})
			if err != nil {
				return nil, err
			}
			out = append(out, e)
		}
		return out, nil
	}))
	entries, err := l.Recorded(l.Writer().ID(), 0, each)
	require.NoError(b, err)
	url := filepath.Join(b.TempDir(), "record.db")
	if at := os.Getenv("CATENA_DATABASE"); at != "" {
		url = at
	}
	to, err := recorder.Open(context.Background(), url)
	require.NoError(b, err)
	defer func() { _ = to.Close() }()
	total := 0
	for b.Loop() {
		for i := range entries { // those of another station
			entries[i].Hash = fmt.Sprintf("%064x", total+i)
		}
		site := recorder.Site{ID: fmt.Sprintf("s%d-%d", b.N, total), Name: "Marrow Hill"}
		require.NoError(b, to.Add(context.Background(), site, nil, entries))
		total += len(entries)
	}
	b.ReportMetric(float64(total)/b.Elapsed().Seconds(), "entries/s")
}
