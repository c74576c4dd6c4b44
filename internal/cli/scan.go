package cli

import (
	"context"
	"fmt"
	"os"
	"os/signal"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"catena/internal/cli/view"
	"catena/internal/ledger"
	"catena/internal/scan"
	"catena/internal/site"
)

func (a *app) scanCmd() *cobra.Command {
	var adapter string
	var ports []uint
	var patience time.Duration
	c := &cobra.Command{
		Use:   "scan [TARGET…]",
		Short: "Find the devices and read what they run",
		Long: `Find the devices on the site's networks and read what each one runs: by
WS-Discovery, by multicast and address by address, and by trying the addresses for
HTTP. What is found is kept; what is new, changed or gone is shown.

Without targets the networks of site.yaml are looked through. Addresses that do not
answer are no error.`,
		Example: `  catena scan
  catena scan 10.20.4.1-10.20.4.60 10.20.5.0/26
  catena scan 10.20.4.17:8080
  catena scan --adapter eth0`,
		RunE: func(c *cobra.Command, args []string) error {
			var narrow []uint16
			for _, p := range ports {
				if p == 0 || p > 65535 {
					return usage("--port %d is no port", p)
				}
				narrow = append(narrow, uint16(p))
			}
			return a.scan(c.Context(), args, adapter, narrow, patience)
		},
	}
	c.Flags().StringVar(&adapter, "adapter", "", "this machine's adapter to look through, by name")
	c.Flags().UintSliceVar(&ports, "port", nil, "ports to try (default 80 and 8080)")
	c.Flags().DurationVar(&patience, "patience", 1500*time.Millisecond, "how long one address may take to answer")
	return c
}

func (a *app) scan(ctx context.Context, targets []string, adapter string, ports []uint16, patience time.Duration) error {
	ctx, stop := signal.NotifyContext(ctx, os.Interrupt)
	defer stop()
	h, err := a.openSite()
	if err != nil {
		return err
	}
	defer h.Close()
	networks := scan.Networks(h.site.Networks)
	if len(targets) > 0 || adapter != "" || len(networks) == 0 {
		if networks, err = scan.Targets(targets, adapter, ports); err != nil {
			return usage("%w", err)
		}
	}
	known, err := h.ledger.Devices()
	if err != nil {
		return err
	}
	login, err := a.logins()
	if err != nil {
		return err
	}
	meter := &view.Meter{W: a.err, Style: a.style(a.err)}
	s := &scan.Scanner{Dialects: dialects, Login: login, Patience: patience, Log: a.log}
	if !a.quiet {
		s.Progress = func(done, total int, what string) { meter.Show(fmt.Sprintf("%d of %d %s", done, total, what)) }
	}
	began := a.now()
	result, err := s.Scan(ctx, networks, known)
	meter.Clear()
	if err != nil {
		return fmt.Errorf("the scan did not end: %w; nothing was kept", err)
	}
	var seen []*site.Device
	for i := range result.Devices {
		seen = append(seen, &result.Devices[i])
	}
	if err := h.ledger.See("", seen...); err != nil {
		return err
	}
	note := scanNote{Asked: result.Asked, Found: len(result.Devices) - len(result.Gone), New: result.New, Changed: result.Changed,
		Outside: result.Outside, Warnings: result.Warnings, Seconds: a.now().Sub(began).Seconds()}
	for _, d := range result.Gone {
		note.Gone = append(note.Gone, d.Name)
	}
	if err := h.ledger.Append(ledger.Scanned, "", "", note); err != nil {
		return err
	}
	return a.printScan(h, note, result.Devices)
}

// scanNote is what a scan brought, as the ledger keeps it and JSON shows it.
type scanNote struct {
	Asked    int           `json:"asked"` // addresses
	Found    int           `json:"found"` // devices
	New      []string      `json:"new"`
	Changed  []scan.Change `json:"changed"`
	Gone     []string      `json:"gone"`
	Outside  int           `json:"outside"`
	Warnings []string      `json:"warnings"`
	Seconds  float64       `json:"seconds"`
}

