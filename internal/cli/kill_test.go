package cli_test

import (
	"bufio"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/job"
)

// patient is a site whose devices take their time, so that each step can be met.
const patient = `site: Marrow Hill Locks
login: {user: keeper, password: quoin-and-sluice}
pace: {answer: 60ms, write: 400ms, restart: 500ms, settle: 300ms}
devices:
  - {name: cam-11, kind: camera, model: WX-40, hardware: B, serial: WX4-10011, version: 3.1.0, host: 11, faults: {rate: 400000}}
  - {name: cam-21, kind: camera, model: WX-40, hardware: B, serial: WX4-10021, version: 3.1.0, host: 21, faults: {sick: true, rate: 400000}}
  - {name: gate-1, kind: gate, model: TG-200, hardware: "2", serial: TG2-00101, version: K42, host: 101, faults: {rate: 400000}}
images:
  - {maker: Wexcombe, models: [WX-40], version: 3.1.0, file: wx40_3.1.0.bin, bytes: 200000}
  - {maker: Wexcombe, models: [WX-40], version: 3.2.1, file: wx40_3.2.1.bin, bytes: 200000}
  - {maker: Tollgarth, models: [TG-200], version: K42, file: tg200-K42.img, bytes: 200000}
  - {maker: Tollgarth, models: [TG-200], version: K44, file: tg200-K44.img, bytes: 200000}
`

// catena runs the built program in dir and returns what it printed.
func catena(t *testing.T, dir string, args ...string) string {
	cmd := command(dir, args...)
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "catena %v: %s", args, out)
	return string(out)
}

// interrupted is what track prints of an interrupted job; its exit code says so, too.
func interrupted(t *testing.T, dir string, more ...string) string {
	cmd := command(dir, append([]string{"track", "--once"}, more...)...)
	out, err := cmd.Output()
	var code *exec.ExitError
	require.ErrorAs(t, err, &code)
	assert.Equal(t, 1, code.ExitCode())
	return string(out)
}

func command(dir string, args ...string) *exec.Cmd {
	cmd := bounded("catena", args...)
	cmd.Dir = dir
	cmd.Env = append(os.Environ(), "CATENA_LOGIN=keeper:quoin-and-sluice",
		"CATENA_PASSPHRASE=a swan a day", "CATENA_PASSWORD=quoin-and-sluice",
		"CATENA_SHELF="+filepath.Join(dir, "shelf"))
	return cmd
}

// patientSite starts the site, and returns its folder, scanned and with a full shelf, and a
// function that stops the site and returns what it says at its end.
func patientSite(t *testing.T, scenario string) (dir string, stop func() string) {
	dir = t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "patient.yaml"), []byte(scenario), 0o600))
	s := startSim(func(err error) { require.NoError(t, err) }, dir,
		filepath.Join(dir, "shelf", "families"),
		[]string{"patient.yaml", "--images", "firmware"})
	var once sync.Once
	stop = func() string {
		once.Do(s.stop)
		return s.said
	}
	t.Cleanup(func() { stop() })
	catena(t, dir, "new", "Locks", "-C", dir, "--adapter", s.adapter, "--range", s.net+".0/24")
	catena(t, dir, "scan", "--patience", "10s")
	catena(t, dir, "shelf", "add", "firmware")
	return dir, stop
}

