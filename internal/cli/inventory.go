package cli

import (
	"errors"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"catena/internal/atomicfile"
	"catena/internal/cli/view"
	"catena/internal/inventory"
	"catena/internal/plan"
	"catena/internal/sheet"
	"catena/internal/words"
	"catena/internal/workspace"
)

func (a *app) importCmd() *cobra.Command {
	var columns []string
	var name string
	var look, yes bool
	c := &cobra.Command{
		Use:   "import FILE.csv|FILE.xlsx",
		Short: "Read names, places and other fields from a list of devices",
		Long: `Read a list of devices, for example that of the customer: names, places, groups, serial
numbers, spares, and free fields such as warranty or asset. What it would change is shown first,
with the devices of the list that were not found, and the known devices that it does not have.

Columns are recognized by their headings; every other heading becomes a free field. With --column,
state how a heading is read: as ` + strings.Join(inventory.Columns, ", ") + `,
as the name of a free field, or as - to leave it out. A row is about the device with its serial
number, or else with its MAC address, its address or its name.

The result is inventory.yaml in the site folder. Known devices get their names as by catena name. A
place in site.yaml takes precedence, and its groups keep their devices. A cell that is empty changes
nothing.`,
		Example: `  catena import customer.xlsx --look
  catena import customer.csv --column 'Code=asset' --column 'Remarks=-'
  catena list --where '"warranty" in fields && fields.warranty < "2027"' --field fields.warranty`,
		Args: exactly(1, "one list: a CSV or XLSX file"),
		RunE: func(_ *cobra.Command, args []string) error {
			as := map[string]string{}
			for _, c := range columns {
				heading, column, is := strings.Cut(c, "=")
				if !is {
					return usage("--column %q: write HEADING=COLUMN", c)
				}
				as[heading] = column
			}
			return a.importList(args[0], name, as, look, yes)
		},
	}
	c.Flags().StringArrayVar(&columns, "column", nil, "how a heading is read: HEADING=COLUMN")
	c.Flags().StringVar(&name, "sheet", "", "the sheet of an XLSX file (default: its first one)")
	c.Flags().BoolVar(&look, "look", false, "show what would change, and change nothing")
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return c
}

func (a *app) importList(path, name string, as map[string]string, look, yes bool) error {
	w, err := a.openSite()
	if err != nil {
		return err
	}
	defer w.Close()
	i, err := w.ReadImport(path, name, as)
	var headings *inventory.HeadingError
	switch {
	case errors.As(err, &headings):
		return usage("%s: %w", path, err)
	case err != nil:
		return usage("%w", err)
	}
	if a.format != "table" {
		if !look && !yes {
			return usage("--format %s needs --look or --yes", a.format)
		}
		if err := a.emit(i, view.Table{}); err != nil {
			return err
		}
	} else {
		a.showImport(i)
	}
	if look {
		return nil
	}
	if len(i.Changes) == 0 && len(i.Missing) == 0 {
		a.say("The list states nothing new.")
		return nil
	}
	if !yes {
		if err := a.confirm("Take the list into " + plan.InventoryPath + "?"); err != nil {
			return err
		}
	}
	not, err := w.Take(i)
	if err != nil {
		return err
	}
	for _, n := range not {
		a.say("%s keeps its name and is not called %s: %s.", n.Device, n.Name, n.Reason)
	}
	a.say("Written: %s.", plan.InventoryPath)
	return nil
}

// most is how many lines of a kind an import shows.
const most = 40

// showImport draws what an import would do.
func (a *app) showImport(i plan.Import) {
	style := a.style(a.out)
	t := view.Table{Columns: []string{"heading", "read as"}}
	for _, c := range i.Columns {
		as := view.Cell{Text: strings.Replace(c.As, "fields.", "free field ", 1)}
		if c.As == inventory.Skipped {
			as = view.Quiet.Cell("left out")
		}
		t.Add(c.Heading, as)
	}
	t.Draw(a.out, style)
	if len(i.Changes) > 0 {
		view.Print(a.out, "\nChanges:\n")
		t = view.Table{Columns: []string{"row", "device", "what", "was", "is"}}
		for _, c := range i.Changes[:min(len(i.Changes), most)] {
			device := view.Cell{Text: c.Device}
			if !c.Known {
				device = view.Warn.Cell(c.Device + " (not found)")
			}
			t.Add(c.Row, device, c.What, c.Was, c.Is)
		}
		t.Draw(a.out, style)
		a.more(len(i.Changes))
	}
	if len(i.Left) > 0 {
		view.Print(a.out, "\nRows that are not taken as they are:\n")
		t = view.Table{Columns: []string{"row", "taken", "reason"}}
		for _, l := range i.Left[:min(len(i.Left), most)] {
			taken := view.Warn.Cell("no")
			if l.Taken {
				taken = view.Cell{Text: "changed"}
			}
			t.Add(l.Row, taken, l.Reason)
		}
		t.Draw(a.out, style)
		a.more(len(i.Left))
	}
	a.showListed("In the list, and not found", i.Missing)
	a.showListed("Found, and not in the list", i.Unlisted)
	a.say("\n%s, %s left out; %s not found, %s not in the list.",
		words.Plural(len(i.Changes), "change"), words.Plural(countLeft(i.Left), "row"),
		words.Plural(len(i.Missing), "device"), words.Plural(len(i.Unlisted), "device"))
}

