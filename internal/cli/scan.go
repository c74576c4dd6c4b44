package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"catena/internal/atomicfile"
	"catena/internal/cli/view"
	"catena/internal/contact"
	"catena/internal/device"
	"catena/internal/dialect/hand"
	"catena/internal/export"
	"catena/internal/record"
	"catena/internal/report"
	"catena/internal/scan"
	"catena/internal/scan/discover"
	"catena/internal/site"
	"catena/internal/words"
	"catena/internal/workspace"
)

// usualPatience is how long one address may take to answer, where no one says otherwise.
const usualPatience = 1500 * time.Millisecond

// look is how a scan is to look.
type look struct {
	adapter  string
	except   []string
	ports    []string
	via      []string
	wide     bool
	patience time.Duration
}

func (l *look) flags(c *cobra.Command) {
	f := c.Flags()
	f.StringVar(&l.adapter, "adapter", "",
		"this machine's adapter to look through: its name, its address, or an address that is reached through it (default: those in whose networks the addresses lie, or without any address all)")
	f.StringSliceVar(&l.except, "except", nil, "addresses, address ranges or networks to leave out")
	f.StringSliceVar(&l.ports, "port", nil,
		"ports to try instead of the usual ones: 8080, or snmp:1161, modbus:5020, ethernet-ip:44818")
	f.StringSliceVar(&l.via, "via", nil, "use only these discovery protocols")
	f.BoolVar(&l.wide, "wide", false, "a range of more than a /16 is meant")
	f.DurationVar(&l.patience, "patience", usualPatience,
		"how long one address may take to answer")
}

var scanHelp = `Find the devices on the site's networks and read what each one runs. All discovery protocols
are used at once: WS-Discovery, mDNS, SSDP, SNMP and EtherNet/IP, by multicast and
address by address, and a sweep that tries the addresses for HTTP, TLS, SSH and Modbus.
What is found is kept; what is new, changed or gone is shown. What answers but is not
recognised is listed too, with what it said.

Without addresses the networks of site.yaml are looked through. ADDRESS is an address, a
range of addresses, a network, host:port, or @FILE with an address on each line. Addresses
that do not answer are not an error.

The discovery protocols: ` + strings.Join(discover.Protocols, ", ") + `.`

const scanExamples = `  catena scan
  catena scan 10.20.4.1-10.20.4.60 10.20.5.0/26 --except 10.20.4.7
  catena scan 10.20.4.17:8080 @more-addresses.txt
  catena scan --adapters                      this machine's adapters
  catena scan --adapter eth0                  by its name, its address, or an address beyond it
  catena scan --via snmp,mdns --port snmp:1161
  catena scan --every 30s                     keep looking, print only what changes
  catena scan --uplinks                       what is reached through what, to paste into site.yaml
  catena scan --uplinks --out site.svg        the same, drawn`

func (a *app) scanCmd() *cobra.Command {
	var l look
	var adapters, uplinks bool
	var at, out string
	var every time.Duration
	c := &cobra.Command{
		Use:     "scan [ADDRESS…]",
		Short:   "Find the devices and read what they run",
		Long:    scanHelp,
		Example: scanExamples,
		RunE: func(c *cobra.Command, args []string) error {
			switch {
			case adapters:
				return a.adapters()
			case every != 0 && every < time.Second:
				return usage("--every %s is less than a second", every)
			case every != 0 && uplinks:
				return usage("--every and --uplinks do not go together")
			case out != "" && !uplinks:
				return usage("--out goes with --uplinks: it is the picture of what hangs on what")
			case out != "" && picture(out) == nil:
				return usage("--out %s: its name must end in .svg or .dot", out)
			}
			ctx, stop := signal.NotifyContext(c.Context(), os.Interrupt)
			defer stop()
			r, err := a.newRound(args, l)
			if err != nil {
				return err
			}
			defer r.site.Close()
			if every != 0 {
				return r.watch(ctx, every)
			}
			note, devices, err := r.scan(ctx)
			if err != nil {
				return err
			}
			if uplinks {
				if out != "" {
					return a.drawUplinks(r.site, out, at, devices)
				}
				return a.printUplinks(at, devices)
			}
			return a.printScan(r.site, note, devices)
		},
	}
	l.flags(c)
	f := c.Flags()
	f.BoolVar(&adapters, "adapters", false, "list this machine's adapters, and do nothing else")
	f.DurationVar(&every, "every", 0, "keep looking, this often, and print only what changes")
	f.BoolVar(&uplinks, "uplinks", false,
		"print what is reached through what, as uplinks: for site.yaml")
	f.StringVar(&at, "at", "", "with --uplinks: the device that this machine is plugged into")
	f.StringVar(&out, "out", "",
		"with --uplinks: draw what hangs on what, with its status, into this file: .svg or .dot")
	return c
}

