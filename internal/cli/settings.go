package cli

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"github.com/spf13/cobra"

	"catena/internal/cli/view"
	"catena/internal/device"
	"catena/internal/dialect"
	"catena/internal/job"
	"catena/internal/settings"
	"catena/internal/workspace"
)

func (a *app) settingsCmd() *cobra.Command {
	c := &cobra.Command{
		Use:   "settings",
		Short: "Keep the devices' own settings, see what changed, give them back",
		Long: `Read the settings that a person has made on devices, and keep them in the site folder, encrypted
like the logins, with time and version; several of each device. A job does so by itself before it
sends an image, and gives them back where the image clears or converts them.

Cameras tell them by ONVIF, others where their family says how. Some are in a form of the
maker's own: they can only be kept and given back.`,
		Args: onlyCommands, RunE: help,
	}
	c.AddCommand(a.settingsSaveCmd(), a.settingsListCmd(), a.settingsShowCmd(), a.settingsDiffCmd(),
		a.settingsRestoreCmd())
	return c
}

// settled is an open site and what is needed to talk to its devices.
type settled struct {
	*workspace.Workspace
	access *workspace.Access
}

func (a *app) settled() (settled, error) {
	w, err := a.match()
	if err != nil {
		return settled{}, err
	}
	x, err := a.access(w)
	if err != nil {
		w.Close()
	}
	return settled{w, x}, err
}

// of opens a session with a device, and its settings. close ends the session.
func (s settled) of(d device.Device) (of dialect.Settings, session dialect.Session, err error) {
	speaks, ok := s.access.Dialects.Named(d.Dialect)
	if !ok {
		return nil, nil, device.ErrUnsupported
	}
	at, as, ok := s.access.Contact(d)
	if !ok {
		return nil, nil, device.Because(device.NoLogin, "")
	}
	session = dialect.Guard(speaks, at, d.Identity, speaks.Open(at, as))
	of, err = session.Settings()
	return of, session, err
}

// read reads a device's settings as they are now.
func (s settled) read(ctx context.Context, d device.Device) (raw []byte, f settings.Format, err error) {
	of, session, err := s.of(d)
	if err != nil {
		return nil, "", err
	}
	defer func() { err = errors.Join(err, session.Close(context.WithoutCancel(ctx))) }()
	raw, err = of.Save(ctx)
	return raw, of.Format(), err
}

// free refuses a device that a job works on, or is about to.
func (s settled) free(d device.Device) error {
	held, err := job.Held(s.Ledger, true)
	if err == nil && held[d.ID] != "" {
		err = refused("job %s works on %s; nothing was touched", held[d.ID], d.Name)
	}
	return err
}

// savesAtOnce is how many devices are read at the same time.
const savesAtOnce = 8

