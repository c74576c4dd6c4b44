package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"os"
	"os/signal"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"catena/internal/advice"
	"catena/internal/atomicfile"
	"catena/internal/cli/view"
	"catena/internal/device"
	"catena/internal/export"
	"catena/internal/plan"
	"catena/internal/record"
	"catena/internal/report"
	"catena/internal/scan"
	"catena/internal/scan/discover"
	"catena/internal/site"
	"catena/internal/survey"
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
	where    string
	via      []string
	wide     bool
	patience time.Duration
}

func (l *look) flags(c *cobra.Command) {
	f := c.Flags()
	f.StringVar(&l.adapter, "adapter", "",
		"this machine's adapter to scan with: its name, its address, or an address reached through it "+
			"(default: the adapters whose networks contain the addresses; without addresses, all)")
	f.StringSliceVar(&l.except, "except", nil, "addresses, address ranges or networks to leave out")
	f.StringSliceVar(&l.ports, "port", nil,
		"ports to try instead of the default ones: 8080, or snmp:1161, modbus:5020, ethernet-ip:44818")
	f.StringVar(&l.where, "where", "", "only known devices for which this holds, where they were")
	f.StringSliceVar(&l.via, "via", nil, "use only these discovery protocols")
	f.BoolVar(&l.wide, "wide", false, "allow a range larger than a /16")
	f.DurationVar(&l.patience, "patience", usualPatience,
		"how long to wait for an answer of one address")
}

var scanHelp = `Find the devices on the site's networks and read their versions. All discovery
protocols run at once: WS-Discovery, mDNS, SSDP, SNMP, EtherNet/IP and BACnet/IP, by multicast or
broadcast and address by address, and a sweep that tries each address for HTTP, TLS, SSH and Modbus.
The results are recorded; new, changed and missing devices are shown. Devices that answer but are
not recognised are listed with what they reported.

Without addresses, the networks of site.yaml are scanned. ADDRESS is an address, a range of
addresses, a network, host:port, or @FILE with one address per line. An address in a network of
site.yaml is tried at the ports of that network and at those of the devices that are known there.
Addresses that do not answer are not an error; those that you name one by one are listed. DEVICE is
a known device or a group: it is looked for at its last address.

With --outside the hosts are listed that answered from outside the address ranges: devices fresh
from the factory are often there.

The discovery protocols: ` + strings.Join(discover.Protocols, ", ") + `.`

const scanExamples = `  catena scan
  catena scan 10.20.4.1-10.20.4.60 10.20.5.0/26 --except 10.20.4.7
  catena scan 10.20.4.17:8080 @more-addresses.txt
  catena scan cam-11 chamber-2                known devices, where they were
  catena scan --where 'status == "away"'
  catena scan --outside                       what answers from other address ranges
  catena scan --adapters                      this machine's adapters
  catena scan --adapter eth0                  by its name, its address, or an address beyond it
  catena scan --via snmp,mdns --port snmp:1161
  catena scan --every 30s                     keep looking, print only what changes
  catena scan --uplinks                       what is reached through what, to paste into site.yaml
  catena scan --uplinks --out site.svg        the same, drawn`

func (a *app) scanCmd() *cobra.Command {
	var l look
	var adapters, uplinks, outside bool
	var at, out string
	var every time.Duration
	c := &cobra.Command{
		Use:     "scan [ADDRESS|DEVICE…]",
		Short:   "Find the devices and read their versions",
		Long:    scanHelp,
		Example: scanExamples,
		RunE: func(c *cobra.Command, args []string) error {
			switch {
			case adapters:
				return a.adapters()
			case every != 0 && every < time.Second:
				return usage("--every %s is less than a second", every)
			case every != 0 && (uplinks || outside) || uplinks && outside:
				return usage("--every, --uplinks and --outside cannot be combined")
			case out != "" && !uplinks:
				return usage("--out requires --uplinks: it draws the uplinks")
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
			if outside {
				return a.printOutside(r.survey.Outside)
			}
			if uplinks {
				if out != "" {
					return a.drawUplinks(r.site, out, at, devices)
				}
				return a.printUplinks(at, devices)
			}
			return a.printScan(r, note, devices)
		},
	}
	l.flags(c)
	f := c.Flags()
	f.BoolVar(&adapters, "adapters", false, "only list this machine's adapters")
	f.BoolVar(&outside, "outside", false, "list what answered from outside the address ranges")
	f.DurationVar(&every, "every", 0, "keep scanning, this often, and print only changes")
	f.BoolVar(&uplinks, "uplinks", false,
		"print the uplinks, ready for site.yaml")
	f.StringVar(&at, "at", "", "with --uplinks: the device that this machine is connected to")
	f.StringVar(&out, "out", "",
		"with --uplinks: draw the uplinks, with the status of each device, into this file: "+
			".svg or .dot")
	return c
}

// picture is how the tree of a site is drawn into a file of that name; nil: it is not.
func picture(name string) func(site string, tree []report.Node) string {
	return map[string]func(string, []report.Node) string{
		".svg": func(_ string, tree []report.Node) string { return report.SVG(tree) },
		".dot": report.DOT}[strings.ToLower(filepath.Ext(name))]
}

// drawUplinks draws what hangs on what, as site.yaml and the devices themselves say it.
func (a *app) drawUplinks(w *plan.Site, out, at string, devices []device.Device) error {
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
		_, err := io.WriteString(f, picture(out)(w.Name(), export.Tree(w, more...)))
		return err
	})
	if err != nil {
		return err
	}
	a.say("Drew the uplinks: %s", out)
	if len(unseen) > 0 {
		a.say("No device reports the uplinks of these: %s. If you know them, add them to "+
			"uplinks: in %s.",
			strings.Join(unseen, ", "), site.File)
	}
	return nil
}

