package cli

import (
	"github.com/spf13/cobra"
)

func (a *app) holdCmd() *cobra.Command {
	var because string
	var drop bool
	c := &cobra.Command{
		Use:   "hold DEVICE --because WHY | --drop",
		Short: "Leave a device as it is, and say why",
		Long: `Hold a device: it is not flashed, by name or with all others, until the hold is dropped.
Holds are kept in site.yaml, with its comments as they are.`,
		Example: "  catena hold gate-5 --because 'not before the winter stoppage'\n  catena hold " +
			"gate-5 --drop",
		Args: exactly(1, "one device"),
		RunE: func(_ *cobra.Command, args []string) error {
			return a.hold(args[0], because, drop)
		},
	}
	c.Flags().StringVar(&because, "because", "", "why")
	c.Flags().BoolVar(&drop, "drop", false, "hold it no longer")
	return c
}

func (a *app) hold(which, because string, drop bool) error {
	if (because == "") != drop {
		return usage("say either --because WHY or --drop")
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
