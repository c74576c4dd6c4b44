package cli

import (
	"github.com/spf13/cobra"
)

func (a *app) holdCmd() *cobra.Command {
	var because string
	var drop bool
	c := &cobra.Command{
		Use:   "hold DEVICE --because WHY | --drop",
		Short: "Put a device on hold, with the reason",
		Long: `Put a device on hold: it is not flashed, neither by name nor with all others, until
you drop the hold. Holds are stored in site.yaml, whose comments are preserved.`,
		Example: "  catena hold gate-5 --because 'not before the winter stoppage'\n  catena hold " +
			"gate-5 --drop",
		Args: exactly(1, "one device"),
		RunE: func(_ *cobra.Command, args []string) error {
			return a.hold(args[0], because, drop)
		},
	}
	c.Flags().StringVar(&because, "because", "", "why")
	c.Flags().BoolVar(&drop, "drop", false, "remove the hold")
	return c
}

func (a *app) hold(which, because string, drop bool) error {
	if (because == "") != drop {
		return usage("add either --because WHY or --drop")
	}
	w, err := a.openSite()
	if err != nil {
		return err
	}
	defer w.Close()
	_, d, err := w.Device(which)
	if err != nil {
		return err
	}
	if drop {
		err = w.DropHold(d)
	} else {
		err = w.Hold(d, because)
	}
	if err != nil {
		return usage("%w; nothing was changed", err)
	}
	if drop {
		a.say("%s is no longer held.", d.Name)
		return nil
	}
	a.say("%s is held: %s.", d.Name, because)
	return nil
}
