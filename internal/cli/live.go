package cli

import (
	"catena/internal/cli/jobview"
	"catena/internal/cli/view"
	"catena/internal/plan"
	"context"
	"os"
	"runtime"
	"strings"
	"sync"
)

// showLive shows a job in this terminal until it is over or a person leaves it. interrupt is what
// Ctrl-C does; nil: it leaves the view. Messages of this program are shown in the view.
func (a *app) showLive(ctx context.Context, w *plan.Site, id string, interrupt func() string) (
	left bool, err error) {
	return jobview.Live{Jobs: w, ID: id, Now: a.now, Interrupt: interrupt, Out: a.out,
		Notices: a.notices.to,
		Theme:   view.Theme{Dark: true, Plain: !a.style(a.out).Colors, ASCII: !a.unicode()}}.Show(ctx)
}

// notices are what this program says while something else is on the screen. It is safe for
// concurrent use.
type notices struct {
	mu  sync.Mutex
	say func(string) // nil: nothing is on the screen
}

func (n *notices) to(say func(string)) {
	n.mu.Lock()
	defer n.mu.Unlock()
	n.say = say
}

// notice says something that must not be wiped: in the live view, or else as a line.
func (a *app) notice(format string, args ...any) {
	a.notices.mu.Lock()
	defer a.notices.mu.Unlock()
	text := view.Sprint(format, args...)
	if a.notices.say != nil {
		a.notices.say(text)
		return
	}
	view.Print(a.err, "%s\n", text)
}

// unicode tells whether the terminal shows more than ASCII, as its locale says.
func (a *app) unicode() bool {
	for _, name := range []string{"LC_ALL", "LC_CTYPE", "LANG"} {
		if v := os.Getenv(name); v != "" {
			v = strings.ToLower(v)
			return strings.Contains(v, "utf-8") || strings.Contains(v, "utf8")
		}
	}
	return runtime.GOOS == "windows"
}
