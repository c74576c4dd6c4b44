package cli_test

import (
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"runtime"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/recorder/pgtest"
)

// chaos is an office, a laptop and stations, each a process that may be killed at any moment and is
// started again, as systemd would.
type chaos struct {
	t       *testing.T
	work    string
	mu      sync.Mutex
	running map[string]*exec.Cmd
	killed  map[string]int
	over    bool
	group   sync.WaitGroup
	ends    map[string]chan int // of programs that end automatically: their exit codes
}

func (c *chaos) command(who string, args ...string) *exec.Cmd {
	cmd := bounded("catena", args...)
	cmd.Dir = c.work
	cmd.Env = append(os.Environ(), "XDG_DATA_HOME="+filepath.Join(c.work, "of-"+who),
		"CATENA_SHELF="+filepath.Join(c.work, "of-"+who, "shelf"), "CATENA_KEY_PASSWORD=mitre",
		"CATENA_LOGIN=keeper:quoin-and-sluice", "CATENA_PASSPHRASE=")
	return cmd
}

func (c *chaos) must(who string, args ...string) string {
	out, err := c.command(who, args...).CombinedOutput()
	require.NoError(c.t, err, "%s: catena %s: %s", who, strings.Join(args, " "), out)
	return string(out)
}

// keep runs a program until the end, again whenever it was killed. One that ends automatically is
// not started again where ends has a place for its code.
func (c *chaos) keep(name, who string, args ...string) {
	c.keepUp(name, func() *exec.Cmd { return c.command(who, args...) })
}

func (c *chaos) keepUp(name string, command func() *exec.Cmd) {
	c.group.Go(func() {
		for {
			cmd := command()
			said, err := os.OpenFile(
				filepath.Join(c.work, name+".log"),
				os.O_CREATE|os.O_APPEND|os.O_WRONLY,
				0o600,
			)
			if err != nil {
				c.t.Errorf("%s: %v", name, err)
				return
			}
			cmd.Stdout, cmd.Stderr = said, said
			c.mu.Lock()
			if c.over {
				c.mu.Unlock()
				return
			}
			err = cmd.Start()
			c.running[name] = cmd
			c.mu.Unlock()
			_ = said.Close() // the program has its own
			if err != nil {
				c.t.Errorf("%s: %v", name, err)
				return
			}
			_ = cmd.Wait() // its code says how
			c.mu.Lock()
			delete(c.running, name)
			over := c.over
			c.mu.Unlock()
			code := cmd.ProcessState.ExitCode()
			if end := c.ends[name]; code >= 0 && end != nil && code != 1 {
				end <- code
				return
			}
			if code >= 0 && !over && name != "database" { // that one waits for its killed parts
				c.t.Logf("%s ended with %d: %s", name, code, c.last(name))
			}
			time.Sleep(time.Duration(rand.IntN(300)) * time.Millisecond)
		}
	})
}

// last is what a program has printed last.
func (c *chaos) last(name string) string {
	raw, _ := os.ReadFile(filepath.Join(c.work, name+".log")) // it may have printed nothing
	return string(raw[max(0, len(raw)-1500):])
}

// kill kills one of the programs; false: none runs.
func (c *chaos) kill() bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	at := rand.IntN(max(1, len(c.running)))
	for name, cmd := range c.running { // in no order
		if at--; at < 0 {
			_ = cmd.Process.Kill() // it may have ended
			c.killed[strings.Fields(name)[0]]++
			return true
		}
	}
	return false
}

func (c *chaos) stop() {
	c.mu.Lock()
	c.over = true
	for _, cmd := range c.running {
		_ = cmd.Process.Signal(os.Interrupt) // it may have ended
	}
	c.mu.Unlock()
	c.group.Wait()
}

func setting(name string, usual int) int {
	if n, err := strconv.Atoi(os.Getenv(name)); err == nil {
		return n
	}
	return usual
}

