package cli

import (
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/spf13/cobra"

	"catena/internal/atomicfile"
	"catena/internal/cli/view"
	"catena/internal/files"
	"catena/internal/plan"
	"catena/internal/site"
	"catena/internal/words"
	"catena/internal/workspace"
)

func (a *app) targetCmd() *cobra.Command {
	c := &cobra.Command{
		Use:   "target",
		Short: "Manage the target versions",
		Long: `A target specifies the version that a device, a model or a group should run: newest,
hold (put it on hold), one version, or a constraint such as ">= 3.1, < 4". The most specific target
wins: a device before a model within a group, before a group, before a model. A device without a
target should run the newest recommended version.

These commands keep the targets in targets.yaml in the site folder; site.yaml can contain more.`,
		Args: onlyCommands, RunE: help,
	}
	c.AddCommand(a.targetSetCmd(), a.targetDropCmd(), a.targetListCmd(), a.targetSaveCmd(),
		a.targetLoadCmd())
	return c
}

// targetFlags say for which devices a target is.
func targetFlags(c *cobra.Command, target *site.Target) {
	c.Flags().StringVar(&target.Device, "device", "",
		"for this device: its name, address or serial number")
	c.Flags().StringVar(&target.Model, "model", "", "for this model")
	c.Flags().StringVar(&target.Kind, "kind", "", "for devices of this kind, such as camera")
	c.Flags().StringVar(&target.Group, "group", "", "for this group of site.yaml")
	c.Flags().StringVar(&target.Component, "component", "",
		"for this component, such as modem (default: the main one)")
}

func (a *app) targetSetCmd() *cobra.Command {
	var target site.Target
	var missing bool
	c := &cobra.Command{
		Use:   "set VERSION",
		Short: "Set the target version of devices",
		Example: `  catena target set 3.2.1 --model WX-40
  catena target set '>= 3.1, < 4' --group chamber-1 --model WX-40
  catena target set 11.2 --model HD-G4 --component modem`,
		Args: exactly(1, "a version: newest, 3.2.1, or a constraint"),
		RunE: func(_ *cobra.Command, args []string) error {
			target.Version = strings.TrimSpace(args[0])
			if err := a.checkTarget(target, missing); err != nil {
				return err
			}
			return a.changeTargets(func(targets []site.Target) ([]site.Target, string, error) {
				targets = slices.DeleteFunc(targets, target.Same)
				return append(targets, target), "Target set: " + target.String() + ".", nil
			})
		},
	}
	targetFlags(c, &target)
	c.Flags().StringVar(&target.Because, "because", "", "why")
	c.Flags().BoolVar(&missing, "missing", false, "allow a version that the shelf does not "+
		"have yet (catena match --missing lists what to obtain)")
	return c
}

func (a *app) targetDropCmd() *cobra.Command {
	var target site.Target
	c := &cobra.Command{
		Use:     "drop",
		Short:   "Remove a target",
		Example: "  catena target drop --model WX-40\n  catena target drop --device gate-3",
		Args:    exactly(0, "no arguments (choose with --device, --model, --group)"),
		RunE: func(*cobra.Command, []string) error {
			return a.changeTargets(func(targets []site.Target) ([]site.Target, string, error) {
				left := slices.DeleteFunc(slices.Clone(targets), target.Same)
				if len(left) == len(targets) {
					return nil, "", usage("%s has no target for %q; list them: catena target list",
						site.TargetsFile, target.For())
				}
				return left, "Removed the target for " + target.For() + ".", nil
			})
		},
	}
	targetFlags(c, &target)
	return c
}

func (a *app) targetSaveCmd() *cobra.Command {
	return &cobra.Command{
		Use:     "save FILE",
		Short:   "Save the targets of this site in a file, for another site",
		Example: "  catena target save winter-2026.yaml\n  catena target save ~/office.yaml",
		Args:    exactly(1, "a file"),
		RunE: func(_ *cobra.Command, args []string) error {
			w, err := a.openSite()
			if err != nil {
				return err
			}
			defer w.Close()
			if err := notThere(args[0]); err != nil {
				return err
			}
			raw, err := targetsYAML(w.Targets())
			if err == nil {
				err = atomicfile.Replace(args[0], raw, 0o644)
			}
			if err != nil {
				return err
			}
			a.say("Wrote %s into %s.", words.Plural(len(w.Targets()), "target"), args[0])
			return nil
		},
	}
}