// TestKilledInEveryStep kills the program with SIGKILL as soon as a device has started a step.
// Then the ledger is whole and says where every device was; whoever looks is told, what no one
// knows is a ?, nothing is sent to what was left open; and resume brings every device to its
// end, with no image sent twice that the device could tell of.
func TestKilledInEveryStep(t *testing.T) {
	for _, c := range []struct {
		step      job.Step
		returning bool
	}{
		{job.Checking, false}, {job.Sending, false}, {job.Writing, false}, {job.Restarting, false},
		{job.Proving, false},
		{job.Sending, true}, {job.Restarting, true}, {job.Proving, true},
	} {
		name := string(c.step)
		if c.returning {
			name += " back"
		}
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			dir, stop := patientSite(t, patient)

			seen := killAt(t, dir, c.step, c.returning)

			var state job.State
			require.NoError(t, json.Unmarshal([]byte(interrupted(t, dir, "--format", "json")),
				&state))
			assert.True(t, state.Interrupted())
			assert.Contains(t, interrupted(t, dir), "Continue: catena resume j1")
			require.Len(t, state.Devices, 3, "no device is forgotten")
			for _, d := range state.Devices {
				assert.GreaterOrEqual(t, order(d.Step, (d.Direction == job.Back)), seen[d.Name],
					"the ledger has %s at least where it was seen", d.Name)
			}
			assert.Contains(t, catena(t, dir, "ledger", "check"), "The ledger is intact")
			list := catena(t, dir, "list")
			assert.Contains(t, list, "Job j1 was interrupted: ")
			if c.step != job.Checking {
				assert.Regexp(t, ` \? +interrupted`, list)
			}
			out, _ := command(dir, "flash", "cam-21", "--yes", "--patience",
				"proving=300ms", "--patience", "grace=1s").CombinedOutput()
			if d := state.Devices[1]; !d.Step.End() && d.Step != job.Waiting {
				assert.Contains(t, string(out), "skipped cam-21", "nothing is sent to it")
			}

			out, _ = command(dir, "resume", "--patience", "proving=300ms", "--patience",
				"grace=1s").
				CombinedOutput() // cam-21 returns: 3
			list = catena(t, dir, "list")
			assert.Regexp(t, `cam-11 .*3\.2\.1 +current`, list, "%s", out)
			assert.Regexp(t, `gate-1 .*K44 +current`, list, "%s", out)
			assert.Regexp(t, `cam-21 .*3\.1\.0 +behind`, list, "%s", out)
			said := stop()
			assert.Contains(t, said, "Writes interrupted: 0.")
			assert.Contains(t, said, "gate-1 1", "the gate can tell what it holds")
		})
	}
}

// atRandom is a site of thirty devices with daisy chains, lockstep sets and devices that fail in
// every way, as fast as its stand-ins go: three chambers of nine, and three cameras more. lines
// are those of site.yaml, ends how each device ends; the second of a set may not be started at all.
func atRandom() (scenario, lines string, ends map[string]string) {
	var devices, uplinks, sets []string
	ends = map[string]string{}
	add := func(name, end, format string, args ...any) {
		host := len(devices) + 11
		kind, model, serial := "camera", "WX-40, hardware: B", "WX4-10"
		if strings.HasPrefix(name, "gate") {
			kind, model, serial = "gate", `TG-200, hardware: "2"`, "TG2-00"
		}
		ends[name] = end
		devices = append(devices, fmt.Sprintf(
			"  - {name: %s, kind: %s, model: %s, serial: %s%d, host: %d, "+format+"}\n",
			append([]any{name, kind, model, serial, host, host}, args...)...))
	}
	for c := 1; c <= 3; c++ {
		cam, gate := fmt.Sprintf("cam-%d", c), fmt.Sprintf("gate-%d", c)
		add(cam+"1", "done 3.2.1", "version: 3.1.0")
		add(cam+"2", "returned 3.1.0", "version: 3.1.0, faults: {sick: true}")
		add(cam+"3", "returned 3.1.0", "version: 3.1.0, faults: {keeps_version: true}")
		add(cam+"4", "done 3.2.1", "version: 3.1.0, restarts: asked")
		add(gate+"1", "done K44", "version: K42, behind: [%s2]", gate)
		add(gate+"2", "done K44", "version: K42, behind: [%s3]", gate)
		add(gate+"3", "done K44", "version: K41")
		add(gate+"4", "returned K42", "version: K42, faults: {sick: true}")
		add(gate+"5", "returned K42", "version: K42")
		for i := 1; i <= 2; i++ {
			uplinks = append(uplinks, fmt.Sprintf("{through: %s%d, reach: [%[1]s%[3]d]}", gate, i, i+1))
		}
		sets = append(sets, fmt.Sprintf("{name: pair-%d, of: [%s4, %[2]s5]}", c, gate))
	}
	for _, name := range []string{"cam-41", "cam-42", "cam-43"} {
		add(name, "done 3.2.1", "version: 3.1.0")
	}
	return atRandomHead + strings.Join(devices, "") + atRandomImages,
		"uplinks: [" + strings.Join(uplinks, ", ") + "]\nlockstep: [" +
			strings.Join(sets, ", ") + "]\n", ends
}

