package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"time"

	"catena/internal/advice"
	"catena/internal/cli/view"
	"catena/internal/fleet"
	"catena/internal/sim"
)

// demoSites are the sites of catena demo --fleet: their folders, the hosts of their devices, their
// time zones, and how many devices must be current in the end, of how many.
var demoSites = []struct {
	name, folder, hosts, zone string
	current, devices          int
}{
	{"Pellow Reach", "pellow-reach", "21-22", "Etc/GMT+4", 2, 2},
	{"Marrow Hill", "marrow-hill", "11-12", "Etc/GMT", 1, 2},
	{"Dunmarrow", "dunmarrow", "31-33", "Etc/GMT-7", 3, 3},
}

// fleetDemo plays an office, a laptop and three stations, each a process of its own.
type fleetDemo struct {
	app  *app
	work string
	net  string // of the stand-ins
	line *line  // of Dunmarrow, to the office
	mu   sync.Mutex
	runs []*exec.Cmd // stations and the office, which end with the demo
}

// demoWithin bounds each command of the demo.
const demoWithin = 2 * time.Minute

func (a *app) demoFleet(ctx context.Context) (err error) {
	startedAt := time.Now()
	work, err := os.MkdirTemp("", "catena-demo-")
	if err != nil {
		return err
	}
	defer func() { _ = os.RemoveAll(work) }()
	scenario := sim.ThreeSites()
	place, err := sim.Start(scenario, "", slog.New(slog.DiscardHandler))
	if err != nil {
		return err
	}
	defer place.Stop()
	if place.Net == "" || place.OneHost {
		return refused("this demo needs a loopback network with many addresses, as Linux has it")
	}
	if err := sim.WriteImages(filepath.Join(work, "firmware"), scenario); err != nil {
		return err
	}
	d := &fleetDemo{app: a, work: work, net: place.Net}
	defer d.end()
	for _, part := range []func(context.Context) error{d.office, d.laptop, d.stations, d.rollout,
		d.compare} {
		if err := part(ctx); err != nil {
			return fmt.Errorf("the demo did not go as expected: %w", err)
		}
	}
	view.Print(
		a.out,
		"\nAll three sites ended as expected, in %.0f s.\n",
		time.Since(startedAt).Seconds(),
	)
	return nil
}

// command is a command of a person or a machine, with shelf and keys of its own.
func (d *fleetDemo) command(ctx context.Context, who string, args ...string) (*exec.Cmd, error) {
	self, err := os.Executable()
	if err != nil {
		return nil, err
	}
	cmd := exec.CommandContext(ctx, self, args...)
	cmd.Args[0], cmd.Dir = "catena", d.work
	own := filepath.Join(d.work, "of-"+who)
	cmd.Env = append(os.Environ(), "XDG_DATA_HOME="+own, "CATENA_SHELF="+filepath.Join(own, "shelf"),
		"CATENA_LOGIN=keeper:quoin-and-sluice", "CATENA_KEY_PASSWORD="+passphrase, "CATENA_PASSPHRASE=",
		"CATENA_IDENTITY=")
	return cmd, nil
}

// run shows a command and runs it. Its error is another exit code than the one that is expected.
func (d *fleetDemo) run(ctx context.Context, what, who string, exit int, args ...string) error {
	ctx, cancel := context.WithTimeout(ctx, demoWithin)
	defer cancel()
	d.show(what, who, args)
	cmd, err := d.command(ctx, who, args...)
	if err != nil {
		return err
	}
	cmd.Stdout, cmd.Stderr = d.app.out, d.app.err
	if err := cmd.Run(); cmd.ProcessState == nil {
		return err
	}
	if code := cmd.ProcessState.ExitCode(); code != exit {
		return fmt.Errorf("catena %s ended with %d, not %d", strings.Join(args, " "), code, exit)
	}
	return nil
}

func (d *fleetDemo) show(what, who string, args []string) {
	s := d.app.style(d.app.out)
	var typed []string
	for _, w := range args {
		typed = append(typed, advice.Quoted(w))
	}
	if what != "" {
		view.Print(d.app.out, "\n%s\n", s.Paint(view.Busy, "── "+what))
	}
	view.Print(d.app.out, "%s\n", s.Paint(view.Good, who+"$ catena "+strings.Join(typed, " ")))
}

