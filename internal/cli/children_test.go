package cli_test

import (
	"cmp"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/job"
)

// signals is a controller with units behind it; more is said of single ones.
func signals(units int, more map[int]string) string {
	var b strings.Builder
	b.WriteString(`site: Marrow Hill Locks
login: {user: keeper, password: quoin-and-sluice}
pace: {write: 300ms, restart: 400ms}
devices:
  - name: signals-1
    kind: controller
    model: TC-12
    serial: TC-00120
    version: "3.0"
    host: 120
    children:
`)
	for i := 1; i <= units; i++ {
		version := "1.4"
		fmt.Fprintf(&b, "      - {name: lamp-%d, model: TU-1, serial: TU-%04d, version: %q%s}\n", i, i,
			version, more[i])
	}
	b.WriteString(`images:
  - {maker: Tollgarth, models: [TC-12], version: "3.0", file: tc12-3.0.bin, bytes: 40000}
  - {maker: Tollgarth, models: [TC-12], version: "3.1", file: tc12-3.1.bin, bytes: 40000}
  - {maker: Tollgarth, models: [TU-1], version: "1.4", file: tu1-1.4.bin, bytes: 40000}
  - {maker: Tollgarth, models: [TU-1], version: "1.5", file: tu1-1.5.bin, bytes: 40000}
`)
	return b.String()
}

// Twelve units behind a controller: devices of their own, whose image goes to the controller once
// and is installed on two at a time, before the controller's own update; it logs everybody out
// then.
func TestChildren(t *testing.T) {
	t.Parallel()
	dir, stop := patientSite(t, signals(12, map[int]string{5: ", faults: {keeps_version: true}"}))
	list := catena(t, dir, "list")
	assert.Regexp(t, `(?m)^signals-1 .*3\.0 +behind\n└ lamp-1 +via signals-1 +Tollgarth +TU-1 +TU-0001 +1\.4 +behind$`, list)
	assert.Contains(t, catena(t, dir, "list", "--where", `parent == "signals-1"`), "12 devices")
	assert.Regexp(t, `children +lamp-1, lamp-2, .*lamp-12`, catena(t, dir, "show", "signals-1"))
	assert.Regexp(t, `reached through +signals-1`, catena(t, dir, "show", "lamp-3"))

	out, err := command(dir, "flash", "--all", "--yes", "--accept", "all", "--no-pilot", "--patience",
		"proving=5s", "--patience", "grace=2s").CombinedOutput()
	var code *exec.ExitError
	require.ErrorAs(t, err, &code)
	assert.Equal(t, 3, code.ExitCode(), "%s", out)
	text := string(out)
	assert.Regexp(t, `lamp-5 +returned +1\.4 +1\.4 .*it runs 1\.4, not 1\.5`, text)
	assert.Equal(t, 11, len(regexp.MustCompile(`(?m)^lamp-\d+ +done`).FindAllString(text, -1)), text)
	last := strings.LastIndex(text, " proving     back to 1.4")
	require.Positive(t, last, text)
	assert.Less(t, last, strings.Index(text, "signals-1    checking"), "the children go first: %s",
		text)
	assert.Regexp(t, `signals-1 +done +3\.0 +3\.1`, text)

	// back: the controller first, and the older image is stored then
	out, err = command(dir, "rollback", "--job", "j1", "--yes", "--accept", "all",
		"--no-pilot").CombinedOutput()
	require.NoError(t, err, "%s", out)
	assert.Less(t, strings.Index(string(out), "signals-1    done"), strings.Index(string(out),
		"lamp-1 "), "%s", out)
	assert.Equal(t, 12, strings.Count(catena(t, dir, "list"), "1.4 "), "%s", catena(t, dir, "list"))
	assert.Contains(t, catena(t, dir, "ledger", "check"), "The ledger is intact")

	said := stop()
	m := regexp.MustCompile(
		`signals-1 (\d+) for those behind it \((\d+) installed by 12 of them, at most (\d+) at once, (\d+) logins\)`).
		FindStringSubmatch(said)
	require.NotNil(t, m, said)
	// where its short restart was not seen, lamp-5, which fell back, got the older one once more
	assert.Contains(t, []string{"2 23 2", "3 24 2"}, strings.Join(m[1:4], " "),
		"the new one, and the older one; lamp-5, which fell back, got nothing during the rollback: %s", said)
	logins, _ := strconv.Atoi(m[4])
	assert.LessOrEqual(t, logins, 12, "one for all of them, and after each restart")
	assert.Contains(t, said, "Writes interrupted: 0. Restarts over a transfer behind: 0.")
}