func countLeft(all []plan.LeftOut) (n int) {
	for _, l := range all {
		if !l.Taken {
			n++
		}
	}
	return n
}

// more says how many lines are not shown.
func (a *app) more(n int) {
	if n > most {
		a.say("and %d more (all: --format json)", n-most)
	}
}

// showListed draws the devices that only the list has, or only the site.
func (a *app) showListed(title string, all []plan.Listed) {
	if len(all) == 0 {
		return
	}
	view.Print(a.out, "\n%s:\n", title)
	t := view.Table{Columns: []string{"name", "address", "vendor", "model", "serial", "place",
		"remark"}, Less: []string{"vendor", "place"}}
	for _, l := range all[:min(len(all), most)] {
		t.Add(l.Name, l.Address, l.Vendor, l.Model, l.Serial, l.Place, view.Warn.Cell(l.Remark))
	}
	t = t.Without("place").Without("remark").Without("vendor")
	t.Draw(a.out, a.style(a.out))
	a.more(len(all))
}

func (a *app) exportCmd() *cobra.Command {
	var choose workspace.Choice
	var force bool
	c := &cobra.Command{
		Use:   "export FILE.csv|FILE.xlsx",
		Short: "Write the devices into a spreadsheet",
		Long: `Write the devices into a CSV or XLSX file, one on each line, with all free fields of the
inventory. An XLSX file has filters and a heading that stays in view, and, on a second sheet, the
devices of the inventory that were not found. catena import reads such a file again.`,
		Example: `  catena export marrow-hill.xlsx
  catena export outdated.csv --where 'status == "behind"' --sort place`,
		Args: exactly(1, "the new file: its name ends in .csv or .xlsx"),
		RunE: func(_ *cobra.Command, args []string) error {
			if !sheet.Is(args[0]) {
				return usage("%s: the extension is neither .csv nor .xlsx", args[0])
			}
			return a.export(args[0], choose, force)
		},
	}
	choiceFlags(c, &choose)
	c.Flags().BoolVar(&force, "force", false, "replace a file that exists")
	return c
}

func (a *app) export(path string, choose workspace.Choice, force bool) error {
	w, err := a.match()
	if err != nil {
		return err
	}
	defer w.Close()
	rows, err := w.Choose(choose)
	if err != nil {
		return err
	}
	if !force {
		if err := notThere(path); err != nil {
			return err
		}
	}
	tables, err := w.Sheets(rows)
	if err != nil {
		return err
	}
	err = atomicfile.Write(path, 0o644, func(f io.Writer) error {
		return sheet.Write(f, path, tables...)
	})
	if err != nil {
		return err
	}
	a.say("Written: %s, %s.", path, many(workspace.Mains(rows)))
	return nil
}

func (a *app) deviceSpareCmd() *cobra.Command {
	var undo bool
	c := &cobra.Command{
		Use:   "spare DEVICE",
		Short: "Mark a device as a spare",
		Long: `Mark a device as a spare: one that is kept, and not in service. It is listed apart, and
an order takes it only if you name it. catena device replace puts it in service. With --undo, the
device is in service again.`,
		Example: "  catena device spare cam-91\n  catena device spare cam-91 --undo\n" +
			"  catena flash cam-91             keep it up to date",
		Args: exactly(1, "one device"),
		RunE: func(_ *cobra.Command, args []string) error {
			w, err := a.openSite()
			if err != nil {
				return err
			}
			defer w.Close()
			_, d, err := w.Device(args[0])
			if err != nil {
				return err
			}
			if err := w.SetSpare(d, !undo); err != nil {
				return err
			}
			if undo {
				a.say("%s is in service.", d.Name)
			} else {
				a.say("%s is a spare.", d.Name)
			}
			return nil
		},
	}
	c.Flags().BoolVar(&undo, "undo", false, "the device is in service")
	return c
}
