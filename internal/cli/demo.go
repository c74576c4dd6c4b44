package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"catena/internal/advice"
	"catena/internal/cli/view"
	"catena/internal/night"
	"catena/internal/sim"
	"catena/internal/words"
	"catena/internal/workspace"
)

func (a *app) demoCmd() *cobra.Command {
	var keep, place string
	var walk, many bool
	c := &cobra.Command{
		Use:   "demo",
		Short: "Run a whole night at a simulated site",
		Long: `Make a site folder, start the stand-ins of Marrow Hill, a flight of canal locks, and
do the whole job with real protocol traffic: find the devices, fill the shelf, match, flash, verify
and roll back. Each step first shows the command that you would type. Nothing leaves this machine.
The exit code is 0 only if every device ended as expected.

With --walk the demo stops before each command until you press Enter. You can inspect the site from
a second terminal at any time; with --keep the site folder remains.

With --fleet it plays an office, a laptop and the stations of three sites in three time zones: a
rollout in two waves, of which one is stopped by a failure, and a site whose line is cut.`,
		Example: "  catena demo\n  catena demo --walk --keep /tmp/marrow-hill\n  catena demo --fleet",
		Args:    exactly(0, "no arguments"),
		RunE: func(c *cobra.Command, _ []string) error {
			if many {
				if keep != "" || walk || place != "" {
					return usage("--fleet takes no other flags of the demo")
				}
				return a.demoFleet(c.Context())
			}
			return a.demo(c.Context(), keep, place, walk)
		},
	}
	c.Flags().StringVar(&keep, "keep", "", "make the site folder here and keep it")
	c.Flags().BoolVar(&walk, "walk", false, "wait before each command until Enter is pressed")
	c.Flags().BoolVar(&many, "fleet", false, "play an office and three sites instead")
	placeFlag(c, &place)
	return c
}

func (a *app) demo(ctx context.Context, keep, at string, walk bool) error {
	startedAt := time.Now()
	work, err := os.MkdirTemp("", "catena-demo-")
	if err != nil {
		return err
	}
	defer func() { _ = os.RemoveAll(work) }()
	dir := filepath.Join(work, "marrow-hill-locks")
	if keep != "" {
		dir, err = filepath.Abs(keep)
		if err != nil {
			return err
		}
	}
	scenario := sim.MarrowHill()
	place, err := sim.Start(scenario, at, slog.New(slog.DiscardHandler))
	if err != nil {
		return err
	}
	defer place.Stop()
	images := filepath.Join(work, "firmware")
	if err := sim.WriteImages(images, scenario); err != nil {
		return err
	}
	if a.shelf == "" {
		a.shelf = filepath.Join(filepath.Dir(dir), "shelf")
		if keep != "" {
			a.shelf = filepath.Join(dir, "shelf")
		}
	}
	d := &demo{app: a, dir: dir, place: place}
	all := night.Night{Dir: dir, Images: images, Scenario: scenario, Place: place}
	if walk {
		d.keys = bufio.NewReader(a.in)
	}
	view.Print(a.out, "%s: %d stand-ins are up on loopback, around %s.\n", scenario.Site,
		len(scenario.Devices), place.Net)
	if walk {
		view.Print(a.out,
			"Before each command: Enter runs it, s runs the rest without waiting, q ends.\nLook from a "+
				"second terminal at any time, for example:\n  catena -C %s --shelf %s list\n",
			advice.Quoted(dir), advice.Quoted(a.shelf))
	}
	if err := d.play(ctx, all.Steps()); err != nil {
		if errors.Is(err, errLeft) {
			return nil
		}
		return err
	}
	return d.compare(time.Since(startedAt), keep != "")
}

// play runs the commands of the night. Its error is errLeft where a person ended the walk.
func (d *demo) play(ctx context.Context, steps []night.Step) error {
	a := d.app
	for _, s := range steps {
		if s.Before != nil {
			if err := s.Before(func(text string) { view.Print(a.out, "%s", text) }); err != nil {
				return err
			}
		}
		if s.KillAt != nil {
			if err := d.kill(ctx, s); err != nil {
				return err
			}
			continue
		}
		code, err := d.run(ctx, s.What, s.Stdin, s.Args)
		if err != nil {
			return err
		}
		if code != s.Exit {
			return fmt.Errorf("the demo did not go as expected: catena %s ended with %d, not %d",
				s.Args[0], code, s.Exit)
		}
	}
	return nil
}

type demo struct {
	app   *app
	dir   string
	place *sim.Site
	keys  *bufio.Reader // by which a person continues; nil: no one is waited for
}

// errLeft is that a person ended the walk.
var errLeft = errors.New("left")

// wait waits until a person continues. Without one, as in a script, nothing is waited for.
func (d *demo) wait() error {
	if d.keys == nil {
		return nil
	}
	view.Print(d.app.out, "%s", "[Enter] ")
	line, err := d.keys.ReadString('\n')
	view.Print(d.app.out, "%s", "\n")
	switch word := strings.TrimSpace(line); {
	case word == "q":
		return errLeft
	case err != nil, word == "s":
		d.keys = nil
	}
	return nil
}

// passphrase is that of the demo's logins.
const passphrase = "a swan a day"

