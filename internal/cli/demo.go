package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"catena/internal/cli/view"
	"catena/internal/ledger"
	"catena/internal/sim"
	"catena/internal/site"
	"catena/internal/words"
	"catena/internal/workspace"
)

func (a *app) demoCmd() *cobra.Command {
	var keep, place string
	var walk bool
	c := &cobra.Command{
		Use:   "demo",
		Short: "Play a whole night at a simulated site",
		Long: `Make a site folder, start the stand-ins of Marrow Hill, a flight of canal locks, and do
the whole job on real protocol traffic: find the devices, fill the shelf, match, flash,
prove, return. Before each step the command is shown that a person would type. Nothing
leaves the machine. It ends with 0 only when every device ended as expected.

With --walk it waits before each command: read it, then press Enter. Look from a second terminal meanwhile;
with --keep the site folder stays.`,
		Example: "  catena demo\n  catena demo --walk --keep /tmp/marrow-hill",
		Args:    exactly(0, "no arguments"),
		RunE: func(c *cobra.Command, _ []string) error {
			return a.demo(c.Context(), keep, place, walk)
		},
	}
	c.Flags().StringVar(&keep, "keep", "", "make the site folder here and leave it")
	c.Flags().BoolVar(&walk, "walk", false, "wait before each command until Enter is pressed")
	placeFlag(c, &place)
	return c
}

// expected is how each device must end: its status and its version.
var expected = []struct{ name, status, version, why string }{
	{"cam-11", "current", "3.2.1", "flashed and proven"},
	{"cam-12", "current", "2.11", "flashed and proven"},
	{"cam-21", "current", "3.2.1", "flashed and proven; its clock is a day off"},
	{"cam-22", "current", "2.11", "flashed and proven"},
	{"cam-31", "no-access", "", "someone set another password"},
	{"cam-32", "current", "2.11", "was there already"},
	{"cam-41", "behind", "3.1.0", "the new image never came up: returned"},
	{"cam-42", "current", "2.11", "was unsafe on 2.09: flashed and proven"},
	{"cam-51", "current", "3.2.1", "was there already"},
	{"cam-52", "current", "3.2.1", "flashed and proven"},
	{"gate-1", "current", "K44", "flashed and proven"},
	{"gate-2", "current", "K44", "flashed and proven"},
	{"gate-3", "current", "K44", "flashed by an intermediate version and proven"},
	{"gate-4", "current", "K44", "was there already"},
	{"gate-5", "held", "K42", "the site holds it"},
	{"switch-basin", "current", "4.3", "fetched its image by TFTP into its other slot, and proven"},
	{"recorder-1", "current", "2.11.0", "flashed by Redfish into its other slot, and proven"},
	{"drive-1", "current", "7.5", "flashed by SSH and proven"},
	{"hub-1", "current", "6", "flashed through its web pages and proven"},
	{"handset-1", "current", "1.9", "by way of its hub, and proven"},
	{"handset-2", "current", "1.9", "by way of its hub, and proven"},
	{"handset-3", "current", "1.9", "by way of its hub, and proven"},
	{"handset-4", "current", "1.9", "put on its base by hand, and proven"},
	{"signals-1", "current", "3.1", "after the lamps behind it, and proven"},
	{"lamp-1a", "current", "1.5", "by way of its controller, and proven"},
	{"lamp-1b", "current", "1.5", "by way of its controller, and proven"},
	{"lamp-1c", "current", "1.5", "by way of its controller, and proven"},
	{"lamp-2a", "current", "1.5", "by way of its controller, and proven"},
	{"lamp-2b", "current", "1.5", "by way of its controller, and proven"},
	{"lamp-2c", "current", "1.5", "by way of its controller, and proven"},
	{"lamp-3a", "current", "1.5", "by way of its controller, and proven"},
	{"lamp-3b", "behind", "1.4", "did not light with its new image: returned"},
	{"lamp-3c", "current", "1.5", "by way of its controller, and proven"},
	{"lamp-4a", "current", "1.5", "by way of its controller, and proven"},
	{"lamp-4b", "current", "1.5", "by way of its controller, and proven"},
	{"lamp-4c", "current", "1.5", "was there already"},
	{"gateway-1", "current", "2.5", "flashed once its modem carried no link, and proven"},
	{"(silent)", "away", "", "an address that answers nothing"},
}