// picture is how the tree of a site is drawn into a file of that name; nil: it is not.
func picture(name string) func(site string, tree []report.Node) string {
	return map[string]func(string, []report.Node) string{
		".svg": func(_ string, tree []report.Node) string { return report.SVG(tree) },
		".dot": report.DOT}[strings.ToLower(filepath.Ext(name))]
}

// drawUplinks draws what hangs on what, as site.yaml and the devices themselves say it.
func (a *app) drawUplinks(w *workspace.Workspace, out, at string, devices []device.Device) error {
	s, err := a.openShelf()
	if err == nil {
		err = w.Match(s)
	}
	if err != nil {
		return err
	}
	var more []site.Uplink
	links, unseen := site.Propose(devices, at)
	for _, l := range links {
		more = append(more, site.Uplink{Through: l.Through, Reach: l.Reach})
	}
	err = atomicfile.Write(out, 0o644, func(f io.Writer) error {
		_, err := io.WriteString(f, picture(out)(w.Site.Name, export.Tree(w, more...)))
		return err
	})
	if err != nil {
		return err
	}
	a.say("Drew what hangs on what: %s", out)
	if len(unseen) > 0 {
		a.say("No one sees what these are reached through: %s. Where you know it, write it into uplinks: in %s.",
			strings.Join(unseen, ", "), site.File)
	}
	return nil
}

// round is what one scan needs, once or again and again.
type round struct {
	app      *app
	site     *workspace.Workspace
	access   *contact.Access
	networks []discover.Network
	scanner  *scan.Scanner
}

func (a *app) newRound(addresses []string, l look) (*round, error) {
	for _, way := range l.via {
		if !slices.Contains(discover.Protocols, way) {
			return nil, usage("--via %q is not a discovery protocol; there are %s", way,
				strings.Join(discover.Protocols, ", "))
		}
	}
	var ports []site.Port
	for _, text := range l.ports {
		p, err := site.ParsePort(text)
		if err != nil {
			return nil, usage("--port: %w", err)
		}
		ports = append(ports, p)
	}
	addresses, err := addressFiles(addresses)
	if err != nil {
		return nil, err
	}
	w, err := a.openSite()
	if err != nil {
		return nil, err
	}
	r := &round{app: a, site: w, networks: discover.Networks(w.Site.Networks)}
	if len(addresses) > 0 || l.adapter != "" || len(r.networks) == 0 {
		r.networks, err = discover.Addresses(addresses, l.except, l.adapter, ports, l.wide)
		if err != nil {
			w.Close()
			var wide *discover.WideError
			if errors.As(err, &wide) {
				return nil, usage("%w; say --wide if that is meant", err)
			}
			return nil, usage("%w", err)
		}
	} else if r.networks, err = discover.Narrow(r.networks, l.except, ports); err != nil {
		w.Close()
		return nil, usage("%w", err)
	}
	r.access, err = a.access(w)
	if err != nil {
		w.Close()
		return nil, err
	}
	r.scanner = a.scanner(r.access)
	r.scanner.Patience, r.scanner.Via = l.patience, l.via
	return r, nil
}

// addressFiles puts the lines of a file in the place of @FILE. Empty lines and what
// follows a # are left out.
func addressFiles(addresses []string) ([]string, error) {
	var out []string
	for _, t := range addresses {
		name, isFile := strings.CutPrefix(t, "@")
		if !isFile {
			out = append(out, t)
			continue
		}
		data, err := os.ReadFile(name)
		if err != nil {
			return nil, usage("the addresses cannot be read: %w", err)
		}
		n := 0
		for line := range strings.Lines(string(data)) {
			n++
			line, _, _ = strings.Cut(line, "#")
			line = strings.TrimSpace(line)
			if line == "" {
				continue
			}
			if _, err := site.ParseRange(line); err != nil {
				return nil, usage("%s:%d: %w", name, n, err)
			}
			out = append(out, line)
		}
	}
	return out, nil
}

// scanner makes the scanner of a site.
func (a *app) scanner(x *contact.Access) *scan.Scanner {
	s := x.Scanner()
	s.Log = a.log
	return s
}