// Where the family has it so, the parent goes first; its children are read through it after its
// restart, which has ended the session that they share.
func TestChildrenAfterTheirParent(t *testing.T) {
	t.Parallel()
	dir, stop := patientSite(t, signals(3, nil))
	file := filepath.Join(dir, "shelf", "families", "tollgarth-controllers.yaml")
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(file, []byte(strings.Replace(string(text), "parallel: 2",
		"goes: last\n  parallel: 2", 1)), 0o600))
	out := catena(t, dir, "flash", "--all", "--yes", "--accept", "all", "--no-pilot")
	assert.Less(t, strings.Index(out, "signals-1    done"), strings.Index(out, "lamp-1       sending"),
		out)
	assert.Contains(t, out, "4 done")
	out = catena(t, dir, "rollback", "--job", "j1", "--yes", "--accept", "all", "--no-pilot")
	assert.Less(t, strings.LastIndex(out, "back to 1.4"), strings.Index(out, "signals-1    sending"),
		out)
	assert.Contains(t, stop(), "Writes interrupted: 0. Restarts over a transfer behind: 0.")
}

// What a parent says of its children is hostile, too.
func TestOddChildren(t *testing.T) {
	t.Parallel()
	dir, _ := patientSite(t, strings.NewReplacer("serial: TU-0002", "serial: TU-0001",
		"model: TU-1, serial: TU-0003", "model: TC-12, serial: TC-00120",
		"model: TU-1, serial: TU-0004", "model: TX-9, serial: TU-0004", "serial: TU-0005", `serial: ""`).
		Replace(signals(6, nil)))
	out := catena(t, dir, "scan", "--patience", "10s")
	assert.Regexp(t, `lamp-1 .*silent .*signals-1 lists 2 with its identity TU-0001`, out)
	assert.Regexp(t, `lamp-4 .*TX-9 .*unreadable`, out)
	assert.Regexp(t, `lamp-6 .*1\.4`, out)
	assert.Contains(t, out, "signals-1 lists 1 without an identity; they were skipped")
	assert.Contains(t, out, "signals-1 lists itself as one of its children; that entry was skipped")
}

const handsets = `site: Marrow Hill Locks
login: {user: keeper, password: quoin-and-sluice}
pace: {write: 300ms, restart: 400ms}
devices:
  - name: hub-1
    kind: hub
    model: PK-1
    serial: PK1-00091
    version: "5"
    host: 91
    children:
      - {name: handset-1, model: PH-2, serial: PH2-0001, version: "1.8"}
      - {name: handset-2, model: PH-2, serial: PH2-0002, version: "1.8"}
      - {name: handset-3, model: PH-2, serial: PH2-0003, version: "1.8", hand: 3s}
      - {name: handset-4, model: PH-2, serial: PH2-0004, version: "1.8"FAULT}
images:
  - {maker: Pennick, models: [PK-1], version: "5", file: pk1-5.bin, bytes: 40000}
  - {maker: Pennick, models: [PK-1], version: "6", file: pk1-6.bin, bytes: 40000}
  - {maker: Pennick, models: [PH-2], version: "1.8", file: ph2-1.8.bin, bytes: 40000}
  - {maker: Pennick, models: [PH-2], version: "1.9", file: ph2-1.9.bin, bytes: 40000}
`

// A hub and its handsets move together; one of those is put on its base by hand, which the hub
// itself shows. Where the last one fails, all of them return, and the hub is never started.
func TestAHubAndItsHandsets(t *testing.T) {
	for fault, end := range map[string]string{"": "done", ", faults: {sick: true}": "returned"} {
		t.Run(end, func(t *testing.T) {
			t.Parallel()
			dir, stop := patientSite(t, strings.Replace(handsets, "FAULT", fault, 1))
			site := filepath.Join(dir, "site.yaml")
			old, err := os.ReadFile(site)
			require.NoError(t, err)
			require.NoError(t, os.WriteFile(site, append(old,
				"lockstep: [{name: radio, of: [hub-1, \"handset-*\"]}]\n"...), 0o600))
			out, err := command(dir, "flash", "--all", "--yes", "--accept", "all", "--patience",
				"proving=1s", "--patience", "grace=2s").CombinedOutput()
			text := string(out)
			assert.Equal(t, end == "done", err == nil, text)
			assert.Regexp(t, `handset-3 +asks: Put this handset on the charging base`, text)
			for n := 1; n <= 4; n++ {
				assert.Regexp(t, fmt.Sprintf(`(?m)^handset-%d +%s `, n, end), text)
			}
			list := catena(t, dir, "list")
			if end == "done" {
				assert.Regexp(t, `(?m)^hub-1 +done +5 +6 `, text)
				assert.Equal(t, 5, strings.Count(list, "  current\n"), list)
				// back, the hub goes first: it has new sessions and tokens then, and whoever has
				// logged in to it last has logged all others out
				out, err := command(dir, "rollback", "--job", "j1", "--yes", "--accept", "all",
					"--patience",
					"proving=1s", "--patience", "grace=2s").CombinedOutput()
				require.NoError(t, err, "%s", out)
				assert.Contains(t, string(out), "5 done", "%s", out)
			} else {
				assert.Regexp(t, `(?m)^hub-1 +skipped `, text)
				assert.Equal(t, 4, strings.Count(list, " 1.8 "), list)
			}
			assert.Contains(t, stop(), "Writes interrupted: 0. Restarts over a transfer behind: 0.")
		})
	}
}

