package ledger_test

import (
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
