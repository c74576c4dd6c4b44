package cli

import (
	"strings"

	"github.com/spf13/cobra"

	"catena/internal/cli/view"
	"catena/internal/family"
	"catena/internal/workspace"
)

func (a *app) familyCmd() *cobra.Command {
	c := &cobra.Command{
		Use:   "family",
		Short: "Look at the device families",
		Long: `A family is a YAML file in the site's families folder, or in the shelf's. As of now it
says how a maker's version strings sort, and how images without a manifest are recognised:

  family: wexcombe-cameras
  vendor: Wexcombe
  models: [WX-20, WX-40]
  versions: {order: natural}        # natural, semver, dotted, date, hex, or listed with list: […]
  images:                           # RE2; the groups model, component, version count
    - file: '^(?P<model>wx\d+)_(?P<version>[\d.]+)\.bin$'
    - at: {offset: 0, text: WXFW}   # or hex: 57584657
      content: 'model=(?P<model>\S+) rev=(?P<version>\S+)'
    - format: usb-dfu               # uimage, fit, usb-dfu, ihex, srec, pldm, suit`,
		Args: onlyCommands, RunE: help,
	}
	c.AddCommand(a.familyListCmd(), a.familyCheckCmd(), a.familyTryCmd(), a.familyTestCmd(), a.familyDraftCmd())
	return c
}

func (a *app) familyListCmd() *cobra.Command {
	return &cobra.Command{
		Use:   "list",
		Short: "List the families that are known",
		Args:  exactly(0, "no arguments"),
		RunE:  func(*cobra.Command, []string) error { return a.familyList() },
	}
}

func (a *app) familyList() error {
	s, err := a.openShelf()
	if err != nil {
		return err
	}
	set, err := a.families(s)
	if err != nil {
		return err
	}
	type known struct {
		Family   string   `json:"family"`
		Vendor   string   `json:"vendor"`
		Models   []string `json:"models"`
		Versions string   `json:"versions"`
		Images   int      `json:"image_rules"`
	}
	list := []known{}
	t := view.Table{Columns: []string{"family", "vendor", "models", "versions", "image rules"}}
	for _, f := range set.Families() {
		order := f.Versions.Order
		if order == "" {
			order = "natural"
		}
		list = append(list, known{f.Name, f.Vendor, f.Models, order, len(f.Images)})
		t.Add(f.Name, f.Vendor, strings.Join(f.Models, ", "), order, len(f.Images))
	}
	if len(list) == 0 && a.format == "table" {
		a.say("No family is known: versions sort naturally, and images need manifests.")
		return nil
	}
	return a.emit(list, t)
}

func (a *app) familyCheckCmd() *cobra.Command {
	return &cobra.Command{
		Use:   "check FILE…",
		Short: "Read family files and say what is wrong with them",
		Args:  atLeast(1, "a file"),
		RunE: func(_ *cobra.Command, args []string) error {
			var all []family.Family
			for _, name := range args {
				f, err := workspace.ReadFamily(name)
				if err != nil {
					return err
				}
				all = append(all, f)
			}
			if _, err := family.NewSet(all); err != nil {
				return err
			}
			a.say("%s: nothing is wrong.", strings.Join(args, ", "))
			return nil
		},
	}
}
