package cli

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"catena/internal/cli/view"
	"catena/internal/device"
	"catena/internal/match"
	"catena/internal/plan"
	"catena/internal/words"
	"catena/internal/workspace"
)

// choiceFlags are the flags of every list.
func choiceFlags(cmd *cobra.Command, c *workspace.Choice) {
	whereFlag(cmd, c)
	cmd.Flags().StringVar(&c.Sort, "sort", "", "the field to sort by")
}

// whereFlag is the flag of every command that works on some of the devices.
func whereFlag(cmd *cobra.Command, c *workspace.Choice) {
	cmd.Flags().StringVar(&c.Where, "where", "",
		`only devices for which this holds, e.g. 'model == "WX-40" && version < "3.2"'`)
}

// columnsHelp lists the columns, each in the form given: name, and what it is about.
func columnsHelp(form string) string {
	var b strings.Builder
	for i, column := range workspace.Columns {
		fmt.Fprintf(&b, form, column, workspace.Abouts[i])
	}
	return b.String()
}

func (a *app) listCmd() *cobra.Command {
	var choose workspace.Choice
	var fields []string
	c := &cobra.Command{
		Use:   "list",
		Short: "List the known devices as they were last seen",
		Long: "List the known devices as they were last seen.\n\n" +
			"Fields in JSON, CSV, --sort and --where:\n" + columnsHelp("  %-12s %s\n"),
		Example: `  catena list
  catena list --where 'vendor == "Wexcombe" && status != "current"' --sort version
  catena list --where 'meets(version, ">= 2.0, < 4")'
  catena list --where 'spare || place contains "Lock 2"' --field place --field fields.warranty
  catena list --format csv > devices.csv`,
		Args: exactly(0, "no arguments (choose with --where)"),
		RunE: func(*cobra.Command, []string) error {
			for _, f := range fields {
				if !workspace.IsColumn(f) {
					return usage("--field: %w", &workspace.ColumnError{Word: f})
				}
			}
			return a.withDevices(choose, func(devices []workspace.Row) view.Table {
				return listTable(devices, fields)
			})
		},
	}
	choiceFlags(c, &choose)
	c.Flags().StringArrayVar(&fields, "field", nil,
		"a further column: a field, or fields.NAME of the inventory")
	return c
}

// listTable returns a list of devices, with further columns.
func listTable(devices []workspace.Row, fields []string) view.Table {
	t := view.Table{Columns: []string{"name", "address", "vendor", "model", "hw", "serial", "version"},
		Less: []string{"hw", "vendor", "serial"}}
	for _, f := range fields {
		t.Columns = append(t.Columns, strings.TrimPrefix(f, "fields."))
	}
	t.Columns = append(t.Columns, "status", "in feed")
	for _, d := range workspace.Mains(devices) {
		line := []any{d.InTree(), d.Where(), d.Vendor, d.Model, d.Hardware.Text, d.Serial,
			d.Version.Text}
		for _, f := range fields {
			line = append(line, d.Field(f))
		}
		t.Add(append(line, statusTone(d.Status).Cell(d.Stands()), d.Newer.Text)...)
	}
	return t.Without("in feed")
}

func (a *app) matchCmd() *cobra.Command {
	var choose workspace.Choice
	var by string
	var missing bool
	c := &cobra.Command{
		Use:   "match",
		Short: "Show which image each device should get, and why",
		Long: `Compare every known device with the shelf: its status, its current and target
version, how it would be rolled back, and why. Nothing is changed.

Statuses: unsafe (its version was withdrawn), behind (the shelf has a later image), current, ahead,
no-image (the shelf has no image for it), no-access (no login works, or its identity changed), away
(does not answer), held (the site puts it on hold).`,
		Example: `  catena match
  catena match --where 'status == "behind" && rollback == "none"'
  catena match --by group
  catena match --missing                  the images to obtain before one leaves the office
  catena match --format json`,
		Args: exactly(0, "no arguments (choose with --where)"),
		RunE: func(*cobra.Command, []string) error {
			switch by {
			case "":
				if missing {
					return a.matchMissing(choose)
				}
				return a.withDevices(choose, matchTable)
			case "model", "group", "kind":
				return a.matchBy(choose, by)
			}
			return usage("--by %q is none of model, group and kind", by)
		},
	}
	choiceFlags(c, &choose)
	c.Flags().StringVar(&by, "by", "",
		"count devices by model (with their current and target versions), by group, or by kind")
	c.Flags().BoolVar(&missing, "missing", false,
		"list the images that the shelf does not have: those that the targets require, and "+
			"those that a rollback requires")
	return c
}

