package cli

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/spf13/cobra"

	"catena/internal/cli/view"
	"catena/internal/family"
	"catena/internal/site"
)

func (a *app) aimCmd() *cobra.Command {
	c := &cobra.Command{
		Use:   "aim",
		Short: "Say which version is wanted where",
		Long: `An aim says which version a device, a model or a group is meant to run: newest, hold
(leave it alone), one version, or a constraint such as ">= 3.1, < 4". The most
specific aim wins: a device before a model within a group, before a group, before a
model. Without any, a device should run the newest recommended.

The aims of these commands lie in aims.yaml in the site folder; site.yaml may hold more.`,
		Args: onlyCommands, RunE: help,
	}
	var aim site.Aim
	choose := func(c *cobra.Command) {
		c.Flags().StringVar(&aim.Device, "device", "", "for this device: its name, address or serial number")
		c.Flags().StringVar(&aim.Model, "model", "", "for this model")
		c.Flags().StringVar(&aim.Group, "group", "", "for this group of site.yaml")
	}
	set := &cobra.Command{
		Use:     "set VERSION",
		Short:   "Aim devices at a version",
		Example: "  catena aim set 3.2.1 --model WX-40\n  catena aim set hold --device gate-5 --because 'not before the winter stoppage'\n  catena aim set '>= 3.1, < 4' --group chamber-1 --model WX-40",
		Args:    exactly(1, "a version: newest, hold, 3.2.1, or a constraint"),
		RunE: func(_ *cobra.Command, args []string) error {
			aim.Version = strings.TrimSpace(args[0])
			return a.changeAims(func(aims []site.Aim) ([]site.Aim, string, error) {
				aims = slices.DeleteFunc(aims, aim.Same)
				return append(aims, aim), "Aimed " + aim.String() + ".", nil
			})
		},
	}
	choose(set)
	set.Flags().StringVar(&aim.Because, "because", "", "why")
	drop := &cobra.Command{
		Use: "drop", Short: "Take an aim away", Example: "  catena aim drop --model WX-40",
		Args: exactly(0, "no more words (choose with --device, --model, --group)"),
		RunE: func(*cobra.Command, []string) error {
			return a.changeAims(func(aims []site.Aim) ([]site.Aim, string, error) {
				left := slices.DeleteFunc(slices.Clone(aims), aim.Same)
				if len(left) == len(aims) {
					return nil, "", usage("%s has no aim for %q; see: catena aim list", site.AimsFile, aim.For())
				}
				return left, "Dropped the aim for " + aim.For() + ".", nil
			})
		},
	}
	choose(drop)
	list := &cobra.Command{
		Use: "list", Short: "List the aims, those of site.yaml first", Args: exactly(0, "no more words"),
		RunE: func(*cobra.Command, []string) error { return a.aimList() },
	}
	save := &cobra.Command{
		Use: "save FILE", Short: "Write all aims of this site into a file, for another site", Example: "  catena aim save winter-2026.yaml",
		Args: exactly(1, "a file"),
		RunE: func(_ *cobra.Command, args []string) error {
			h, err := a.openSite()
			if err != nil {
				return err
			}
			defer h.Close()
			if _, err := os.Stat(args[0]); err == nil {
				return usage("%s is there already; choose another name", args[0])
			}
			if err := writeAims(args[0], h.site.Aims); err != nil {
				return err
			}
			a.say("Wrote %s into %s.", view.Plural(len(h.site.Aims), "aim"), args[0])
			return nil
		},
	}
	load := &cobra.Command{
		Use: "load FILE", Short: "Take over the aims of a file", Example: "  catena aim load winter-2026.yaml",
		Long: "Take over the aims of a file. An aim for the same devices as one in aims.yaml takes its place.",
		Args: exactly(1, "a file"),
		RunE: func(_ *cobra.Command, args []string) error {
			loaded, err := readAims(args[0])
			if err != nil {
				return err
			}
			return a.changeAims(func(aims []site.Aim) ([]site.Aim, string, error) {
				for _, l := range loaded {
					aims = slices.DeleteFunc(aims, l.Same)
				}
				return append(aims, loaded...), "Took over " + view.Plural(len(loaded), "aim") + ".", nil
			})
		},
	}
	c.AddCommand(set, drop, list, save, load)
	return c
}

