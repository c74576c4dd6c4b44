package cli

import (
	"cmp"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"catena/internal/cli/view"
	"catena/internal/job"
	"catena/internal/ledger"
	"catena/internal/match"
	"catena/internal/site"
)

func (c *choice) flags(cmd *cobra.Command) {
	cmd.Flags().StringVar(&c.where, "where", "", `only devices for which this holds, e.g. 'model == "WX-40" && version < "3.2"'`)
	cmd.Flags().StringVar(&c.sort, "sort", "", "the field to sort by")
}

func (a *app) listCmd() *cobra.Command {
	var choose choice
	c := &cobra.Command{
		Use:   "list",
		Short: "List the devices known, each as it was last seen",
		Example: `  catena list
  catena list --where 'vendor == "Wexcombe" && status != "current"' --sort version
  catena list --where 'meets(version, ">= 2.0, < 4")'
  catena list --format csv > devices.csv`,
		Args: exactly(0, "no more words (choose with --where)"),
		RunE: func(*cobra.Command, []string) error {
			return a.withDevices(choose, func(devices []device) view.Table {
				devices = mains(devices)
				t := view.Table{Columns: []string{"name", "address", "vendor", "model", "hw", "serial", "version", "status"}}
				for _, d := range devices {
					t.Add(view.Cell{Text: d.Name}, view.Cell{Text: d.Address}, view.Cell{Text: d.Vendor}, view.Cell{Text: d.Model},
						view.Cell{Text: d.Hardware.Text}, view.Cell{Text: d.Serial}, view.Cell{Text: d.Version.Text},
						view.Cell{Text: d.Status, Tone: statusTone(d.Status)})
				}
				return t
			})
		},
	}
	choose.flags(c)
	return c
}

func (a *app) matchCmd() *cobra.Command {
	var choose choice
	var by string
	c := &cobra.Command{
		Use:   "match",
		Short: "Say which image each device should get, and why",
		Long: `Hold every known device against the shelf: how it stands, what it runs and should
run, how it would be returned, and why. Nothing is touched.

Statuses: unsafe (what it runs was withdrawn), behind (a later image is there), current,
ahead, no-image (the shelf has nothing for it), no-access (no login works, or its identity changed), away (does
not answer), held (the site says to leave it alone).`,
		Example: `  catena match
  catena match --where 'status == "behind" && rollback == "none"'
  catena match --by group
  catena match --format json`,
		Args: exactly(0, "no more words (choose with --where)"),
		RunE: func(*cobra.Command, []string) error {
			switch by {
			case "":
				return a.withDevices(choose, matchTable)
			case "model", "group":
				return a.withDevices(choose, groupTable(by))
			}
			return usage("--via %q is neither model nor group", by)
		},
	}
	choose.flags(c)
	c.Flags().StringVar(&by, "by", "", "count devices instead: by model (with what they run and should run), or by group")
	return c
}

func matchTable(devices []device) view.Table {
	t := view.Table{Columns: []string{"name", "model", "status", "from", "to", "image", "rollback", "reason"}}
	for _, d := range devices {
		back := view.Cell{Text: d.Rollback}
		if d.Rollback == string(match.None) {
			back.Tone = view.Bad
		}
		t.Add(view.Cell{Text: d.part()}, view.Cell{Text: d.Model}, view.Cell{Text: d.Status, Tone: statusTone(d.Status)},
			view.Cell{Text: d.Version.Text}, view.Cell{Text: strings.Join(d.Path, " → ")}, view.Cell{Text: d.File}, back,
			view.Cell{Text: d.Reason, Tone: view.Quiet})
	}
	return t
}

// groupTable counts devices: how many of each model run what they are meant to.
func groupTable(by string) func([]device) view.Table {
	return func(devices []device) view.Table {
		type key struct{ group, vendor, model, runs, target string }
		count, statuses := map[key]int{}, map[key]map[string]int{}
		var order []key
		for _, d := range mains(devices) {
			groups := []string{""}
			if by == "group" {
				if groups = d.Groups; len(groups) == 0 {
					groups = []string{"(none)"}
				}
			}
			for _, g := range groups {
				k := key{g, d.Vendor, d.Model, d.Version.Text, d.Target.Text}
				if by == "group" {
					k.runs, k.target = "", ""
				}
				if count[k] == 0 {
					order = append(order, k)
					statuses[k] = map[string]int{}
				}
				count[k]++
				statuses[k][d.Status]++
			}
		}
		slices.SortStableFunc(order, func(a, b key) int {
			return cmp.Or(strings.Compare(a.group, b.group), strings.Compare(a.vendor, b.vendor), strings.Compare(a.model, b.model))
		})
		t := view.Table{Columns: []string{"vendor", "model", "runs", "target", "devices", "on target", "status"}}
		if by == "group" {
			t.Columns = []string{"group", "vendor", "model", "devices", "on target", "status"}
		}
		for _, k := range order {
			aimed := statuses[k][string(match.Current)]
			tone := view.Warn
			if aimed == count[k] {
				tone = view.Good
			}
			row := []view.Cell{{Text: k.vendor}, {Text: k.model}, {Text: k.runs}, {Text: k.target}}
			if by == "group" {
				row = []view.Cell{{Text: k.group}, {Text: k.vendor}, {Text: k.model}}
			}
			t.Add(append(row, view.Cell{Text: fmt.Sprint(count[k])}, view.Cell{Text: fmt.Sprint(aimed), Tone: tone}, view.Cell{Text: inWords(statuses[k]), Tone: view.Quiet})...)
		}
		return t
	}
}