// matchMissing lists the images to obtain.
func (a *app) matchMissing(choose workspace.Choice) error {
	w, err := a.match()
	if err != nil {
		return err
	}
	defer w.Close()
	chosen, err := w.Choose(choose)
	if err != nil {
		return err
	}
	var rows []match.Row
	for _, r := range chosen {
		rows = append(rows, r.Match)
	}
	all := match.MissingOf(rows, w.PageOf)
	t := view.Table{Columns: []string{"for", "vendor", "model", "hw", "component", "version",
		"devices", "why", "from"}}
	for _, m := range all {
		t.Add(m.Purpose, m.Vendor, m.Model, m.Hardware, m.Component, m.Version, words.Few(m.Devices),
			m.Why, m.From)
	}
	if len(all) == 0 {
		all = []match.Missing{}
		a.say("No image is missing: each of the %s can be updated and rolled back.", many(chosen))
	}
	return a.emit(all, t)
}

func matchTable(devices []workspace.Row) view.Table {
	t := view.Table{Columns: []string{"name", "model", "status", "from", "to", "in feed", "image",
		"rollback", "ready", "reason"}, Less: []string{"image", "model"}}
	for _, d := range devices {
		ready, reason := "", view.Quiet.Cell(d.Reason)
		if why := obstacle(d); why != "" {
			ready, reason = "no", view.Warn.Cell(why+"; "+d.Reason)
		}
		t.Add(d.Part(), d.Model, statusTone(d.Status).Cell(d.Status),
			d.Version.Text, strings.Join(d.Path, " → "), d.Newer.Text, imageCell(d),
			rollbackCell(d.Rollback), view.Warn.Cell(ready), reason)
	}
	return t.Without("in feed").Without("ready")
}

// imageCell is the file of an image, with a mark where a version on the way has release notes.
func imageCell(r workspace.Row) string {
	if r.HasNotes {
		return r.File + " (notes)"
	}
	return r.File
}

// sayFeeds says when each feed was read last, and of how many devices one has a later version.
func (a *app) sayFeeds(w *plan.Site, rows []workspace.Row) error {
	feeds, err := w.Shelf.Indexes()
	if err != nil {
		return err
	}
	later := 0
	for _, r := range rows {
		if r.Newer.Text != "" {
			later++
		}
	}
	for _, f := range feeds {
		a.say("The feed %s was read on %s.", f.Name, f.Read.Local().Format("2006-01-02 15:04"))
	}
	if later > 0 {
		a.say("Feeds have later images for %s: catena shelf pull --for-site",
			words.Plural(later, "device"))
	}
	return nil
}

// matchBy counts devices by model, with what they run and should run, or by group.
func (a *app) matchBy(choose workspace.Choice, by string) error {
	w, err := a.match()
	if err != nil {
		return err
	}
	defer w.Close()
	rows, err := w.Choose(choose)
	if err != nil {
		return err
	}
	tallies := workspace.Tallies(workspace.Mains(rows), by)
	err = a.emit(tallies, talliesTable(tallies, by))
	if err != nil || a.format != "table" {
		return err
	}
	a.say("\n%s: %s", many(rows), counted(rows))
	return nil
}