// round is what one scan needs, once or repeatedly.
type round struct {
	app    *app
	site   *plan.Site
	survey *survey.Survey
}

func (a *app) newRound(addresses []string, l look) (_ *round, err error) {
	r := survey.Request{Except: l.except, Adapter: l.adapter, Via: l.via, Wide: l.wide,
		Patience: l.patience}
	for _, way := range l.via {
		if !slices.Contains(discover.Protocols, way) {
			return nil, usage("--via %q is not a discovery protocol; there are %s", way,
				strings.Join(discover.Protocols, ", "))
		}
	}
	for _, text := range l.ports {
		p, err := site.ParsePort(text)
		if err != nil {
			return nil, usage("--port: %w", err)
		}
		r.Ports = append(r.Ports, p)
	}
	given, err := addressFiles(addresses)
	if err != nil {
		return nil, err
	}
	choose := workspace.Choice{Where: l.where}
	for _, word := range given {
		if _, err := site.ParseRange(word); err == nil {
			r.Addresses = append(r.Addresses, word)
		} else if strings.Trim(word, "0123456789abcdefABCDEF.:-/") == "" {
			return nil, usage("%w", err)
		} else {
			choose.Names = append(choose.Names, word)
		}
	}
	w, err := a.openSite()
	if err != nil {
		return nil, err
	}
	defer func() {
		if err != nil {
			w.Close()
		}
	}()
	if len(choose.Names) > 0 || choose.Where != "" {
		if r.Devices, err = a.chosenDevices(w, choose); err != nil {
			return nil, err
		}
	}
	networks, err := survey.Networks(w.Workspace, r)
	var wide *discover.WideError
	switch {
	case errors.As(err, &wide):
		return nil, usage("%w; add --wide if you mean it", err)
	case err != nil:
		return nil, usage("%w", err)
	}
	access, err := a.access(w)
	if err != nil {
		return nil, err
	}
	return &round{app: a, site: w, survey: survey.New(w.Workspace, access, networks, r, a.log, a.now)},
		nil
}

// chosenDevices are the known devices of a choice that can be looked for at an address: a child is
// looked for at its parent. None is an error.
func (a *app) chosenDevices(
	w *plan.Site,
	choose workspace.Choice,
) (out []device.Device, err error) {
	s, err := a.openShelf()
	if err == nil {
		err = w.Match(s)
	}
	if err != nil {
		return nil, err
	}
	rows, err := w.Choose(choose)
	if err != nil {
		return nil, err
	}
	known := w.Devices()
	for _, r := range workspace.Mains(rows) {
		d := r.Match.Device
		for d.Through != "" {
			i := slices.IndexFunc(known, func(p device.Device) bool { return p.ID == d.Through })
			if i < 0 {
				break
			}
			d = known[i]
		}
		if d.Host() != "" &&
			!slices.ContainsFunc(out, func(o device.Device) bool { return o.ID == d.ID }) {
			out = append(out, d)
		}
	}
	if len(out) == 0 {
		return nil, usage("none of the chosen devices has an address")
	}
	return out, nil
}

// printOutside lists what answered from outside the address ranges, with what to do about it.
func (a *app) printOutside(all []discover.Sighting) error {
	adapters, err := discover.Adapters()
	if err != nil {
		return err
	}
	type line struct {
		Address  string `json:"address"`
		Via      string `json:"via"`
		Vendor   string `json:"vendor"`
		Model    string `json:"model"`
		Says     string `json:"says"`
		Proposal string `json:"proposal"`
	}
	rows := []line{}
	t := view.Table{Columns: []string{"address", "found via", "vendor", "model", "says", "proposal"}}
	for _, s := range all {
		host := s.Address.Addr()
		near := slices.ContainsFunc(adapters, func(x discover.Adapter) bool {
			return slices.ContainsFunc(x.Addresses, func(p netip.Prefix) bool { return p.Contains(host) })
		})
		r := line{Address: host.String(), Via: s.Via, Vendor: s.Facts.Vendor, Model: s.Facts.Model,
			Says: cmp.Or(s.Facts.Says, s.Facts.Called)}
		r.Proposal = "no network of this laptop has it; give it an address: catena address list"
		if near {
			r.Proposal = "read it: catena scan " + r.Address + "; keep it: add it to ranges: in " + site.File
		}
		rows = append(rows, r)
		t.Add(r.Address, r.Via, r.Vendor, r.Model, view.Quiet.Cell(r.Says), r.Proposal)
	}
	if len(rows) == 0 && a.format == "table" {
		a.say("Nothing answered from outside the site's address ranges.")
		return nil
	}
	return a.emit(rows, t)
}