// changeAims changes aims.yaml, when the site agrees with the result: the groups are
// there, and nothing contradicts site.yaml.
func (a *app) changeAims(change func([]site.Aim) ([]site.Aim, string, error)) error {
	dir, err := a.siteDir()
	if err != nil {
		return err
	}
	path := filepath.Join(dir, site.AimsFile)
	aims, err := readAims(path)
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return err
	}
	aims, done, err := change(aims)
	if err != nil {
		return err
	}
	file := filepath.Join(dir, site.File)
	data, err := os.ReadFile(file)
	if err != nil {
		return err
	}
	s, err := site.Parse(file, data)
	if err != nil {
		return err
	}
	if err := s.Join(path, aims); err != nil {
		return fmt.Errorf("%w; nothing was changed", err)
	}
	if err := writeAims(path, aims); err != nil {
		return err
	}
	a.say("%s See what it means: catena match", done)
	return nil
}

// writeAims writes a file of aims: under another name first, so that it is never
// half there.
func writeAims(path string, aims []site.Aim) error {
	if aims == nil {
		aims = []site.Aim{}
	}
	raw, err := yaml.Marshal(map[string][]site.Aim{"aims": aims})
	if err != nil {
		return err
	}
	if err := os.WriteFile(path+".new", raw, 0o644); err != nil {
		return err
	}
	return os.Rename(path+".new", path)
}

func (a *app) aimList() error {
	h, err := a.openSite()
	if err != nil {
		return err
	}
	defer h.Close()
	if a.format == "json" {
		return a.printJSON(h.site.Aims)
	}
	var rows [][]string
	t := view.Table{Columns: []string{"device", "group", "model", "version", "because"}}
	for _, m := range h.site.Aims {
		rows = append(rows, []string{m.Device, m.Group, m.Model, m.Version, m.Because})
		t.Add(view.Cell{Text: m.Device}, view.Cell{Text: m.Group}, view.Cell{Text: m.Model}, view.Cell{Text: m.Version}, view.Cell{Text: m.Because, Tone: view.Quiet})
	}
	if a.format == "csv" {
		return view.CSV(a.out, t.Columns, rows)
	}
	t.Draw(a.out, a.style(a.out))
	if len(rows) == 0 {
		a.say("There is no aim: every device should run the newest recommended. Set one: catena aim set --help")
	}
	return nil
}

func (a *app) familyCmd() *cobra.Command {
	c := &cobra.Command{
		Use:   "family",
		Short: "Look at the device families",
		Long: `A family is a YAML file in the site's families folder, or in the shelf's. As of now it
says how a maker's version strings sort, and how images without a card are recognised:

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
	list := &cobra.Command{
		Use: "list", Short: "List the families that are known", Args: exactly(0, "no more words"),
		RunE: func(*cobra.Command, []string) error {
			dir, _ := a.siteDir() // outside a site, the shelf's families count
			s, err := a.openShelf()
			if err != nil {
				return err
			}
			set, err := a.families(dir, s)
			if err != nil {
				return err
			}
			t := view.Table{Columns: []string{"family", "vendor", "models", "versions", "image rules"}}
			for _, f := range set.Families() {
				order := f.Versions.Order
				if order == "" {
					order = "natural"
				}
				t.Add(view.Cell{Text: f.Name}, view.Cell{Text: f.Vendor}, view.Cell{Text: strings.Join(f.Models, ", ")}, view.Cell{Text: order}, view.Cell{Text: fmt.Sprint(len(f.Images))})
			}
			t.Draw(a.out, a.style(a.out))
			if len(set.Families()) == 0 {
				a.say("No family is known: versions sort naturally, and images need cards.")
			}
			return nil
		},
	}
	check := &cobra.Command{
		Use: "check FILE…", Short: "Read family files and say what is wrong with them", Args: atLeast(1, "a file"),
		RunE: func(_ *cobra.Command, args []string) error {
			var all []family.Family
			for _, name := range args {
				data, err := os.ReadFile(name)
				if err != nil {
					return usage("%w", err)
				}
				f, err := family.Parse(name, data)
				if err != nil {
					return err
				}
				all = append(all, f)
			}
			if _, err := family.NewSet(all); err != nil {
				return usage("%w", err)
			}
			a.say("%s: nothing is wrong.", strings.Join(args, ", "))
			return nil
		},
	}
	c.AddCommand(list, check)
	return c
}
