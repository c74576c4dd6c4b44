//go:build !linux

package sim

import (
	"context"
	"errors"
	"log/slog"
)

// StartBoxed is for Linux alone.
func StartBoxed(context.Context, Scenario, string, *slog.Logger) (*Site, error) {
	return nil, errors.New("a device without an address is simulated on Linux alone")
}
