package cli_test

import (
	"bufio"
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/rogpeppe/go-internal/testscript"

	"catena/internal/cli"
	"catena/internal/sim"
)

func TestMain(m *testing.M) {
	// The scripts wait for devices most of the time: more of them than cores may run at once.
	// It is set before the flags are read, so that -parallel says otherwise.
	_ = flag.Set("test.parallel", strconv.Itoa(max(6, 3*runtime.GOMAXPROCS(0))))
	if os.Getenv("XDG_DATA_HOME") == "" { // what belongs to a user is not this one's
		_ = os.Setenv("XDG_DATA_HOME", filepath.Join(os.TempDir(), "catena-test-data"))
	}
	testscript.Main(m, map[string]func(){"catena": func() { os.Exit(cli.Main(os.Args[1:])) }})
}

// TestScripts runs the scripts in testdata: each reads like a page of the manual.
// Beside the usual commands there are
//
//	sim FILE        start a simulated site; $NET, $ADAPTER and $ADDR_name tell where
//	stopsim         end it
//	code N          the exit code of the last command run with ! or ? was N
//	await FILE RE   wait until a line of FILE matches
//	field FILE K V  some object in the JSON lines of FILE has K with value V
func TestScripts(t *testing.T) {
	testscript.Run(t, testscript.Params{
		Dir:                 "testdata",
		RequireExplicitExec: true,
		Deadline:            time.Now().Add(2 * hangsAfter), // then what hangs prints its goroutines
		Setup: func(e *testscript.Env) error {
			e.Setenv("CATENA_LOGIN", "keeper:quoin-and-sluice")
			e.Setenv("CATENA_SHELF", filepath.Join(e.WorkDir, "shelf"))
			e.Setenv("XDG_DATA_HOME", filepath.Join(e.WorkDir, "data"))
			free, err := net.Listen("tcp", "127.0.0.1:0") // a port for a server
			if err != nil {
				return err
			}
			e.Setenv("PORT", fmt.Sprint(free.Addr().(*net.TCPAddr).Port))
			_ = free.Close()
			return nil
		},
		// A line of a script that needs Python, or one of its modules, is skipped where that is missing;
		// the script's log says so. [python] and [python:MODULE].
		Condition: func(cond string) (bool, error) {
			program, module, _ := strings.Cut(cond, ":")
			if program != "python" {
				return false, fmt.Errorf("unknown condition %s", cond)
			}
			return hasPython(module), nil
		},
		Cmds: map[string]func(*testscript.TestScript, bool, []string){
			"sim": func(ts *testscript.TestScript, _ bool, args []string) {
				s := startSim(ts.Check, ts.MkAbs("."), filepath.Join(ts.Getenv("CATENA_SHELF"), "families"),
					args)
				ts.Defer(s.stop)
				ts.Setenv("NET", s.net)
				ts.Setenv("ADAPTER", s.adapter)
				for name, address := range s.address {
					ts.Setenv("ADDR_"+strings.ReplaceAll(name, "-", "_"), address)
				}
				sims.Store(ts, s)
			},
			"stopsim": func(ts *testscript.TestScript, _ bool, _ []string) {
				if s, ok := sims.Load(ts); ok {
					s.(*simulation).stop()
				}
			},
			"code": func(ts *testscript.TestScript, _ bool, args []string) {
				cmd := bounded("catena", args[1:]...)
				cmd.Dir = ts.MkAbs(".")
				cmd.Env = append(os.Environ(), "CATENA_LOGIN="+ts.Getenv("CATENA_LOGIN"),
					"CATENA_SHELF="+ts.Getenv("CATENA_SHELF"),
					"CATENA_KEY_PASSWORD="+ts.Getenv("CATENA_KEY_PASSWORD"),
					"CATENA_PASSWORD="+ts.Getenv("CATENA_PASSWORD"),
					"CATENA_PASSPHRASE="+ts.Getenv("CATENA_PASSPHRASE"),
					"XDG_DATA_HOME="+ts.Getenv("XDG_DATA_HOME"), "HOME="+ts.Getenv("HOME"))
				out, _ := cmd.CombinedOutput() // the code says it
				if got := cmd.ProcessState.ExitCode(); args[0] != string(rune('0'+got)) {
					ts.Fatalf("exit code %d, not %s:\n%s", got, args[0], out)
				}
				ts.Check(os.WriteFile(ts.MkAbs("said"), out, 0o600))
			},
			"await": func(ts *testscript.TestScript, _ bool, args []string) {
				pattern := regexp.MustCompile("(?m)" + args[1])
				for startedAt := time.Now(); ; time.Sleep(20 * time.Millisecond) {
					content, _ := os.ReadFile(ts.MkAbs(args[0])) // it may not be there yet
					if pattern.Match(content) {
						return
					}
					if time.Since(startedAt) > awaitAtMost {
						ts.Fatalf("%s never had %s:\n%s", args[0], args[1], content)
					}
				}
			},
			"field": func(ts *testscript.TestScript, neg bool, args []string) {
				found := false
				for _, object := range jsonObjects(ts.ReadFile(args[0])) {
					found = found || fmt.Sprint(object[args[1]]) == args[2]
				}
				if found == neg {
					ts.Fatalf("field %s with value %s: found is %v", args[1], args[2], found)
				}
			},
		},
	})
}

