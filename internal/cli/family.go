package cli

import (
	"cmp"
	"context"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"catena/internal/cli/view"
	"catena/internal/dialect/draft"
	"catena/internal/family"
	"catena/internal/login"
	"catena/internal/workspace"
)

func (a *app) familyCmd() *cobra.Command {
	c := &cobra.Command{
		Use:   "family",
		Short: "Work with device families",
		Long: `A family is a YAML file in the families folder of the site or of the shelf. It
describes how to recognise, log in to, read, update and restart devices of one kind, how their
version strings sort, and how to recognise their images. The manual is docs/families.md.`,
		Example: `  catena family draft 10.20.4.101 > families/new.yaml
  catena family check families/new.yaml
  catena family try families/new.yaml 10.20.4.101
  catena family test families/new.yaml gate-1.json`,
		Args: onlyCommands, RunE: help,
	}
	c.AddCommand(a.familyListCmd(), a.familyShowCmd(), a.familyCheckCmd(), a.familyTryCmd(),
		a.familyTestCmd(), a.familyDraftCmd())
	return c
}

func (a *app) familyListCmd() *cobra.Command {
	return &cobra.Command{
		Use:     "list",
		Example: "  catena family list\n  catena family list --format json",
		Short:   "List the known families",
		Args:    exactly(0, "no arguments"),
		RunE:    func(*cobra.Command, []string) error { return a.familyList() },
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
		Protocol string   `json:"protocol"` // empty: it does not say how its devices are talked to
		Updates  bool     `json:"updates"`
		Versions string   `json:"versions"`
		Images   int      `json:"image_rules"`
	}
	list := []known{}
	t := view.Table{Columns: []string{"family", "vendor", "models", "protocol", "versions",
		"image rules"}}
	for _, f := range set.Families() {
		order := f.Versions.Order
		if order == "" {
			order = "natural"
		}
		k := known{Family: f.Name, Vendor: f.Vendor, Models: f.Models, Versions: order,
			Images: len(f.Images)}
		talks := ""
		if f.Program != nil {
			k.Protocol, k.Updates = f.Program.Protocol, len(f.Program.Update) > 0
			talks = k.Protocol
			if !k.Updates {
				talks += ", read only"
			}
		}
		list = append(list, k)
		t.Add(f.Name, f.Vendor, strings.Join(f.Models, ", "), talks, order, len(f.Images))
	}
	if len(list) == 0 && a.format == "table" {
		a.say("No family is known: versions sort naturally, and images need manifests.")
		return nil
	}
	return a.emit(list, t)
}

func (a *app) familyShowCmd() *cobra.Command {
	return &cobra.Command{
		Use:     "show FAMILY",
		Short:   "Show what a family makes Catena do",
		Example: "  catena family show tollgarth-gates\n  catena family show pennick-handsets",
		Args:    exactly(1, "one family"),
		RunE:    func(_ *cobra.Command, args []string) error { return a.familyShow(args[0]) },
	}
}