// quietly runs a command whose output no one needs to see.
func (d *fleetDemo) quietly(ctx context.Context, who string, args ...string) error {
	ctx, cancel := context.WithTimeout(ctx, demoWithin)
	defer cancel()
	cmd, err := d.command(ctx, who, args...)
	if err != nil {
		return err
	}
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("catena %s: %w: %s", strings.Join(args, " "), err, out)
	}
	return nil
}

// serve starts a program that runs until the demo ends, and waits until it has printed something.
func (d *fleetDemo) serve(ctx context.Context, who, until string, args ...string) error {
	d.show("", who, args)
	cmd, err := d.command(context.WithoutCancel(ctx), who, args...)
	if err != nil {
		return err
	}
	said := &watched{until: regexp.MustCompile(until), seen: make(chan struct{})}
	cmd.Stdout, cmd.Stderr = said, said
	if err := cmd.Start(); err != nil {
		return err
	}
	d.mu.Lock()
	d.runs = append(d.runs, cmd)
	d.mu.Unlock()
	select {
	case <-said.seen:
		return nil
	case <-time.After(demoWithin):
		return fmt.Errorf("catena %s has not printed %s: %s", strings.Join(args, " "), until, said)
	}
}

// end ends what still runs: the stations first.
func (d *fleetDemo) end() {
	for i := len(d.runs) - 1; i >= 0; i-- {
		cmd := d.runs[i]
		if cmd.Process.Signal(os.Interrupt) != nil {
			_ = cmd.Process.Kill() // Windows has no interrupt for another process
		}
		_ = cmd.Wait() // how it ended does not matter
	}
	if d.line != nil {
		d.line.close()
	}
}

// watched keeps what a program prints, and tells when it has printed something.
type watched struct {
	mu    sync.Mutex
	text  bytes.Buffer
	until *regexp.Regexp
	seen  chan struct{}
	told  bool
}

func (w *watched) Write(b []byte) (int, error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.text.Write(b)
	if !w.told && w.until.Match(w.text.Bytes()) {
		w.told = true
		close(w.seen)
	}
	return len(b), nil
}

func (w *watched) String() string {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.text.String()
}

// office makes the office, with credentials for each site. Those of Dunmarrow lead over a line that
// can be cut.
func (d *fleetDemo) office(ctx context.Context) error {
	free, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	at := free.Addr().String()
	_ = free.Close()
	if err := d.run(ctx, "The office", "office", 0, "office", "init", "office", "--name",
		"Canal Works",
		"--address", at); err != nil {
		return err
	}
	file := filepath.Join(d.work, "office", "office.yaml")
	raw, err := os.ReadFile(file)
	if err == nil {
		err = os.WriteFile(file, bytes.ReplaceAll(raw, []byte("0.0.0.0:"), []byte("127.0.0.1:")), 0o600)
	}
	if err != nil {
		return err
	}
	for _, s := range demoSites {
		if err := d.run(ctx, "", "office", 0, "office", "add", s.folder, "-C", "office"); err != nil {
			return err
		}
	}
	if d.line, err = newLine(at); err != nil {
		return err
	}
	file = filepath.Join(d.work, "dunmarrow.office")
	if raw, err = os.ReadFile(file); err == nil {
		raw = bytes.ReplaceAll(raw, []byte(at), []byte(d.line.listen.Addr().String()))
		err = os.WriteFile(filepath.Join(d.work, "dunmarrow-line.office"), raw, 0o600)
	}
	if err != nil {
		return err
	}
	return d.serve(ctx, "office", "listens at", "office", "serve", "-C", "office")
}