// hangsAfter is when a program that a test waits for is asked where it hangs.
const hangsAfter = 8 * time.Minute

// bounded is a command that ends: one that hangs prints its goroutines, one that leaves its output
// to a program that outlives it is a fault.
func bounded(name string, args ...string) *exec.Cmd {
	ctx, cancel := context.WithTimeout(context.Background(), hangsAfter)
	time.AfterFunc(hangsAfter+time.Minute, cancel)
	cmd := exec.CommandContext(ctx, name, args...)
	cmd.Cancel = func() error { return cmd.Process.Signal(syscall.SIGQUIT) }
	cmd.WaitDelay = 20 * time.Second
	return cmd
}

// hasPython tells whether this machine has Python, with a module.
func hasPython(module string) bool {
	if module == "" {
		module = "sys"
	}
	return exec.Command("/usr/bin/python3", "-c", "import "+module).Run() == nil
}

// awaitAtMost is how long a script waits for something that must come: long enough for the
// busiest machine, and no test passes by it.
const awaitAtMost = 2 * time.Minute

func jsonObjects(text string) []map[string]any {
	var out []map[string]any
	d := json.NewDecoder(strings.NewReader(text))
	for {
		var v any
		if d.Decode(&v) != nil {
			return out
		}
		list, ok := v.([]any)
		if !ok {
			list = []any{v}
		}
		for _, x := range list {
			if m, ok := x.(map[string]any); ok {
				out = append(out, m)
			}
		}
	}
}

// sims are the running sites by script.
var sims sync.Map

// simulation is a running `catena sim`.
type simulation struct {
	cmd          *exec.Cmd
	net, adapter string
	address      map[string]string
	said         string // its last line; whole once ended is closed
	ended        chan struct{}
}

// places are the third numbers of the addresses that the tests have given
// away. Each simulation has one for itself, also once it is stopped: what is gone must
// not come back as another test's.
var places atomic.Int64

// startSim starts a simulation at addresses that no other test has, or on one address
// with a port for each where the machine has no others. The family files of its makers are written
// into the folder families.
func startSim(check func(error), dir, families string, args []string) *simulation {
	if !slices.Contains(args, "--place") {
		for range 20 {
			n := 100 + places.Add(1)%100
			if s := startSimAt(check, dir, families,
				append(slices.Clone(args), "--place", fmt.Sprintf("127.44.%d", n))); s.net != "" {
				return s
			}
		}
	}
	// A place that is named may be in use for a moment: someone looks for a free one.
	s := startSimAt(check, dir, families, args)
	for tries := 0; s.net == "" && tries < 40; tries++ {
		time.Sleep(250 * time.Millisecond)
		s = startSimAt(check, dir, families, args)
	}
	return s
}

func startSimAt(check func(error), dir, families string, args []string) *simulation {
	s := &simulation{address: map[string]string{}, ended: make(chan struct{})}
	s.cmd = exec.Command("catena", append([]string{"sim"}, args...)...)
	s.cmd.Dir = dir
	out, err := s.cmd.StdoutPipe()
	check(err)
	check(os.MkdirAll(families, 0o755))
	for name, text := range sim.Families() {
		if name != "wexcombe-cameras.yaml" { // some scripts have one of their own
			check(os.WriteFile(filepath.Join(families, name), text, 0o644))
		}
	}
	check(s.cmd.Start())
	// The table of stand-ins, then the command to make a site for them.
	row, made := regexp.MustCompile(`^(\S+) .* (127\.\S+:\d+)`), regexp.MustCompile(
		`--adapter (\S+) --range (127\.\d+\.\d+)`)
	lines := bufio.NewScanner(out)
	for lines.Scan() {
		if m := row.FindStringSubmatch(lines.Text()); m != nil {
			s.address[m[1]] = m[2]
		}
		if m := made.FindStringSubmatch(lines.Text()); m != nil {
			s.adapter, s.net = m[1], m[2]
			break
		}
	}
	go func() {
		for lines.Scan() {
			s.said = lines.Text()
		}
		_ = s.cmd.Wait()
		close(s.ended)
	}()
	return s
}

func (s *simulation) stop() {
	_ = s.cmd.Process.Signal(os.Interrupt)
	select {
	case <-s.ended:
	case <-time.After(20 * time.Second):
		_ = s.cmd.Process.Kill()
	}
}