func (a *app) settingsSaveCmd() *cobra.Command {
	var choose workspace.Choice
	c := &cobra.Command{
		Use:     "save [DEVICE…]",
		Short:   "Read the settings of devices, all that are known or those named, and keep them",
		Example: "  catena settings save\n  catena settings save drive-1\n  catena settings save --where 'model == \"WX-40\"'",
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
	s, err := a.settled()
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
	lines := make([]line, len(devices))
	room := make(chan struct{}, savesAtOnce)
	var group sync.WaitGroup
	for i, d := range devices {
		group.Go(func() {
			room <- struct{}{}
			defer func() { <-room }()
			l := line{Device: d.Name, Version: d.Version}
			raw, format, err := s.read(ctx, d)
			if err == nil {
				l.Format = string(format)
				l.Save, err = s.access.SaveSettings(s.Dir, d, d.Version, format, raw, a.now())
			}
			if errors.Is(err, device.ErrUnsupported) {
				l.Trouble = "it cannot tell them"
			} else if err != nil {
				l.Trouble = err.Error()
			}
			lines[i] = l
		})
	}
	group.Wait()
	t := view.Table{Columns: []string{"device", "version", "save", "format", "why not"}}
	saved, failed := 0, 0
	for _, l := range lines {
		why := view.Quiet.Cell(l.Trouble)
		switch {
		case l.Save != "":
			saved++
		case l.Trouble != "it cannot tell them":
			failed++
			why = view.Bad.Cell(l.Trouble)
		}
		t.Add(l.Device, l.Version, l.Save, l.Format, why)
	}
	if err := a.emit(lines, t); err != nil {
		return err
	}
	if a.format == "table" {
		a.say("\n%d saved, %d cannot tell them, %d failed.", saved, len(lines)-saved-failed, failed)
	}
	a.copySettings(ctx, s.Workspace, s.access)
	if failed > 0 {
		return exit{exitFailed, errSilent}
	}
	return ctx.Err()
}

// copySettings copies what was saved to the second place, where the site has one. What could not be
// copied is told, and copied the next time.
func (a *app) copySettings(ctx context.Context, w *workspace.Workspace, access *workspace.Access) {
	copied, err := w.CopySettings(ctx, access)
	if copied > 0 {
		a.say("%s copied to %s.", view.Plural(copied, "save"), w.Site.SecondPlace)
	}
	if err != nil {
		view.Print(a.err, "Not all saved settings could be copied to %s: %v; the next save or job tries again\n",
			w.Site.SecondPlace, err)
	}
}

func (a *app) settingsListCmd() *cobra.Command {
	return &cobra.Command{
		Use: "list [DEVICE]", Short: "List what is kept of a device, or of all",
		Example: "  catena settings list\n  catena settings list drive-1",
		RunE: func(_ *cobra.Command, args []string) error {
			s, err := a.settled()
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
				all, err := s.access.Settings(s.Dir, r.ID)
				if err != nil {
					return err
				}
				for _, x := range all {
					lines = append(lines, line{r.Name, x.Save, x.Version, x.At, string(x.Format), len(x.Data)})
					t.Add(r.Name, x.Save, x.Version, x.At.Local().Format("2006-01-02 15:04"), string(x.Format),
						view.Number(view.Bytes(float64(len(x.Data)))))
				}
			}
			if len(lines) == 0 {
				a.say("Nothing is kept yet. Keep them: catena settings save")
			}
			return a.emit(lines, t)
		},
	}
}

// save is a save of a device by its name; empty: the newest.
func (s settled) save(word, name string) (d device.Device, x workspace.Saved, err error) {
	_, d, err = s.Device(word)
	if err != nil {
		return d, x, err
	}
	all, err := s.access.Settings(s.Dir, d.ID)
	if err != nil {
		return d, x, err
	}
	for _, x := range all {
		if name == "" || x.Save == name {
			return d, x, nil
		}
	}
	if name != "" {
		return d, x, usage("nothing is kept of %s under %q; see what is: catena settings list %s", d.Name, name, quoted(d.Name))
	}
	return d, x, usage("nothing is kept of %s; keep it: catena settings save %s", d.Name, quoted(d.Name))
}

func (a *app) settingsShowCmd() *cobra.Command {
	var name string
	var whole bool
	c := &cobra.Command{
		Use: "show DEVICE", Short: "Show settings that are kept; what may be a secret is blanked",
		Example: "  catena settings show drive-1\n  catena settings show drive-1 --save 20261127T190000Z_7.4\n  catena settings show cam-11 --whole > cam-11.backup",
		Args:    exactly(1, "one device"),
		RunE: func(_ *cobra.Command, args []string) error {
			s, err := a.settled()
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
				return usage("%s of %s: %w; the whole of it: catena settings show %s --whole > FILE", x.Save, d.Name, err, quoted(d.Name))
			}
			for line := range strings.Lines(text) {
				view.Print(a.out, "%s\n", strings.TrimSuffix(line, "\n"))
			}
			return nil
		},
	}
	c.Flags().StringVar(&name, "save", "", "which save (default: the newest)")
	c.Flags().BoolVar(&whole, "whole", false, "byte by byte, with all secrets")
	return c
}