// laptop makes the folders of the three sites on anna's laptop, each with a window in its own zone.
func (d *fleetDemo) laptop(ctx context.Context) error {
	if err := d.quietly(ctx, "anna", "ledger", "writer", "anna"); err != nil {
		return err
	}
	if err := d.run(ctx, "Anna's laptop knows the three sites, and has the images", "anna",
		0, "shelf",
		"add", "firmware"); err != nil {
		return err
	}
	for _, s := range demoSites {
		from, to, _ := strings.Cut(s.hosts, "-")
		dir := filepath.Join("sites", s.folder)
		if err := d.quietly(ctx, "anna", "new", s.name, "-C", dir, "--adapter", "lo", "--range",
			d.net+"."+from+"-"+d.net+"."+to); err != nil {
			return err
		}
		zone, err := time.LoadLocation(s.zone)
		if err != nil {
			return err
		}
		now := d.app.now().In(zone)
		if err := appendTo(filepath.Join(d.work, dir, "site.yaml"), fmt.Sprintf(
			"timezone: %s\nwindows: [{from: %q, to: %q}]\npatience: {proving: 2s, grace: 1s}\n", s.zone,
			now.Add(-time.Hour).Format("15:04"), now.Add(2*time.Hour).Format("15:04"))); err != nil {
			return err
		}
		if err := d.run(ctx, "", "anna", 0, "-C", dir, "scan", "--patience", "5s"); err != nil {
			return err
		}
		if err := d.run(ctx, "", "anna", 0, "-C", dir, "sync", s.folder+".office"); err != nil {
			return err
		}
	}
	return d.quietly(ctx, "anna", "shelf", "feed", "key", "anna.key")
}

func appendTo(file, text string) error {
	f, err := os.OpenFile(file, os.O_APPEND|os.O_WRONLY, 0)
	if err != nil {
		return err
	}
	_, err = f.WriteString(text)
	return errors.Join(err, f.Close())
}

// stations has a machine at each site join the office, and work.
func (d *fleetDemo) stations(ctx context.Context) error {
	for i, s := range demoSites {
		what := ""
		if i == 0 {
			what = "A station at each site"
		}
		box, credentials := "box-"+s.folder, s.folder+".office"
		if s.folder == "dunmarrow" {
			credentials = "dunmarrow-line.office"
		}
		if err := d.quietly(ctx, box, "ledger", "writer", box); err != nil {
			return err
		}
		if err := d.run(ctx, what, box, 0, "station", "join", "Canal Works", "--credentials",
			credentials,
			"--key", "anna.key.pub", "--into", box, "--accept", "anna"); err != nil {
			return err
		}
		if err := d.quietly(ctx, "anna", "-C", filepath.Join("sites", s.folder), "sync",
			s.folder+".office",
			"--accept", box); err != nil {
			return err
		}
		if err := d.serve(ctx, box, "The office is reached", "-C", box, "station", "run", "--every",
			"1s"); err != nil {
			return err
		}
	}
	return nil
}

// rollout brings the sites to 3.2.1: the first wave has a camera that becomes sick, so the second
// one is stopped, until someone raises the limit. The line of Dunmarrow is cut while its station
// works.
func (d *fleetDemo) rollout(ctx context.Context) error {
	if err := d.run(ctx, "A rollout in two waves", "anna", 0, "rollout", "new", "winter",
		"--in", "sites",
		"--where", `model == "WX-40"`, "--to", "3.2.1", "--waves", "2,rest", "--soak", "2s",
		"--stop-after",
		"1", "--first", "Pellow Reach", "--first", "Marrow Hill"); err != nil {
		return err
	}
	run := []string{"rollout", "run", "winter", "--in", "sites", "--key", "anna.key", "--every", "1s"}
	for _, step := range []struct {
		what string
		exit int
		args []string
	}{
		{"", 0, []string{"rollout", "show", "winter", "--in", "sites"}},
		{"The first wave: one camera becomes sick and is rolled back, so the second wave is stopped",
			exitFailed, run},
		{"Someone has looked, and raises the limit", 0, []string{"rollout", "resume", "winter", "--in",
			"sites", "--stop-after", "2"}},
	} {
		if err := d.run(ctx, step.what, "anna", step.exit, step.args...); err != nil {
			return err
		}
	}
	cut := make(chan error, 1)
	go func() { cut <- d.cutLine(ctx) }()
	err := d.run(
		ctx,
		"The second wave, whose line to the office is cut while its station works",
		"anna",
		exitFailed,
		run...)
	return errors.Join(err, <-cut)
}

