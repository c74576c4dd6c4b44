package ledger_test

import (
	"bytes"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"catena/internal/ledger"
)

// BenchmarkAppend is one entry, on the disk when it returns. A device's update is eleven.
func BenchmarkAppend(b *testing.B) {
	l, err := ledger.Create(b.TempDir(), time.Now, ledger.Writer{})
	require.NoError(b, err)
	defer func() { _ = l.Close() }()
	for b.Loop() {
		require.NoError(b, l.Append("begun", "j1", "d1", map[string]string{"step": "sending"}))
	}
}

// BenchmarkTake is a history of ten thousand entries, taken from another laptop in one go.
func BenchmarkTake(b *testing.B) {
	by, err := ledger.ReadWriter(filepath.Join(b.TempDir(), "writer.key"))
	require.NoError(b, err)
	from, err := ledger.Create(b.TempDir(), time.Now, by)
	require.NoError(b, err)
	defer func() { _ = from.Close() }()
	const entries = 10_000
	require.NoError(b, from.Extend(nil, func([]ledger.Entry) (out []ledger.Entry, err error) {
		for i := range entries {
			e, err := ledger.NewEntry("begun", "j1", "d1", map[string]int{"step": i})
			if err != nil {
				return nil, err
			}
			out = append(out, e)
		}
		return out, nil
	}))
	require.NoError(b, from.Seal())
	var chain bytes.Buffer
	_, err = from.WriteChain(&chain, by.ID(), 0, 1<<40)
	require.NoError(b, err)
	for b.Loop() {
		to, err := ledger.Create(b.TempDir(), time.Now, ledger.Writer{})
		require.NoError(b, err)
		taken, err := to.Take(by.ID(), bytes.NewReader(chain.Bytes()))
		require.NoError(b, err)
		require.Equal(b, entries+2, taken)
		require.NoError(b, to.Close())
	}
	b.ReportMetric(float64(entries)*float64(b.N)/b.Elapsed().Seconds(), "entries/s")
}