func (a *app) settingsDiffCmd() *cobra.Command {
	var from, to string
	c := &cobra.Command{
		Use: "diff DEVICE", Short: "Show what differs between what is kept and what the device has now",
		Long: `Show what differs between the newest save of a device, or the one named with --save, and the
settings that it has now, or another save named with --to. What may be a secret is blanked. It ends
with 1 where something differs.`,
		Example: "  catena settings diff drive-1\n  catena settings diff drive-1 --save 20261127T190000Z_7.4 --to 20261127T210000Z_7.5",
		Args:    exactly(1, "one device"),
		RunE: func(c *cobra.Command, args []string) error {
			return a.settingsDiff(c.Context(), args[0], from, to)
		},
	}
	c.Flags().StringVar(&from, "save", "", "the older of the two (default: the newest save)")
	c.Flags().StringVar(&to, "to", "", "a save instead of what the device has now")
	return c
}

func (a *app) settingsDiff(ctx context.Context, word, from, to string) error {
	s, err := a.settled()
	if err != nil {
		return err
	}
	defer s.Close()
	d, was, err := s.save(word, from)
	if err != nil {
		return err
	}
	now := was
	if to != "" {
		_, now, err = s.save(word, to)
	} else {
		now.Data, now.Format, err = s.read(ctx, d)
	}
	if err != nil {
		return fmt.Errorf("%s: %w", d.Name, err)
	}
	if now.Format != was.Format {
		return usage("%s: the one is %s and the other %s; they cannot be compared", d.Name, was.Format, now.Format)
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
	var yes, otherVersion, edit bool
	c := &cobra.Command{
		Use: "restore DEVICE", Short: "Give a device settings back that are kept",
		Long: `Give a device the settings of its newest save back, or of the one named with --save. They must be
this very device's; those of another version are given back only with --other-version: what a person
had set is brought into the settings that the device has now, and what has no place there is listed.
With --edit, the editor of VISUAL or EDITOR opens with what would be sent, and with what was left out.
The device may restart then.`,
		Example: "  catena settings restore drive-1\n  catena settings restore drive-1 --save 20261127T190000Z_7.4 --other-version --edit",
		Args:    exactly(1, "one device"),
		RunE: func(c *cobra.Command, args []string) error {
			return a.settingsRestore(c.Context(), args[0], name, yes, otherVersion, edit)
		},
	}
	c.Flags().BoolVar(&edit, "edit", false, "settle in an editor what is sent")
	c.Flags().StringVar(&name, "save", "", "which save (default: the newest)")
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	c.Flags().BoolVar(&otherVersion, "other-version", false, "also where they were saved on another version")
	return c
}

// Settings that were given back are looked at for so long, until the device has them.
const (
	hasWithin = 5 * time.Minute
	hasEvery  = time.Second
)

func (a *app) settingsRestore(ctx context.Context, word, name string, yes, otherVersion, edit bool) error {
	s, err := a.settled()
	if err != nil {
		return err
	}
	defer s.Close()
	d, x, err := s.save(word, name)
	if err != nil {
		return err
	}
	if err := s.free(d); err != nil {
		return err
	}
	switch {
	case x.Identity.Other(d.Identity) != nil || x.Identity.Model != d.Model:
		return refused("%s was saved of another device, %s %s; nothing was touched", x.Save, x.Identity.Model, x.Identity.Serial)
	case x.Version != d.Version && !otherVersion:
		return refused("%s was saved on %s, and %s runs %s; nothing was touched. To give it back all the same, say --other-version",
			x.Save, x.Version, d.Name, d.Version)
	}
	a.say("Settings of %s as they were on %s at %s, version %s.", d.Name, x.At.Local().Format("2006-01-02"),
		x.At.Local().Format("15:04"), x.Version)
	if !yes {
		if err := a.confirm("Give them back? The device may restart."); err != nil {
			return err
		}
	}
	of, session, err := s.of(d)
	if err != nil {
		return fmt.Errorf("%s: %w", d.Name, err)
	}
	lasting := context.WithoutCancel(ctx) // what is being written is not interrupted
	defer func() { _ = session.Close(lasting) }()
	if of.Format() != x.Format {
		return refused("it was saved as %s, and %s has %s now; nothing was touched", x.Format, d.Name, of.Format())
	}
	text := x.Data
	if x.Version != d.Version || edit {
		if text, err = a.settle(lasting, s, d, of, x, edit); err != nil {
			return err
		}
	}
	if err := of.Restore(lasting, text); err != nil && !errors.Is(err, device.ErrAway) {
		return fmt.Errorf("%s: %w", d.Name, err)
	}
	want := settings.Digest(x.Format, text)
	for began := a.now(); ; time.Sleep(hasEvery) {
		raw, err := of.Save(lasting)
		switch {
		case err == nil && (x.Format == settings.Opaque || settings.Digest(x.Format, raw) == want):
			a.say("%s has them.", d.Name)
			return nil
		case a.now().Sub(began) < hasWithin:
			continue
		case err != nil:
			return fmt.Errorf("%s: %w", d.Name, err)
		}
		return exit{exitFailed, fmt.Errorf("%s took them, and does not have them all; see: catena settings diff %[1]s --save %[2]s",
			quoted(d.Name), x.Save)}
	}
}

// settle is what is given to a device of a save of another version, or of one that a person changes.
func (a *app) settle(ctx context.Context, s settled, d device.Device, of dialect.Settings, x workspace.Saved,
	edit bool) ([]byte, error) {
	m := settings.Merged{Text: x.Data}
	if x.Version != d.Version && x.Format != settings.Opaque {
		now, err := of.Save(ctx)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", d.Name, err)
		}
		base, _ := s.access.KeptDefaults(s.Dir, d, x.Version) // without them two are merged
		if m, err = settings.Merge(x.Format, base, x.Data, now, s.Renamed(d, of.Renamed())); err != nil {
			return nil, refused("%s cannot be brought into what %s has now: %w; nothing was touched", x.Save, d.Name, err)
		}
	}
	var notes []string
	for _, l := range m.Left {
		a.say("Left out: %s: %s.", l.Path, l.Why)
		notes = append(notes, fmt.Sprintf("left out: %s = %s (%s)", l.Path, l.Value, l.Why))
	}
	for _, path := range m.Both {
		a.say("Kept as it was set, though the new version has another default: %s.", path)
		notes = append(notes, "the new version has another default: "+path)
	}
	if !edit {
		return m.Text, nil
	}
	if x.Format == settings.Opaque {
		return nil, usage("%s: %w: they cannot be edited", x.Save, settings.ErrOpaque)
	}
	text, file, err := a.edited(m.Text, notes, filepath.Join(s.Dir, workspace.SettingsFolder))
	if err != nil {
		return nil, err
	}
	if _, err := settings.Parse(x.Format, text); err != nil {
		return nil, refused("%s: %w; nothing was touched. Your text is in that file, which holds its secrets: delete it", file, err)
	}
	return text, os.Remove(file)
}