const recorder = `site: Marrow Hill Locks
login: {user: keeper, password: quoin-and-sluice}
pace: {write: 300ms, restart: 400ms}
devices:
  - name: recorder-2
    kind: nvr
    model: BR-8
    serial: BR8-00071
    version: "4.1"
    host: 71
    children:
      - {name: wharf-1, model: BC-2, serial: BC2-0001, version: "1.0"}
      - {name: wharf-2, model: BC-2, serial: BC2-0002, version: "1.0", faults: {sick: true}}
      - {name: wharf-3, model: BC-2, serial: BC2-0003, version: "1.0"}
images:
  - {maker: Brackwell, models: [BR-8], version: "4.1", file: br8-4.1.bin, bytes: 40000}
  - {maker: Brackwell, models: [BR-8], version: "4.2", file: br8-4.2.bin, bytes: 40000}
  - {maker: Brackwell, models: [BC-2], version: "1.0", file: bc2-1.0.bin, bytes: 40000}
  - {maker: Brackwell, models: [BC-2], version: "1.1", file: bc2-1.1.bin, bytes: 40000}
`

// A recorder with cameras that only it reaches, over SSH: they share its one connection, on which
// they take turns, and its image, which it keeps; one is returned through it.
func TestCamerasBehindARecorder(t *testing.T) {
	t.Parallel()
	dir, stop := patientSite(t, recorder)
	add := command(dir, "login", "add", "--model", "BR-8", "--user", "keeper", "--password-stdin")
	add.Stdin = strings.NewReader("quoin-and-sluice\n")
	require.NoError(t, add.Run())
	assert.Regexp(t, `wharf-3 +via recorder-2 +Brackwell +BC-2 +BC2-0003 +1\.0`, catena(t, dir, "scan",
		"--port", "2222", "--patience", "10s"))
	out, err := command(dir, "flash", "--all", "--yes", "--no-pilot", "--patience", "proving=3s",
		"--patience", "grace=2s").CombinedOutput()
	var code *exec.ExitError
	require.ErrorAs(t, err, &code, "%s", out)
	text := string(out)
	assert.Regexp(t, `(?m)^wharf-1 +done +1\.0 +1\.1 `, text)
	assert.Regexp(t, `(?m)^wharf-2 +returned +1\.0 +1\.0 .*It shows no picture`, text)
	assert.Regexp(t, `(?m)^wharf-3 +done +1\.0 +1\.1 `, text)
	assert.Regexp(t, `(?m)^recorder-2 +done +4\.1 +4\.2 `, text)
	said := stop()
	assert.Regexp(t, `recorder-2 2 for those behind it \(4 installed by 3 of them, at most 1 at once, [1-4] logins\)`, said)
	assert.Contains(t, said, "Writes interrupted: 0. Restarts over a transfer behind: 0.")
}

