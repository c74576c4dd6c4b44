package cli

import (
	"strings"
	"time"

	"github.com/spf13/cobra"

	"catena/internal/site"
)

func (a *app) holdCmd() *cobra.Command {
	var h site.Hold
	var drop bool
	c := &cobra.Command{
		Use:   "hold DEVICE|PATTERN|GROUP --because WHY | --drop",
		Short: "Put devices on hold, with the reason",
		Long: `Put a device on hold, all devices whose names fit a pattern, or a group: they are not flashed,
neither by name nor with all others, until you drop the hold, or until the day of --until. Holds are
stored in site.yaml, whose comments are preserved.`,
		Example: "  catena hold gate-5 --because 'not before the winter stoppage' --until 2027-03-01\n" +
			"  catena hold 'cam-2*' --because 'the mast is being painted'\n  catena hold gate-5 --drop",
		Args: exactly(1, "one device, pattern or group"),
		RunE: func(_ *cobra.Command, args []string) error {
			return a.hold(args[0], h, drop)
		},
	}
	c.Flags().StringVar(&h.Because, "because", "", "why")
	c.Flags().StringVar(&h.Until, "until", "",
		"the day on which the hold ends, such as 2027-03-01 (default: when it is dropped)")
	c.Flags().BoolVar(&drop, "drop", false, "remove the hold")
	return c
}

func (a *app) hold(which string, h site.Hold, drop bool) error {
	if (h.Because == "") != drop || drop && h.Until != "" {
		return usage("add either --because WHY or --drop")
	}
	w, err := a.match()
	if err != nil {
		return err
	}
	defer w.Close()
	if drop {
		if err := w.DropHold(which); err != nil {
			return usage("%w; nothing was changed", err)
		}
		a.say("%s is no longer held.", which)
		return nil
	}
	if h.Until != "" {
		ends, err := time.ParseInLocation(time.DateOnly, h.Until, w.Zone())
		if err != nil || !a.now().Before(ends) {
			return usage("--until %s: write a day that is to come, for example 2027-03-01", h.Until)
		}
	}
	_, isGroup := w.Groups()[which]
	err = w.Means(which)
	switch {
	case err != nil && isGroup:
		h.Group = which
	case err != nil:
		return usage("%w; nothing was changed", err)
	case strings.ContainsAny(which, "*?"):
		h.Device = which
	default:
		_, d, err := w.Device(which)
		if err != nil {
			return err
		}
		h.Device = d.Name
	}
	if err := w.Hold(h); err != nil {
		return usage("%w; nothing was changed", err)
	}
	a.say("%s is held: %s.", h.Of(), h.Why())
	return nil
}