// talliesTable returns counts by model, or by group.
func talliesTable(tallies []workspace.Tally, by string) view.Table {
	columns := []string{"vendor", "model", "runs", "target", "devices", "on target", "status"}
	if by != "model" {
		columns = []string{"group", "vendor", "model", "devices", "on target", "status"}
	}
	if by == "kind" {
		columns[0] = "kind"
	}
	t := view.Table{Columns: columns}
	for _, c := range tallies {
		line := []any{c.Vendor, c.Model, c.Runs, c.Target}
		if by != "model" {
			line = []any{c.Group + c.Kind, c.Vendor, c.Model} // one of the two
		}
		t.Add(append(line, c.Devices, c.OnTarget, view.Quiet.Cell(inWords(c.Statuses)))...)
	}
	return t
}

// withDevices prints the chosen devices as a table and their count.
func (a *app) withDevices(choose workspace.Choice, table func([]workspace.Row) view.Table) error {
	w, err := a.match()
	if err != nil {
		return err
	}
	defer w.Close()
	devices, err := w.Choose(choose)
	if err != nil {
		return err
	}
	if a.format != "table" {
		return a.printDevices(devices, table)
	}
	inService, spares := workspace.Apart(devices)
	t := table(inService)
	t.Draw(a.out, a.style(a.out))
	if len(spares) > 0 {
		if len(inService) > 0 {
			view.Print(a.out, "\n")
		}
		view.Print(a.out, "Spares:\n")
		t = table(spares)
		t.Draw(a.out, a.style(a.out))
	}
	a.reportUnresolved(w)
	if err := a.sayInterrupted(w); err != nil {
		return err
	}
	switch {
	case len(w.Rows) == 0:
		a.say("No devices are known yet. Find them: catena scan")
	case len(devices) == 0:
		a.say("None of the %s is chosen by --where.", many(w.Rows))
	default:
		var lines []string
		if len(inService) > 0 {
			lines = append(lines, many(inService)+": "+counted(inService))
		}
		if len(spares) > 0 {
			lines = append(lines, words.Plural(len(workspace.Mains(spares)), "spare")+": "+
				counted(spares))
		}
		a.say("\n%s", strings.Join(lines, "\n"))
	}
	return a.sayFeeds(w, devices)
}

func (a *app) showCmd() *cobra.Command {
	var versions bool
	c := &cobra.Command{
		Use:   "show DEVICE",
		Short: "Show a device and its history",
		Long: `Show all that is known of a device, and what has happened to it. With --versions, list every
version that it may be brought to, later or earlier: the intermediate versions, its rollback, what
happens to its settings, the cautions to accept, the advice, and the first line of the release
notes. Versions that only a feed or an advisory names are listed, too.`,
		Example: "  catena show cam-11\n  catena show 10.20.4.11\n  catena show gate-3 --versions",
		Args:    exactly(1, "one device: its name, address or serial number"),
		RunE: func(_ *cobra.Command, args []string) error {
			if versions {
				return a.showVersions(args[0])
			}
			return a.show(args[0])
		},
	}
	c.Flags().BoolVar(&versions, "versions", false, "list the versions that it may be brought to")
	return c
}

