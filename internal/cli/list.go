package cli

import (
	"encoding/json"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"catena/internal/cli/view"
	"catena/internal/job"
	"catena/internal/ledger"
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
  catena list --where 'vendor == "Wexcombe" && standing != "current"' --sort version
  catena list --format csv > devices.csv`,
		Args: exactly(0, "no more words (choose with --where)"),
		RunE: func(*cobra.Command, []string) error {
			return a.withDevices(choose, func(devices []device) view.Table {
				t := view.Table{Columns: []string{"name", "address", "vendor", "model", "hw", "serial", "version", "standing"}}
				for _, d := range devices {
					t.Add(view.Cell{Text: d.Name}, view.Cell{Text: d.Address}, view.Cell{Text: d.Vendor}, view.Cell{Text: d.Model},
						view.Cell{Text: string(d.Hardware)}, view.Cell{Text: d.Serial}, view.Cell{Text: string(d.Version)},
						view.Cell{Text: d.Standing, Tone: standingTone(d.Standing)})
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
	c := &cobra.Command{
		Use:   "match",
		Short: "Say which image each device should get, and why",
		Long: `Hold every known device against the shelf: how it stands, what it runs and should
run, how it would be returned, and why. Nothing is touched.

Standings: behind (a later image is there), current, ahead, unmatched (the shelf has
nothing for it), locked (refuses the login), away (does not answer), held (the site
file says to leave it alone).`,
		Example: `  catena match
  catena match --where 'standing == "behind" && way_back == "none"'
  catena match --format json`,
		Args: exactly(0, "no more words (choose with --where)"),
		RunE: func(*cobra.Command, []string) error {
			return a.withDevices(choose, matchTable)
		},
	}
	choose.flags(c)
	return c
}

func matchTable(devices []device) view.Table {
	t := view.Table{Columns: []string{"name", "model", "standing", "from", "to", "image", "way back", "reason"}}
	for _, d := range devices {
		back := view.Cell{Text: d.WayBack}
		if d.row.Image != nil && d.row.Back == nil {
			back.Tone = view.Bad
		}
		to := ""
		if d.row.Image != nil {
			to = string(d.Target)
		}
		t.Add(view.Cell{Text: d.Name}, view.Cell{Text: d.Model}, view.Cell{Text: d.Standing, Tone: standingTone(d.Standing)},
			view.Cell{Text: string(d.Version)}, view.Cell{Text: to}, view.Cell{Text: d.File}, back, view.Cell{Text: d.Reason, Tone: view.Quiet})
	}
	return t
}

// withDevices prints the chosen devices as a table and their count.
func (a *app) withDevices(choose choice, table func([]device) view.Table) error {
	h, err := a.openSite()
	if err != nil {
		return err
	}
	defer h.Close()
	devices, _, err := a.matched(h)
	if err != nil {
		return err
	}
	all := len(devices)
	if devices, err = choose.apply(devices); err != nil {
		return err
	}
	if err := a.printDevices(devices, table); err != nil || a.format != "table" {
		return err
	}
	switch {
	case all == 0:
		a.say("No devices are known yet. Find them: catena scan")
	case len(devices) == 0:
		a.say("None of the %s is chosen by --where.", view.Plural(all, "device"))
	default:
		a.say("\n%s: %s", view.Plural(len(devices), "device"), counted(devices))
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
	h, err := a.openSite()
	if err != nil {
		return err
	}
	defer h.Close()
	devices, _, err := a.matched(h)
	if err != nil {
		return err
	}
	if devices, err = pick(devices, []string{name}); err != nil {
		return err
	}
	if len(devices) > 1 {
		return usage("%s means %s; name one", name, view.Plural(len(devices), "device"))
	}
	d := devices[0]
	entries, err := h.ledger.Entries(ledger.Filter{Device: d.ID})
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
	facts := view.Table{Columns: []string{"device", d.Name}}
	for _, f := range [][2]string{{"address", d.Address}, {"vendor", d.Vendor}, {"model", d.Model}, {"hardware", string(d.Hardware)},
		{"serial", d.Serial}, {"version", string(d.Version)}, {"standing", d.Standing}, {"reason", d.Reason},
		{"target", string(d.Target)}, {"way back", d.WayBack}, {"dialect", d.Dialect}, {"heard by", strings.Join(d.Heard, ", ")}, {"id", d.ID}} {
		if f[1] != "" {
			facts.Add(view.Cell{Text: f[0], Tone: view.Quiet}, view.Cell{Text: f[1]})
		}
	}
	facts.Draw(a.out, s)
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
				what = strings.TrimSpace(fmt.Sprintf("seen at %s: %s %s", d.Address, d.Reach, d.Version))
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
				if !taken[d.ID] {
					taken[d.ID] = true
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