// A rollout ends as it must, whatever is killed in the meantime, and as often: no device is updated
// twice, each order has one job, every chain is whole, and the database has each entry once.
// CATENA_CHAOS_SITES, _DEVICES and _KILLS make it larger; _EVERY is the time between two of them,
// in milliseconds.
func TestChaos(t *testing.T) {
	if runtime.GOOS != "linux" {
		t.Skip("needs addresses that only Linux gives to loopback")
	}
	t.Parallel()
	sites, devices := setting("CATENA_CHAOS_SITES", 3), setting("CATENA_CHAOS_DEVICES", 3)
	kills, every := setting("CATENA_CHAOS_KILLS", 25), setting("CATENA_CHAOS_EVERY", 500)
	database := pgtest.Make(t)
	c := &chaos{t: t, work: t.TempDir(), running: map[string]*exec.Cmd{}, killed: map[string]int{},
		ends: map[string]chan int{"rollout": make(chan int, 1)}}
	scenario := "site: Marrow Hill\nlogin: {user: keeper, password: quoin-and-sluice}\n" +
		"pace: {write: 300ms, restart: 300ms}\ndevices:\n"
	for n := range sites * devices {
		scenario += fmt.Sprintf(
			"  - {name: cam-%d, kind: camera, model: WX-40, hardware: B, serial: WX4-%d, version: "+
				"3.1.0, host: %d}\n",
			n+1,
			1000+n,
			n+1,
		)
	}
	scenario += "images:\n"
	for _, v := range []string{"3.1.0", "3.2.1"} {
		scenario += fmt.Sprintf(
			"  - {maker: Wexcombe, models: [WX-40], version: %s, file: wx40_%[1]s.bin, bytes: "+
				"300000}\n",
			v,
		)
	}
	require.NoError(t, os.WriteFile(filepath.Join(c.work, "chaos.yaml"), []byte(scenario), 0o600))
	s := startSim(
		func(err error) { require.NoError(t, err) },
		c.work,
		filepath.Join(c.work, "families"),
		[]string{"chaos.yaml", "--images", "firmware"},
	)
	t.Cleanup(s.stop)
	free, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	at := free.Addr().String()
	_ = free.Close()
	c.must("office", "office", "init", "office", "--address", at)
	c.keep("office", "office", "office", "serve", "-C", "office")
	defer c.stop()
	c.must("anna", "shelf", "add", "firmware")
	c.must("anna", "shelf", "feed", "key", "anna.key")
	c.must("anna", "ledger", "writer", "anna")
	var group sync.WaitGroup
	slots := make(chan bool, 4)
	for n := range sites {
		site := fmt.Sprintf("site-%d", n+1)
		c.must("office", "office", "add", site, "-C", "office")
		group.Go(func() {
			slots <- true
			defer func() { <-slots }()
			dir := filepath.Join("sites", site)
			c.must("anna", "new", "Site "+strconv.Itoa(n+1), "-C", dir, "--adapter", s.adapter, "--range",
				fmt.Sprintf("%s.%d-%s.%d", s.net, n*devices+1, s.net, (n+1)*devices))
			// a camera whose transfer broke off is watched that long for a restart
			f, err := os.OpenFile(filepath.Join(c.work, dir, "site.yaml"), os.O_APPEND|os.O_WRONLY, 0)
			if assert.NoError(t, err) {
				_, err = f.WriteString("patience: {proving: 2s, grace: 1s}\n")
				assert.NoError(t, errors.Join(err, f.Close()))
			}
			c.must("anna", "-C", dir, "scan", "--patience", "5s")
			c.eventually("anna", "-C", dir, "sync", site+".office")
			c.must("box-"+site, "ledger", "writer", "box-"+site)
			c.must("box-"+site, "station", "join", "office", "--credentials", site+".office", "--key",
				"anna.key.pub", "--into", "box-"+site, "--accept", "anna")
			c.must("anna", "-C", dir, "sync", site+".office", "--accept", "box-"+site)
			c.keep("station "+site, "box-"+site, "-C", "box-"+site, "station", "run", "--every", "1s")
		})
	}
	group.Wait()
	c.must(
		"anna",
		"rollout",
		"new",
		"winter",
		"--in",
		"sites",
		"--waves",
		"1,rest",
		"--soak",
		"1s",
		"--accept",
		"all",
	)
	c.keepUp("database", database.Command)
	c.keep("recorder", "office", "office", "record", "-C", "office", "--follow", "--database",
		database.URL)
	c.keep(
		"rollout",
		"anna",
		"rollout",
		"run",
		"winter",
		"--in",
		"sites",
		"--key",
		"anna.key",
		"--every",
		"1s",
	)
	killed, code := 0, -1
	for deadline := time.After(time.Duration(setting("CATENA_CHAOS_MINUTES", 6)) * time.Minute); code < 0; {
		select {
		case code = <-c.ends["rollout"]:
		case <-time.After(time.Duration(every/10+rand.IntN(2*every)) * time.Millisecond):
			if killed < kills && c.kill() {
				killed++
			}
		case <-deadline:
			for name := range c.running {
				t.Logf("%s: %s", name, c.last(name))
			}
			t.Fatalf(
				"the rollout has not ended: %s",
				c.must("anna", "rollout", "show", "winter", "--in", "sites"),
			)
		}
	}
	t.Logf("%d programs killed: %v", killed, c.killed)
	shown := c.must("anna", "rollout", "show", "winter", "--in", "sites")
	assert.Equal(t, 0, code, shown)
	assert.Contains(
		t,
		shown,
		fmt.Sprintf("%d of %d sites over; %d devices done, 0 failed", sites, sites,
			sites*devices),
	)
	c.compare(sites, s, database)
}