const (
	atRandomHead = `site: Marrow Hill Locks
login: {user: keeper, password: quoin-and-sluice}
pace: {write: 100ms, restart: 150ms}
devices:
`
	atRandomImages = `images:
  - {maker: Wexcombe, models: [WX-40], version: 3.1.0, file: wx40_3.1.0.bin, bytes: 200000}
  - {maker: Wexcombe, models: [WX-40], version: 3.2.1, file: wx40_3.2.1.bin, bytes: 200000}
  - {maker: Tollgarth, models: [TG-200], version: K41, file: tg200-K41.img, bytes: 200000}
  - {maker: Tollgarth, models: [TG-200], version: K42, file: tg200-K42.img, bytes: 200000}
  - {maker: Tollgarth, models: [TG-200], version: K44, file: tg200-K44.img, bytes: 200000, needs: ">= K42"}
`
)

// TestKilledAtRandom kills the program at random instants, and the resume of it, too, until one
// comes to its end. CATENA_KILLS sets how many nights are played.
func TestKilledAtRandom(t *testing.T) {
	nights := 10
	if n, err := strconv.Atoi(os.Getenv("CATENA_KILLS")); err == nil {
		nights = n
	}
	for night := range nights {
		t.Run(strconv.Itoa(night), func(t *testing.T) {
			t.Parallel()
			r := rand.New(rand.NewPCG(uint64(night), 9))
			scenario, lines, want := atRandom()
			dir, stop := patientSite(t, scenario)
			f, err := os.OpenFile(filepath.Join(dir, "site.yaml"), os.O_APPEND|os.O_WRONLY, 0)
			require.NoError(t, err)
			_, err = f.WriteString(lines)
			require.NoError(t, errors.Join(err, f.Close()))
			args := []string{"flash", "--all", "--yes", "--patience", "proving=300ms", "--patience",
				"grace=1s"}
			kills := 0
			for alive := true; alive; {
				cmd := command(dir, args...)
				var out strings.Builder
				cmd.Stdout, cmd.Stderr = &out, &out
				require.NoError(t, cmd.Start())
				if kills < 4 {
					after := time.Duration(r.IntN(3000)) * time.Millisecond
					// it may have ended: no matter
					time.AfterFunc(after, func() { _ = cmd.Process.Kill() })
				}
				_ = cmd.Wait()
				alive = cmd.ProcessState.ExitCode() < 0 // it was killed
				kills++
				if strings.Contains(catena(t, dir, "jobs"), "\nj1 ") { // it had started
					args = []string{"resume", "j1", "--patience", "proving=300ms", "--patience",
						"grace=1s"}
				}
			}
			var state job.State
			// 3: some returned
			out, _ := command(dir, "track", "j1", "--once", "--format", "json").Output()
			require.NoError(t, json.Unmarshal(out, &state))
			ends := map[string]string{}
			for _, d := range state.Devices {
				ends[d.Name] = string(d.Step) + " " + d.Version
			}
			for c := 1; c <= 3; c++ { // it returned with the other one, or was not started any more
				second := fmt.Sprintf("gate-%d5", c)
				if ends[second] == "skipped " {
					want[second] = ends[second]
				}
				assert.Regexp(t, second+` .* K42 `, catena(t, dir, "list"), "the set goes together")
			}
			assert.Equal(t, want, ends)
			assert.Contains(t, catena(t, dir, "ledger", "check"), "The ledger is intact")
			said := stop()
			t.Logf("killed %d times. %s", kills-1, said)
			assert.Contains(t, said, "Writes interrupted: 0. Restarts over a transfer behind: 0.")
			for c := 1; c <= 3; c++ {
				assert.Regexp(t, fmt.Sprintf(`gate-%d1 1, gate-%[1]d2 1, gate-%[1]d3 2, gate-%[1]d4 2`, c),
					said, "no image twice")
			}
		})
	}
}

