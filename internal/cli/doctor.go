package cli

import (
	"github.com/spf13/cobra"

	"catena/internal/cli/view"
	"catena/internal/doctor"
	"catena/internal/machine"
	"catena/internal/words"
)

func (a *app) doctorCmd() *cobra.Command {
	return &cobra.Command{
		Use:   "doctor",
		Short: "Check this laptop and the site for what would go wrong tonight",
		Long: `Check this laptop and the site folder for anything that would go wrong tonight:
adapters and their networks, multicast, firewall, clock, power, disk and permissions; then the names
in the site's files, the shelf, logins, ledger, devices and windows. Outside a site folder only the
laptop is checked. The exit code is 1 if a finding would stop the work.`,
		Example: "  catena doctor\n  catena -C ~/sites/marrow-hill doctor --format json",
		Args:    exactly(0, "no arguments"),
		RunE:    func(*cobra.Command, []string) error { return a.doctor() },
	}
}

func (a *app) doctor() error {
	w, err := a.openSite()
	if err != nil {
		w = nil
	} else {
		defer w.Close()
	}
	in := doctor.Input{Site: w, SiteErr: err, Shelf: a.openShelf, Now: a.now(), Built: built().Date,
		StaysAwake: func() bool {
			release, ok := machine.KeepAwake("catena doctor")
			release()
			return ok
		}}
	if w != nil {
		in.Unasked = a.opensUnasked(w.Dir)
		in.OpenLogins = func() error {
			_, _, err := a.openBook(w.Dir, false)
			return err
		}
	}
	all := doctor.Examine(in)
	tones := map[doctor.State]view.Tone{doctor.OK: view.Good, doctor.Look: view.Warn,
		doctor.Bad: view.Bad}
	t := view.Table{Columns: []string{"check", "state", "found", "what to do"}}
	bad, look := 0, 0
	for _, f := range all {
		switch f.State {
		case doctor.Bad:
			bad++
		case doctor.Look:
			look++
		}
		t.Add(f.What, tones[f.State].Cell(string(f.State)), f.Found, f.Next)
	}
	if err := a.emit(all, t); err != nil {
		return err
	}
	if bad > 0 {
		a.say("\n%s would stop the work.", words.Plural(bad, "thing"))
		return exit{exitError, errSilent}
	}
	if look > 0 {
		a.say("\nNo check failed; %s to review.", words.Plural(look, "finding"))
		return nil
	}
	a.say("\nAll checks passed.")
	return nil
}
