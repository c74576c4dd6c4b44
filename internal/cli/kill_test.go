package cli_test

import (
	"bufio"
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"syscall"
	"testing"

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
  - {name: cam-21, kind: camera, model: WX-40, hardware: B, serial: WX4-10021, version: 3.1.0, host: 21, faults: {keeps_version: true, rate: 400000}}
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
	cmd := exec.Command("catena", args...)
	cmd.Dir = dir
	cmd.Env = append(os.Environ(), "CATENA_LOGIN=keeper:quoin-and-sluice",
		"CATENA_SHELF="+filepath.Join(dir, "shelf"))
	return cmd
}

// patientSite starts the site, and returns its folder: scanned, with a full shelf.
func patientSite(t *testing.T) string {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "patient.yaml"), []byte(patient), 0o600))
	s := startSim(func(err error) { require.NoError(t, err) }, dir,
		[]string{"patient.yaml", "--images", "firmware"})
	t.Cleanup(s.stop)
	catena(t, dir, "new", "Locks", "-C", dir, "--adapter", s.adapter, "--range", s.net+".0/24")
	catena(t, dir, "scan")
	catena(t, dir, "shelf", "add", "firmware")
	return dir
}

// TestKilledInEveryStep kills the program with SIGKILL as soon as a device has
// begun a step. Then the ledger opens and is whole, says where every device was,
// and no device is lost: once it has come to rest it answers with a version that
// the shelf knows, and can be flashed to its end.
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
			dir := patientSite(t)

			seen := killAt(t, dir, c.step, c.returning)

			var state job.State
			require.NoError(t, json.Unmarshal([]byte(interrupted(t, dir, "--format", "json")),
				&state))
			assert.True(t, state.Interrupted())
			assert.Contains(t, interrupted(t, dir), "The Catena that worked on this job is gone")
			require.Len(t, state.Devices, 3, "no device is forgotten")
			for _, d := range state.Devices {
				assert.GreaterOrEqual(t, order(d.Step, (d.Direction == job.Back)), seen[d.Name],
					"the ledger has %s at least where it was seen", d.Name)
			}
			assert.Contains(t, catena(t, dir, "ledger", "check"), "The ledger is whole")

			// The truth is the devices': each comes to rest, and answers.
			answering := 0
			for range 40 { // scans; each takes as long as the protocols do
				var found struct{ Devices []struct{ Access string } }
				require.NoError(t, json.Unmarshal([]byte(catena(t, dir, "scan", "--format",
					"json")), &found))
				answering = 0
				for _, d := range found.Devices {
					if d.Access == "ok" {
						answering++
					}
				}
				if answering == 3 {
					break
				}
			}
			require.Equal(t, 3, answering, "each device answers")
			// one may be there already
			out, _ := command(dir, "flash", "cam-11", "gate-1", "--yes").CombinedOutput()
			list := catena(t, dir, "list")
			assert.Regexp(t, `cam-11 .*3\.2\.1 +current`, list, "%s", out)
			assert.Regexp(t, `gate-1 .*K44 +current`, list, "%s", out)
			assert.Regexp(t, `cam-21 .*3\.1\.0 +behind`, list)
		})
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

// killAt flashes all devices and kills the program when one begins the step. It
// returns how far each device was seen to be.
func killAt(t *testing.T, dir string, step job.Step, returning bool) map[string]int {
	cmd := command(dir, "flash", "--all", "--yes", "--format", "json", "--patience",
		"proving=300ms")
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
// device is being flashed: the job goes on to its end.
func TestReaderWhoGoesAwayStopsNothing(t *testing.T) {
	dir := patientSite(t)
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
	code, devices := signalled(t, patientSite(t), os.Interrupt)
	assert.Equal(t, 3, code, "not everything was done")
	assert.Equal(t, job.Done, devices["cam-11"].Step)
	assert.Equal(t, job.Skipped, devices["gate-1"].Step)
	assert.Contains(t, devices["gate-1"].Reason, "the job was stopped before it")
}

func TestAClosedWindowStopsNothing(t *testing.T) {
	if runtime.GOOS == "windows" {
		t.Skip("windows are closed otherwise there")
	}
	t.Parallel()
	code, devices := signalled(t, patientSite(t), syscall.SIGHUP)
	assert.Equal(t, 0, code)
	assert.Equal(t, job.Done, devices["cam-11"].Step)
	assert.Equal(t, job.Done, devices["gate-1"].Step)
}
