package cli

import (
	"io"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"catena/internal/atomicfile"
	"catena/internal/report"
)

func (a *app) noticeCmd() *cobra.Command {
	var start, out string
	c := &cobra.Command{
		Use:   "notice ORDER",
		Short: "Write for the people on site what is updated when",
		Long: `Write a notice of an order for the people on site: by place, which device is updated
from when to when, what is without a connection, and what to know. The times are those of
the forecast, in the time zone of the site; places: and engineer: are those of site.yaml.

Without --out it is text. The name of the file chooses the form: .txt, .html for a page to put up,
or .ics, a calendar with one event for each place. Importing a later one replaces the events.`,
		Example: `  catena notice night-1
  catena notice night-1 --start 22:30 --out night-1.html
  catena notice night-1 --out night-1.ics`,
		Args: exactly(1, "one order"),
		RunE: func(_ *cobra.Command, args []string) error { return a.notify(args[0], start, out) },
	}
	c.Flags().StringVar(&start, "start", "",
		"when it starts: 22:30, +2h, now (default: now, or when the next window opens)")
	c.Flags().StringVar(&out, "out", "", "the file to write: .txt, .html or .ics")
	return c
}

func (a *app) notify(name, start, out string) error {
	w, err := a.match()
	if err != nil {
		return err
	}
	defer w.Close()
	o, err := w.OrderOf(name)
	if err != nil {
		return err
	}
	at, err := w.StartTime(start)
	if err != nil {
		return err
	}
	n, err := w.Notice(o, at)
	if err != nil {
		return err
	}
	if out == "" {
		if a.format == "json" {
			return a.printJSON(n)
		}
		return n.Text(a.out)
	}
	write := map[string]func(report.Notice, io.Writer) error{".txt": report.Notice.Text,
		".html": report.Notice.HTML, ".ics": report.Notice.Calendar}[strings.ToLower(filepath.Ext(out))]
	if write == nil {
		return usage("--out %s: its name must end in .txt, .html or .ics", out)
	}
	err = atomicfile.Write(out, 0o644, func(f io.Writer) error { return write(n, f) })
	if err == nil {
		a.say("Wrote %s", out)
	}
	return err
}
