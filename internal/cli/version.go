package cli

import (
	"fmt"
	"runtime"
	"runtime/debug"
	"time"

	"github.com/spf13/cobra"

	"catena/internal/cli/view"
)

// about is what the program was built of.
type about struct {
	Version  string            `json:"version"`
	Revision string            `json:"revision,omitempty"` // of the sources
	Date     time.Time         `json:"date,omitzero"`      // of that revision
	Changed  bool              `json:"changed,omitempty"`  // the sources were not exactly those
	Go       string            `json:"go"`
	System   string            `json:"system"`
	Modules  map[string]string `json:"modules"`
}

func built() about {
	out := about{Version: "unknown", Go: runtime.Version(),
		System:  runtime.GOOS + "/" + runtime.GOARCH,
		Modules: map[string]string{}}
	info, ok := debug.ReadBuildInfo()
	if !ok {
		return out
	}
	out.Version = info.Main.Version
	for _, s := range info.Settings {
		switch s.Key {
		case "vcs.revision":
			out.Revision = s.Value
		case "vcs.modified":
			out.Changed = s.Value == "true"
		case "vcs.time":
			out.Date, _ = time.Parse(time.RFC3339, s.Value) // none where it cannot be read
		}
	}
	for _, m := range info.Deps {
		out.Modules[m.Path] = m.Version
	}
	return out
}

// programVersion is the program's version and what it was built with.
func programVersion() string {
	b := built()
	return fmt.Sprintf("%s (%s, %s)", b.Version, b.Go, b.System)
}

func (a *app) versionCmd() *cobra.Command {
	return &cobra.Command{
		Use: "version", Short: "Print the program's version and its modules",
		Example: "  catena version\n  catena version --format json",
		Args:    exactly(0, "no arguments"),
		RunE: func(*cobra.Command, []string) error {
			if a.format == "json" {
				return a.printJSON(built())
			}
			view.Print(a.out, "catena %s\n", programVersion())
			return nil
		},
	}
}
