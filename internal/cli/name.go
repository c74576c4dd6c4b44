package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/signal"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"catena/internal/dialect"
	"catena/internal/site"
)

func (a *app) nameCmd() *cobra.Command {
	return &cobra.Command{
		Use:   "name DEVICE NAME",
		Short: "Give a device a name",
		Long: `Give a device a name of yours. It stays with the device, also when the device moves to
another address or tells another name of itself. A name in site.yaml (names:) comes
first.`,
		Example: "  catena name 10.20.4.17 cam-basin",
		Args:    exactly(2, "a device and its new name"),
		RunE:    func(_ *cobra.Command, args []string) error { return a.name(args[0], args[1]) },
	}
}

func (a *app) name(which, name string) error {
	if err := site.CheckName(name); err != nil {
		return usage("%w", err)
	}
	h, err := a.openSite()
	if err != nil {
		return err
	}
	defer h.Close()
	known, device, err := h.device(which)
	if err != nil {
		return err
	}
	for _, d := range known {
		if d.ID != device.ID && strings.EqualFold(d.Name, name) {
			return usage("%s is called %s already", d.Host(), d.Name)
		}
	}
	if fixed, ok := h.site.NameOf(device); ok && fixed != name {
		return usage("%s calls it %s (names:); change it there", site.File, fixed)
	}
	was := device.Name
	device.Name, device.Named = name, true
	if err := h.ledger.See("", &device); err != nil {
		return err
	}
	a.say("%s is called %s now.", was, name)
	return nil
}

// device finds the one known device that a person means, among all that are known.
func (h *home) device(which string) (known []site.Device, device site.Device, err error) {
	if known, err = h.ledger.Devices(); err != nil {
		return nil, device, err
	}
	for _, d := range known {
		if d.Answers(which) {
			if device.ID != "" {
				return nil, device, usage("%s means several devices; name one", which)
			}
			device = d
		}
	}
	if device.ID == "" {
		return nil, device, usage("no device %q is known; see them with: catena list", which)
	}
	return known, device, nil
}

func (a *app) blinkCmd() *cobra.Command {
	var lasts time.Duration
	var output string
	c := &cobra.Command{
		Use:   "blink DEVICE",
		Short: "Make a device show itself",
		Long: `Make a device show itself, by what it has for that: an auxiliary command of a camera, the
location indicator of a Redfish device, the lamp of a gate controller. It ends after the
time given, or with Ctrl-C.

A relay output is switched only where it is named: what hangs on it may move.`,
		Example: "  catena blink cam-11\n  catena blink recorder-1 --for 2m\n  catena blink cam-11 --output relay-1",
		Args:    exactly(1, "one device"),
		RunE: func(c *cobra.Command, args []string) error {
			return a.blink(c.Context(), args[0], output, lasts)
		},
	}
	c.Flags().DurationVar(&lasts, "for", 20*time.Second, "how long")
	c.Flags().StringVar(&output, "output", "", "an output of the device to switch instead, such as a relay's token")
	return c
}

// blinkingReader recognises devices and can make one show itself.
type blinkingReader interface {
	dialect.Reader
	dialect.Blinker
}

// endWithin is how long a device may take to be told to stop.
const endWithin = 15 * time.Second

func (a *app) blink(ctx context.Context, which, output string, lasts time.Duration) error {
	ctx, stop := signal.NotifyContext(ctx, os.Interrupt)
	defer stop()
	h, err := a.openSite()
	if err != nil {
		return err
	}
	defer h.Close()
	_, d, err := h.device(which)
	if err != nil {
		return err
	}
	name := d.Name
	var blinker blinkingReader
	for _, r := range readers {
		if b, ok := r.(blinkingReader); ok && r.Name() == d.Dialect {
			blinker = b
		}
	}
	if blinker == nil {
		return refused("%s speaks no dialect that can make it show itself", name)
	}
	x, err := a.access(h)
	if err != nil {
		return err
	}
	peer, ok := x.peer(d)
	if !ok {
		return refused("there is no login for %s; add one: catena login add --device %[1]s", name)
	}
	if d.Access == site.IdentityChanged {
		return refused("%s: %s", name, d.Trouble)
	}
	if err := dialect.VerifyIdentity(ctx, blinker, peer, d.Serial); err != nil {
		return refused("%s: %w", name, err)
	}
	what, err := blinker.Blink(ctx, peer, true, output)
	if err != nil {
		return fmt.Errorf("%s: %w", name, err)
	}
	a.say("%s: %s, for %s (Ctrl-C ends it).", name, what, lasts)
	select {
	case <-time.After(lasts):
	case <-ctx.Done():
	}
	// It is ended also when the person has gone.
	ending, cancel := context.WithTimeout(context.WithoutCancel(ctx), endWithin)
	defer cancel()
	if _, err := blinker.Blink(ending, peer, false, output); err != nil && !errors.Is(err, dialect.ErrAway) {
		return fmt.Errorf("%s could not be told to stop: %w", name, err)
	}
	return nil
}
