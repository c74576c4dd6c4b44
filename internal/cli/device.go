package cli

import (
	"errors"
	"strings"

	"github.com/spf13/cobra"

	"catena/internal/cli/view"
	"catena/internal/device"
	"catena/internal/login"
	"catena/internal/plan"
)

func (a *app) deviceCmd() *cobra.Command {
	c := &cobra.Command{
		Use: "device", Short: "Replace devices, retire them, and mark spares", Args: onlyCommands,
		RunE: help,
		Long: `Devices come and go: one is replaced by another one, or leaves the site for good. Its
history stays.`,
	}
	c.AddCommand(a.deviceReplaceCmd(), a.deviceRetireCmd(), a.deviceRetiredCmd(),
		a.deviceSpareCmd())
	return c
}

func (a *app) deviceRetireCmd() *cobra.Command {
	var because string
	var undo bool
	c := &cobra.Command{
		Use:   "retire DEVICE",
		Short: "Take a device out of every list",
		Long: `Retire a device that has left the site, with the devices that are reached only through
it as its children. It leaves every list and every order, and stays in the history. If a scan finds
it again, it says so. With --undo it is back.`,
		Example: "  catena device retire cam-11 --because 'stolen'\n  catena device retire --undo cam-11",
		Args:    exactly(1, "one device"),
		RunE: func(_ *cobra.Command, args []string) error {
			return a.deviceRetire(args[0], because, undo)
		},
	}
	c.Flags().StringVar(&because, "because", "", "the reason")
	c.Flags().BoolVar(&undo, "undo", false, "a retired device is back")
	return c
}

func (a *app) deviceRetire(word, because string, undo bool) error {
	w, err := a.openSite()
	if err != nil {
		return err
	}
	defer w.Close()
	if undo {
		back, err := w.Return(word)
		if errors.As(err, new(*plan.NotRetiredError)) {
			return usage("%w; list them: catena device retired", err)
		}
		if err == nil {
			a.say("Back at the site: %s.", strings.Join(namesOf(back), ", "))
		}
		return err
	}
	_, d, err := w.Device(word)
	if err != nil {
		return err
	}
	out, err := w.Retire(d, because)
	if err != nil {
		return err
	}
	a.say("Retired: %s. To have it back: catena device retire --undo %s",
		strings.Join(namesOf(out), ", "), d.Name)
	return nil
}

func namesOf(all []device.Device) (out []string) {
	for _, d := range all {
		out = append(out, d.Name)
	}
	return out
}

func (a *app) deviceRetiredCmd() *cobra.Command {
	return &cobra.Command{
		Use: "retired", Short: "List the devices that have left the site",
		Long:    "List the devices that have left the site, with when and why.",
		Example: "  catena device retired\n  catena device retired --format json",
		Args:    exactly(0, "no arguments"),
		RunE:    func(*cobra.Command, []string) error { return a.deviceRetired() },
	}
}

func (a *app) deviceRetired() error {
	w, err := a.openSite()
	if err != nil {
		return err
	}
	defer w.Close()
	all, err := w.RetiredDevices()
	if err != nil {
		return err
	}
	type line struct {
		Name    string `json:"name"`
		ID      string `json:"id"`
		Model   string `json:"model"`
		Serial  string `json:"serial"`
		Version string `json:"version"`
		Since   string `json:"since"` // RFC 3339
		Because string `json:"because"`
	}
	rows := []line{}
	t := view.Table{Columns: []string{"name", "model", "serial", "version", "since", "because"}}
	for _, r := range all {
		d := r.Device
		rows = append(rows, line{d.Name, d.ID, d.Model, d.Serial, d.Version,
			r.At.UTC().Format("2006-01-02T15:04:05Z07:00"), r.Because})
		t.Add(d.Name, d.Model, d.Serial, d.Version, r.At.Local().Format("2006-01-02 15:04"), r.Because)
	}
	if len(rows) == 0 && a.format == "table" {
		a.say("No device has left the site.")
		return nil
	}
	return a.emit(rows, t)
}

func (a *app) deviceReplaceCmd() *cobra.Command {
	var because string
	var yes bool
	c := &cobra.Command{
		Use:   "replace OLD NEW",
		Short: "Have a device take the place of another one",
		Long: `Have a device that a scan has found take the place of another one: its name, and with
it its place, group, uplinks, holds and target, and its login. The old one is retired, and the
history names both. What the files of the site say of the old serial number or MAC address is
written for the new one.

The newest saved settings of the old device become a save of the new one, if the model is the same.
They are sent only by catena settings restore, which asks first.

If the new device answers at the address of the old one, accept the change instead: catena login
accept ADDRESS.`,
		Example: "  catena device replace cam-11 10.20.4.17\n" +
			"  catena device replace cam-11 WX4-10099 --because 'the lens was broken'",
		Args: exactly(2, "the old device and the new one"),
		RunE: func(_ *cobra.Command, args []string) error {
			return a.deviceReplace(args[0], args[1], because, yes)
		},
	}
	c.Flags().StringVar(&because, "because", "", "the reason")
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return c
}

func (a *app) deviceReplace(was, now, because string, yes bool) error {
	w, err := a.openSite()
	if err != nil {
		return err
	}
	defer w.Close()
	_, old, err := w.Device(was)
	if err != nil {
		return err
	}
	_, fresh, err := w.Device(now)
	if err != nil {
		return err
	}
	if err := w.Replaceable(old, fresh); err != nil {
		return usage("%w", err)
	}
	a.say("%s (%s %s, %s) takes the place of %s (%s %s, %s), which is retired.", fresh.Name,
		fresh.Vendor, fresh.Model, fresh.Serial, old.Name, old.Vendor, old.Model, old.Serial)
	if old.Model != fresh.Model {
		a.say("The models differ: settings are not taken over.")
	}
	if !yes {
		if err := a.confirm("Replace it?"); err != nil {
			return err
		}
	}
	if err := w.Replace(old, fresh, because); err != nil {
		return err
	}
	a.say("%s is now %s.", fresh.Serial, old.Name)
	return a.handOver(w, old, fresh)
}

// handOver gives a replacement the login and the settings of the device that it replaced.
func (a *app) handOver(w *plan.Site, old, fresh device.Device) error {
	if !login.Exists(w.Dir) {
		return nil
	}
	secret, _, err := a.openBook(w.Dir, false)
	if err != nil {
		return err
	}
	save := ""
	err = login.Change(w.Dir, secret, func(b *login.Book) (err error) {
		save, err = w.HandOver(b, old, fresh)
		return err
	})
	if err == nil && save != "" {
		a.say("Its settings are saved as %s. Restore them: catena settings restore %s --save %[1]s", save,
			old.Name)
	}
	return err
}