// offlineFor is how long the line of Dunmarrow is cut.
const offlineFor = 8 * time.Second

// cutLine cuts the line of Dunmarrow once its station works on its order.
func (d *fleetDemo) cutLine(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, demoWithin)
	defer cancel()
	for {
		cmd, err := d.command(ctx, "box-dunmarrow", "-C", "box-dunmarrow", "jobs", "--format", "json")
		if err != nil {
			return err
		}
		if out, _ := cmd.Output(); bytes.Contains(out, []byte(`"job":"j1"`)) {
			break
		}
		select {
		case <-ctx.Done():
			return errors.New("the station of Dunmarrow has not started its job")
		case <-time.After(100 * time.Millisecond):
		}
	}
	s := d.app.style(d.app.out)
	d.line.cut(true)
	view.Print(d.app.out, "%s\n", s.Paint(view.Bad, "── the line of Dunmarrow is cut"))
	time.Sleep(offlineFor)
	d.line.cut(false)
	view.Print(d.app.out, "%s\n", s.Paint(view.Good, "── the line of Dunmarrow works again"))
	return nil
}

// compare holds how the sites are against what was expected.
func (d *fleetDemo) compare(ctx context.Context) error {
	if err := d.run(ctx, "How it ended", "anna", 0, "rollout", "show", "winter", "--in",
		"sites"); err != nil {
		return err
	}
	if err := d.run(ctx, "", "anna", 0, "fleet", "match", "--in", "sites", "--by",
		"site"); err != nil {
		return err
	}
	cmd, err := d.command(
		ctx,
		"anna",
		"fleet",
		"match",
		"--in",
		"sites",
		"--by",
		"site",
		"--format",
		"json",
	)
	if err != nil {
		return err
	}
	out, err := cmd.Output()
	if err != nil {
		return err
	}
	var tallies []fleet.Tally
	if err := json.Unmarshal(out, &tallies); err != nil {
		return err
	}
	for _, s := range demoSites {
		for _, t := range tallies {
			if t.Site == s.name && (t.Devices != s.devices || t.Statuses["current"] != s.current) {
				return fmt.Errorf("%s has %d devices, %d of them current, not %d and %d", s.name, t.Devices,
					t.Statuses["current"], s.devices, s.current)
			}
		}
		for _, of := range [][2]string{{"anna", filepath.Join("sites", s.folder)}, {"box-" + s.folder,
			"box-" + s.folder}} {
			if err := d.quietly(ctx, of[0], "-C", of[1], "ledger", "check"); err != nil {
				return err
			}
		}
	}
	return nil
}

// line is a connection between a site and the office that can be cut.
type line struct {
	listen net.Listener
	to     string
	mu     sync.Mutex
	broken bool
	open   map[net.Conn]bool
}

func newLine(to string) (*line, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	out := &line{listen: l, to: to, open: map[net.Conn]bool{}}
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go out.carry(c)
		}
	}()
	return out, nil
}

// keep has a connection end with the next cut; false: the line is cut.
func (l *line) keep(c net.Conn) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	if !l.broken {
		l.open[c] = true
	}
	return !l.broken
}

func (l *line) carry(c net.Conn) {
	defer func() { _ = c.Close() }()
	if !l.keep(c) {
		return
	}
	far, err := net.Dial("tcp", l.to)
	if err != nil {
		return
	}
	defer func() { _ = far.Close() }()
	if !l.keep(far) {
		return
	}
	go func() { _, _ = io.Copy(far, c); _ = far.Close() }() // it ends when either side does
	_, _ = io.Copy(c, far)
}

// cut cuts the line, or has it work again.
func (l *line) cut(broken bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.broken = broken
	for c := range l.open {
		if broken {
			_ = c.Close()
		}
		delete(l.open, c)
	}
}

func (l *line) close() {
	_ = l.listen.Close()
	l.cut(true)
}