// withDevices prints the chosen devices as a table and their count.
func (a *app) withDevices(choose choice, table func([]device) view.Table) error {
	p, err := a.look()
	if err != nil {
		return err
	}
	defer p.home.Close()
	devices, err := p.choose(nil, choose)
	if err != nil {
		return err
	}
	if err := a.printDevices(devices, table); err != nil || a.format != "table" {
		return err
	}
	switch {
	case len(p.devices) == 0:
		a.say("No devices are known yet. Find them: catena scan")
	case len(devices) == 0:
		a.say("None of the %s is chosen by --where.", many(p.devices))
	default:
		a.say("\n%s: %s", many(devices), counted(devices))
	}
	return nil
}

func (a *app) showCmd() *cobra.Command {
	return &cobra.Command{
		Use:     "show DEVICE",
		Short:   "Show one device and all that was done to it",
		Example: "  catena show cam-11\n  catena show 10.20.4.11",
		Args:    exactly(1, "one device: its name, address or serial number"),
		RunE:    func(_ *cobra.Command, args []string) error { return a.show(args[0]) },
	}
}

// event is one line of a device's history.
type event struct {
	At   string `json:"at"`
	Job  string `json:"job,omitempty"`
	What string `json:"what"`
}

func (a *app) show(name string) error {
	p, err := a.look()
	if err != nil {
		return err
	}
	defer p.home.Close()
	devices, err := pick(p.devices, []string{name})
	if err != nil {
		return err
	}
	if len(mains(devices)) > 1 {
		return usage("%s means %s; name one", name, many(devices))
	}
	d := devices[0]
	entries, err := p.home.ledger.Entries(ledger.Filter{Device: d.ID})
	if err != nil {
		return err
	}
	events := history(entries)
	if a.format == "json" {
		return a.printJSON(struct {
			device
			History []event `json:"history"`
		}{d, events})
	}
	s := a.style(a.out)
	facts := view.Table{Columns: []string{"what", "value"}}
	for _, f := range [][2]string{{"name", d.Name}, {"address", d.Address}, {"vendor", d.Vendor}, {"model", d.Model}, {"hardware", d.Hardware.Text},
		{"serial", d.Serial}, {"version", d.Version.Text}, {"status", d.Status}, {"reason", d.Reason},
		{"target rule", d.TargetRule}, {"path", strings.Join(d.Path, " → ")}, {"rollback", d.Rollback}, {"groups", strings.Join(d.Groups, ", ")}, {"dialect", d.Dialect}, {"found via", strings.Join(d.FoundVia, ", ")},
		{"says", d.row.Device.Says}, {"hardware address", d.row.Device.MAC}, {"behind it", strings.Join(d.row.Device.Behind, ", ")}, {"id", d.ID}} {
		if f[1] != "" {
			facts.Add(view.Cell{Text: f[0], Tone: view.Quiet}, view.Cell{Text: f[1]})
		}
	}
	for _, n := range d.row.Device.Neighbours {
		facts.Add(view.Cell{Text: "sees", Tone: view.Quiet}, view.Cell{Text: strings.TrimSpace(fmt.Sprintf("%s: %s %s", n.Port, n.Name, strings.TrimPrefix(n.Chassis, n.Name)))})
	}
	facts.Draw(a.out, s)
	for _, part := range devices[1:] {
		facts.Rows = nil
		for _, f := range [][2]string{{"component", part.Component}, {"version", part.Version.Text}, {"status", part.Status}, {"reason", part.Reason}, {"path", strings.Join(part.Path, " → ")}} {
			if f[1] != "" {
				facts.Add(view.Cell{Text: f[0], Tone: view.Quiet}, view.Cell{Text: f[1]})
			}
		}
		fmt.Fprintln(a.out)
		facts.Draw(a.out, s)
	}
	fmt.Fprintln(a.out)
	past := view.Table{Columns: []string{"when", "job", "what"}}
	for _, e := range events {
		past.Add(view.Cell{Text: e.At, Tone: view.Quiet}, view.Cell{Text: e.Job}, view.Cell{Text: e.What})
	}
	past.Draw(a.out, s)
	return nil
}

func history(entries []ledger.Entry) []event {
	var out []event
	for _, e := range entries {
		what := ""
		switch e.Kind {
		case ledger.Seen:
			var d site.Device
			if json.Unmarshal(e.Body, &d) == nil {
				what = strings.TrimSpace(fmt.Sprintf("seen at %s: %s %s", d.Address, d.Access, d.Version))
			}
		default:
			what = job.Sentence(e)
		}
		out = append(out, event{e.At.Local().Format("2006-01-02 15:04:05"), e.Job, what})
	}
	return out
}

// pick finds the devices that a person named; every name must mean one.
func pick(devices []device, names []string) ([]device, error) {
	var out []device
	taken := map[string]bool{}
	for _, name := range names {
		any := false
		for _, d := range devices {
			if d.row.Device.Answers(name) {
				any = true
				if key := d.ID + " " + d.Component; !taken[key] {
					taken[key] = true
					out = append(out, d)
				}
			}
		}
		if !any {
			return nil, usage("no device %q is known; see them with: catena list", name)
		}
	}
	return out, nil
}
