package cli

import (
	"context"
	"errors"
	"os"
	"os/signal"
	"time"

	"github.com/spf13/cobra"

	"catena/internal/advice"
	"catena/internal/device"
	"catena/internal/plan"
	"catena/internal/site"
)

func (a *app) nameCmd() *cobra.Command {
	return &cobra.Command{
		Use:   "name DEVICE NAME",
		Short: "Give a device a name",
		Long: `Name a device. The name stays with the device, even if it moves to another address
or reports another name. The old name is replaced in site.yaml and targets.yaml, also in names:. A
name under names: that the device does not have yet takes precedence.`,
		Example: "  catena name 10.20.4.17 cam-basin\n  catena name WX4-10011 cam-11",
		Args:    exactly(2, "a device and its new name"),
		RunE:    func(_ *cobra.Command, args []string) error { return a.name(args[0], args[1]) },
	}
}

func (a *app) name(which, name string) error {
	if err := site.CheckName(name); err != nil {
		return usage("%w", err)
	}
	w, err := a.openSite()
	if err != nil {
		return err
	}
	defer w.Close()
	known, d, err := w.Device(which)
	if err != nil {
		return err
	}
	return a.rename(w, known, d, name)
}

// rename gives a device another name, wherever the site has the old one.
func (a *app) rename(w *plan.Site, known []device.Device, d device.Device, name string) error {
	was := d.Name
	if err := w.Call(known, d, name); err != nil {
		return err
	}
	a.say("%s is now called %s.", was, name)
	return nil
}

func (a *app) blinkCmd() *cobra.Command {
	var lasts time.Duration
	var output string
	var unseen bool
	c := &cobra.Command{
		Use:   "blink DEVICE",
		Short: "Make a device identify itself, for example by blinking",
		Long: `Make a device identify itself by the means it has: an auxiliary command of a camera,
the location indicator of a Redfish device, the lamp of a gate controller. It stops after the given
time or with Ctrl-C.

A relay output is switched only if you name it, because equipment connected to it may move.`,
		Example: "  catena blink cam-11\n  catena blink recorder-1 --for 2m\n  catena blink cam-11 " +
			"--output relay-1",
		Args: exactly(1, "one device"),
		RunE: func(c *cobra.Command, args []string) error {
			return a.blink(c.Context(), args[0], output, lasts, unseen)
		},
	}
	c.Flags().DurationVar(&lasts, "for", 20*time.Second, "the duration")
	c.Flags().StringVar(&output, "output", "",
		"an output of the device to switch instead, such as a relay's token")
	unseenVar(c, &unseen)
	return c
}

func (a *app) blink(ctx context.Context, which, output string, lasts time.Duration,
	unseen bool) error {
	ctx, stop := signal.NotifyContext(ctx, os.Interrupt)
	defer stop()
	w, err := a.openSite()
	if err != nil {
		return err
	}
	defer w.Close()
	_, d, err := w.Device(which)
	if err != nil {
		return err
	}
	x, err := a.access(w)
	if err != nil {
		return err
	}
	if d.Access == device.IdentityChanged {
		return refused("%s: %s; %s", d.Name, d.Why(), advice.Remedy(d))
	}
	care := w.Care(x)
	care.Unseen = unseen
	err = care.Blink(ctx, d, output, lasts, func(what string) {
		a.say("%s: %s, for %s (Ctrl-C ends it).", d.Name, what, lasts)
	})
	switch {
	case errors.Is(err, device.ErrUnsupported):
		return refused("%s has no way to identify itself", d.Name)
	case errors.Is(err, &device.Cause{Problem: device.NoLogin}):
		return noLogin(d)
	case errors.Is(err, device.ErrIdentityChanged):
		return refused("%s: %w; %s", d.Name, err, advice.Exchanged(d.Name))
	case err != nil:
		return notChanged(d, err)
	}
	return nil
}