func (a *app) targetLoadCmd() *cobra.Command {
	return &cobra.Command{
		Use:   "load FILE",
		Short: "Add the targets of a file",
		Long: `Add the targets of a file. A target for the same devices as one in targets.yaml
replaces it.`,
		Example: "  catena target load winter-2026.yaml\n  catena target load ~/office.yaml",
		Args:    exactly(1, "a file"),
		RunE: func(_ *cobra.Command, args []string) error {
			data, err := files.Read(args[0], files.Site)
			if err != nil {
				return usage("%w", err)
			}
			loaded, err := site.ParseTargets(args[0], data)
			if err != nil {
				return err
			}
			return a.changeTargets(func(targets []site.Target) ([]site.Target, string, error) {
				for _, l := range loaded {
					targets = slices.DeleteFunc(targets, l.Same)
				}
				return append(targets, loaded...),
					"Added " + words.Plural(len(loaded), "target") + ".", nil
			})
		},
	}
}

// checkTarget refuses a target that names what does not exist.
func (a *app) checkTarget(t site.Target, missing bool) error {
	w, err := a.match()
	if err != nil {
		return err
	}
	defer w.Close()
	if t.Device != "" {
		if err := w.Means(t.Device); err != nil {
			return err
		}
	}
	var unknown *plan.UnknownTargetError
	if missing {
		t.Version = site.Newest
	}
	if err := w.CheckTarget(t); errors.As(err, &unknown) {
		return usage("%w", err)
	}
	return nil
}

// changeTargets changes targets.yaml, when the site agrees with the result: the groups are
// there, and no two targets contradict each other.
func (a *app) changeTargets(change func([]site.Target) ([]site.Target, string, error)) error {
	dir, err := a.siteDir()
	if err != nil {
		return err
	}
	s, err := workspace.ReadSite(dir)
	if err != nil {
		return err
	}
	path, done := filepath.Join(dir, site.TargetsFile), ""
	err = atomicfile.Transform(path, 0o644, func(old []byte) ([]byte, error) {
		var targets []site.Target
		var err error
		if old != nil {
			targets, err = site.ParseTargets(path, old)
			if err != nil {
				return nil, err
			}
		}
		targets, done, err = change(targets)
		if err != nil {
			return nil, err
		}
		if err := s.Join(path, targets); err != nil {
			return nil, fmt.Errorf("%w; nothing was changed", err)
		}
		raw, err := targetsYAML(targets)
		return append([]byte(workspace.ForEditors(dir, "targets", "")), raw...), err
	})
	if err != nil {
		return err
	}
	a.say("%s See what it means: catena match", done)
	return nil
}

// targetsYAML is the content of a file of targets.
func targetsYAML(targets []site.Target) ([]byte, error) {
	if targets == nil {
		targets = []site.Target{}
	}
	return yaml.Marshal(map[string][]site.Target{"targets": targets})
}

func (a *app) targetListCmd() *cobra.Command {
	return &cobra.Command{
		Use:     "list",
		Example: "  catena target list\n  catena target list --format json",
		Short:   "List the targets",
		Args:    exactly(0, "no arguments"),
		RunE:    func(*cobra.Command, []string) error { return a.targetList() },
	}
}

func (a *app) targetList() error {
	w, err := a.openSite()
	if err != nil {
		return err
	}
	defer w.Close()
	t := view.Table{Columns: []string{"device", "group", "model", "kind", "component", "version",
		"because"}}
	for _, m := range w.Targets() {
		t.Add(m.Device, m.Group, m.Model, m.Kind, m.Component, m.Version, view.Quiet.Cell(m.Because))
	}
	t = t.Without("kind")
	if len(t.Rows) == 0 && a.format == "table" {
		a.say("There is no target: every device should run the newest image on the shelf. Set one: " +
			"catena target set --help")
		return nil
	}
	return a.emit(orEmpty(w.Targets()), t)
}