// Commands that write the shelf, packs, logins, targets and saved settings are killed at random
// instants, too: what was there before is there and whole, and the same command comes to its end.
// CATENA_KILLS sets how often each is killed.
func TestKilledWhileFilesAreWritten(t *testing.T) {
	kills := 2
	if n, err := strconv.Atoi(os.Getenv("CATENA_KILLS")); err == nil {
		kills = n
	}
	dir, _ := patientSite(t, patient)
	catena(t, dir, "login", "add", "--user", "keeper") // its password is CATENA_PASSWORD
	catena(t, dir, "order", "new", "night-1", "cam-11", "--accept", "all")
	seed := uint64(time.Now().UnixNano())
	r := rand.New(rand.NewPCG(seed, 9))
	for i, args := range [][]string{
		{"shelf", "add", "more"},
		{"login", "add", "--model", "TG-200", "--user", "admin"},
		{"target", "set", "newest", "--model", "WX-40"},
		{"settings", "save", "cam-11"},
		{"pack", "night-1", "--out", "night-1.pack"},
		{"hold", "gate-1", "--because", "a trial"},
		{"name", "gate-1", "gate-one"},
	} {
		if i == 0 { // images that the shelf does not have
			require.NoError(t, os.Mkdir(filepath.Join(dir, "more"), 0o700))
			for n := range 4 {
				image := []byte(strings.Repeat(strconv.Itoa(n), 3<<20))
				require.NoError(t, os.WriteFile(filepath.Join(dir, "more", fmt.Sprintf("%d.bin", n)),
					image, 0o600))
				require.NoError(t, os.WriteFile(filepath.Join(dir, "more", fmt.Sprintf("%d.yaml", n)),
					fmt.Appendf(nil, "manifest: 1\nvendor: Wexcombe\nmodels: [WX-90]\nversion: %d.0\n"+
						"file: %d.bin\nsha256: %x\n", n+1, n, sha256.Sum256(image)), 0o600))
			}
		}
		startedAt := time.Now()
		catena(t, dir, "version")
		usual := 4 * time.Since(startedAt) // a command that reads the site takes about so long
		for range kills {
			cmd := command(dir, args...)
			require.NoError(t, cmd.Start())
			time.Sleep(time.Duration(r.Int64N(int64(usual))))
			_ = cmd.Process.Kill() // it may have ended: no matter
			_ = cmd.Wait()
			assert.Contains(t, catena(t, dir, "ledger", "check"), "The ledger is intact", "seed %d", seed)
			assert.Contains(t, catena(t, dir, "shelf", "check"), "nothing is damaged", "seed %d", seed)
			assert.Contains(t, catena(t, dir, "login", "list"), "the site", "seed %d", seed)
			assert.Contains(t, catena(t, dir, "list"), "cam-11", "seed %d", seed)
			catena(t, dir, "order", "check", "night-1")
		}
		if out, err := command(dir, args...).CombinedOutput(); err != nil { // a killed one was done
			assert.Regexp(t, "already|did you mean gate-one", string(out), "%v, seed %d", args, seed)
		}
	}
	assert.Contains(t, catena(t, dir, "unpack", "night-1.pack", "elsewhere"), "Made the site folder")
	assert.Regexp(t, `(?m)^cam-11 .*opaque`, catena(t, dir, "settings", "list"))
	assert.Contains(t, catena(t, dir, "list"), "gate-one")
	for _, left := range []string{".unpack-*", "*.tmp*", "settings/*.tmp*"} {
		found, err := filepath.Glob(filepath.Join(dir, left))
		require.NoError(t, err)
		assert.Empty(t, found)
	}
}