// scan looks once, keeps what came and tells it.
func (r *round) scan(ctx context.Context) (note scanNote, devices []device.Device, err error) {
	a, w := r.app, r.site
	known, err := record.Devices(w.Ledger)
	if err != nil {
		return note, nil, err
	}
	s := r.scanner
	s.Trusted = r.access.Keys
	meter := &view.Meter{W: a.err, Style: a.style(a.err)}
	if !a.quiet {
		s.Progress = func(done, total int, what string) {
			meter.Show(fmt.Sprintf("%d of %d %s", done, total, what))
		}
	}
	began := a.now()
	network := slices.DeleteFunc(slices.Clone(known), func(d device.Device) bool { return d.Dialect == hand.Name })
	result, err := s.Scan(ctx, r.networks, network)
	meter.Clear()
	if err != nil {
		return note, nil, fmt.Errorf("the scan did not end: %w; nothing was kept", err)
	}
	if err := keepScan(w, began, result.Devices, result.Keys); err != nil {
		return note, nil, err
	}
	units, fresh, err := workspace.SeeDeclared(w.Ledger, w.Site)
	if err != nil {
		return note, nil, err
	}
	result.New, result.Devices = append(result.New, fresh...), append(result.Devices, units...)
	r.access.Keys, _, err = record.Keys(w.Ledger)
	if err != nil {
		return note, nil, err
	}
	note = scanNote{Asked: result.Asked, New: orEmpty(result.New), Changed: orEmpty(result.Changed),
		Gone: []string{}, Read: []string{},
		Outside: result.Outside, Warnings: orEmpty(result.Warnings),
		Seconds: a.now().Sub(began).Seconds()}
	for _, d := range result.Gone {
		note.Gone = append(note.Gone, d.Name)
	}
	for _, d := range result.Devices {
		if d.Access != device.Away {
			note.Found++
		}
		if d.Access == device.OK {
			note.Read = append(note.Read, d.ID)
		}
	}
	return note, result.Devices, w.Ledger.Append(record.Scanned, "", "", note)
}

// orEmpty is a list that JSON shows as one, also when nothing is in it.
func orEmpty[T any](list []T) []T {
	if list == nil {
		return []T{}
	}
	return list
}

// keepScan keeps what a scan that started then saw of devices, and the keys that they showed.
func keepScan(w *workspace.Workspace, began time.Time, devices []device.Device,
	keys scan.Keys) error {
	var seen []*device.Device
	for i := range devices {
		seen = append(seen, &devices[i])
	}
	if err := record.UpdateSince(w.Ledger, "", began, seen...); err != nil {
		return err
	}
	if err := record.Trust(w.Ledger, keys.Fresh); err != nil {
		return err
	}
	return record.Distrust(w.Ledger, keys.Refused)
}

// watch looks again and again until it is stopped, and prints what changes. A scan that
// cannot be done, because a cable is out for a while, is told, and the next one comes.
func (r *round) watch(ctx context.Context, every time.Duration) error {
	a := r.app
	for n := 1; ; n++ {
		next := time.After(every)
		note, _, err := r.scan(ctx)
		a.log.Debug("looked", "round", n, "found", note.Found, "err", err)
		if ctx.Err() != nil {
			return nil
		}
		at := a.now().Format("2006-01-02 15:04:05")
		if err != nil {
			view.Print(a.err, "%s %v\n", at, err)
		} else if err := a.printNews(at, note); err != nil {
			return err
		}
		if n == 1 && err == nil {
			a.say("%s %s here; looking again every %s, until Ctrl-C.", at,
				words.Plural(note.Found, "device"), every)
		}
		select {
		case <-next:
		case <-ctx.Done():
			return nil
		}
	}
}

// news is one line of what a watching scan tells.
type news struct {
	At   string `json:"at"`
	Name string `json:"name"`
	What string `json:"what"` // new, gone, or a field's name
	From string `json:"from,omitempty"`
	To   string `json:"to,omitempty"`
}

func (a *app) printNews(at string, note scanNote) error {
	var all []news
	for _, n := range note.New {
		all = append(all, news{At: at, Name: n, What: "new"})
	}
	for _, n := range note.Gone {
		all = append(all, news{At: at, Name: n, What: "gone"})
	}
	for _, c := range note.Changed {
		all = append(all, news{at, c.Name, c.What, c.From, c.To})
	}
	s := a.style(a.out)
	for _, n := range all {
		switch {
		case a.format == "json":
			line, err := encode(n)
			if err != nil {
				return err
			}
			fmt.Fprintln(a.out, line)
		case n.What == "new":
			view.Print(a.out, "%s %s %s\n", n.At, n.Name, "new")
		case n.What == "gone":
			view.Print(a.out, "%s %s %s\n", n.At, n.Name, s.Paint(view.Bad, "gone"))
		default:
			view.Print(a.out, "%s %s %s\n", n.At, n.Name,
				fmt.Sprintf("%s %s → %s", n.What, orNone(n.From), orNone(n.To)))
		}
	}
	return nil
}

