package cli

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"os/signal"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"catena/internal/advice"
	"catena/internal/care"
	"catena/internal/cli/view"
	"catena/internal/contact"
	"catena/internal/device"
	"catena/internal/dialect"
	"catena/internal/job"
	"catena/internal/machine"
	"catena/internal/plan"
	"catena/internal/settings"
	"catena/internal/words"
	"catena/internal/workspace"
)

func (a *app) settingsCmd() *cobra.Command {
	c := &cobra.Command{
		Use:   "settings",
		Short: "Save the settings of devices, compare them, and restore them",
		Long: `Read the settings of devices and save them in the site folder, encrypted like the
logins, with the time and the version. Several saves per device are kept. A job saves the settings
automatically before it sends an image, and restores them if the image clears or converts them.

Cameras report their settings through ONVIF, other devices as their family specifies. Some formats
are opaque: such settings can only be saved and restored as a whole.`,
		Args: onlyCommands, RunE: help,
	}
	c.AddCommand(a.settingsSaveCmd(), a.settingsListCmd(), a.settingsShowCmd(), a.settingsDiffCmd(),
		a.settingsRestoreCmd())
	return c
}

// cared is an open site, and what changes its devices.
type cared struct {
	*plan.Site
	care.Care
}

func (a *app) cared() (cared, error) {
	w, err := a.match()
	if err != nil {
		return cared{}, err
	}
	x, err := a.access(w)
	if err != nil {
		w.Close()
		return cared{}, err
	}
	return cared{w, w.Care(x)}, nil
}

// unseenFlag is --accept of a command that changes a device outside of jobs.
type unseenFlag bool

// unseenVar adds --accept to such a command.
func unseenVar(c *cobra.Command, unseen *bool) {
	c.Flags().Var((*unseenFlag)(unseen), "accept", "unseen: although the office of the site is not "+
		"reached, so that no one can tell whether another machine works on the device")
}

func (u *unseenFlag) Set(text string) error {
	if text != plan.Unseen {
		return errors.New("the only caution here is " + plan.Unseen)
	}
	*u = true
	return nil
}

func (u *unseenFlag) Type() string   { return "caution" }
func (u *unseenFlag) String() string { return "" }

// notChanged is what is said of a device that could not be changed.
func notChanged(d device.Device, err error) error {
	var busy *job.BusyError
	var unfit *care.UnfitError
	switch {
	case errors.As(err, &busy):
		return refused("%w; nothing was changed", err)
	case errors.As(err, &unfit) && unfit.Version:
		return refused("%w. To restore it despite that, add --other-version", err)
	case errors.As(err, &unfit):
		return refused("%w", err)
	}
	return fmt.Errorf("%s: %w", d.Name, err)
}

func (a *app) settingsSaveCmd() *cobra.Command {
	var choose workspace.Choice
	c := &cobra.Command{
		Use:   "save [DEVICE…]",
		Short: "Read and save the settings of all known devices, or of the named ones",
		Example: "  catena settings save\n  catena settings save drive-1\n  catena settings save " +
			"--where 'model == \"WX-40\"'",
		RunE: func(c *cobra.Command, args []string) error {
			choose.Names = args
			return a.settingsSave(c.Context(), choose)
		},
	}
	choiceFlags(c, &choose)
	return c
}

func (a *app) settingsSave(ctx context.Context, choose workspace.Choice) error {
	ctx, stop := signal.NotifyContext(ctx, os.Interrupt)
	defer stop()
	s, err := a.cared()
	if err != nil {
		return err
	}
	defer s.Close()
	rows, err := s.Choose(choose)
	if err != nil {
		return err
	}
	type line struct {
		Device  string `json:"device"`
		Version string `json:"version"`
		Save    string `json:"save"`
		Format  string `json:"format"`
		Trouble string `json:"trouble"`
	}
	var devices []device.Device
	for _, r := range workspace.Mains(rows) {
		if r.Match.Device.Known() {
			devices = append(devices, r.Match.Device)
		}
	}
	t := view.Table{Columns: []string{"device", "version", "save", "format", "why not"}}
	lines := []line{}
	saved, failed := 0, 0
	for _, r := range s.SaveAll(ctx, devices) {
		l := line{Device: r.Device.Name, Version: r.Device.Version, Save: r.Save,
			Format: string(r.Format)}
		why := view.Quiet
		switch {
		case r.Err == nil:
			saved++
		case errors.Is(r.Err, device.ErrUnsupported):
			l.Trouble = "it cannot report them"
		default:
			failed++
			l.Trouble, why = r.Err.Error(), view.Bad
		}
		lines = append(lines, l)
		t.Add(l.Device, l.Version, l.Save, l.Format, why.Cell(l.Trouble))
	}
	if err := a.emit(lines, t); err != nil {
		return err
	}
	if a.format == "table" {
		a.say("\n%d saved, %d cannot report them, %d failed.", saved, len(lines)-saved-failed, failed)
	}
	a.copySettings(ctx, s.Site, s.Care.Access)
	if failed > 0 {
		return exit{exitFailed, errSilent}
	}
	return ctx.Err()
}