// order puts the steps of a device that ends returned in a row.
func order(s job.Step, returning bool) int {
	steps := []job.Step{job.Waiting, job.Checking, job.Sending, job.Writing, job.Restarting,
		job.Proving}
	for i, x := range steps {
		if x == s {
			if returning {
				return i + len(steps)
			}
			return i
		}
	}
	return 100
}

// killAt flashes all devices and kills the program when one starts the step. It
// returns how far each device was seen to be.
func killAt(t *testing.T, dir string, step job.Step, returning bool) map[string]int {
	cmd := command(dir, "flash", "--all", "--yes", "--format", "json", "--patience",
		"proving=300ms", "--patience", "grace=1s")
	out, err := cmd.StdoutPipe()
	require.NoError(t, err)
	var said strings.Builder
	cmd.Stderr = &said
	require.NoError(t, cmd.Start())
	seen := map[string]int{}
	lines := bufio.NewScanner(out)
	met := false
	for lines.Scan() {
		var e job.Event
		require.NoError(t, json.Unmarshal(lines.Bytes(), &e), lines.Text())
		seen[e.Name] = order(e.Step, (e.Direction == job.Back))
		if e.Step == step && (e.Direction == job.Back) == returning {
			met = true
			require.NoError(t, cmd.Process.Kill())
			break
		}
	}
	_ = cmd.Wait() // it was killed
	require.True(t, met, "no device came to %s: %s", step, said.String())
	return seen
}

// TestReaderWhoGoesAwayStopsNothing closes the other end of the output while a
// device is being flashed: the job continues to its end.
func TestReaderWhoGoesAwayStopsNothing(t *testing.T) {
	dir, _ := patientSite(t, patient)
	cmd := command(dir, "flash", "cam-11", "--yes", "--format", "json")
	out, err := cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	require.True(t, bufio.NewScanner(out).Scan())
	require.NoError(t, out.Close())
	assert.NoError(t, cmd.Wait())
	assert.Regexp(t, `cam-11 +3\.1\.0 → 3\.2\.1 +done`, catena(t, dir, "track", "--once"))
}

// signalled flashes two devices, one after the other, sends the signal while the
// first is being sent its image, and returns the exit code and the states after it.
func signalled(t *testing.T, dir string, s os.Signal) (int, map[string]job.DeviceState) {
	cmd := command(dir, "flash", "cam-11", "gate-1", "--yes", "--parallel", "1", "--format", "json")
	out, err := cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	sent := false
	for lines := bufio.NewScanner(out); lines.Scan(); {
		var e job.Event
		require.NoError(t, json.Unmarshal(lines.Bytes(), &e))
		if e.Step == job.Sending && !sent {
			sent = true
			require.NoError(t, cmd.Process.Signal(s))
		}
	}
	_ = cmd.Wait() // the code says it
	require.True(t, sent)
	var state job.State
	require.NoError(t, json.Unmarshal([]byte(catena(t, dir, "track", "--once", "--format", "json")),
		&state))
	devices := map[string]job.DeviceState{}
	for _, d := range state.Devices {
		devices[d.Name] = d
	}
	return cmd.ProcessState.ExitCode(), devices
}

func TestCtrlCFinishesWhatWasBegun(t *testing.T) {
	t.Parallel()
	dir, _ := patientSite(t, patient)
	code, devices := signalled(t, dir, os.Interrupt)
	assert.Equal(t, 3, code, "not everything was done")
	assert.Equal(t, job.Done, devices["cam-11"].Step)
	assert.Equal(t, job.Skipped, devices["gate-1"].Step)
	assert.Contains(t, devices["gate-1"].Reason, "the job was stopped before this device started")
}

func TestAClosedWindowStopsNothing(t *testing.T) {
	if runtime.GOOS == "windows" {
		t.Skip("windows are closed otherwise there")
	}
	t.Parallel()
	dir, _ := patientSite(t, patient)
	code, devices := signalled(t, dir, syscall.SIGHUP)
	assert.Equal(t, 0, code)
	assert.Equal(t, job.Done, devices["cam-11"].Step)
	assert.Equal(t, job.Done, devices["gate-1"].Step)
}