// Killed in any step of a child or of its parent, and the resume, too: every one comes to its end,
// each image is installed once, unless the unit, asked, could not tell, and none is interrupted.
func TestKilledAmongChildren(t *testing.T) {
	for night := range 4 {
		t.Run(strconv.Itoa(night), func(t *testing.T) {
			t.Parallel()
			r := rand.New(rand.NewPCG(uint64(night), 11))
			dir, stop := patientSite(t, signals(6, map[int]string{3: ", faults: {keeps_version: true}"}))
			args := []string{"flash", "--all", "--yes", "--accept", "all", "--no-pilot"}
			kills := 0
			for alive := true; alive; kills++ {
				cmd := command(dir, append(args, "--patience", "proving=1s", "--patience", "grace=2s")...)
				require.NoError(t, cmd.Start())
				if kills < 4 {
					after := time.Duration(300+r.IntN(2500)) * time.Millisecond
					time.AfterFunc(after, func() { _ = cmd.Process.Kill() }) // it may have ended: no matter
				}
				_ = cmd.Wait() // the ends say it
				alive = cmd.ProcessState.ExitCode() < 0
				if strings.Contains(catena(t, dir, "jobs"), "\nj1 ") {
					args = []string{"resume", "j1"}
				}
			}
			var state job.State
			out, _ := command(dir, "track", "j1", "--once", "--format", "json").Output() // 3: one returned
			require.NoError(t, json.Unmarshal(out, &state))
			for _, d := range state.Devices {
				want := map[string]string{"lamp-3": "returned 1.4", "signals-1": "done 3.1"}[d.Name]
				assert.Equal(t, cmp.Or(want, "done 1.5"), string(d.Step)+" "+d.Version, "%s: %s", d.Name,
					d.Reason)
			}
			assert.Contains(t, catena(t, dir, "ledger", "check"), "The ledger is intact")
			said := stop()
			t.Logf("killed %d times. %s", kills-1, said)
			assert.Contains(t, said, "Writes interrupted: 0. Restarts over a transfer behind: 0.")
			m := regexp.MustCompile(`\((\d+) installed by 6 of them, at most 2 at once`).FindStringSubmatch(
				said)
			require.NotNil(t, m, said)
			assert.Contains(t, []string{"6", "7", "8"}, m[1], "no image twice, but to lamp-3, which falls "+
				"back and cannot tell whether it does after a crash")
		})
	}
}

// A parent that is entered for its children: killed while one of them gets its image, it is named as
// not left until the job is resumed; no trial and no change starts on it, and the resume leaves it.
func TestAParentThatWasEntered(t *testing.T) {
	t.Parallel()
	dir, stop := patientSite(t, signals(3, nil))
	family := filepath.Join(dir, "shelf", "families", "tollgarth-controllers.yaml")
	old, err := os.ReadFile(family)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(family, append(old, `
enter:
  steps:
    - put: /tg/v1/lamp
      json: {blinks: true}
leave:
  steps:
    - put: /tg/v1/lamp
      json: {blinks: false}
`...), 0o600))
	add := command(dir, "login", "add", "--user", "keeper", "--password-stdin")
	add.Stdin = strings.NewReader("quoin-and-sluice\n")
	require.NoError(t, add.Run())
	killAt(t, dir, job.Writing, false)
	found, _ := command(dir, "doctor").Output() // 1: a job was interrupted
	assert.Regexp(t, `not left .*signals-1`, string(found))
	assert.Regexp(t, `entered, not left +20`, catena(t, dir, "show", "signals-1"))
	assert.Regexp(t, `signals-1 .*it was entered for an update and could not be left`,
		catena(t, dir, "match"))
	out, err := command(dir, "family", "try", family, "signals-1").CombinedOutput()
	require.Error(t, err)
	assert.Contains(t, string(out), "signals-1: it is part of job j1, which has not ended")
	_, err = command(dir, "resume", "--patience", "proving=1s", "--patience", "grace=2s").
		CombinedOutput()
	require.NoError(t, err)
	assert.NotContains(t, catena(t, dir, "doctor"), "not left")
	assert.NotContains(t, catena(t, dir, "show", "signals-1"), "not left")
	catena(t, dir, "family", "try", family, "signals-1")
	assert.Contains(t, stop(), "Writes interrupted: 0.")
}

// A parent with one seat, in a lockstep set with its children: no two sessions are open there at the
// same time, neither while the set is checked, whoever goes first, nor afterwards.
func TestAParentWithOneSeat(t *testing.T) {
	t.Parallel()
	dir, stop := patientSite(t, strings.Replace(signals(3, nil), "    children:",
		"    seats: 1\n    children:", 1))
	site := filepath.Join(dir, "site.yaml")
	old, err := os.ReadFile(site)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(site, append(old,
		"lockstep: [{name: junction, of: [signals-1, \"lamp-*\"]}]\n"...), 0o600))
	for _, args := range [][]string{{"flash", "--all"}, {"rollback", "--job", "j1"}} {
		out, err := command(dir, append(args, "--yes", "--accept", "all",
			"--no-pilot")...).CombinedOutput()
		require.NoError(t, err, "%s", out)
		assert.Contains(t, string(out), ": 4 done")
	}
	assert.NotContains(t, stop(), "without a seat")
}
