package scripted_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"catena/internal/dialect/dialecttest"
	"catena/internal/dialect/scripted"
	"catena/internal/dialect/simtest"
	"catena/internal/family"
	"catena/internal/sim"
)

// demo is the dialect of one of the demo's families.
func demo(t *testing.T, name string) scripted.Dialect {
	file := filepath.Join("..", "..", "sim", "families", name+".yaml")
	raw, err := os.ReadFile(file)
	require.NoError(t, err)
	f, err := family.Parse(file, raw)
	require.NoError(t, err)
	return scripted.New(f, 20)
}

func TestConformance(t *testing.T) {
	t.Run("gates", func(t *testing.T) {
		dialecttest.Run(t, simtest.Subject(t, demo(t, "tollgarth-gates"), "Tollgarth",
			sim.Device{Kind: "gate", Model: "TG-200", Hardware: "2"}, "camera"))
	})
}
