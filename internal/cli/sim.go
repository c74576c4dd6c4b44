package cli

import (
	"cmp"
	"context"
	"fmt"
	"log/slog"
	"os"
	"os/signal"
	"slices"
	"strings"
	"syscall"

	"github.com/spf13/cobra"

	"catena/internal/cli/view"
	"catena/internal/night"
	"catena/internal/sim"
	"catena/internal/words"
)

func (a *app) simCmd() *cobra.Command {
	var place, images, families, boxed string
	c := &cobra.Command{
		Use:   "sim [SCENARIO]",
		Short: "Simulate a site: stand-ins that speak the real protocols",
		Long: `Start the stand-ins of a scenario file, or of Marrow Hill without one, and run them
until Ctrl-C. Each has its own loopback address, or its own port if the machine has only 127.0.0.1.
Nothing leaves this machine.

A stand-in checks what it receives and really restarts. The scenario can switch on faults:
other_password, silent, drop_after, keeps_version, never_returns, sick, rate.`,
		Example: `  catena sim
  catena sim site-to-try.yaml
  catena sim --images firmware/      also write the scenario's images, with manifests
  catena sim --families hill/families/   teach a site how its makers' devices are talked to`,
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) > 1 {
				return usage("catena sim takes at most one scenario file")
			}
			return nil
		},
		RunE: func(c *cobra.Command, args []string) error {
			scenario := sim.MarrowHill()
			if len(args) == 1 {
				data, err := os.ReadFile(args[0])
				if err != nil {
					return usage("%w", err)
				}
				scenario, err = sim.ParseScenario(args[0], data)
				if err != nil {
					return err
				}
			}
			return a.sim(c.Context(), scenario, place, boxed, images, families)
		},
	}
	placeFlag(c, &place)
	c.Flags().StringVar(&boxed, "boxed", "",
		"the scenario's only device is new and waits on this adapter for an address by DHCP "+
			"(Linux, with the capabilities to set it)")
	c.Flags().StringVar(&images, "images", "",
		"write the scenario's images and their manifests into this folder")
	c.Flags().StringVar(&families, "families", "",
		"write the family files of the simulated makers into this folder")
	return c
}

func (a *app) sim(ctx context.Context, scenario sim.Scenario, place, boxed, images,
	families string) error {
	ctx, stop := signal.NotifyContext(ctx, os.Interrupt, syscall.SIGTERM)
	defer stop()
	if images != "" {
		if err := sim.WriteImages(images, scenario); err != nil {
			return err
		}
		a.say("Wrote the scenario's %s into %s.",
			words.Plural(len(scenario.Images), "image"), images)
	}
	if families != "" {
		if err := sim.WriteFamilies(families); err != nil {
			return err
		}
		a.say("Wrote %s into %s: a site reads its families folder.",
			words.Plural(len(sim.Families()), "family"), families)
	}
	level := slog.LevelError
	if a.verbose {
		level = slog.LevelInfo
	}
	log := slog.New(slog.NewTextHandler(a.err, &slog.HandlerOptions{Level: level}))
	var s *sim.Site
	var err error
	if boxed != "" {
		a.say("It has no address, and requests one on %s.", boxed)
		s, err = sim.StartBoxed(ctx, scenario, boxed, log)
	} else {
		s, err = sim.Start(scenario, place, log)
	}
	if err != nil {
		return err
	}
	defer s.Stop()
	if a.format == "json" {
		if err := a.printJSON(s.StandIns()); err != nil {
			return err
		}
	} else {
		t := view.Table{Columns: []string{"name", "kind", "model", "address", "version"}}
		for _, in := range s.StandIns() {
			t.Add(in.Name, in.Kind, in.Model, in.Address, in.Version)
		}
		t.Draw(a.out, a.style(a.out))
		code := ""
		if slices.ContainsFunc(scenario.Devices, func(d sim.Device) bool { return d.Kind == "drive" }) {
			code = ", the drives' service code " + sim.ServiceCode
		}
		if slices.ContainsFunc(scenario.Devices, func(d sim.Device) bool { return d.Kind == "router" }) {
			code += ", the routers' second password " + sim.SecondPassword
		}
		a.say("\n%s is up: %s on adapter %s, login %s:%s%s. Ctrl-C ends it.\nIn another terminal:\n  "+
			"catena new %q --adapter %s%s",
			scenario.Site, words.Plural(len(scenario.Devices), "stand-in"), s.Adapter,
			scenario.Login.User, scenario.Login.Password, code,
			scenario.Site, s.Adapter, night.RangeFlags(s))
	}
	<-ctx.Done()
	a.tellCounts(s)
	return nil
}

// tellCounts says how often the stand-ins were written to, and whether one was interrupted or
// cut off from a transfer.
func (a *app) tellCounts(s *sim.Site) {
	var writes []string
	interrupted, overlaps := 0, 0
	for _, in := range s.StandIns() {
		if in.Writes > 0 {
			writes = append(writes, fmt.Sprintf("%s %d", in.Name, in.Writes))
		}
		if c := in.Children; c != nil && c.Stores > 0 {
			installs := 0
			for _, n := range c.Installs {
				installs += n
			}
			writes = append(writes, fmt.Sprintf("%s %d for those behind it (%d installed by %d of them, "+
				"at most %d at once, %d logins)",
				in.Name, c.Stores, installs, len(c.Installs), c.Most, in.Logins))
		}
		if in.Full > 0 {
			writes = append(writes, fmt.Sprintf("%s without a seat %d times", in.Name, in.Full))
		}
		interrupted += in.Interrupted
		overlaps += in.Overlaps
	}
	a.say("Images taken: %s. Writes interrupted: %d. Restarts over a transfer behind: %d.",
		cmp.Or(strings.Join(writes, ", "), "none"), interrupted, overlaps)
}

func placeFlag(c *cobra.Command, place *string) {
	c.Flags().StringVar(place, "place", "",
		"the stand-ins' addresses: 127.44.7 means 127.44.7.1 and up; 127.0.0.1 gives each its "+
			"own port (default: the first free one)")
}