// copySettings copies what was saved to the second place, where the site has one. What could not be
// copied is told, and copied the next time.
func (a *app) copySettings(ctx context.Context, w *plan.Site, access *contact.Access) {
	copied, err := w.CopySettings(ctx, access)
	if copied > 0 {
		a.say("%s copied to %s.", words.Plural(copied, "save"), w.SecondPlace())
	}
	if err != nil {
		view.Print(a.err, "Some saved settings could not be copied to %s: %v; the next save or "+
			"job tries again\n",
			w.SecondPlace(), err)
	}
}

func (a *app) settingsListCmd() *cobra.Command {
	return &cobra.Command{
		Use: "list [DEVICE]", Short: "List the saves of a device, or of all devices",
		Example: "  catena settings list\n  catena settings list drive-1",
		RunE: func(_ *cobra.Command, args []string) error {
			s, err := a.cared()
			if err != nil {
				return err
			}
			defer s.Close()
			rows, err := s.Choose(workspace.Choice{Names: args})
			if err != nil {
				return err
			}
			type line struct {
				Device  string    `json:"device"`
				Save    string    `json:"save"`
				Version string    `json:"version"`
				At      time.Time `json:"at"`
				Format  string    `json:"format"`
				Bytes   int       `json:"bytes"`
			}
			lines := []line{}
			t := view.Table{Columns: []string{"device", "save", "version", "at", "format", "size"}}
			for _, r := range workspace.Mains(rows) {
				all, err := s.Store.All(r.ID)
				if err != nil {
					return err
				}
				for _, x := range all {
					lines = append(lines, line{r.Name, x.Save, x.Version, x.At, string(x.Format), len(x.Data)})
					t.Add(r.Name, x.Save, x.Version, x.At.Local().Format("2006-01-02 15:04"), string(x.Format),
						view.Number(words.Bytes(float64(len(x.Data)))))
				}
			}
			if len(lines) == 0 {
				a.say("No settings are saved yet. Save them: catena settings save")
			}
			return a.emit(lines, t)
		},
	}
}

// save returns a save of a device by its name; empty: the newest.
func (s cared) save(word, name string) (d device.Device, x care.Saved, err error) {
	if _, d, err = s.Device(word); err != nil {
		return d, x, err
	}
	x, err = s.Store.Newest(d, name)
	switch {
	case errors.Is(err, care.ErrNoSave) && name != "":
		err = usage("%s has no save %q; list them: catena settings list %s", d.Name, name,
			advice.Quoted(d.Name))
	case errors.Is(err, care.ErrNoSave):
		err = usage("no settings of %s are saved; save them: catena settings save %s", d.Name,
			advice.Quoted(d.Name))
	}
	return d, x, err
}