// adapters lists this machine's adapters.
func (a *app) adapters() error {
	all, err := discover.Adapters()
	if err != nil {
		return err
	}
	t := view.Table{Columns: []string{"adapter", "link", "addresses", "mac", "scanned"}}
	for _, x := range all {
		link := "down"
		switch {
		case x.Up && x.Running:
			link = "up"
		case x.Up:
			link = "no link"
		}
		var addresses []string
		for _, p := range x.Addresses {
			addresses = append(addresses, p.String())
		}
		use := "yes"
		switch {
		case x.Loopback:
			use = "when named"
		case !x.Up || len(x.Addresses) == 0 || !x.Multicast:
			use = "no"
		}
		tone := view.Quiet
		if link == "down" {
			tone = view.Warn
		}
		t.Add(x.Name, tone.Cell(link), strings.Join(addresses, " "),
			view.Quiet.Cell(x.MAC), use)
	}
	return a.emit(all, t)
}

// printUplinks prints what is reached through what, to be pasted into site.yaml. What
// cannot be known stands there as comments.
func (a *app) printUplinks(at string, devices []device.Device) error {
	if at != "" && !slices.ContainsFunc(devices,
		func(d device.Device) bool { return d.Answers(at) }) {
		return usage("--at: no device %q was found", at)
	}
	for _, d := range devices {
		if at != "" && d.Answers(at) {
			at = d.Name
		}
	}
	links, unseen := site.Propose(devices, at)
	if a.format == "json" {
		type link struct {
			Through string   `json:"through"`
			Reach   []string `json:"reach"`
			Chain   bool     `json:"chain"`
			Doubts  []string `json:"doubts"`
		}
		out := []link{}
		for _, l := range links {
			out = append(out, link{l.Through, l.Reach, l.Chain, append([]string{}, l.Doubts...)})
		}
		return a.printJSON(out)
	}
	view.Print(a.out, "%s", proposedUplinks(links, unseen, at))
	return nil
}

// proposedUplinks are links as site.yaml has them; what is not known stands there as comments.
func proposedUplinks(links []site.Link, unseen []string, at string) string {
	if len(links) == 0 {
		return "# No device tells what it sees at its ports or what hangs behind it. Where you know it, write:\n# uplinks:\n#   - {through: switch-basin, reach: [cam-11, cam-12]}\n"
	}
	var b strings.Builder
	b.WriteString("# What the devices say of their neighbours. Read it before you rely on it.\nuplinks:\n")
	if at == "" {
		b.WriteString("  # Say which device this machine is plugged into with --at.\n")
	}
	for _, l := range links {
		for _, d := range l.Doubts {
			fmt.Fprintf(&b, "  # Not sure: %s.\n", d)
		}
		if l.Chain {
			fmt.Fprintf(&b,
				"  # A daisy chain: while %s restarts, all behind it is cut off; the end of the chain goes first.\n", l.Through)
		}
		fmt.Fprintf(&b, "  - {through: %s, reach: [%s]}\n", yamlWord(l.Through),
			strings.Join(mapped(l.Reach, yamlWord), ", "))
	}
	if len(unseen) > 0 {
		b.WriteString(comment(fmt.Sprintf("What these are reached through is not known, no one sees them: %s.", strings.Join(unseen, ", "))))
	}
	return b.String()
}

// comment writes a text as lines that YAML leaves out.
func comment(text string) string {
	const width = 100
	return fill("# "+text, "# ", width) + "\n"
}

func mapped(list []string, f func(string) string) []string {
	var out []string
	for _, x := range list {
		out = append(out, f(x))
	}
	return out
}

// yamlWord writes a name so that YAML reads it as that name.
func yamlWord(name string) string {
	plain := func(r rune) bool {
		return r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' ||
			strings.ContainsRune("-_.", r)
	}
	if strings.IndexFunc(name, func(r rune) bool { return !plain(r) }) < 0 &&
		strings.ContainsAny(name[:1], "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ") {
		return name
	}
	return "'" + strings.ReplaceAll(name, "'", "''") + "'"
}

