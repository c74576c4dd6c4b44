package cli

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"catena/internal/advice"
	"catena/internal/atomicfile"
	"catena/internal/cli/view"
	"catena/internal/device"
	"catena/internal/dialect"
	"catena/internal/dialect/scripted"
	"catena/internal/firmware"
	"catena/internal/job"
	"catena/internal/plan"
	"catena/internal/words"
	"catena/internal/workspace"
)

func (a *app) familyTryCmd() *cobra.Command {
	var t trial
	c := &cobra.Command{
		Use:   "try FILE ADDRESS",
		Short: "Run a family file against a device, step by step",
		Long: `Run the steps recognise, login and read with one device, and show for each what was sent,
what came back and which values were extracted. Passwords and tokens are blanked. All other steps
are shown as they would be sent: a mistake in them shows here. Nothing on the device is changed
unless you add --update, which sends an image and follows the device, or --settings, which reads
its settings and writes them back unchanged. Use both on a bench.

The login is CATENA_LOGIN, with CATENA_SECRET_NAME for each secret that the family requires, or the
stored login of the device. With --record the device's answers are saved without secrets, for catena
family test. A recording with an update in families/recordings/ serves rehearse --once, too.`,
		Example: `  catena family try families/tollgarth-gates.yaml 10.20.4.101
  catena family try families/tollgarth-gates.yaml https://10.20.4.101:8443 --record gate-1.json
  catena family try families/harrow-dene-drives.yaml drive-1 --update hd7-7.5.bin \
      --record families/recordings/hd7.json
  catena family try families/harrow-dene-drives.yaml drive-1 --settings`,
		Args: exactly(2, "a family file and an address"),
		RunE: func(c *cobra.Command, args []string) error {
			return a.familyTry(c.Context(), t, args[0], args[1])
		},
	}
	c.Flags().StringVar(&t.record, "record", "", "save the device's answers in this file")
	c.Flags().StringVar(&t.update, "update", "", "send the device this image and restart it")
	c.Flags().StringVar(&t.component, "component", firmware.Main, "the component that gets the image")
	c.Flags().BoolVar(&t.settings, "settings", false, "read the settings and carried values, write "+
		"them back unchanged, and compare them")
	c.Flags().BoolVar(&t.yes, "yes", false, "write to the device without asking")
	return c
}

// tryRest shows the steps of the family that do not read, and takes those that were asked for.
func (a *app) tryRest(ctx context.Context, t trial, r *scripted.Recorder, as dialect.Session,
	address string) error {
	a.say("\nAll other steps of the family, filled in with the values of this device and not sent:")
	if wrong := r.Rest(t.update != ""); wrong != nil {
		return fmt.Errorf("a step cannot be filled in: %w", wrong)
	}
	if t.settings {
		if err := a.trySettings(ctx, t, r); err != nil {
			return err
		}
	}
	if t.update == "" {
		return nil
	}
	return a.tryUpdate(ctx, t, r, as, address)
}

// trial is what family try is asked for.
type trial struct {
	record, update, component string
	settings, yes             bool
}

// program is the dialect of a family file that says how devices are talked to.
func program(file string) (scripted.Dialect, bool, error) {
	f, err := workspace.ReadFamily(file)
	if err != nil {
		return scripted.Dialect{}, false, err
	}
	if f.Program == nil {
		return scripted.Dialect{}, false, usage("%s describes no protocol: it has no "+
			"recognise:, read: …", file)
	}
	return scripted.New(f, 0), f.PlainBasic, nil
}