func (a *app) show(name string) error {
	w, err := a.match()
	if err != nil {
		return err
	}
	defer w.Close()
	devices, err := w.Choose(workspace.Choice{Names: []string{name}})
	if err != nil {
		return err
	}
	if len(workspace.Mains(devices)) > 1 {
		return usage("%s means %s; name one", name, many(devices))
	}
	if a.format == "csv" {
		return a.printDevices(devices, nil)
	}
	d := devices[0]
	events, err := w.Happened(d.ID)
	if err != nil {
		return err
	}
	if a.format == "json" {
		return a.printJSON(struct {
			workspace.Row
			History []plan.Happening `json:"history"`
		}{d, events})
	}
	style := a.style(a.out)
	trusted, changed, err := w.Keys()
	if err != nil {
		return err
	}
	for i, part := range devices {
		t := partFacts(part)
		if i == 0 {
			t = deviceFacts(part, childrenOf(w, part.Name))
			for _, k := range trusted {
				if k.Host() == d.Match.Device.Host() && (k.Kind == device.KeyTLS || k.Kind == device.KeySSH) {
					t.Add(view.Quiet.Cell(k.Kind), k.Fingerprint)
				}
			}
			for _, k := range changed {
				if k.Host() == d.Match.Device.Host() {
					t.Add(view.Bad.Cell("changed "+k.Kind), "now "+k.Fingerprint)
				}
			}
		} else {
			view.Print(a.out, "\n")
		}
		t.Draw(a.out, style)
	}
	view.Print(a.out, "\n")
	past := view.Table{Columns: []string{"when", "job", "what"}}
	for _, e := range events {
		past.Add(view.Quiet.Cell(clockTime(e.At)), e.Job, e.What)
	}
	past.Draw(a.out, style)
	return nil
}

// childrenOf are the names of the devices that are reached only through one.
func childrenOf(w *plan.Site, parent string) (out []string) {
	for _, r := range workspace.Mains(w.Rows) {
		if r.Parent == parent {
			out = append(out, r.Name)
		}
	}
	return out
}

// deviceFacts is all that is known of a device.
func deviceFacts(r workspace.Row, children []string) view.Table {
	d := r.Match.Device
	list := [][2]string{
		{"name", r.Name}, {"address", r.Address}, {"reached through", r.Parent}, {"vendor", r.Vendor},
		{"model", r.Model}, {"kind", r.Kind},
		{"hardware", r.Hardware.Text}, {"serial", r.Serial}, {"version", r.Version.Text},
		{"status", r.Status}, {"reason", r.Reason}, {"target rule", r.TargetRule},
		{"path", strings.Join(r.Path, " → ")}, {"rollback", r.Rollback}, {"moved from", d.Moved},
		{"groups", strings.Join(r.Groups, ", ")}, {"place", r.Place}, {"spare", yesOrNothing(r.Spare)},
		{"protocol", r.Protocol},
		{"found via", strings.Join(r.FoundVia, ", ")}, {"seen", clockTime(r.Seen)},
		{"entered, not left", clockTime(r.Entered)},
		{"updated", clockTime(r.Updated)},
		{"says", d.Says}, {"MAC address", d.MAC}, {"behind it", strings.Join(d.Downstream, ", ")},
		{"children", strings.Join(children, ", ")},
		{"id", r.ID},
	}
	for _, f := range slices.Sorted(maps.Keys(r.Free)) {
		list = append(list, [2]string{f, r.Free[f]})
	}
	if d.Called != "" && d.Called != r.Name {
		list = append(list, [2]string{"calls itself", d.Called})
	}
	for _, n := range d.Neighbours {
		who := strings.TrimSpace(n.Name + " " + strings.TrimPrefix(n.Chassis, n.Name))
		list = append(list, [2]string{"sees", n.Port + ": " + who})
	}
	return factTable(list)
}

func yesOrNothing(b bool) string {
	if b {
		return "yes"
	}
	return ""
}

// partFacts is what is known of a component other than the main one.
func partFacts(r workspace.Row) view.Table {
	return factTable([][2]string{
		{"component", r.Component}, {"version", r.Version.Text}, {"status", r.Status},
		{"reason", r.Reason}, {"path", strings.Join(r.Path, " → ")},
	})
}

// factTable has a row for each fact that is known.
func factTable(facts [][2]string) view.Table {
	t := view.Table{Columns: []string{"what", "value"}}
	for _, f := range facts {
		if f[1] != "" {
			t.Add(view.Quiet.Cell(f[0]), f[1])
		}
	}
	return t
}

// clockTime writes a time for a person here; empty: never.
func clockTime(t time.Time) string {
	if t.IsZero() {
		return ""
	}
	return t.Local().Format("2006-01-02 15:04:05")
}