// scan looks once, and shows how far it is.
func (r *round) scan(ctx context.Context) (note record.Scan, devices []device.Device, err error) {
	a := r.app
	meter := &view.Meter{W: a.err, Style: a.style(a.err)}
	defer meter.Clear()
	if !a.quiet {
		r.survey.Progress = func(done, total int, what string) {
			meter.Show(fmt.Sprintf("%d of %d %s", done, total, what))
		}
	}
	return r.survey.Scan(ctx)
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

// orEmpty is a list that JSON shows as one, also when nothing is in it.
func orEmpty[T any](list []T) []T {
	if list == nil {
		return []T{}
	}
	return list
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
			a.say("%s %s here; scanning again every %s, until Ctrl-C.", at,
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

func (a *app) printNews(at string, note record.Scan) error {
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
			if err := a.printJSON(n); err != nil {
				return err
			}
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
	view.Print(a.out, "%s", site.UplinksFile(links, unseen, at))
	return nil
}

func (a *app) printScan(r *round, note record.Scan, devices []device.Device) error {
	w := r.site
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
			record.Scan
			Devices []workspace.Row `json:"devices"`
		}{note, shown})
	}
	news := newsByDevice(note)
	err = a.printDevices(shown, func(devices []workspace.Row) view.Table {
		return scanTable(devices, news)
	})
	if err != nil {
		return err
	}
	a.conclude(note, shown)
	a.sayUntried(r.survey, shown)
	a.reportUnresolved(w)
	return nil
}

// sayUntried names the logins that were not tried on devices that rejected one.
func (a *app) sayUntried(s *survey.Survey, shown []workspace.Row) {
	var logins, devices []string
	for _, r := range shown {
		d := r.Match.Device
		if d.Access != device.LoginRefused || d.Trouble == nil || d.Trouble.Problem != device.BadLogin {
			continue
		}
		untried := s.Untried(d)
		for _, e := range untried {
			if text := e.ID + " for " + e.For(); !slices.Contains(logins, text) {
				logins = append(logins, text)
			}
		}
		if len(untried) > 0 {
			devices = append(devices, advice.Quoted(d.Name))
		}
	}
	if len(devices) > 0 {
		a.say("Not tried there, so that no device locks: %s. To try: catena login test %s",
			words.FewOf(logins, 6), strings.Join(devices[:min(len(devices), 6)], " "))
	}
}

// reportUnresolved warns of words in the site's files that mean no device.
func (a *app) reportUnresolved(w *plan.Site) {
	for _, r := range w.UnresolvedReferences() {
		view.Print(a.err, "Note: %s\n", r)
	}
}

// byDevice is what is new of each device, by its name.
func newsByDevice(note record.Scan) map[string]view.Cell {
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
func (a *app) conclude(note record.Scan, shown []workspace.Row) {
	asked := "Only multicast requests were sent"
	if note.Asked > 0 {
		asked = "1 address scanned"
		if note.Asked > 1 {
			asked = fmt.Sprintf("%d addresses scanned", note.Asked)
		}
	}
	a.say("\n%s in %.1f s: %s found, %d new, %d changed, %d gone.", asked, note.Seconds,
		words.Plural(note.Found, "device"), len(note.New), countNames(note.Changed), len(note.Gone))
	if note.Outside > 0 {
		a.say("Found outside the site's address ranges and skipped: %d. See them: catena scan --outside",
			note.Outside)
	}
	if len(note.Silent) > 0 {
		a.say("Nothing answered at: %s.", strings.Join(note.Silent, ", "))
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
		a.say("No login worked on %s. Add one: catena login add; show which login works where: "+
			"catena login test", words.Plural(locked, "device"))
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
			remark = view.Cell{Text: strings.TrimPrefix(remark.Text+"; "+advice.Troubled(d.Match.Device),
				"; ")}
		}
		t.Add(d.InTree(), d.Where(), d.Vendor, d.Model,
			d.Hardware.Text, d.Serial, version,
			view.Quiet.Cell(strings.Join(d.FoundVia, ", ")), remark)
	}
	return t
}