func (a *app) settingsShowCmd() *cobra.Command {
	var name string
	var whole bool
	c := &cobra.Command{
		Use: "show DEVICE", Short: "Show saved settings; values that may be secrets are blanked",
		Example: "  catena settings show drive-1\n  catena settings show drive-1 --save " +
			"20261127T190000Z_7.4\n  catena settings show cam-11 --whole > cam-11.backup",
		Args: exactly(1, "one device"),
		RunE: func(_ *cobra.Command, args []string) error {
			s, err := a.cared()
			if err != nil {
				return err
			}
			defer s.Close()
			d, x, err := s.save(args[0], name)
			if err != nil {
				return err
			}
			if whole {
				_, err = a.out.Write(x.Data)
				return err
			}
			text, err := settings.Blanked(x.Format, x.Data)
			if err != nil {
				return usage("%s of %s: %w; the whole of it: catena settings show %s --whole > FILE", x.Save,
					d.Name, err, advice.Quoted(d.Name))
			}
			values, err := settings.Blanked(settings.KeyValue, x.CarriedLines())
			if err != nil {
				return err
			}
			for line := range strings.Lines(text + values) {
				view.Print(a.out, "%s\n", strings.TrimSuffix(line, "\n"))
			}
			return nil
		},
	}
	c.Flags().StringVar(&name, "save", "", "the save (default: the newest)")
	c.Flags().BoolVar(&whole, "whole", false, "the unchanged bytes, with all secrets")
	return c
}

func (a *app) settingsDiffCmd() *cobra.Command {
	var from, to string
	c := &cobra.Command{
		Use: "diff DEVICE", Short: "Compare saved settings with the current ones",
		Long: `Compare a save of a device with its current settings, or with another save given
with --to. The default is the newest save; --save names another one. Values that may be secrets are
blanked. The exit code is 1 if there are differences.`,
		Example: "  catena settings diff drive-1\n  catena settings diff drive-1 --save " +
			"20261127T190000Z_7.4 --to 20261127T210000Z_7.5",
		Args: exactly(1, "one device"),
		RunE: func(c *cobra.Command, args []string) error {
			return a.settingsDiff(c.Context(), args[0], from, to)
		},
	}
	c.Flags().StringVar(&from, "save", "", "the save to compare (default: the newest)")
	c.Flags().StringVar(&to, "to", "", "another save to compare with (default: the current settings)")
	return c
}

func (a *app) settingsDiff(ctx context.Context, word, from, to string) error {
	s, err := a.cared()
	if err != nil {
		return err
	}
	defer s.Close()
	d, was, err := s.save(word, from)
	if err != nil {
		return err
	}
	var now care.Saved
	if to != "" {
		_, now, err = s.save(word, to)
	} else {
		now, err = s.Read(ctx, d)
	}
	if err != nil {
		return fmt.Errorf("%s: %w", d.Name, err)
	}
	if now.Format != was.Format {
		return usage("%s: one is %s and the other %s; they cannot be compared", d.Name, was.Format,
			now.Format)
	}
	changes, err := settings.Diff(was.Format, was.Data, now.Data)
	if err != nil {
		return usage("%s: %w: they cannot be compared", d.Name, err)
	}
	t := view.Table{Columns: []string{"setting", "was", "now", ""}}
	for _, x := range changes {
		t.Add(x.Path, x.Was, x.Now, view.Quiet.Cell(string(x.Kind)))
	}
	if len(changes) == 0 {
		a.say("%s: nothing differs from %s.", d.Name, was.Save)
	}
	if err := a.emit(append([]settings.Change{}, changes...), t); err != nil {
		return err
	}
	if len(changes) > 0 {
		return exit{exitError, errSilent}
	}
	return nil
}

func (a *app) settingsRestoreCmd() *cobra.Command {
	var name string
	var yes, otherVersion, edit, unseen bool
	c := &cobra.Command{
		Use: "restore DEVICE", Short: "Restore saved settings of a device",
		Long: `Restore a device's settings from its newest save, or from the one given with --save.
The save must belong to this very device. A save of another version is restored only with
--other-version: the operator's changes are merged into the device's current settings, and values
that no longer apply are listed. With --edit, the editor of VISUAL or EDITOR opens with the settings
to send and those left out. The device may restart.`,
		Example: "  catena settings restore drive-1\n  catena settings restore drive-1 --save " +
			"20261127T190000Z_7.4 --other-version --edit",
		Args: exactly(1, "one device"),
		RunE: func(c *cobra.Command, args []string) error {
			return a.settingsRestore(c.Context(), args[0], name, yes, otherVersion, edit, unseen)
		},
	}
	c.Flags().BoolVar(&edit, "edit", false, "edit the settings before they are sent")
	c.Flags().StringVar(&name, "save", "", "the save (default: the newest)")
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	c.Flags().BoolVar(&otherVersion, "other-version", false,
		"allow a save of another version")
	unseenVar(c, &unseen)
	return c
}