func (a *app) demo(ctx context.Context, keep, at string, walk bool) error {
	began := time.Now()
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
	if walk {
		d.keys = bufio.NewReader(a.in)
	}
	view.Print(a.out, "%s: %d stand-ins are up on loopback, around %s.\n", scenario.Site,
		len(scenario.Devices), place.Net)
	if walk {
		view.Print(a.out,
			"Before each command: Enter runs it, s runs the rest without waiting, q ends.\nLook from a second terminal at any time, for example:\n  catena -C %s --shelf %s list\n",
			quoted(dir), quoted(a.shelf))
	}
	for _, s := range d.steps(scenario, images) {
		if s.before != nil {
			if err := s.before(); err != nil {
				return err
			}
		}
		if s.killAt != nil {
			err := d.kill(ctx, s)
			if errors.Is(err, errLeft) {
				return nil
			}
			if err != nil {
				return err
			}
			continue
		}
		code, err := d.run(ctx, s.what, s.stdin, s.args)
		if errors.Is(err, errLeft) {
			return nil
		}
		if code != s.exit {
			return fmt.Errorf("the demo did not go as expected: catena %s ended with %d, not %d",
				s.args[0], code, s.exit)
		}
	}
	return d.compare(time.Since(began), keep != "")
}

// step is one command of the demo.
type step struct {
	what   string
	args   []string
	stdin  string
	exit   int          // the exit code that is expected
	before func() error // what happens before it; may be nil
	// killAt runs it as a process of its own, which is killed when it prints this; nil: it
	// runs to its end
	killAt *regexp.Regexp
}