// scanNote is what a scan brought, as the ledger keeps it and JSON shows it.
type scanNote struct {
	Asked    int           `json:"asked"` // addresses
	Found    int           `json:"found"` // devices
	New      []string      `json:"new"`
	Read     []string      `json:"read"` // the IDs of the devices that were read
	Changed  []scan.Change `json:"changed"`
	Gone     []string      `json:"gone"`
	Outside  int           `json:"outside"`
	Warnings []string      `json:"warnings"`
	Seconds  float64       `json:"seconds"`
}

func (a *app) printScan(w *workspace.Workspace, note scanNote, devices []device.Device) error {
	shelf, err := a.openShelf()
	if err != nil {
		return err
	}
	if err := w.Match(shelf); err != nil {
		return err
	}
	here := map[string]bool{}
	for _, d := range devices {
		here[d.ID] = true
	}
	all, err := w.Choose(workspace.Choice{Tree: true})
	if err != nil {
		return err
	}
	var shown []workspace.Row
	for _, d := range workspace.Mains(all) {
		if here[d.ID] {
			shown = append(shown, d)
		}
	}
	if a.format == "json" {
		return a.printJSON(struct {
			scanNote
			Devices []workspace.Row `json:"devices"`
		}{note, shown})
	}
	news := note.byDevice()
	err = a.printDevices(shown, func(devices []workspace.Row) view.Table {
		return scanTable(devices, news)
	})
	if err != nil {
		return err
	}
	a.conclude(note, shown)
	a.reportUnresolved(w)
	return nil
}

// reportUnresolved warns of words in the site's files that mean no device.
func (a *app) reportUnresolved(w *workspace.Workspace) {
	for _, r := range w.UnresolvedReferences() {
		view.Print(a.err, "Note: %s\n", r)
	}
}

// byDevice is what is new of each device, by its name.
func (note scanNote) byDevice() map[string]view.Cell {
	news := map[string]view.Cell{}
	for _, n := range note.New {
		news[n] = view.Cell{Text: "new"}
	}
	for _, c := range note.Changed {
		text := fmt.Sprintf("%s %s → %s", c.What, orNone(c.From), orNone(c.To))
		if old := news[c.Name].Text; old != "" {
			text = old + ", " + text
		}
		news[c.Name] = view.Cell{Text: text}
	}
	for _, n := range note.Gone {
		news[n] = view.Bad.Cell("gone")
	}
	return news
}

// conclude says in words what a scan brought.
func (a *app) conclude(note scanNote, shown []workspace.Row) {
	asked := "Nothing but multicast was asked"
	if note.Asked > 0 {
		asked = "1 address looked at"
		if note.Asked > 1 {
			asked = fmt.Sprintf("%d addresses looked at", note.Asked)
		}
	}
	a.say("\n%s in %.1f s: %s found, %d new, %d changed, %d gone.", asked, note.Seconds,
		words.Plural(note.Found, "device"), len(note.New), countNames(note.Changed), len(note.Gone))
	if note.Outside > 0 {
		a.say("Found outside the site's address ranges and skipped: %d.", note.Outside)
	}
	for _, w := range note.Warnings {
		a.say("Note: %s.", w)
	}
	locked := 0
	for _, d := range shown {
		if d.Match.Device.Access == device.LoginRefused {
			locked++
		}
	}
	if locked > 0 {
		a.say("%s could not be logged in to. Add their logins: catena login add; see which works where: catena login test", words.Plural(locked, "device"))
	}
	if len(shown) == 0 {
		a.say("Nothing answered. Is this machine on the site's network, and are the ranges right?")
	}
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

// troubleTone is loud where a person must see to a device, not where no one ever could
// read it.
func troubleTone(d device.Device) view.Tone {
	if d.Access == device.Unreadable {
		return view.Warn
	}
	return view.Bad
}

func scanTable(devices []workspace.Row, news map[string]view.Cell) view.Table {
	t := view.Table{Columns: []string{"name", "address", "vendor", "model", "hw", "serial",
		"version", "found via", "news"}, Less: []string{"found via", "hw", "vendor", "serial"}}
	for _, d := range devices {
		version := view.Cell{Text: d.Version.Text}
		if d.Match.Device.Access != device.OK {
			version = troubleTone(d.Match.Device).Cell(d.Access)
		}
		remark := news[d.Name]
		if d.Match.Device.Trouble != nil && d.Match.Device.Access != device.Away {
			remark = view.Cell{Text: strings.TrimPrefix(remark.Text+"; "+troubled(d.Match.Device),
				"; ")}
		}
		t.Add(d.InTree(), d.Where(), d.Vendor, d.Model,
			d.Hardware.Text, d.Serial, version,
			view.Quiet.Cell(strings.Join(d.FoundVia, ", ")), remark)
	}
	return t
}