func (a *app) familyTry(ctx context.Context, t trial, file, where string) error {
	d, plain, err := program(file)
	if err != nil {
		return err
	}
	reached, leave, err := a.reach(ctx, d, where)
	defer leave()
	if err != nil {
		return err
	}
	d, at, as := reached.Dialect, reached.At, reached.As
	as.Secrets = a.givenSecrets(d, as.Secrets)
	at.Ask = func(_ context.Context, what string, _ bool) error {
		if err := a.confirm("It asks: " + what + ". Is it done?"); err != nil {
			return device.Because(device.NeedsPerson, "%s", what)
		}
		return nil
	}
	as.PlainBasic = plain
	if t.record != "" {
		if err := notThere(t.record); err != nil {
			return err
		}
	}
	s := a.style(a.out)
	recorder := d.Recorder(at, as, func(seen scripted.Seen) { a.tellSeen(s, seen) })
	r, children, err := recorder.First(ctx)
	if err == nil {
		a.say("%s", s.Paint(view.Good, fmt.Sprintf("\n%s is %s %s, serial number %s, and runs %s.",
			where, words.An(r.Vendor), r.Model, cmp.Or(r.Serial, "not told"), r.Version)))
	} else {
		err = fmt.Errorf("%s %w", where, err)
	}
	if len(children) > 0 {
		behind := view.Table{Columns: []string{"child", "name", "model", "version"}}
		for _, c := range children {
			behind.Add(c.Unit, c.Called, c.Model, c.Version)
		}
		a.say("")
		behind.Draw(a.out, s)
	}
	if err == nil {
		err = a.tryRest(ctx, t, recorder, dialect.Guard(d, at, r.Identity, recorder), at.Address)
	}
	err = errors.Join(err, recorder.Close(context.WithoutCancel(ctx)))
	if t.record != "" {
		if written := writeRecording(t.record, recorder.Recording()); written != nil {
			return written
		}
		a.say("Its answers are in %s, without secrets. Replay them: catena family test %s %[1]s",
			t.record, advice.Quoted(file))
	}
	var cause *device.Cause
	if errors.As(err, &cause) && cause.Problem == device.NoSecret {
		return fmt.Errorf("%w; give it in CATENA_SECRET_%s", err, strings.ToUpper(cause.Detail))
	}
	return err
}

// givenSecrets adds to the secrets of a login what the environment has of those that a family asks
// for.
func (a *app) givenSecrets(d scripted.Dialect, has map[string]string) map[string]string {
	for _, s := range d.Secrets() {
		if given := a.getenv("CATENA_SECRET_" + strings.ToUpper(s)); given != "" {
			if has = maps.Clone(has); has == nil {
				has = map[string]string{}
			}
			has[s] = given
		}
	}
	return has
}

func writeRecording(file string, r scripted.Recording) error {
	return atomicfile.Write(file, 0o644, func(w io.Writer) error {
		e := json.NewEncoder(w)
		e.SetEscapeHTML(false)
		e.SetIndent("", "  ")
		return e.Encode(r)
	})
}

// reach is how to talk to what a person has named. The site stays open, and the device taken, until
// leave is called.
func (a *app) reach(ctx context.Context, d scripted.Dialect, where string) (t plan.Trial,
	leave func(), err error) {
	leave = func() {}
	if _, err := a.siteDir(); err != nil {
		t.Dialect, t.At = d, dialect.At{Endpoint: d.Find(ctx, where)}
		t.As, _, err = a.login()
		return t, leave, err
	}
	w, err := a.openSite()
	if err != nil {
		return t, leave, err
	}
	x, err := a.access(w)
	if err == nil {
		t, err = w.Trial(ctx, x, d, where)
	}
	if err != nil {
		w.Close()
		var busy *job.BusyError
		switch {
		case errors.As(err, &busy):
			err = refused("%w", err)
		case errors.Is(err, plan.ErrNoChildren):
			err = usage("%s %w", where, err)
		}
		return t, leave, err
	}
	leave = func() { t.Close(); w.Close() }
	if !t.Logged { // a person has named the device: then one that is given for all will do
		t.As, _, err = a.login()
	}
	return t, leave, errors.Join(err, t.Verify(ctx))
}

// tellSeen shows one exchange.
func (a *app) tellSeen(s view.Style, seen scripted.Seen) {
	state := "ok"
	paint := view.Good
	if seen.Err != nil {
		state, paint = seen.Err.Error(), view.Bad
	}
	if seen.Unsent && seen.Err == nil {
		state, paint = "not sent", view.Quiet
	}
	if seen.When != "" {
		state += "; only when " + seen.When
	}
	status := ""
	if seen.Status != 0 {
		status = fmt.Sprintf(" %d", seen.Status)
	}
	if seen.Step == nil { // an interlock
		view.Print(a.out, "\n%s\n", seen.Stage)
	} else {
		view.Print(a.out, "\n%s  line %d  %s%s  %s\n", seen.Stage, seen.Step.Line, seen.Step.Word, status,
			s.Paint(paint, state))
	}
	for _, lines := range []struct {
		mark string
		of   []string
	}{{"→", seen.Sent}, {"←", seen.Got}, {"=", seen.Took}} {
		for _, line := range lines.of {
			view.Print(a.out, "    %s %s\n", lines.mark, line)
		}
	}
}