// eventually repeats a command: the office makes the record of a new site within a second.
func (c *chaos) eventually(who string, args ...string) {
	var out []byte
	var err error
	for range 40 {
		if out, err = c.command(who, args...).CombinedOutput(); err == nil {
			return
		}
		time.Sleep(250 * time.Millisecond)
	}
	require.NoError(c.t, err, "%s", out)
}

// compare holds the ledgers, the database and the devices against each other.
func (c *chaos) compare(sites int, s *simulation, database *pgtest.Server) {
	t := c.t
	for n := range sites {
		site := fmt.Sprintf("site-%d", n+1)
		dir := filepath.Join("sites", site)
		assert.Contains(t, c.must("box-"+site, "-C", "box-"+site, "ledger", "check"),
			"The ledger is intact")
		var lines, rows int
		for range 20 { // what a station has written last may be on its way
			c.eventually("anna", "-C", dir, "sync", site+".office")
			c.eventually("office", "office", "record", "-C", "office", "--database", database.URL)
			if lines, rows = c.lines(dir, site), c.rows(site, database); lines == rows {
				break
			}
		}
		assert.Equal(t, lines, rows, "%s: the database has each entry once", site)
		assert.Contains(t, c.must("anna", "-C", dir, "ledger", "check"), "The ledger is intact")
	}
	c.stop()
	s.stop()
	for _, m := range regexp.MustCompile(`(cam-\d+) (\d+)`).FindAllStringSubmatch(s.said, -1) {
		assert.Equal(t, "1", m[2], "images that %s took", m[1])
	}
	assert.Contains(t, s.said, "Writes interrupted: 0.")
}

// lines is how many entries anna's ledger of a site has, of which one started a job.
func (c *chaos) lines(dir, site string) (n int) {
	out := filepath.Join(c.work, site+".jsonl")
	_ = os.Remove(out) // of the round before
	c.must("anna", "-C", dir, "ledger", "export", out)
	raw, err := os.ReadFile(out)
	require.NoError(c.t, err)
	starts := 0
	for line := range strings.SplitSeq(strings.TrimSpace(string(raw)), "\n") {
		var e struct{ Kind string }
		require.NoError(c.t, json.Unmarshal([]byte(line), &e))
		if n++; e.Kind == "job-started" {
			starts++
		}
	}
	assert.Equal(c.t, 1, starts, "%s: each order has one job", site)
	return n
}

// rows is how many entries the database has of a site.
func (c *chaos) rows(site string, database *pgtest.Server) (n int) {
	db, err := sql.Open("pgx", database.URL)
	require.NoError(c.t, err)
	defer func() { _ = db.Close() }()
	require.NoError(c.t, db.QueryRow(
		`SELECT count(*) FROM entries e JOIN sites s ON s.id = e.site WHERE s.name = $1`,
		site).Scan(&n))
	return n
}