func (a *app) settingsRestore(ctx context.Context, word, name string, yes, otherVersion,
	edit, unseen bool) error {
	s, err := a.cared()
	if err != nil {
		return err
	}
	defer s.Close()
	s.Care.Unseen = unseen
	d, x, err := s.save(word, name)
	if err != nil {
		return err
	}
	if err := errors.Join(s.Care.Free(d), care.Fits(x, d, otherVersion)); err != nil {
		return notChanged(d, err)
	}
	a.say("Settings of %s as they were on %s at %s, version %s.", d.Name,
		x.At.Local().Format("2006-01-02"),
		x.At.Local().Format("15:04"), x.Version)
	if names := x.CarriedNames(); names != "" {
		a.say("Single values as they were then: %s.", names)
	}
	if !yes {
		if err := a.confirm("Restore them? The device may restart."); err != nil {
			return err
		}
	}
	renamed := func(own map[string]string) map[string]string { return s.Renamed(d, own) }
	err = s.Restore(ctx, d, x, renamed, func(m settings.Merged) ([]byte, error) {
		return a.decide(x,
			m, edit)
	})
	var value *care.ValueError
	switch {
	case errors.As(err, &value) && errors.Is(err, dialect.ErrNotTaken):
		return exit{exitFailed, fmt.Errorf("%s accepted the value %s, but reports another one",
			d.Name, value.Name)}
	case errors.Is(err, dialect.ErrNotTaken):
		return exit{exitFailed, fmt.Errorf("%s accepted them, but does not have all of them; "+
			"compare: catena settings diff %[1]s --save %[2]s",
			advice.Quoted(d.Name), x.Save)}
	case errors.As(err, &exit{}):
		return err
	case err != nil:
		return notChanged(d, err)
	}
	a.say("%s has them.", d.Name)
	return nil
}

// decide returns what is sent of a save: the merged settings, or what the operator makes of them.
func (a *app) decide(x care.Saved, m settings.Merged, edit bool) ([]byte, error) {
	var notes []string
	for _, l := range m.Unplaced {
		a.say("Left out: %s: %s.", l.Path, l.Why)
		notes = append(notes, fmt.Sprintf("left out: %s = %s (%s)", l.Path, l.Value, l.Why))
	}
	for _, path := range m.Both {
		a.say("Preserved, although the new version has another default: %s.", path)
		notes = append(notes, "the new version has another default: "+path)
	}
	if !edit {
		return m.Text, nil
	}
	if x.Format == settings.Opaque {
		return nil, usage("%s: %w: they cannot be edited", x.Save, settings.ErrOpaque)
	}
	for text := m.Text; ; {
		edited, err := a.edited(text, notes)
		if err != nil {
			return nil, err
		}
		text = edited
		_, wrong := settings.Parse(x.Format, text)
		if wrong == nil {
			return text, nil
		}
		view.Print(a.err, "%s\n", wrong)
		if _, asks := a.terminal(); !asks {
			return nil, refused("%w; nothing was changed. The edited text was not kept, "+
				"because it contains secrets", wrong)
		}
		if err := a.confirm("Edit it again?"); err != nil {
			return nil, err
		}
	}
}

// noteMark starts the lines of an edited text that are no part of it.
const noteMark = "#! "

// edited has a person edit a text, with notes above it.
func (a *app) edited(text []byte, notes []string) (out []byte, err error) {
	editor := strings.Fields(cmp.Or(os.Getenv("VISUAL"), os.Getenv("EDITOR")))
	if len(editor) == 0 {
		return nil, usage("--edit needs an editor: set EDITOR")
	}
	var whole bytes.Buffer
	for _, n := range append(notes, "lines that start like this are not sent") {
		fmt.Fprintln(&whole, noteMark+n)
	}
	whole.Write(text)
	scratch, err := machine.NewScratch(whole.Bytes())
	if err != nil {
		return nil, err
	}
	defer scratch.Remove()
	raw, err := scratch.Edit(editor, os.Stdin, os.Stderr)
	if err != nil {
		return nil, fmt.Errorf("the editor %s: %w; nothing was changed", editor[0], err)
	}
	for line := range bytes.Lines(raw) {
		if !bytes.HasPrefix(line, []byte(strings.TrimSpace(noteMark))) {
			out = append(out, line...)
		}
	}
	return out, nil
}