// Between two looks at a device that is tried, and how long it is looked at.
const (
	tryEvery = 500 * time.Millisecond
	tryFor   = 15 * time.Minute
)

// tryUpdate sends an image and follows it, without the care of a job: for a device on a bench.
func (a *app) tryUpdate(ctx context.Context, t trial, r *scripted.Recorder, as dialect.Session,
	address string) error {
	f, err := os.Open(t.update)
	if err != nil {
		return usage("%w", err)
	}
	defer func() { _ = f.Close() }()
	h := sha256.New()
	size, err := io.Copy(h, f)
	if err != nil {
		return err
	}
	if !t.yes {
		a.say("This writes %s to %s, without the checks of a job, and it cannot be rolled back.",
			filepath.Base(t.update), address)
		if err := a.confirm("Send it?"); err != nil {
			return err
		}
	}
	startedAt := time.Now()
	now, err := r.Bring(ctx, as, t.component, dialect.Image{ReaderAt: f, Size: size,
		SHA256: fmt.Sprintf("%x", h.Sum(nil))}, func() bool {
		time.Sleep(tryEvery)
		return time.Since(startedAt) < tryFor
	})
	switch {
	case errors.Is(err, device.ErrUnsupported):
		return usage("the family has no update:, so the device cannot be updated")
	case err == nil:
		a.say("\nIt runs %s and is healthy, after %s.", now.Of(t.component),
			time.Since(startedAt).Round(time.Second))
	}
	return err
}

// trySettings reads the settings and the carried values of a device, writes them back, and compares
// them.
func (a *app) trySettings(ctx context.Context, t trial, r *scripted.Recorder) error {
	if !t.yes {
		a.say("\nThis reads the settings of the device and writes the same ones back.")
		if err := a.confirm("Write them? The device may restart."); err != nil {
			return err
		}
	}
	said := func(what string, err error) error {
		switch {
		case errors.Is(err, device.ErrUnsupported):
			a.say("The family has no %s.", what)
			return nil
		case errors.Is(err, dialect.ErrNotTaken):
			return fmt.Errorf("after they were written back, its %s differ from those that were read", what)
		case err == nil:
			a.say("Its %s were read, written back, and are the same.", what)
		}
		return err
	}
	startedAt := time.Now()
	settings, carried := r.WriteBack(context.WithoutCancel(ctx), func(bool) bool {
		time.Sleep(tryEvery)
		return time.Since(startedAt) < tryFor
	})
	return errors.Join(said("settings", settings), said("carried values", carried))
}

func (a *app) familyTestCmd() *cobra.Command {
	return &cobra.Command{
		Use:   "test FILE RECORDING…",
		Short: "Replay recorded answers, and check that a family still reads them the same",
		Long: `Run a family file against recordings made with catena family try --record. Nothing
leaves this machine. The exit code is 1 if the family sends something else than was recorded, or
reads something else from the answers.`,
		Example: "  catena family test families/tollgarth-gates.yaml gate-1.json\n  catena family test " +
			"families/tollgarth-gates.yaml recordings/*.json",
		Args: atLeast(2, "a family file and a recording"),
		RunE: func(c *cobra.Command, args []string) error {
			return a.familyTest(c.Context(), args[0], args[1:])
		},
	}
}

func (a *app) familyTest(ctx context.Context, file string, recordings []string) error {
	d, _, err := program(file)
	if err != nil {
		return err
	}
	failed := 0
	for _, name := range recordings {
		of := d
		r, err := scripted.ReadRecording(name)
		if r.Unit != "" && d.HasChildren() {
			of = d.Children(0)
		}
		if errors.Is(err, scripted.ErrNoRecording) {
			return usage("%w; make one with: catena family try %s ADDRESS --record FILE", err,
				advice.Quoted(file))
		}
		if err != nil {
			return usage("%w", err)
		}
		different := of.Replay(ctx, r)
		if len(different) == 0 {
			a.say("%s: as recorded, %s.", name, words.Plural(len(r.Exchanges), "exchange"))
			continue
		}
		failed++
		for _, x := range different {
			place := name
			if x.Exchange > 0 {
				place += fmt.Sprintf(", exchange %d", x.Exchange)
			}
			if x.Line > 0 {
				place += fmt.Sprintf(" (%s:%d)", file, x.Line)
			}
			view.Print(a.err, "%s: %s\n", place, x.Text)
		}
	}
	if failed > 0 {
		return fmt.Errorf("%d of %s differ", failed, words.Plural(len(recordings), "recording"))
	}
	return nil
}