// kill shows a command, runs it as a separate process, and kills that when it prints what the
// step waits for, as a power cut would.
func (d *demo) kill(ctx context.Context, s night.Step) error {
	a := d.app
	if err := d.show(s.What, s.Args); err != nil {
		return err
	}
	self, err := os.Executable()
	if err != nil {
		return err
	}
	cmd := exec.CommandContext(ctx, self,
		append([]string{"-C", d.dir, "--shelf", a.shelf}, s.Args...)...)
	cmd.Args[0] = "catena"
	cmd.Env = append(os.Environ(), "CATENA_PASSPHRASE="+passphrase, "CATENA_LOGIN=",
		"CATENA_IDENTITY=")
	cmd.Stderr = a.err
	out, err := cmd.StdoutPipe()
	if err != nil {
		return err
	}
	if err := cmd.Start(); err != nil {
		return err
	}
	killed := false
	for lines := bufio.NewScanner(out); lines.Scan(); {
		view.Print(a.out, "%s\n", lines.Text())
		if s.KillAt.MatchString(lines.Text()) && !killed {
			killed = true
			_ = cmd.Process.Kill() // it may have ended: Wait tells
		}
	}
	err = cmd.Wait()
	if !killed {
		return fmt.Errorf("the demo did not go as expected: catena %s could not be killed: %w",
			s.Args[0], err)
	}
	view.Print(a.out, "%s\n", a.style(a.out).Paint(view.Bad, "── killed"))
	return nil
}

// show shows a command as it would be typed. Its error is that a person ended the walk.
func (d *demo) show(what string, args []string) error {
	a := d.app
	s := a.style(a.out)
	typed := slices.Clone(args)
	for i, w := range typed {
		if strings.ContainsAny(w, " ") {
			typed[i] = fmt.Sprintf("%q", w)
		}
	}
	line := strings.Join(typed, " ")
	if short, _, ok := strings.Cut(line, " --range 127.0.0.1:"); ok {
		line = short + " --range 127.0.0.1:… for each"
	}
	view.Print(a.out, "\n%s\n%s\n\n", s.Paint(view.Busy, "── "+what),
		s.Paint(view.Good, "$ catena "+line))
	return d.wait()
}

// run shows a command and runs it as if it were typed in the site folder.
func (d *demo) run(ctx context.Context, what, stdin string, args []string) (code int, err error) {
	a := d.app
	if err := d.show(what, args); err != nil {
		return 0, err
	}
	sub := &app{in: strings.NewReader(stdin + "\n"), out: a.out, err: a.err, now: a.now,
		getenv: func(k string) string {
			switch k {
			case "CATENA_PASSPHRASE":
				return passphrase
			case "CATENA_LOGIN", "CATENA_PASSWORD", "CATENA_IDENTITY":
				return ""
			}
			return a.getenv(k)
		}}
	global := []string{"-C", d.dir, "--shelf", a.shelf}
	if a.noColor {
		global = append(global, "--no-color")
	}
	return sub.run(ctx, append(global, args...)), nil
}

// verdicts is a table of the devices and how they should have ended, and the number of those
// that did not.
func (d *demo) verdicts(devices []workspace.Row) (t view.Table, wrong int) {
	byName := map[string]workspace.Row{}
	for _, x := range devices {
		name := x.Name
		if name == x.Address {
			name = night.Silent
		}
		byName[name] = x
	}
	t.Columns = []string{"device", "status", "runs", "as expected", "why"}
	for _, f := range night.Expected {
		if f.Name == "cam-51" && !d.place.OneHost {
			f.Why += "; found again at another address"
		}
		x, ok := byName[f.Name]
		verdict := view.Cell{Text: "yes"}
		if !ok || x.Status != f.Status || x.Version.Text != f.Version {
			verdict = view.Bad.Cell(fmt.Sprintf("no: %s %s", f.Status, f.Version))
			wrong++
		}
		name := f.Name
		if name == night.Silent {
			name = x.Address
		}
		t.Add(name, statusTone(x.Status).Cell(x.Status), x.Version.Text, verdict,
			view.Quiet.Cell(f.Why))
	}
	if extra := len(devices) - len(night.Expected); extra != 0 {
		wrong += max(extra, -extra)
	}
	return t, wrong
}

// compare holds what the devices say now against what was expected.
func (d *demo) compare(took time.Duration, kept bool) error {
	a := d.app
	sub := &app{dir: d.dir, shelf: a.shelf, getenv: a.getenv, now: a.now}
	w, err := sub.match()
	if err != nil {
		return err
	}
	defer w.Close()
	devices := workspace.Mains(w.Rows)
	entries, _, err := w.Check()
	if err != nil {
		return err
	}
	t, wrong := d.verdicts(devices)
	s := a.style(a.out)
	view.Print(a.out, "\n%s\n\n", s.Paint(view.Busy, "── The night at "+w.Name()))
	t.Draw(a.out, s)
	view.Print(a.out, "\n%d of %d devices ended as expected, in %.0f s. The ledger is intact: %d "+
		"entries.\n", len(night.Expected)-wrong, len(night.Expected), took.Seconds(), entries)
	if kept {
		view.Print(a.out, "The site folder is %s; look at it with catena -C %[1]s --shelf %s list, "+
			"show or track.\n", d.dir, a.shelf)
	}
	if wrong > 0 {
		return fmt.Errorf("%s did not end as expected", words.Plural(wrong, "device"))
	}
	return nil
}