func (a *app) printScan(h *home, note scanNote, devices []site.Device) error {
	p := &picture{home: h}
	if err := p.match(a); err != nil {
		return err
	}
	here := map[string]bool{}
	for _, d := range devices {
		here[d.ID] = true
	}
	var shown []device
	for _, d := range mains(p.devices) {
		if here[d.ID] {
			shown = append(shown, d)
		}
	}
	shown, err := (choice{sort: "name"}).apply(shown)
	if err != nil {
		return err
	}
	if a.format == "json" {
		return a.printJSON(struct {
			scanNote
			Devices []device `json:"devices"`
		}{note, shown})
	}
	news := map[string]view.Cell{}
	for _, n := range note.New {
		news[n] = view.Cell{Text: "new", Tone: view.Good}
	}
	for _, c := range note.Changed {
		text := fmt.Sprintf("%s %s → %s", c.What, orNone(c.From), orNone(c.To))
		if old := news[c.Name].Text; old != "" {
			text = old + ", " + text
		}
		news[c.Name] = view.Cell{Text: text, Tone: view.Warn}
	}
	for _, n := range note.Gone {
		news[n] = view.Cell{Text: "gone", Tone: view.Bad}
	}
	err = a.printDevices(shown, func(devices []device) view.Table { return scanTable(devices, news) })
	if err != nil {
		return err
	}
	asked := "Nothing but multicast was asked"
	if note.Asked > 0 {
		asked = "1 address looked at"
		if note.Asked > 1 {
			asked = fmt.Sprintf("%d addresses looked at", note.Asked)
		}
	}
	a.say("\n%s in %.1f s: %s found, %d new, %d changed, %d gone.", asked, note.Seconds,
		view.Plural(note.Found, "device"), len(note.New), countNames(note.Changed), len(note.Gone))
	if note.Outside > 0 {
		a.say("Heard from outside the site's ranges and left alone: %d.", note.Outside)
	}
	for _, w := range note.Warnings {
		a.say("Note: %s.", w)
	}
	locked := 0
	for _, d := range shown {
		if d.Reach == site.Locked {
			locked++
		}
	}
	if locked > 0 {
		a.say("%s could not be logged in to; give the login in CATENA_LOGIN=user:password or when asked, and scan again.", view.Plural(locked, "device"))
	}
	if len(shown) == 0 {
		a.say("Nothing answered. Is this machine on the site's network, and are the ranges right?")
	}
	return nil
}

func countNames(changes []scan.Change) int {
	names := map[string]bool{}
	for _, c := range changes {
		names[c.Name] = true
	}
	return len(names)
}

func orNone(s string) string {
	if s == "" {
		return "none"
	}
	return s
}

func scanTable(devices []device, news map[string]view.Cell) view.Table {
	t := view.Table{Columns: []string{"name", "address", "vendor", "model", "hw", "serial", "version", "heard by", "news"}}
	for _, d := range devices {
		version := view.Cell{Text: d.Version.Text}
		if d.Reach != site.Answers {
			version = view.Cell{Text: string(d.Reach), Tone: view.Bad}
		}
		remark := news[d.Name]
		if d.row.Device.Trouble != "" && d.Reach != site.Away {
			remark = view.Cell{Text: strings.TrimPrefix(remark.Text+"; "+d.row.Device.Trouble, "; "), Tone: view.Bad}
		}
		t.Add(view.Cell{Text: d.Name}, view.Cell{Text: d.Address}, view.Cell{Text: d.Vendor}, view.Cell{Text: d.Model},
			view.Cell{Text: d.Hardware.Text}, view.Cell{Text: d.Serial}, version,
			view.Cell{Text: strings.Join(d.Heard, ", "), Tone: view.Quiet}, remark)
	}
	return t
}