// noteMark begins the lines of an edited text that are no part of it.
const noteMark = "#! "

// edited has a person edit a text, with notes above it. The file is left for the caller, who removes it.
func (a *app) edited(text []byte, notes []string, folder string) (out []byte, file string, err error) {
	words := strings.Fields(cmp.Or(os.Getenv("VISUAL"), os.Getenv("EDITOR")))
	if len(words) == 0 {
		return nil, "", usage("--edit needs an editor: set EDITOR")
	}
	f, err := os.CreateTemp(folder, "edit-*.txt") // for its owner alone
	if err != nil {
		return nil, "", err
	}
	file = f.Name()
	for _, n := range append(notes, "lines that begin so are not sent") {
		_, err = fmt.Fprintln(f, noteMark+n)
	}
	_, writeErr := f.Write(text)
	if err := errors.Join(err, writeErr, f.Close()); err != nil {
		return nil, file, errors.Join(err, os.Remove(file))
	}
	c := exec.Command(words[0], append(words[1:], file)...)
	c.Stdin, c.Stdout, c.Stderr = os.Stdin, a.err, a.err
	if err := c.Run(); err != nil {
		return nil, file, errors.Join(fmt.Errorf("the editor %s: %w; nothing was touched", words[0], err), os.Remove(file))
	}
	raw, err := os.ReadFile(file)
	for line := range bytes.Lines(raw) {
		if !bytes.HasPrefix(line, []byte(strings.TrimSpace(noteMark))) {
			out = append(out, line...)
		}
	}
	return out, file, err
}