func (a *app) familyShow(name string) error {
	s, err := a.openShelf()
	if err != nil {
		return err
	}
	set, err := a.families(s)
	if err != nil {
		return err
	}
	all := set.Families()
	i := slices.IndexFunc(all, func(f family.Family) bool { return f.Name == name })
	if i < 0 {
		return usage("there is no family %s; list them: catena family list", name)
	}
	f := all[i]
	rows := [][2]string{{"family", f.Name}, {"vendor", f.Vendor}, {"models", strings.Join(f.Models,
		", ")},
		{"file", f.File}, {"versions sort", cmp.Or(f.Versions.Order, "natural")},
		{"image rules", strconv.Itoa(len(f.Images))}, {"patience", f.Patience.String()}}
	if f.PlainBasic {
		rows = append(rows, [2]string{"password", "may be sent in the clear"})
	}
	if p := f.Program; p != nil {
		rows = append(rows, [2]string{"protocol", p.Protocol})
		for _, part := range []struct {
			name  string
			steps []*family.Step
		}{{"recognise", p.Recognise}, {"login", p.Login}, {"read", p.Read}, {"update", p.Update},
			{"restart", p.Restart}, {"revert", p.Revert}, {"blink", p.Blink}} {
			rows = append(rows, [2]string{part.name, inSteps(part.steps)})
		}
		for _, component := range slices.Sorted(maps.Keys(p.Parts)) {
			rows = append(rows, [2]string{"update of " + component, inSteps(p.Parts[component].Update)})
		}
		for _, lock := range p.Interlocks {
			rows = append(rows, [2]string{"interlock", lock.Holds.Source + ", else: " + lock.Else})
		}
	}
	out := map[string]string{}
	t := view.Table{Columns: []string{"what", "value"}}
	for _, r := range rows {
		if r[1] != "" {
			out[r[0]] = r[1]
			t.Add(r[0], r[1])
		}
	}
	return a.emit([]map[string]string{out}, t)
}

// inSteps is what steps do, in short.
func inSteps(steps []*family.Step) string {
	var out []string
	for _, s := range steps {
		what := strings.TrimSpace(s.Word + " " + s.Path.Source)
		for _, o := range s.Objects {
			what += " " + o.OID
		}
		if s.Kind == family.Offer {
			what = "offer " + s.By + " (" + inSteps(s.Steps) + ")"
		}
		out = append(out, strings.TrimSpace(what))
	}
	return strings.Join(out, "; ")
}

func (a *app) familyCheckCmd() *cobra.Command {
	return &cobra.Command{
		Use: "check FILE…",
		Example: "  catena family check families/tollgarth-gates.yaml\n  catena family check " +
			"families/*.yaml",
		Short: "Check family files for mistakes",
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
			a.say("%s: no mistakes found.", strings.Join(args, ", "))
			return nil
		},
	}
}

func (a *app) familyDraftCmd() *cobra.Command {
	var record string
	c := &cobra.Command{
		Use:   "draft DEVICE",
		Short: "Draft a family file from what a device shows",
		Long: `Query a device without a login over HTTP, HTTPS, SSH and SNMP (community public),
and print a draft of a family file for it. What the device showed becomes comments; what only you
can know is marked FILL-IN, and listed. Nothing on the device is changed. Redirect the draft into a
file, complete it, and try it: catena family try. DEVICE is an address, or a device of the site.
With CATENA_LOGIN it also logs in over SSH, to see whether the device accepts commands or only has
a shell.`,
		Example: "  catena family draft 10.20.4.101 > families/new.yaml\n  catena family draft " +
			"10.20.4.101:8080\n  catena family draft gate-1 --record gate-1.json",
		Args: exactly(1, "a device or an address"),
		RunE: func(c *cobra.Command, args []string) error {
			return a.familyDraft(c.Context(), args[0], record)
		},
	}
	c.Flags().StringVar(&record, "record", "", "save the device's answer in this file")
	return c
}

func (a *app) familyDraft(ctx context.Context, where, record string) error {
	ctx, cancel := context.WithTimeout(ctx, 20*time.Second)
	defer cancel()
	if record != "" {
		if err := notThere(record); err != nil {
			return err
		}
	}
	addresses := []string{where}
	if _, err := a.siteDir(); err == nil {
		w, err := a.openSite()
		if err != nil {
			return err
		}
		defer w.Close()
		if _, d, err := w.Device(where); err == nil && d.Through == "" { // it answered there before
			addresses = []string{d.Address, d.Host()}
		}
	}
	var as login.Credential
	if a.getenv("CATENA_LOGIN") != "" {
		var err error
		if as, _, err = a.login(); err != nil {
			return err
		}
	}
	text, answered, err := draft.Of(ctx, as, addresses...)
	if err != nil {
		return err
	}
	view.Print(a.out, "%s", text)
	if record == "" {
		return nil
	}
	return writeRecording(record, answered)
}