// steps are the commands of a night.
func (d *demo) steps(scenario sim.Scenario, images string) []step {
	return []step{
		{what: "Make a site folder",
			args: append([]string{"new", scenario.Site, "--adapter", d.place.Adapter},
				strings.Fields(rangeFlags(d.place))...)},
		{what: "Keep the login, encrypted with a passphrase",
			args:   []string{"login", "add", "--user", scenario.Login.User, "--password-stdin"},
			stdin:  scenario.Login.Password,
			before: func() error { return d.write(scenario) }},
		{what: "A drive shows no more than its greeting: it gets only a login that is for its model, with the code of its service mode",
			args: []string{"login", "add", "--model", "HD-7", "--user", scenario.Login.User, "--secret", "service",
				"--password-stdin"},
			stdin: scenario.Login.Password + "\n" + sim.ServiceCode},
		{what: "So does the gateway", args: []string{"login", "add", "--model", "HD-G4", "--user", scenario.Login.User,
			"--password-stdin"}, stdin: scenario.Login.Password},
		{what: "And the community by which the switches take changes",
			args:  []string{"login", "add", "--model", "OS-8", "--community", "--password-stdin"},
			stdin: scenario.Login.Password},
		{what: "Find the devices", args: []string{"scan"}},
		{what: "What is reached through what",
			args: []string{"scan", "--uplinks", "--at", "switch-basin", "--quiet"}},
		{what: "Fill the shelf", args: []string{"shelf", "add", images}},
		{what: "Read what is new in it", args: []string{"shelf", "notes", "wx40_3.2.1.bin"}},
		{what: "See what should be flashed", args: []string{"match"}},
		{what: "Make an order for the night",
			args: []string{"order", "new", "night-1", "--all", "--note",
				"before the winter stoppage"}},
		{what: "See it as it would go: the end of the chain first, one camera of a view at a time",
			args: []string{"order", "show", "night-1"}},
		{what: "Flash it. The laptop's battery dies in the middle",
			args: []string{"flash", "night-1", "--yes", "--accept", "gate-blocked", "--accept",
				"pump-stops", "--accept", "no-rollback", "--accept", "link-drops", "--wait-for", "2m",
				"--patience", "proving=3s", "--patience", "grace=2s"},
			killAt: regexp.MustCompile(`gate-2 +sending`)},
		{what: "What was left open", args: []string{"list", "--where", `status == "interrupted"`}},
		{what: "Continue, prove it, return what fails",
			args: []string{"resume", "--patience", "proving=3s", "--patience", "grace=2s"},
			exit: exitFailed},
		{what: "Look again", args: []string{"scan"}, before: func() error {
			// another address would be another port, outside what the site names
			if d.place.OneHost {
				return nil
			}
			view.Print(d.app.out, "%s\n", "\nMeanwhile someone has given cam-51 another address.")
			return d.place.Move("cam-51", 53)
		}},
		{what: "What runs now", args: []string{"list"}},
		{what: "The drive's image clears its settings, and calls one otherwise",
			args: []string{"settings", "save", "drive-1"}},
		{what: "It has those again that a person had made",
			args: []string{"settings", "show", "drive-1"}},
		{what: "How many run what they should", args: []string{"match", "--by", "model"}},
	}
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

// kill shows a command, runs it as a process of its own, and kills that when it prints what the
// step waits for, as a power cut would.
func (d *demo) kill(ctx context.Context, s step) error {
	a := d.app
	if err := d.show(s.what, s.args); err != nil {
		return err
	}
	self, err := os.Executable()
	if err != nil {
		return err
	}
	cmd := exec.CommandContext(ctx, self,
		append([]string{"-C", d.dir, "--shelf", a.shelf}, s.args...)...)
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
		if s.killAt.MatchString(lines.Text()) && !killed {
			killed = true
			_ = cmd.Process.Kill() // it may have ended: Wait tells
		}
	}
	err = cmd.Wait()
	if !killed {
		return fmt.Errorf("the demo did not go as expected: catena %s was not to be killed: %w",
			s.args[0], err)
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

// write writes into the site folder what a person would write with an editor.
func (d *demo) write(scenario sim.Scenario) error {
	f, err := os.OpenFile(filepath.Join(d.dir, site.File), os.O_APPEND|os.O_WRONLY, 0)
	if err != nil {
		return err
	}
	text := "hold:\n  - {device: gate-5, because: not before the winter stoppage}\nnames: {" + d.drive() + ": drive-1}\n" +
		"uplinks:\n  - {through: switch-basin, reach: [cam-11, cam-12, cam-21, gate-1]}\n  - {through: gate-1, reach: [gate-2]}\n  - {through: gate-2, reach: [gate-3]}\n" +
		"cover: [{name: chamber 2 view, keep: 1, of: [cam-21, cam-22]}]\nlockstep: [{name: radio, of: [hub-1, \"handset-*\"]}]\n"
	view.Print(d.app.out, "\nIn its %s, a person writes:\n%s", site.File, text)
	_, err = f.WriteString(text)
	err = errors.Join(err, f.Close())
	if err != nil {
		return err
	}
	view.Print(d.app.out, "\nIts makers' devices are described in families/: %s.\n",
		strings.Join(slices.Sorted(maps.Keys(sim.Families())), ", "))
	return sim.WriteFamilies(filepath.Join(d.dir, "families"))
}

// drive is where the drive is, which tells no one its name.
func (d *demo) drive() string {
	for _, in := range d.place.StandIns() {
		if in.Name == "drive-1" {
			if host, _, ok := strings.Cut(in.Address, ":"); ok && !d.place.OneHost {
				return host
			}
			return strconv.Quote(in.Address)
		}
	}
	return ""
}

// verdicts is a table of the devices and how they should have ended, and the number of those
// that did not.
func (d *demo) verdicts(devices []workspace.Row) (t view.Table, wrong int) {
	byName := map[string]workspace.Row{}
	for _, x := range devices {
		name := x.Name
		if name == x.Address {
			name = "(silent)"
		}
		byName[name] = x
	}
	t.Columns = []string{"device", "status", "runs", "as expected", "why"}
	for _, f := range expected {
		if f.name == "cam-51" && !d.place.OneHost {
			f.why += "; found again at another address"
		}
		x, ok := byName[f.name]
		verdict := view.Cell{Text: "yes"}
		if !ok || x.Status != f.status || x.Version.Text != f.version {
			verdict = view.Bad.Cell(fmt.Sprintf("no: %s %s", f.status, f.version))
			wrong++
		}
		name := f.name
		if name == "(silent)" {
			name = x.Address
		}
		t.Add(name, statusTone(x.Status).Cell(x.Status), x.Version.Text, verdict,
			view.Quiet.Cell(f.why))
	}
	if extra := len(devices) - len(expected); extra != 0 {
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
	if _, _, err := w.Ledger.Check(); err != nil {
		return err
	}
	entries, err := w.Ledger.Entries(ledger.Filter{})
	if err != nil {
		return err
	}
	t, wrong := d.verdicts(devices)
	s := a.style(a.out)
	view.Print(a.out, "\n%s\n\n", s.Paint(view.Busy, "── The night at "+w.Site.Name))
	t.Draw(a.out, s)
	view.Print(a.out, "\n%d of %d devices ended as expected, in %.0f s. The ledger is whole: %d entries.\n", len(expected)-wrong, len(expected), took.Seconds(), len(entries))
	if kept {
		view.Print(a.out, "The site folder is %s; look at it with catena -C %[1]s --shelf %s list, show or track.\n", d.dir, a.shelf)
	}
	if wrong > 0 {
		return fmt.Errorf("%s did not end as expected", words.Plural(wrong, "device"))
	}
	return nil
}
